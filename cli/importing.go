package cli

import (
	"bufio"
	"cmp"
	"compress/gzip"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"idleember/client"
	"idleember/core/reading"
)

func importCommand() *cli.Command {
	return &cli.Command{Name: "import", Usage: "bring readings of the past in from a file", ArgsUsage: "FILE",
		Description: `FILE is CSV, wide (a column with the time, one for each series) or long (series,t,v), JSON Lines or SenML, also compressed with
gzip; - is the standard input. The series must be there already. It is idempotent: what is there already changes nothing.

A line that cannot be taken is told with its number, and loses nothing else. When it is stopped it says with which
--from-line it goes on. Columns with other names than series are asked for in a terminal, or told:

   idleember import old.csv --time "Date" --layout "02.01.2006 15:04" --delimiter ";" --comma \
      --map "Temp (C)=drying_room.temperature" --map "RH=drying_room.humidity"`,
		Flags: remote(
			&cli.StringFlag{Name: "form", Usage: "the file is a `FORM`: csv, jsonl or senml", DefaultText: "by its name or first character"},
			&cli.StringSliceFlag{Name: "map", Usage: "a column is a series: `COLUMN=SERIES`"},
			&cli.StringFlag{Name: "time", Usage: "the `COLUMN` with the time", DefaultText: "t, time, timestamp, date"},
			&cli.StringFlag{Name: "layout", Usage: "how times are written, as the `LAYOUT` of the time 2 January 2006 15:04:05, in the hub's zone", DefaultText: "RFC 3339, Unix seconds or milliseconds"},
			&cli.StringFlag{Name: "delimiter", Usage: "what stands between the cells", DefaultText: "found by looking"},
			&cli.BoolFlag{Name: "comma", Usage: "numbers have a decimal comma"},
			&cli.IntFlag{Name: "from-line", Usage: "go on from line `N`"}),
		Action: connected(bring, "FILE")}
}

// bringer gathers readings and hands them on in portions.
type bringer struct {
	ctx      context.Context
	h        *client.Remote
	zone     *time.Location
	layout   string
	comma    bool
	pending  map[string][]client.OneReading
	lines    map[string][]int
	n        int // pending
	stored   int
	replaced int
	wrong    int
	out      io.Writer
	safe     int // every line before this one is stored or was told
}

const (
	portion  = 10_000 // readings before they are handed on
	mostTold = 20     // wrong lines that are told one by one
)

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
	b := &bringer{ctx: ctx, h: h, zone: hubZone(ctx, h), layout: cmd.String("layout"), comma: cmd.Bool("comma"), out: writer(cmd),
		pending: map[string][]client.OneReading{}, lines: map[string][]int{}}
	form := cmp.Or(cmd.String("form"), guessForm(args[0], text))
	var err error
	switch form {
	case "csv":
		err = b.csv(cmd, text)
	case "jsonl":
		err = b.jsonl(text, cmd.Int("from-line"))
	case "senml":
		err = b.senml(text)
	default:
		return &UsageError{fmt.Sprintf("%q is no form; use csv, jsonl or senml", form)}
	}
	if err == nil {
		err = b.flush()
	}
	_ = bar.Finish()
	if err != nil && b.stored+b.wrong == 0 {
		return err
	}
	said := fmt.Sprintf("Stored %d readings", b.stored)
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
	}
	return nil
}

