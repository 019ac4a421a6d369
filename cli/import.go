package cli

import (
	"bufio"
	"cmp"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"

	"idleember/client"
	"idleember/core/reading"
	"idleember/core/site"
)

func importCommand() *cli.Command {
	return &cli.Command{Name: "import", Usage: "bring readings of the past in from a file", ArgsUsage: "FILE",
		Description: `FILE is CSV, wide (a column with the time, one for each series) or long (series,t,v), JSON Lines of both, or SenML, also compressed with
gzip; - is the standard input. The series must be there already. It is idempotent: what is there already changes nothing.

A line that cannot be taken is told with its number, and loses nothing else; the exit code is then 1. When it is stopped it
says with which --from-line it goes on. Columns with other names than series are asked for in a terminal, or told:

   idleember import old.csv --time "Date" --layout "02.01.2006 15:04" --delimiter ";" --comma \
      --map "Temp (C)=drying_room.temperature" --map "RH=drying_room.humidity" --dry-run
   idleember import log.csv --series-column sensor --value-column reading --map "s1=drying_room.temperature"
   idleember import bare.csv --columns "date,time,drying_room.temperature,-" --zone Europe/Berlin

Times without a zone that clocks showed twice, or never, because they were changed are refused; --zone +01:00 says which.`,
		Flags: remote(
			&cli.StringFlag{Name: "form", Usage: "the file is a `FORM`: csv, jsonl or senml",
				DefaultText: "by its name or first character"},
			&cli.StringSliceFlag{Name: "map", Usage: "a column, or a word of the series column, is a series: `COLUMN=SERIES`"},
			&cli.StringFlag{Name: "columns", Usage: "the file has no header line; its columns are `NAMES`: the time, series, " +
				"or - for one to leave out"},
			&cli.StringFlag{Name: "time", Usage: "the `COLUMN` with the time; several, as in year+month+day, are read with a " +
				"space between them", DefaultText: "t, time, timestamp, date, or date and time"},
			&cli.StringFlag{Name: "series-column", Usage: "each line is a reading of the series that this `COLUMN` names",
				DefaultText: "series"},
			&cli.StringFlag{Name: "value-column", Usage: "the `COLUMN` with the value, where one names the series",
				DefaultText: "v, value"},
			&cli.StringFlag{Name: "layout", Usage: "how times are written, as the `LAYOUT` of the time 2 January 2006 " +
				"15:04:05; unix or unix_ms for numbers", DefaultText: "ISO 8601, Unix seconds or milliseconds"},
			&cli.StringFlag{Name: "zone", Usage: "times that name no zone are of this `ZONE`, such as Europe/Berlin or +01:00",
				DefaultText: "the hub's"},
			&cli.StringFlag{Name: "delimiter", Usage: "what stands between the cells", DefaultText: "found by looking"},
			&cli.BoolFlag{Name: "comma", Usage: "numbers have a decimal comma, and points for thousands"},
			&cli.BoolFlag{Name: "dry-run", Usage: "store nothing, and say what would be"},
			&cli.IntFlag{Name: "from-line", Usage: "go on from line `N`"}),
		Action: connected(bring, "FILE")}
}

// bringer gathers readings and hands them on in portions.
type bringer struct {
	ctx     context.Context
	h       *client.Remote
	zone    *time.Location
	layout  string
	comma   bool
	dry     bool
	kinds   map[string]site.ValueKind // of the series that there are; nil: not known
	pending map[string][]client.OneReading
	lines   map[string][]int
	seen    map[spot]first // in this portion
	n       int            // pending

	stored, replaced, wrong int
	out                     io.Writer
	safe                    int // every line before this one is stored or was told
}

// spot is a moment of a series, and first what came for it before.
type spot struct {
	series string
	t      int64
}

type first struct {
	line int
	v    client.Value
}

const (
	portion  = 10_000 // readings before they are handed on
	mostTold = 20     // wrong lines that are told one by one
)

