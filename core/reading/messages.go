package reading

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"idleember/core/site"
)

// maxReadings is the most values that one message with many times may carry.
const maxReadings = 20_000

// timeColumns are the names that a CSV column with times may have.
var timeColumns = []string{"t", "time", "timestamp"}

// CSV takes lines of comma-separated values (RFC 4180) apart. The first line names the signals; a column called t, time
// or timestamp holds the time of its line in Unix seconds, Unix milliseconds or RFC 3339. Empty cells are left out.
func CSV(payload []byte) (named []Named, faults []error, err error) {
	payload, comma, skipped := Dialect(payload)
	r := NewTable(bytes.NewReader(payload))
	r.Comma = comma
	head, _, err := r.Record()
	if err != nil {
		return nil, nil, fmt.Errorf("the CSV has no header line; the first line names the signals, as in " +
			"t,temperature,humidity")
	}
	for i := range head {
		head[i] = strings.TrimSpace(head[i])
	}
	r.Width = len(head)
	at := slices.IndexFunc(head, func(h string) bool { return slices.Contains(timeColumns, strings.ToLower(h)) })
	for {
		row, line, err := r.Record()
		line += skipped
		if errors.Is(err, io.EOF) {
			break
		}
		var bad *LineError
		if errors.As(err, &bad) {
			faults = append(faults, fmt.Errorf("line %d: %w", line, err))
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		var stamp time.Time
		if at >= 0 && row[at] != "" {
			if stamp, err = Stamp(row[at]); err != nil {
				faults = append(faults, fmt.Errorf("line %d: %w", line, err))
				continue
			}
		}
		for i, cell := range row {
			if i == at || strings.TrimSpace(cell) == "" {
				continue
			}
			if comma == ';' && decimalComma.MatchString(strings.TrimSpace(cell)) {
				cell = strings.Replace(cell, ",", ".", 1)
			}
			n, err := Pair(head[i], cell)
			if err != nil {
				faults = append(faults, fmt.Errorf("line %d: %w", line, err))
				continue
			}
			n.At = stamp
			named = append(named, n)
		}
		if len(named) > maxReadings {
			return nil, nil, fmt.Errorf("the message carries more than %d values; send several messages", maxReadings)
		}
	}
	if len(named) == 0 && len(faults) == 0 {
		return nil, nil, errors.New("the CSV has a header and no values")
	}
	return named, faults, nil
}

// decimalComma is a number as it stands in tables whose cells are parted by semicolons.
var decimalComma = regexp.MustCompile(`^[+-]?\d+,\d+$`)

// Numbers with a comma that can only be meant in one way, and one that can be meant in two.
var (
	byThousands = regexp.MustCompile(`^[+-]?\d{1,3}(,\d{3})+(\.\d+|(,\d{3})+)$`)
	byPoints    = regexp.MustCompile(`^[+-]?\d{1,3}(\.\d{3})*,\d+$`)
	eitherWay   = regexp.MustCompile(`^[+-]?[1-9]\d{0,2},\d{3}$`)
)

// Pointed writes a number with a point, as it is read everywhere here. What is no number with a comma stays as it is.
func Pointed(text string, comma site.Comma) (string, error) {
	s := strings.TrimSpace(text)
	switch {
	case !strings.Contains(s, ","):
		if comma == site.DecimalComma { // 1.250 is then a thousand and a quarter of one
			if thousands := strings.ReplaceAll(s, ".", ""); byPoints.MatchString(s + ",0") {
				return thousands, nil
			}
		}
		return text, nil
	case comma == site.ThousandsComma || comma == "" && byThousands.MatchString(s):
		return strings.ReplaceAll(s, ",", ""), nil
	case comma == "" && eitherWay.MatchString(s):
		return "", fmt.Errorf("%s can be %s or %s; say on the signal what a comma in a number means", s, strings.Replace(s,
			",", ".", 1), strings.Replace(s, ",", "", 1))
	case decimalComma.MatchString(s) || byPoints.MatchString(s):
		return strings.Replace(strings.ReplaceAll(s, ".", ""), ",", ".", 1), nil
	}
	return text, nil
}

// Dialect finds out how a table is written, and leaves away what stands before it: a byte order mark, and a line that
// names the separator (sep=;), so many lines. Without that line semicolons or tabs part the cells where the header has
// some, and no commas.
func Dialect(payload []byte) (rest []byte, comma rune, lines int) {
	payload = bytes.TrimPrefix(payload, []byte("\xef\xbb\xbf"))
	head, after, _ := bytes.Cut(payload, []byte("\n"))
	if by, ok := bytes.CutPrefix(bytes.ToLower(bytes.TrimRight(head, " \r")), []byte("sep=")); ok && len(by) == 1 &&
		bytes.ContainsAny(by, ",;|\t") {
		return after, rune(by[0]), 1
	}
	for bytes.HasPrefix(bytes.TrimSpace(head), []byte("#")) {
		head, after, _ = bytes.Cut(after, []byte("\n"))
	}
	for _, by := range ";\t" {
		if bytes.ContainsRune(head, by) && !bytes.ContainsRune(head, ',') {
			return payload, by, 0
		}
	}
	return payload, ',', 0
}

// Pair takes a name and a value as text.
func Pair(name, value string) (Named, error) {
	v, err := Parse([]byte(value))
	if err != nil {
		return Named{}, fmt.Errorf("%s: %w", clip(name), err)
	}
	return Named{Name: name, Value: v, Decimals: Decimals(value)}, nil
}

// Pairs takes names with values apart, as a form or a query string holds them. The name t is the time of all.
func Pairs(values map[string][]string) (named []Named, faults []error, err error) {
	var at time.Time
	if t := values["t"]; len(t) > 0 {
		if at, err = Stamp(t[0]); err != nil {
			return nil, nil, err
		}
	}
	names := make([]string, 0, len(values))
	for name := range values {
		if name != "t" {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	if len(names) > maxNames {
		return nil, nil, fmt.Errorf("the message carries more than %d values; send several messages", maxNames)
	}
	for _, name := range names {
		n, err := Pair(name, values[name][0])
		if err != nil {
			faults = append(faults, err)
			continue
		}
		n.At = at
		named = append(named, n)
	}
	if len(named) == 0 && len(faults) == 0 {
		return nil, nil, errors.New("the message holds no value; expected such as temperature=21.4")
	}
	return named, faults, nil
}

// Line takes a text line such as "k=<key> temperature=21.4 lid=shut t=1795413600000" apart.
func Line(payload []byte) (key string, named []Named, faults []error, err error) {
	if !utf8.Valid(payload) {
		return "", nil, nil, errors.New("the line is not valid UTF-8 text")
	}
	values := map[string][]string{}
	for _, field := range strings.Fields(string(payload)) {
		name, value, ok := strings.Cut(field, "=")
		switch {
		case !ok || name == "":
			faults = append(faults, fmt.Errorf("%s is no name=value", clip(field)))
		case name == "k":
			key = value
		default:
			values[name] = []string{value}
		}
	}
	named, wrong, err := Pairs(values)
	return key, named, append(faults, wrong...), err
}

// Newest is the latest time among the values, zero where none has one.
func Newest(named []Named) (at time.Time) {
	for _, n := range named {
		if n.At.After(at) {
			at = n.At
		}
	}
	return at
}

// Split takes the reports and copies out of the values: a name such as is.heater tells what the control heater is, one
// such as has.setpoint what the device's copy of that setting is.
func Split(named []Named) (readings, reports []Named, copies []Copy, faults []error) {
	if !slices.ContainsFunc(named, func(n Named) bool {
		return strings.HasPrefix(n.Name, "is.") || strings.HasPrefix(n.Name, "has.")
	}) {
		return named, nil, nil, nil
	}
	for _, n := range named {
		if control, ok := strings.CutPrefix(n.Name, "is."); ok {
			n.Name = control
			reports = append(reports, n)
		} else if setting, ok := strings.CutPrefix(n.Name, "has."); ok {
			c, err := CopyText(setting, n.Value.String())
			if err != nil {
				faults = append(faults, err)
				continue
			}
			copies = append(copies, c)
		} else {
			readings = append(readings, n)
		}
	}
	return readings, reports, copies, faults
}
