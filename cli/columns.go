package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"idleember/client"
	"idleember/core/reading"
)

// columns says which cells make the time and which are series.
type columns struct {
	at                []int
	series, v, q, raw int
	marks             int            // wide: qualities and raw values
	wide              map[int]string // nil: long
	words             map[string]string
}

func (b *bringer) csv(cmd *cli.Command, text *bufio.Reader) error {
	head, _ := text.Peek(3)
	switch {
	case string(head) == "\xef\xbb\xbf":
		_, _ = text.Discard(3)
	case len(head) > 1 && (string(head[:2]) == "\xff\xfe" || string(head[:2]) == "\xfe\xff"):
		return errors.New("the file is UTF-16; save it as UTF-8")
	}
	t := reading.NewTable(text)
	names, err := header(cmd, t, text)
	if err != nil {
		return err
	}
	t.Width = len(names)
	cols, err := b.columns(cmd, names)
	if err != nil {
		return err
	}
	for {
		row, line, err := t.Record()
		var bad *reading.LineError
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case line < cmd.Int("from-line"):
			continue
		case errors.As(err, &bad):
			b.tell(line, "%s", bad)
			continue
		case err != nil:
			return err
		}
		if err := b.row(cols, line, row); err != nil {
			return err
		}
	}
}

// header finds out what stands between the cells and what the columns are called.
func header(cmd *cli.Command, t *reading.Table, text *bufio.Reader) ([]string, error) {
	head, _ := text.Peek(4096)
	first, _, _ := strings.Cut(string(head), "\n")
	if _, comma, lines := reading.Dialect(head); lines > 0 {
		t.Comma = comma
		_, _ = t.Next()
	} else {
		for strings.HasPrefix(first, "#") {
			_, rest, _ := strings.Cut(string(head), first+"\n")
			if first, _, _ = strings.Cut(rest, "\n"); rest == "" {
				break
			}
		}
		for _, d := range []rune{';', '\t'} {
			if strings.ContainsRune(first, d) && strings.Count(first, string(d)) >= strings.Count(first, ",") {
				t.Comma = d
			}
		}
	}
	if by := []rune(strings.ReplaceAll(cmd.String("delimiter"), `\t`, "\t")); len(by) == 1 &&
		!strings.ContainsRune("\"\r\n", by[0]) {
		t.Comma = by[0]
	} else if len(by) > 0 {
		return nil, &UsageError{fmt.Sprintf("%q cannot stand between cells; use one character", cmd.String("delimiter"))}
	}
	if names := cmd.String("columns"); names != "" {
		return strings.Split(names, ","), nil
	}
	names, line, err := t.Record()
	if err != nil {
		if errors.Is(err, io.EOF) {
			return nil, errors.New("the file is empty")
		}
		return nil, fmt.Errorf("the file has no header line: %w", err)
	}
	for i, name := range names {
		names[i] = strings.TrimSpace(name)
		if _, err := reading.Stamp(name); err == nil || strings.Contains(err.Error(), "has no zone") {
			return nil, fmt.Errorf("line %d is no header: %.40q is a time; tell what the columns are with --columns", line, name)
		}
	}
	return names, nil
}

func (b *bringer) row(cols columns, line int, row []string) error {
	cell := func(i int) string {
		if i < 0 {
			return ""
		}
		return row[i]
	}
	said := make([]string, len(cols.at))
	for i, c := range cols.at {
		said[i] = strings.TrimSpace(row[c])
	}
	at, err := b.time(strings.Join(said, " "))
	if err != nil {
		b.tell(line, "%s", err)
		return nil
	}
	one := func(series, text, q, raw string) error {
		if text == "" {
			return nil
		}
		x := client.OneReading{T: at}
		if x.V, err = b.value(series, text); err == nil {
			err = marked(&x, q, raw)
		}
		if err != nil {
			b.tell(line, "%s: %s", series, err)
			return nil
		}
		return b.take(line, series, x)
	}
	if cols.wide == nil {
		name := strings.TrimSpace(cell(cols.series))
		series, ok := cols.words[name]
		if !ok {
			series = name
		}
		return one(series, cell(cols.v), cell(cols.q), cell(cols.raw))
	}
	marks, err := readMarks(cell(cols.marks))
	if err != nil {
		b.tell(line, "%s", err)
		return nil
	}
	for i, text := range row {
		if series := cols.wide[i]; series != "" {
			if err := one(series, text, marks[series].q, marks[series].raw); err != nil {
				return err
			}
		}
	}
	return nil
}

