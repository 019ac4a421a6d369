package cli

import (
	"compress/gzip"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"idleember/client"
)

func exportCommand() *cli.Command {
	return &cli.Command{Name: "export", Usage: "write readings to a file", ArgsUsage: "SERIES...",
		Description: `A SERIES is a signal's id, a setting's id, or a control's id with .is, .want or .mode. All readings are written, bit for bit as
they are kept. The forms: wide (CSV with a column for each series, and one with the qualities and raw values), long (CSV with
series,t,v,q,raw), jsonl (the same as one JSON object a line) and senml (RFC 8428, which has no times before 4 July 1978). What
was written, "idleember import" brings in again.`,
		Flags: remote(
			&cli.StringFlag{Name: "from", Value: "1900-01-02", DefaultText: "the first",
				Usage: "begin at `TIME`: 24h or 7d ago, 14:30, 2026-11-20, or RFC 3339"},
			&cli.StringFlag{Name: "to", Value: "now", Usage: "end at `TIME`"},
			&cli.StringFlag{Name: "form", Value: "wide", Usage: "write a `FORM`: wide, long, jsonl or senml"},
			&cli.StringFlag{Name: "file", Aliases: []string{"f"},
				Usage: "write to this `FILE`; compressed with gzip where it ends with .gz"}),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			names := cmd.Args().Slice()
			if len(names) == 0 {
				return &UsageError{"say which series; try: idleember export drying_room.temperature --from 7d"}
			}
			return connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
				return export(ctx, cmd, h, names)
			})(ctx, cmd)
		}}
}

func export(ctx context.Context, cmd *cli.Command, h *client.Remote, names []string) (err error) {
	zone := hubZone(ctx, h)
	from, err := when(cmd.String("from"), time.Now().In(zone))
	if err != nil {
		return err
	}
	to, err := when(cmd.String("to"), time.Now().In(zone))
	if err != nil {
		return err
	}
	out := pipe(cmd)
	if name := cmd.String("file"); name != "" {
		f, err := os.Create(name)
		if err != nil {
			return fmt.Errorf("the file cannot be written: %w", err)
		}
		defer func() { err = errors.Join(err, f.Close()) }()
		if out = f; strings.HasSuffix(name, ".gz") {
			z := gzip.NewWriter(f)
			defer func() { err = errors.Join(err, z.Close()) }()
			out = z
		}
	}
	var pages []*pager
	for _, name := range names {
		p := &pager{h: h, series: name, from: from, to: to}
		if err := p.fill(ctx); err != nil { // also finds out whether there is such a series, before anything is written
			return err
		}
		pages = append(pages, p)
	}
	w, err := formOf(cmd.String("form"), out, names)
	if err != nil {
		return err
	}
	bar := progress(-1, "readings")
	n := 0
	for ; ; n++ {
		at, err := earliest(ctx, pages)
		if err != nil {
			return err
		}
		if at == nil {
			break
		}
		row := make([]*client.OneReading, len(pages))
		for i, p := range pages {
			if r := p.peek(); r != nil && r.T == *at {
				row[i] = r
				p.list = p.list[1:]
			}
		}
		if err := w.row(*at, row); err != nil {
			return err
		}
		_ = bar.Add(1)
	}
	_ = bar.Finish()
	if err := w.end(); err != nil {
		return err
	}
	if name := cmd.String("file"); name != "" {
		_, _ = fmt.Fprintf(writer(cmd), "Wrote %d lines to %s.\n", n, name)
	}
	return nil
}

// progress is a bar on the error output of a terminal, and nothing elsewhere.
func progress(most int64, what string) *progressbar.ProgressBar {
	return progressbar.NewOptions64(most, progressbar.OptionSetWriter(os.Stderr),
		progressbar.OptionSetVisibility(term.IsTerminal(int(os.Stderr.Fd()))),
		progressbar.OptionSetDescription(what), progressbar.OptionThrottle(200*time.Millisecond),
		progressbar.OptionClearOnFinish(), progressbar.OptionShowCount(), progressbar.OptionSetWidth(30))
}

// pager reads a series page by page.
type pager struct {
	h        *client.Remote
	series   string
	from, to time.Time
	list     []client.OneReading
	ended    bool
}

func (p *pager) fill(ctx context.Context) error {
	for len(p.list) == 0 && !p.ended {
		limit := 10_000
		r, err := p.h.ListReadingsWithResponse(ctx, &client.ListReadingsParams{Series: p.series, From: &p.from, To: &p.to,
			Limit: &limit})
		if err != nil {
			return err
		}
		p.list, p.ended = r.JSON200.Readings, !r.JSON200.More
		if n := len(p.list); n > 0 {
			p.from = time.UnixMilli(p.list[n-1].T + 1)
		}
	}
	return nil
}

func (p *pager) peek() *client.OneReading {
	if len(p.list) == 0 {
		return nil
	}
	return &p.list[0]
}