func guessForm(name string, text *bufio.Reader) string {
	for _, x := range [][2]string{{".csv", "csv"}, {".jsonl", "jsonl"}, {".ndjson", "jsonl"}, {".senml", "senml"}, {".json", "senml"}} {
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

// tell says what is wrong with a line.
func (b *bringer) tell(line int, format string, args ...any) {
	if b.wrong++; b.wrong <= mostTold {
		_, _ = fmt.Fprintf(b.out, "line %d: %s\n", line, fmt.Sprintf(format, args...))
	} else if b.wrong == mostTold+1 {
		_, _ = fmt.Fprintln(b.out, "… further ones are only counted")
	}
}

func (b *bringer) take(line int, series string, r client.OneReading) error {
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

// flush hands on what is gathered.
func (b *bringer) flush() error {
	for series, list := range b.pending {
		if len(list) == 0 {
			continue
		}
		r, err := b.h.ImportReadingsWithResponse(b.ctx, client.ReadingsImport{Series: series, Readings: list})
		if err != nil {
			return err
		}
		b.stored, b.replaced = b.stored+r.JSON200.Stored, b.replaced+r.JSON200.Replaced
		for _, x := range r.JSON200.Refused {
			b.tell(b.lines[series][x.I], "%s", x.Reason)
		}
		b.pending[series], b.lines[series] = list[:0:0], nil
	}
	b.n = 0
	return b.ctx.Err()
}

// time reads a time as the layout says, or as machines write it.
func (b *bringer) time(text string) (int64, error) {
	text = strings.TrimSpace(text)
	if b.layout != "" {
		t, err := time.ParseInLocation(b.layout, text, b.zone)
		if err != nil {
			return 0, fmt.Errorf("the time %q is not written as %q", text, b.layout)
		}
		return t.UnixMilli(), nil
	}
	if t, err := reading.Stamp(text); err == nil {
		return t.UnixMilli(), nil
	}
	for _, layout := range []string{"2006-01-02 15:04:05.999", "2006-01-02 15:04", "2006-01-02T15:04:05.999", "2006-01-02T15:04", "2006-01-02"} {
		if t, err := time.ParseInLocation(layout, text, b.zone); err == nil {
			return t.UnixMilli(), nil
		}
	}
	return 0, fmt.Errorf("the time %q cannot be read; tell how times are written with --layout", text)
}

func (b *bringer) value(text string) (client.Value, error) {
	if b.comma {
		text = strings.Replace(text, ",", ".", 1)
	}
	v, err := reading.Parse([]byte(text))
	if err != nil {
		return nil, err
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	var out client.Value
	return out, json.Unmarshal(raw, &out)
}

// columns says which cell is the time and which are series.
type columns struct {
	at, series, v, q, raw int
	wide                  map[int]string
}

func (b *bringer) csv(cmd *cli.Command, text *bufio.Reader) error {
	r := csv.NewReader(text)
	r.FieldsPerRecord, r.TrimLeadingSpace, r.ReuseRecord = -1, true, true
	if r.Comma = ','; cmd.String("delimiter") != "" {
		r.Comma = []rune(strings.ReplaceAll(cmd.String("delimiter"), `\t`, "\t"))[0]
	} else if head, _ := text.Peek(4096); true {
		first, _, _ := strings.Cut(string(head), "\n")
		for _, d := range []rune{';', '\t'} {
			if strings.ContainsRune(first, d) && strings.Count(first, string(d)) >= strings.Count(first, ",") {
				r.Comma = d
			}
		}
	}
	head, err := r.Read()
	if err != nil {
		return fmt.Errorf("the file has no header line: %w", err)
	}
	cols, err := b.columns(cmd, slices.Clone(head))
	if err != nil {
		return err
	}
	for {
		row, err := r.Read()
		line := 0
		if err == nil {
			line, _ = r.FieldPos(0) // there is none where the line could not be read
		}
		var parse *csv.ParseError
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case errors.As(err, &parse):
			b.tell(parse.Line, "%s", parse.Err)
			continue
		case err != nil:
			return err
		case line < cmd.Int("from-line"):
			continue
		}
		if err := b.csvRow(cols, line, row); err != nil {
			return err
		}
	}
}

func (b *bringer) csvRow(cols columns, line int, row []string) error {
	cell := func(i int) string {
		if i < 0 || i >= len(row) {
			return ""
		}
		return strings.TrimSpace(row[i])
	}
	at, err := b.time(cell(cols.at))
	if err != nil {
		b.tell(line, "%s", err)
		return nil
	}
	one := func(series, text string, q, raw string) error {
		if text == "" {
			return nil
		}
		v, err := b.value(fromCell(text))
		if err != nil {
			b.tell(line, "%s: %s", series, err)
			return nil
		}
		x := client.OneReading{T: at, V: v}
		if q == "suspect" || q == "bad" {
			word := client.OneReadingQ(q)
			x.Q = &word
		}
		var before float64
		if _, err := fmt.Sscan(raw, &before); err == nil {
			x.Raw = &before
		}
		return b.take(line, series, x)
	}
	if cols.wide == nil {
		return one(cell(cols.series), cell(cols.v), cell(cols.q), cell(cols.raw))
	}
	for i := range row {
		if series := cols.wide[i]; series != "" {
			if err := one(series, cell(i), "", ""); err != nil {
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
			return slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(strings.TrimSpace(strings.TrimPrefix(h, "\ufeff")), n) })
		})
	}
	cols := columns{at: find("t", "time", "timestamp", "date"), series: find("series"), v: find("v", "value"), q: find("q"), raw: find("raw")}
	if name := cmd.String("time"); name != "" {
		cols.at = find(name)
	}
	if cols.at < 0 {
		return cols, fmt.Errorf("no column is the time; the columns are %s; tell which with --time", strings.Join(head, ", "))
	}
	if cols.series >= 0 && cols.v >= 0 {
		return cols, nil
	}
	known, err := seriesOf(b.ctx, b.h)
	if err != nil {
		return cols, err
	}
	told := map[string]string{}
	for _, m := range cmd.StringSlice("map") {
		i := strings.LastIndex(m, "=")
		if i < 0 {
			return cols, &UsageError{fmt.Sprintf("%q is no mapping; write COLUMN=SERIES", m)}
		}
		told[m[:i]] = m[i+1:]
		if find(m[:i]) < 0 {
			return cols, fmt.Errorf("there is no column %q; the columns are %s", m[:i], strings.Join(head, ", "))
		}
	}
	cols.wide = map[int]string{}
	var strange []string
	answers := bufio.NewReader(os.Stdin)
	for i, name := range head {
		switch series, ok := told[name]; {
		case i == cols.at:
		case ok:
			cols.wide[i] = series
		case slices.Contains(known, name):
			cols.wide[i] = name
		case len(told) == 0 && term.IsTerminal(int(os.Stdin.Fd())) && cmd.Args().First() != "-":
			_, _ = fmt.Fprintf(os.Stderr, "Column %q is the series (empty: leave it out): ", name)
			answer, _ := answers.ReadString('\n')
			cols.wide[i] = strings.TrimSpace(answer)
		default:
			strange = append(strange, fmt.Sprintf("%q", name))
		}
	}
	for _, series := range cols.wide {
		if series != "" && !slices.Contains(known, series) {
			return cols, fmt.Errorf("there is no series %s; see idleember storage, and add the signal first where it is new", series)
		}
	}
	if len(cols.wide) == 0 {
		return cols, fmt.Errorf("no column is a series; the columns are %s; tell which with --map COLUMN=SERIES", strings.Join(head, ", "))
	}
	if len(strange) > 0 {
		_, _ = fmt.Fprintf(b.out, "Left out, as they are no series: %s. Tell what they are with --map COLUMN=SERIES.\n", strings.Join(strange, ", "))
	}
	return cols, nil
}

// seriesOf are all series that the hub can keep.
func seriesOf(ctx context.Context, h *client.Remote) (ids []string, err error) {
	r, err := h.GetNowWithResponse(ctx)
	if err != nil {
		return nil, err
	}
	for _, s := range r.JSON200.Signals {
		ids = append(ids, s.Id)
	}
	for _, c := range r.JSON200.Controls {
		ids = append(ids, c.Id+".is", c.Id+".want", c.Id+".mode")
	}
	for _, g := range r.JSON200.Settings {
		ids = append(ids, g.Config.ID)
	}
	return ids, nil
}

func (b *bringer) jsonl(text *bufio.Reader, from int) error {
	sc := bufio.NewScanner(text)
	sc.Buffer(make([]byte, 1<<16), 1<<20)
	for line := 1; sc.Scan(); line++ {
		if line < from || len(strings.TrimSpace(sc.Text())) == 0 {
			continue
		}
		var x struct {
			Series string          `json:"series"`
			T      json.RawMessage `json:"t"`
			client.OneReading
		}
		if err := json.Unmarshal(sc.Bytes(), &x); err != nil || x.Series == "" || x.V == nil {
			b.tell(line, `%.60q is no reading; expected one such as {"series":"drying_room.temperature","t":1795413600000,"v":21.4}`, sc.Text())
			continue
		}
		at, err := b.time(strings.Trim(string(x.T), `"`))
		if err != nil {
			b.tell(line, "%s", err)
			continue
		}
		x.OneReading.T = at
		if err := b.take(line, x.Series, x.OneReading); err != nil {
			return err
		}
	}
	return sc.Err()
}

func (b *bringer) senml(text io.Reader) error {
	whole, err := io.ReadAll(text)
	if err != nil {
		return err
	}
	named, faults, err := reading.SenML(whole, time.Now())
	if err != nil {
		return err
	}
	for _, f := range faults {
		b.tell(0, "%s", f)
	}
	for i, n := range named {
		v, err := b.value(n.Value.String())
		if err != nil {
			b.tell(i+1, "%s", err)
			continue
		}
		if err := b.take(i+1, cmp.Or(n.FullName, n.Name), client.OneReading{T: n.At.UnixMilli(), V: v}); err != nil {
			return err
		}
	}
	return nil
}
