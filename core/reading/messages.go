package reading

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// maxReadings is the most values that one message with many times may carry.
const maxReadings = 20_000

// timeColumns are the names that a CSV column with times may have.
var timeColumns = []string{"t", "time", "timestamp"}

// CSV takes lines of comma-separated values (RFC 4180) apart. The first line names the signals; a column called t, time or
// timestamp holds the time of its line in Unix seconds, Unix milliseconds or RFC 3339. Empty cells are left out.
func CSV(payload []byte) (named []Named, faults []error, err error) {
	payload, comma, skipped := dialect(payload)
	r := csv.NewReader(bytes.NewReader(payload))
	r.FieldsPerRecord, r.TrimLeadingSpace, r.Comma, r.Comment = -1, true, comma, '#'
	head, err := r.Read()
	if err != nil {
		return nil, nil, fmt.Errorf("the CSV has no header line; the first line names the signals, as in t,temperature,humidity")
	}
	for i := range head {
		head[i] = strings.TrimSpace(head[i])
	}
	at := slices.IndexFunc(head, func(h string) bool { return slices.Contains(timeColumns, strings.ToLower(h)) })
	for {
		row, err := r.Read()
		line := skipped
		var bad *csv.ParseError
		if errors.As(err, &bad) {
			line += bad.StartLine
		} else if err == nil {
			first, _ := r.FieldPos(0)
			line += first
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			faults = append(faults, fmt.Errorf("line %d: %w", line, errors.Unwrap(err)))
			continue
		}
		if len(row) != len(head) {
			faults = append(faults, fmt.Errorf("line %d has %d cells; the header has %d", line, len(row), len(head)))
			continue
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

// dialect finds out how a table is written, and leaves away what stands before it: a byte order mark, and a line that names the
// separator (sep=;), so many lines. Without that line semicolons part the cells where the header has some, and no commas.
func dialect(payload []byte) (rest []byte, comma rune, lines int) {
	payload = bytes.TrimPrefix(payload, []byte("\xef\xbb\xbf"))
	head, after, _ := bytes.Cut(payload, []byte("\n"))
	if by, ok := bytes.CutPrefix(bytes.ToLower(bytes.TrimSpace(head)), []byte("sep=")); ok && len(by) == 1 && bytes.ContainsAny(by, ",;|") {
		return after, rune(by[0]), 1
	}
	for bytes.HasPrefix(bytes.TrimSpace(head), []byte("#")) {
		head, after, _ = bytes.Cut(after, []byte("\n"))
	}
	if bytes.ContainsRune(head, ';') && !bytes.ContainsRune(head, ',') {
		return payload, ';', 0
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

// Stamp reads a time as Unix seconds, Unix milliseconds where it is too large for seconds, or RFC 3339.
func Stamp(s string) (time.Time, error) {
	s = strings.TrimSpace(s)
	if f, err := strconv.ParseFloat(s, 64); err == nil {
		if t, ok := unixTime(f); ok {
			return t, nil
		}
	}
	if t, err := time.Parse(time.RFC3339, s); err == nil {
		return t, nil
	}
	if t, err := time.Parse("2006-01-02 15:04:05Z07:00", s); err == nil { // with a space for the T, as some write it
		return t, nil
	}
	return stamp([]byte(s))
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

// Split takes the reports and copies out of the values: a name such as is.heater tells what the control heater is, one such
// as has.setpoint what the device's copy of that setting is.
func Split(named []Named) (readings, reports []Named, copies []Copy, faults []error) {
	if !slices.ContainsFunc(named, func(n Named) bool { return strings.HasPrefix(n.Name, "is.") || strings.HasPrefix(n.Name, "has.") }) {
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