// earliest is the next time of all series, nil at the end.
func earliest(ctx context.Context, pages []*pager) (at *int64, err error) {
	for _, p := range pages {
		if err := p.fill(ctx); err != nil {
			return nil, err
		}
		if r := p.peek(); r != nil && (at == nil || r.T < *at) {
			t := r.T
			at = &t
		}
	}
	return at, nil
}

// form writes rows of readings of one time.
type form interface {
	row(at int64, list []*client.OneReading) error
	end() error
}

func formOf(name string, out io.Writer, series []string) (form, error) {
	switch name {
	case "wide":
		w := csv.NewWriter(out)
		return &wideForm{w, series}, w.Write(append(append([]string{"t"}, series...), marksColumn))
	case "long":
		w := csv.NewWriter(out)
		return &longForm{w, series}, w.Write([]string{"series", "t", "v", "q", "raw"})
	case "jsonl":
		return &jsonForm{out: out, series: series}, nil
	case "senml":
		return &jsonForm{out: out, series: series, senml: true}, nil
	}
	return nil, &UsageError{fmt.Sprintf("%q is no form; use wide, long, jsonl or senml", name)}
}

func isoTime(at int64) string { return time.UnixMilli(at).UTC().Format("2006-01-02T15:04:05.000Z") }

// plainValue writes a value so that it comes back bit for bit.
func plainValue(v client.Value) string {
	switch x := v.(type) {
	case float64:
		return strconv.FormatFloat(x, 'g', -1, 64)
	case bool:
		if x {
			return "on"
		}
		return "off"
	}
	return fmt.Sprint(v)
}

// qualityOf is the quality and the raw value of a reading in words; both may be empty.
func qualityOf(r *client.OneReading) (q, raw string) {
	if r.Q != nil {
		q = string(*r.Q)
	}
	if r.Raw != nil {
		raw = strconv.FormatFloat(*r.Raw, 'g', -1, 64)
	}
	return q, raw
}

type wideForm struct {
	*csv.Writer
	series []string
}

func (w *wideForm) row(at int64, list []*client.OneReading) error {
	line := []string{isoTime(at)}
	for _, r := range list {
		cell := ""
		if r != nil {
			cell = toCell(r.V)
		}
		line = append(line, cell)
	}
	return w.Write(append(line, marks(w.series, list)))
}

func (w *wideForm) end() error { w.Flush(); return w.Error() }

type longForm struct {
	*csv.Writer
	series []string
}

func (w *longForm) row(at int64, list []*client.OneReading) error {
	for i, r := range list {
		if r == nil {
			continue
		}
		q, raw := qualityOf(r)
		if err := w.Write([]string{w.series[i], isoTime(at), toCell(r.V), q, raw}); err != nil {
			return err
		}
	}
	return nil
}

func (w *longForm) end() error { w.Flush(); return w.Error() }

// jsonForm writes an object a line, or a SenML pack.
type jsonForm struct {
	out    io.Writer
	series []string
	senml  bool
	began  bool
}

type jsonReading struct {
	Series string              `json:"series"`
	T      any                 `json:"t"`
	V      client.Value        `json:"v"`
	Q      *client.OneReadingQ `json:"q,omitempty"`
	Raw    *float64            `json:"raw,omitempty"`
}

// jsonTime is a time in Unix milliseconds, and a text where those could be taken for seconds.
func jsonTime(at int64) any {
	if at < 1e11 {
		return isoTime(at)
	}
	return at
}

func (w *jsonForm) row(at int64, list []*client.OneReading) error {
	for i, r := range list {
		if r == nil {
			continue
		}
		var line any = jsonReading{w.series[i], jsonTime(at), r.V, r.Q, r.Raw}
		before, after := "", "\n"
		if w.senml {
			if before, after = ",\n", ""; !w.began {
				before = "[\n"
			}
			if at < relativeUntil {
				return fmt.Errorf("SenML has no times before 4 July 1978 (RFC 8428, section 4.5.3), and %s has a reading of %s; "+
					"use another form, or --from 1978-07-05", w.series[i], isoTime(at))
			}
			line = senmlRecord(w.series[i], r)
		}
		w.began = true
		b, err := json.Marshal(line)
		if err != nil {
			return err
		}
		if _, err := io.WriteString(w.out, before+string(b)+after); err != nil {
			return err
		}
	}
	return nil
}

// relativeUntil is the first time in Unix milliseconds that SenML does not take as relative to now.
const relativeUntil = 1000 << 28

func senmlRecord(series string, r *client.OneReading) map[string]any {
	v := r.V
	out := map[string]any{"n": series, "t": json.Number(strconv.FormatFloat(float64(r.T)/1000, 'f', 3, 64))}
	if r.Q != nil {
		out["q"] = *r.Q
	}
	if r.Raw != nil {
		out["raw"] = *r.Raw
	}
	switch v.(type) {
	case float64:
		out["v"] = v
	case bool:
		out["vb"] = v
	default:
		out["vs"] = v
	}
	return out
}

func (w *jsonForm) end() error {
	if !w.senml {
		return nil
	}
	text := "\n]\n"
	if !w.began {
		text = "[]\n"
	}
	_, err := io.WriteString(w.out, text)
	return err
}