// Long, because it is one list of the options.
func bring(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt)
	defer stop()
	in, total := io.Reader(os.Stdin), int64(-1)
	if args[0] != "-" {
		f, err := os.Open(args[0])
		if err != nil {
			return fmt.Errorf("the file cannot be read: %w", err)
		}
		defer func() { _ = f.Close() }()
		if info, err := f.Stat(); err == nil {
			total = info.Size()
		}
		in = f
	}
	bar := progress(total, "reading")
	counted := progressbar.NewReader(in, bar)
	text := bufio.NewReaderSize(&counted, 1<<16)
	if head, _ := text.Peek(2); len(head) == 2 && head[0] == 0x1f && head[1] == 0x8b {
		z, err := gzip.NewReader(text)
		if err != nil {
			return fmt.Errorf("the file is not what gzip writes: %w", err)
		}
		text = bufio.NewReaderSize(z, 1<<16)
	}
	zone, err := zoneOf(ctx, cmd, h)
	if err != nil {
		return err
	}
	b := &bringer{ctx: ctx, h: h, zone: zone, layout: cmd.String("layout"), comma: cmd.Bool("comma"),
		dry: cmd.Bool("dry-run"), out: writer(cmd),
		kinds: kindsOf(ctx, h), pending: map[string][]client.OneReading{}, lines: map[string][]int{}, seen: map[spot]first{}}
	form := cmp.Or(cmd.String("form"), guessForm(args[0], text))
	switch form {
	case "csv":
		err = b.csv(cmd, text)
	case "jsonl":
		err = b.jsonl(text, cmd.Int("from-line"))
	case "senml":
		err = b.senml(text, cmd.Int("from-line"))
	default:
		return &UsageError{fmt.Sprintf("%q is no form; use csv, jsonl or senml", form)}
	}
	if ctx.Err() == nil { // also what came before the file broke off
		err = errors.Join(err, b.flush())
	}
	_ = bar.Finish()
	if err != nil && b.stored+b.wrong == 0 {
		return err
	}
	said := fmt.Sprintf("Stored %d readings", b.stored)
	if b.dry {
		said = fmt.Sprintf("Would store %d readings", b.stored)
	}
	if b.replaced > 0 {
		said += fmt.Sprintf(", %d of them in the place of others", b.replaced)
	}
	_, _ = fmt.Fprintf(b.out, "%s. %d could not be taken.\n", said, b.wrong)
	switch {
	case ctx.Err() != nil:
		return fmt.Errorf("stopped; go on with --from-line %d", max(b.safe, cmd.Int("from-line")))
	case err != nil:
		return err
	case b.stored == 0:
		return errors.New("nothing was stored")
	case b.wrong > 0:
		return fmt.Errorf("%d could not be taken", b.wrong)
	}
	return nil
}

// zoneOf is the zone of times that name none.
func zoneOf(ctx context.Context, cmd *cli.Command, h *client.Remote) (*time.Location, error) {
	name := cmd.String("zone")
	if name == "" {
		return hubZone(ctx, h), nil
	}
	if t, err := time.Parse("-07:00", name); err == nil {
		_, off := t.Zone()
		return time.FixedZone(name, off), nil
	}
	zone, err := time.LoadLocation(name)
	if err != nil {
		return nil, &UsageError{fmt.Sprintf("there is no zone %q; use one such as Europe/Berlin or +01:00", name)}
	}
	return zone, nil
}

func guessForm(name string, text *bufio.Reader) string {
	for _, x := range [][2]string{{".csv", "csv"}, {".jsonl", "jsonl"}, {".ndjson", "jsonl"}, {".senml", "senml"}} {
		if strings.HasSuffix(strings.TrimSuffix(name, ".gz"), x[0]) {
			return x[1]
		}
	}
	switch head, _ := text.Peek(1); string(head) {
	case "{":
		return "jsonl"
	case "[":
		return "senml"
	}
	return "csv"
}

// tell says what is wrong with a line, or record.
func (b *bringer) tell(line int, format string, args ...any) {
	if b.wrong++; b.wrong <= mostTold {
		_, _ = fmt.Fprintf(b.out, "line %d: %s\n", line, fmt.Sprintf(format, args...))
	} else if b.wrong == mostTold+1 {
		_, _ = fmt.Fprintln(b.out, "… further ones are only counted")
	}
}

func (b *bringer) take(line int, series string, r client.OneReading) error {
	if b.kinds != nil {
		if _, ok := b.kinds[series]; !ok {
			b.tell(line, "there is no series %.60q", series)
			return nil
		}
	}
	at := spot{series, r.T}
	if was, ok := b.seen[at]; !ok {
		b.seen[at] = first{line, r.V}
	} else if was.v != r.V {
		b.tell(line, "%s is %.40v at %s, and %.40v on line %d; say with --series-column where several series stand in one "+
			"column", series, r.V, isoTime(r.T), was.v, was.line)
		return nil
	}
	b.pending[series] = append(b.pending[series], r)
	b.lines[series] = append(b.lines[series], line)
	if b.n++; b.n < portion {
		return nil
	}
	if err := b.flush(); err != nil {
		return err
	}
	b.safe = line
	return nil
}

