package reading

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Table reads CSV (RFC 4180) line by line, so that a quote that is not closed costs its line and no other.
type Table struct {
	sc    *bufio.Scanner
	line  int      // the last one that was read
	again []string // lines that were taken back
	Comma rune
	Width int // cells of a line; 0: not yet known
}

// mostJoined bounds the lines that a cell in quotes may have.
const mostJoined = 50

// NewTable reads from r; its cells are parted by commas until Comma is changed.
func NewTable(r io.Reader) *Table {
	t := &Table{sc: bufio.NewScanner(r), Comma: ','}
	t.sc.Buffer(make([]byte, 1<<12), LongestLine)
	return t
}

// LongestLine bounds what one line may cost, in bytes.
const LongestLine = 1 << 20

// Next is the next line as it stands there.
func (t *Table) Next() (string, bool) {
	if len(t.again) > 0 {
		text := t.again[0]
		t.again = t.again[1:]
		t.line++
		return text, true
	}
	if !t.sc.Scan() {
		return "", false
	}
	t.line++
	return t.sc.Text(), true
}

// LineError is what is wrong with one line.
type LineError struct{ why string }

func (e *LineError) Error() string { return e.why }

// Record reads the next cells and the line on which they begin. Its errors are io.EOF at the end, a *LineError where
// only this line cannot be read, and those of the file.
func (t *Table) Record() (cells []string, line int, err error) {
	text, ok := t.Next()
	for ok && (strings.TrimSpace(text) == "" || text[0] == '#') {
		text, ok = t.Next()
	}
	if !ok {
		if err := t.sc.Err(); err != nil {
			if errors.Is(err, bufio.ErrTooLong) {
				err = fmt.Errorf("line %d is longer than %d bytes; is it text?", t.line+1, LongestLine)
			}
			return nil, 0, err
		}
		return nil, 0, io.EOF
	}
	line = t.line
	if !strings.Contains(text, `"`) {
		cells = strings.Split(text, string(t.Comma))
		for i := range cells {
			cells[i] = strings.TrimLeft(cells[i], " \t")
		}
		return cells, line, t.fits(cells)
	}
	joined, more := text, []string(nil)
	whole := false // one of the lines that a quote joins to this one looks like a record of its own
	for strings.Count(joined, `"`)%2 == 1 && len(more) < mostJoined {
		next, ok := t.Next()
		if !ok {
			break
		}
		more = append(more, next)
		joined += "\n" + next
		whole = whole || t.Width > 1 && strings.Count(next, string(t.Comma)) >= t.Width-1
	}
	cells, err = t.parse(joined)
	if whole {
		err = &LineError{"a quote is opened in it that a later line closes"}
	}
	if err == nil {
		err = t.fits(cells)
	}
	if err != nil && len(more) > 0 {
		t.again, t.line = append(more, t.again...), t.line-len(more)
		_, err = t.parse(text)
	}
	return cells, line, err
}

func (t *Table) parse(text string) ([]string, error) {
	r := csv.NewReader(strings.NewReader(text))
	r.FieldsPerRecord, r.TrimLeadingSpace, r.Comma = -1, true, t.Comma
	cells, err := r.Read()
	if err != nil {
		var bad *csv.ParseError
		if errors.As(err, &bad) {
			err = bad.Err
		}
		return nil, &LineError{fmt.Sprintf("%s; see whether each quote is closed", err)}
	}
	return cells, nil
}

func (t *Table) fits(cells []string) error {
	if t.Width > 0 && len(cells) != t.Width {
		return &LineError{fmt.Sprintf("it has %d cells, and the header has %d", len(cells), t.Width)}
	}
	return nil
}
