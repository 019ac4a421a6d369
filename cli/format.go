package cli

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/core/words"
)

// valueText writes a value as people read it: 21.4, on, wet.
func valueText(v any, decimals int) string {
	switch x := v.(type) {
	case *reading.Value:
		switch {
		case x == nil:
			return "–"
		case x.Kind == site.Number:
			return strconv.FormatFloat(x.Num, 'f', decimals, 64)
		}
		return x.String()
	case float64:
		return strconv.FormatFloat(x, 'f', decimals, 64)
	case bool:
		if x {
			return "on"
		}
		return "off"
	}
	return fmt.Sprint(v)
}

// controlText writes what a control is or should be: on, 40 %, open.
func controlText(c shown.Control, v any) string {
	text := valueText(v, -1)
	if c.Config.Kind == site.Level && text != "–" {
		text += " %"
	}
	return text
}

// ago says how long something is ago, short.
func ago(t *time.Time, now time.Time) string {
	if t == nil {
		return "never"
	}
	return words.Duration(now.Sub(*t)) + " ago"
}

// show writes rows as the command's output option says; data is what JSON gets.
func show(cmd *cli.Command, data any, header []string, rows [][]string) error {
	w := writer(cmd)
	switch cmd.String("output") {
	case "json":
		enc := json.NewEncoder(w)
		enc.SetIndent("", "  ")
		return enc.Encode(data)
	case "csv":
		c := csv.NewWriter(w)
		if err := c.Write(header); err != nil {
			return err
		}
		for _, r := range rows {
			if err := c.Write(cells(r)); err != nil {
				return err
			}
		}
		c.Flush()
		return c.Error()
	}
	t := tabwriter.NewWriter(w, 0, 0, 2, ' ', 0)
	_, _ = fmt.Fprintln(t, strings.ToUpper(strings.Join(header, "\t")))
	for _, r := range rows {
		for i, cell := range r {
			r[i] = oneLine(cell)
		}
		_, _ = fmt.Fprintln(t, strings.Join(r, "\t"))
	}
	return t.Flush()
}

// startsFormula are characters with which a cell begins that a spreadsheet runs.
const startsFormula = "=+-@\t\r"

// cells makes words of a row safe for a spreadsheet, which takes what begins so for a formula; numbers stay as they
// are.
func cells(row []string) []string {
	for i, s := range row {
		if s != "" && strings.ContainsRune(startsFormula, rune(s[0])) {
			if _, err := strconv.ParseFloat(s, 64); err != nil {
				row[i] = "'" + s
			}
		}
	}
	return row
}

// toCell writes a value so that it comes back bit for bit: before a text stands a ' where a spreadsheet would run it,
// where it is empty, and where it could be taken for one that has such a ' already.
func toCell(v client.Value) string {
	text, ok := v.(string)
	if !ok {
		return plainValue(v)
	}
	if text == "" || text[0] == '\'' && (len(text) == 1 || strings.ContainsRune("'"+startsFormula, rune(text[1]))) {
		return "'" + text
	}
	return cells([]string{text})[0]
}

// fromCell undoes what toCell did.
func fromCell(s string) string {
	if s == "'" {
		return ""
	}
	if len(s) > 1 && s[0] == '\'' && strings.ContainsRune("'"+startsFormula, rune(s[1])) {
		return s[1:]
	}
	return s
}

// oneLine keeps what comes from elsewhere within its cell: it neither moves the cursor nor begins a line.
func oneLine(s string) string { return site.OneLine(s, " ") }

// tame writes for a terminal: what comes from elsewhere cannot steer it.
type tame struct {
	io.Writer
	half []byte // the beginning of a character whose end comes with the next write
}

func (t *tame) Write(p []byte) (int, error) {
	text := append(t.half, p...)
	end := len(text)
	for i := 1; i < utf8.UTFMax && i <= len(text); i++ {
		if utf8.RuneStart(text[len(text)-i]) {
			if !utf8.FullRune(text[len(text)-i:]) {
				end = len(text) - i
			}
			break
		}
	}
	t.half = slices.Clone(text[end:])
	clean := strings.Map(func(r rune) rune {
		if r != '\n' && r != '\t' && site.Unprintable(r) {
			return '·'
		}
		return r
	}, string(text[:end]))
	_, err := io.WriteString(t.Writer, clean)
	return len(p), err
}

// hubZone is the hub's time zone: times are told in it, wherever the one who asks is.
func hubZone(ctx context.Context, h *client.Remote) *time.Location {
	r, err := h.Hub().Get(ctx)
	if err != nil {
		return time.Local
	}
	loc, err := time.LoadLocation(r.Config.Zone)
	if err != nil {
		return time.Local
	}
	return loc
}

// when reads a time as people give it: RFC 3339, a date, a date with a time of day, a time of today, now, or how long
// ago (90m, 24h, 7d).
func when(text string, now time.Time) (time.Time, error) {
	if text == "now" {
		return now, nil
	}
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.ParseFloat(days, 64); err == nil {
			return now.Add(-time.Duration(n * 24 * float64(time.Hour))), nil
		}
	}
	if d, err := time.ParseDuration(text); err == nil {
		return now.Add(-d.Abs()), nil
	}
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	for _, layout := range []string{"2006-01-02", "2006-01-02 15:04", "2006-01-02T15:04", "2006-01-02 15:04:05"} {
		if t, err := time.ParseInLocation(layout, text, now.Location()); err == nil {
			return t, nil
		}
	}
	if t, err := time.ParseInLocation("15:04", text, now.Location()); err == nil {
		return time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), 0, 0, now.Location()), nil
	}
	return time.Time{}, &UsageError{fmt.Sprintf("%q is no time; use one such as 24h, 7d, 14:30, 2026-11-20, "+
		"\"2026-11-20 14:30\" or RFC 3339", text)}
}