// flush hands on what is gathered. A series that cannot be brought in costs no other one.
func (b *bringer) flush() error {
	for series, list := range b.pending {
		if len(list) == 0 {
			continue
		}
		r, err := b.h.ImportReadingsWithResponse(b.ctx, client.ReadingsImport{Series: series, Readings: list, DryRun: &b.dry})
		var refused *client.ProblemError
		switch {
		case errors.As(err, &refused) && (refused.Status == 404 || refused.Status == 403 && b.stored > 0):
			for _, line := range b.lines[series] {
				b.tell(line, "%s", err)
			}
		case err != nil:
			return err
		default:
			b.stored, b.replaced = b.stored+r.JSON200.Stored, b.replaced+r.JSON200.Replaced
			for _, x := range r.JSON200.Refused {
				b.tell(b.lines[series][x.I], "%s", x.Reason)
			}
		}
		b.pending[series], b.lines[series] = list[:0:0], nil
	}
	b.n = 0
	clear(b.seen)
	return b.ctx.Err()
}

// The layouts of times that are numbers.
const unixSeconds, unixMillis = "unix", "unix_ms"

// time reads a time as the layout says, or as machines write it.
func (b *bringer) time(text string) (int64, error) {
	text = strings.TrimSpace(text)
	var t time.Time
	var err error
	switch {
	case b.layout == unixSeconds || b.layout == unixMillis:
		f, wrong := strconv.ParseFloat(text, 64)
		if b.layout == unixSeconds {
			f *= 1000
		}
		if wrong != nil || !(f > -1e15 && f < 1e15) {
			return 0, fmt.Errorf("the time %.40q is no number of seconds or milliseconds since 1970", text)
		}
		return time.UnixMilli(int64(f)).UnixMilli(), nil
	case strings.Contains(b.layout, "MST"): // abbreviations mean something only in a zone
		t, err = time.ParseInLocation(b.layout, text, b.zone)
	case b.layout != "":
		if t, err = time.Parse(b.layout, text); err == nil && !strings.Contains(b.layout, "Z07") &&
			!strings.Contains(b.layout, "-07") {
			return unixMilli(reading.Local(t, b.zone))
		}
	case unclear(text):
		return 0, fmt.Errorf("the time %.40q may be a year, a day or a number of seconds; tell how times are written with "+
			"--layout, unix or unix_ms for numbers", text)
	default:
		if t, err = reading.StampIn(text, b.zone); err != nil {
			return 0, fmt.Errorf("%w; tell how times are written with --layout", err)
		}
	}
	if err != nil {
		return 0, fmt.Errorf("the time %.40q is not written as %q", text, b.layout)
	}
	return t.UnixMilli(), nil
}

func unixMilli(t time.Time, err error) (int64, error) { return t.UnixMilli(), err }

// unclear reports whether a number may well be something else than Unix seconds or milliseconds: 2026, 20260302 and
// 202603020900 are.
func unclear(text string) bool {
	f, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return false
	}
	if f < 1e8 {
		return true
	}
	for _, layout := range []string{"200601021504", "20060102150405"} {
		if t, err := time.Parse(layout, text); err == nil && t.Year() > 1900 && t.Year() < 2100 {
			return true
		}
	}
	return false
}

// value is that of a cell: a text as it stands there, a number where the series is one.
func (b *bringer) value(series, cell string) (client.Value, error) {
	if !utf8.ValidString(cell) {
		return nil, fmt.Errorf("%.40q is not UTF-8; save the file as UTF-8", cell)
	}
	text := fromCell(cell)
	switch kind := b.kinds[series]; {
	case b.comma && kind != site.Text:
		return reading.Pointed(text, site.DecimalComma)
	case kind == site.Number:
		return reading.Pointed(text, "")
	}
	return text, nil
}

// marked puts the quality and the raw value to a reading.
func marked(r *client.OneReading, q, raw string) error {
	switch word := client.OneReadingQ(strings.TrimSpace(q)); word {
	case "", client.Good:
	case client.Suspect, client.Bad:
		r.Q = &word
	default:
		return fmt.Errorf("%.40q is no quality; expected good, suspect or bad", q)
	}
	if raw = strings.TrimSpace(raw); raw == "" {
		return nil
	}
	before, err := strconv.ParseFloat(raw, 64)
	if err != nil {
		return fmt.Errorf("the raw value %.40q is no number", raw)
	}
	r.Raw = &before
	return nil
}

// kindsOf are all series that the hub keeps, with their kinds where they are known. It is nil where the token does not
// show them.
func kindsOf(ctx context.Context, h *client.Remote) map[string]site.ValueKind {
	r, err := h.GetNowWithResponse(ctx)
	if err != nil {
		return nil
	}
	kinds := map[string]site.ValueKind{}
	for _, s := range r.JSON200.Signals {
		kinds[s.Config.ID] = site.ValueKind(s.Config.Kind)
	}
	for _, c := range r.JSON200.Controls {
		for _, of := range []string{".is", ".want", ".mode"} {
			kinds[c.Config.ID+of] = ""
		}
	}
	for _, g := range r.JSON200.Settings {
		kinds[g.Config.ID] = ""
	}
	return kinds
}