// columns finds out what the columns of a CSV file are; what it cannot know is asked for.
func (b *bringer) columns(cmd *cli.Command, head []string) (columns, error) {
	find := func(names ...string) int {
		return slices.IndexFunc(head, func(h string) bool {
			return slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(h, strings.TrimSpace(n)) })
		})
	}
	listed := strings.Join(head, ", ")
	cols := columns{series: find("series"), v: find("v", "value"), q: find("q"), raw: find("raw"),
		marks: find(marksColumn), words: map[string]string{}}
	var err error
	if cols.at, err = timeColumns(cmd.String("time"), head, find); err != nil {
		return cols, err
	}
	for flag, at := range map[string]*int{"series-column": &cols.series, "value-column": &cols.v} {
		if name := cmd.String(flag); name != "" {
			if *at = find(name); *at < 0 {
				return cols, fmt.Errorf("there is no column %q; the columns are %s", name, listed)
			}
		}
	}
	told := map[string]string{}
	for _, m := range cmd.StringSlice("map") {
		i := strings.LastIndex(m, "=")
		if i < 0 {
			return cols, &UsageError{fmt.Sprintf("%q is no mapping; write COLUMN=SERIES", m)}
		}
		told[m[:i]] = m[i+1:]
	}
	for _, series := range told {
		if _, ok := b.kinds[series]; !ok && b.kinds != nil {
			return cols, fmt.Errorf("there is no series %s; see idleember storage, and add the signal first where it is new",
				series)
		}
	}
	switch {
	case cols.series >= 0 && cols.v >= 0:
		cols.words = told
		return cols, nil
	case cmd.String("series-column") != "" || cmd.String("value-column") != "":
		return cols, fmt.Errorf("one column must name the series and one hold the value; the columns are %s; tell which "+
			"with --series-column and --value-column", listed)
	}
	for name := range told {
		if find(name) < 0 {
			return cols, fmt.Errorf("there is no column %q; the columns are %s", name, listed)
		}
	}
	return cols, b.wideColumns(cmd, head, told, &cols)
}

// wideColumns finds the columns that are series.
func (b *bringer) wideColumns(cmd *cli.Command, head []string, told map[string]string, cols *columns) error {
	cols.wide = map[int]string{}
	var strange []string
	answers := bufio.NewReader(os.Stdin)
	for i, name := range head {
		series, ok := told[name]
		_, known := b.kinds[name]
		switch {
		case slices.Contains(cols.at, i) || i == cols.marks || name == "-":
		case ok:
			cols.wide[i] = series
		case known || b.kinds == nil && len(told) == 0:
			cols.wide[i] = name
		case len(told) == 0 && term.IsTerminal(int(os.Stdin.Fd())) && cmd.Args().First() != "-":
			_, _ = fmt.Fprintf(os.Stderr, "Column %q is the series (empty: leave it out): ", name)
			answer, _ := answers.ReadString('\n')
			if cols.wide[i] = strings.TrimSpace(answer); cols.wide[i] == "" {
				delete(cols.wide, i)
			}
		default:
			strange = append(strange, fmt.Sprintf("%q", name))
		}
	}
	of := map[string]string{}
	for i, series := range cols.wide {
		if other, ok := of[series]; ok {
			return fmt.Errorf("two columns, %s and %s, are %s; leave one out", other, head[i], series)
		}
		of[series] = head[i]
	}
	if len(cols.wide) == 0 {
		return fmt.Errorf("no column is a series; the columns are %s; tell which with --map COLUMN=SERIES, or with "+
			"--series-column which one names the series", strings.Join(head, ", "))
	}
	if len(strange) > 0 {
		_, _ = fmt.Fprintf(b.out, "Left out, as they are no series: %s. Tell what they are with --map COLUMN=SERIES.\n",
			strings.Join(strange, ", "))
	}
	return nil
}

// timeNames are what columns with times are mostly called.
var timeNames = []string{"t", "time", "timestamp", "date", "datetime"}

// timeColumns are the columns of the time.
func timeColumns(told string, head []string, find func(names ...string) int) ([]int, error) {
	if told != "" {
		var at []int
		names := []string{told}
		if find(told) < 0 {
			names = strings.Split(told, "+")
		}
		for _, name := range names {
			i := find(name)
			if i < 0 {
				return nil, fmt.Errorf("no column is the time; the columns are %s; tell which with --time", strings.Join(head,
					", "))
			}
			at = append(at, i)
		}
		return at, nil
	}
	var found []int
	for i, name := range head {
		if slices.Contains(timeNames, strings.ToLower(name)) {
			found = append(found, i)
		}
	}
	date, clock := find("date"), find("time")
	switch {
	case len(found) == 0:
		return nil, fmt.Errorf("no column is the time; the columns are %s; tell which with --time", strings.Join(head, ", "))
	case len(found) == 1:
		return found, nil
	case len(found) == 2 && date >= 0 && clock >= 0:
		return []int{date, clock}, nil
	}
	var names []string
	for _, i := range found {
		names = append(names, head[i])
	}
	return nil, fmt.Errorf("several columns may be the time: %s; tell which with --time", strings.Join(names, ", "))
}

// marksColumn is the column of the wide form with the qualities and raw values of a line.
const marksColumn = "marks"

type mark struct{ q, raw string }

// marks writes what a wide line does not say in its cells: "kiln.chamber=bad 20.5; kiln.lid=suspect".
func marks(series []string, list []*client.OneReading) string {
	var all []string
	for i, r := range list {
		if r == nil || r.Q == nil && r.Raw == nil {
			continue
		}
		q, raw := qualityOf(r)
		all = append(all, strings.TrimSpace(series[i]+"="+q+" "+raw))
	}
	return strings.Join(all, "; ")
}

func readMarks(cell string) (map[string]mark, error) {
	if cell == "" {
		return nil, nil
	}
	out := map[string]mark{}
	for part := range strings.SplitSeq(cell, ";") {
		series, said, ok := strings.Cut(strings.TrimSpace(part), "=")
		if !ok {
			return nil, fmt.Errorf("the marks %.60q cannot be read; expected such as kiln.chamber=bad 20.5", cell)
		}
		q, raw, _ := strings.Cut(said, " ")
		out[series] = mark{q, raw}
	}
	return out, nil
}