func (b *bringer) jsonl(text *bufio.Reader, from int) error {
	sc := bufio.NewScanner(text)
	sc.Buffer(make([]byte, 1<<16), reading.LongestLine)
	line := 1
	for ; sc.Scan(); line++ {
		if line < from || len(strings.TrimSpace(sc.Text())) == 0 {
			continue
		}
		var x struct {
			Series string          `json:"series"`
			T      json.RawMessage `json:"t"`
			V      client.Value    `json:"v"`
			Q      string          `json:"q"`
			Raw    json.Number     `json:"raw"`
		}
		err := json.Unmarshal(sc.Bytes(), &x)
		if err == nil && x.Series == "" {
			if found, err := b.wideObject(line, sc.Bytes()); err != nil {
				return err
			} else if found {
				continue
			}
		}
		if err != nil || x.Series == "" || x.V == nil {
			b.tell(line, `%.60q is no reading; expected one such as {"series":"drying_room.temperature","t":1795413600000,"v":21.4}`, sc.Text())
			continue
		}
		if !isPlain(x.V) {
			b.tell(line, "%.60q has no plain value", sc.Text())
			continue
		}
		at, err := b.time(strings.Trim(string(x.T), `"`))
		r := client.OneReading{T: at, V: x.V}
		if err := errors.Join(err, marked(&r, x.Q, x.Raw.String())); err != nil {
			b.tell(line, "%s", err)
			continue
		}
		if err := b.take(line, x.Series, r); err != nil {
			return err
		}
	}
	return tooLong(line, sc.Err())
}

// wideObject takes an object with a time and values by series, as tables are often written; found is false where it is
// none.
func (b *bringer) wideObject(line int, text []byte) (found bool, err error) {
	var cells map[string]json.RawMessage
	if json.Unmarshal(text, &cells) != nil {
		return false, nil
	}
	key := ""
	for name := range cells {
		if slices.Contains(timeNames, strings.ToLower(name)) {
			if key != "" {
				b.tell(line, "both %s and %s may be the time", key, name)
				return true, nil
			}
			key = name
		}
	}
	if key == "" || len(cells) < 2 {
		return false, nil
	}
	at, err := b.time(strings.Trim(string(cells[key]), `"`))
	if err != nil {
		b.tell(line, "%s", err)
		return true, nil
	}
	for _, series := range slices.Sorted(maps.Keys(cells)) {
		var v client.Value
		if series == key || json.Unmarshal(cells[series], &v) != nil || v == nil {
			continue
		}
		if !isPlain(v) {
			b.tell(line, "%s has no plain value", series)
			continue
		}
		if err := b.take(line, series, client.OneReading{T: at, V: v}); err != nil {
			return true, err
		}
	}
	return true, nil
}

// isPlain reports whether a value is a number, a text, or true or false.
func isPlain(v client.Value) bool {
	switch v.(type) {
	case float64, string, bool:
		return true
	}
	return false
}

func tooLong(line int, err error) error {
	if errors.Is(err, bufio.ErrTooLong) {
		return fmt.Errorf("line %d is longer than %d bytes; is it text?", line, reading.LongestLine)
	}
	return err
}

func (b *bringer) senml(text io.Reader, from int) error {
	return reading.SenMLFile(text, time.Time{}, func(record int, named []reading.Named, faults []error) error {
		if record < from {
			return nil
		}
		for _, f := range faults {
			b.tell(record, "%s", f)
		}
		for _, n := range named {
			r := client.OneReading{T: n.At.UnixMilli(), V: typed(n.Value), Raw: n.Raw}
			if n.Quality != reading.Good {
				r.Q = new(client.OneReadingQ(n.Quality.String()))
			}
			switch {
			case n.At.IsZero():
				b.tell(record, "%s has no time", n.FullName)
				continue
			case n.At.Year() < 1900:
				b.tell(record, "%s has a time below 2^28 seconds, which is relative to now (RFC 8428, section 4.5.3)", n.FullName)
				continue
			}
			if err := b.take(record, n.FullName, r); err != nil {
				return err
			}
		}
		return nil
	})
}

func typed(v reading.Value) client.Value {
	switch v.Kind {
	case site.OnOff:
		return v.On()
	case site.Text:
		return v.Text
	}
	return v.Num
}
