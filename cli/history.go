package cli

import (
	"context"
	"fmt"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/guptarohit/asciigraph"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"idleember/client"
	"idleember/core/words"
)

func historyCommand() *cli.Command {
	return &cli.Command{Name: "history", Usage: "show what signals were", ArgsUsage: "SIGNAL ...",
		Description: `SIGNAL is a signal's id such as drying_room.temperature, or a control's with .is or .want, such as drying_room.heater.is.
Readings come one by one where they are few, else as buckets with their mean, lowest and highest.`,
		Flags: remote(output(),
			&cli.StringFlag{Name: "from", Value: "24h", Usage: "begin at `TIME`: 24h or 7d ago, 14:30, 2026-11-20, or RFC 3339"},
			&cli.StringFlag{Name: "to", Value: "now", Usage: "end at `TIME`"},
			&cli.IntFlag{Name: "points", Value: 0, Usage: "at most `N` readings or buckets (default: 1500, 24 in a table)"},
			&cli.DurationFlag{Name: "every", Usage: "buckets of about this `TIME`: 10m, 1h, 24h"},
			&cli.BoolFlag{Name: "plot", Usage: "draw it in the terminal"},
			&cli.StringFlag{Name: "png", Usage: "draw it into this `FILE`"}),
		Action: connected(history, "SIGNAL ...")}
}

// Long, because it is one list of the options.
func history(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
	zone := hubZone(ctx, h)
	now := time.Now().In(zone)
	from, err := when(cmd.String("from"), now)
	if err != nil {
		return err
	}
	to, err := when(cmd.String("to"), now)
	if err != nil {
		return err
	}
	width := 72
	if w, _, err := term.GetSize(int(os.Stdout.Fd())); err == nil && w > 30 {
		width = min(w-12, 160)
	}
	points, grouped := cmd.Int("points"), cmd.Duration("every") > 0
	switch every := cmd.Duration("every"); {
	case points > 0 && every > 0:
		return &UsageError{"--points and --every say the same; leave one out"}
	case every < 0 || every > 0 && (to.Sub(from)/every > 10_000 || to.Sub(from) < every):
		return &UsageError{fmt.Sprintf("--every %s makes no buckets of %s; at most 10000 fit", every,
			to.Sub(from).Round(time.Second))}
	case every > 0:
		points = int((to.Sub(from) + every - 1) / every)
	case points > 0:
	case cmd.Bool("plot"):
		points = width
	case cmd.String("output") == "table" && cmd.String("png") == "":
		points = 24
	default:
		points = 1500
	}
	r, err := h.GetHistoryWithResponse(ctx, &client.GetHistoryParams{Series: args, From: &from, To: &to, Points: &points,
		Buckets: &grouped})
	if err != nil {
		return err
	}
	list := *r.JSON200
	for _, x := range list {
		if x.More != nil && *x.More {
			_, _ = fmt.Fprintf(os.Stderr, "%s changed more often than is told; ask for a shorter stretch.\n", x.Series)
		}
	}
	if name := cmd.String("png"); name != "" {
		if err := picture(name, list, zone); err != nil {
			return err
		}
		_, _ = fmt.Fprintf(writer(cmd), "Drew %s.\n", name)
		return nil
	}
	if cmd.Bool("plot") {
		for _, x := range list {
			if err := sketch(cmd, x, width, zone); err != nil {
				return err
			}
		}
		return nil
	}
	if len(list) == 1 {
		return historyRows(cmd, list[0], zone)
	}
	switch cmd.String("output") {
	case "json":
		return show(cmd, list, nil, nil)
	case "csv":
		return historiesCSV(cmd, list)
	}
	for i, x := range list {
		if i > 0 {
			_, _ = fmt.Fprintln(writer(cmd))
		}
		_, _ = fmt.Fprintf(writer(cmd), "%s\n", strings.TrimSpace(x.Series+", "+x.Name+" "+words.UnitSign(x.Unit)))
		if err := historyRows(cmd, x, zone); err != nil {
			return err
		}
	}
	return nil
}

// historiesCSV writes several series one below the other, with the same columns for all.
func historiesCSV(cmd *cli.Command, list []client.History) error {
	full := func(f float64) string { return strconv.FormatFloat(f, 'f', -1, 64) }
	var rows [][]string
	for _, x := range list {
		for i, t := range x.T {
			row := []string{x.Series, time.UnixMilli(t).UTC().Format("2006-01-02T15:04:05.000Z"), "", "", "", "", ""}
			switch {
			case x.V != nil:
				v := (*x.V)[i]
				if row[2] = valueText(v, x.Decimals); x.Kind == "number" {
					if f, ok := v.(float64); ok {
						row[2] = full(f)
					}
				}
			default:
				row[2], row[3], row[4], row[5] = full((*x.Mean)[i]), full((*x.Min)[i]), full((*x.Max)[i]), fmt.Sprint((*x.Count)[i])
				if x.Kind == "onoff" {
					row[6] = fmt.Sprint((*x.OnMs)[i] / 1000)
				}
			}
			rows = append(rows, row)
		}
	}
	return show(cmd, list, []string{"series", "time", "value", "min", "max", "readings", "on s"}, rows)
}

func historyRows(cmd *cli.Command, x client.History, zone *time.Location) error {
	at := func(t int64) string {
		if cmd.String("output") == "table" {
			return time.UnixMilli(t).In(zone).Format("Mon 02 Jan 15:04:05")
		}
		return time.UnixMilli(t).UTC().Format("2006-01-02T15:04:05.000Z")
	}
	full := cmd.String("output") == "csv"
	number := func(f float64) string {
		if full {
			return strconv.FormatFloat(f, 'f', -1, 64)
		}
		return strconv.FormatFloat(f, 'f', x.Decimals, 64)
	}
	var rows [][]string
	header := []string{"time", "value"}
	if x.V != nil {
		for i, t := range x.T {
			v := (*x.V)[i]
			text := valueText(v, x.Decimals)
			if f, ok := v.(float64); ok {
				text = number(f)
			}
			rows = append(rows, []string{at(t), text})
		}
	} else {
		header = []string{"from", "mean", "min", "max", "readings", "on s"}
		for i, t := range x.T {
			rows = append(rows, []string{at(t), number((*x.Mean)[i]), number((*x.Min)[i]), number((*x.Max)[i]),
				fmt.Sprint((*x.Count)[i]), fmt.Sprint((*x.OnMs)[i] / 1000)})
		}
	}
	if x.Kind != "onoff" && len(header) > 2 {
		header = header[:5]
		for i := range rows {
			rows[i] = rows[i][:5]
		}
	}
	if err := show(cmd, x, header, rows); err != nil {
		return err
	}
	if len(rows) == 0 && cmd.String("output") == "table" {
		_, _ = fmt.Fprintln(writer(cmd), "No readings in this stretch.")
	}
	return nil
}

// overTime puts values, which hold for a time or, where that is 0, until the next one, into equal steps of a stretch:
// the mean of what lies in a step, else what holds there, NaN in a gap. All times are Unix milliseconds.
func overTime(t []int64, values []float64, hold int64, gaps [][]int64, from, to int64, steps int) []float64 {
	out := make([]float64, steps)
	next := 0
	for i := range out {
		begin, end := from+(to-from)*int64(i)/int64(steps), from+(to-from)*int64(i+1)/int64(steps)
		sum, n := 0.0, 0
		for ; next < len(t) && t[next] < end; next++ {
			if t[next] >= begin {
				sum, n = sum+values[next], n+1
			}
		}
		middle := (begin + end) / 2
		gap := slices.ContainsFunc(gaps, func(g []int64) bool { return g[0] < middle && middle < g[1] })
		switch {
		case n > 0:
			out[i] = sum / float64(n)
		case next > 0 && !gap && (hold == 0 || middle < t[next-1]+hold):
			out[i] = values[next-1]
		default:
			out[i] = math.NaN()
		}
	}
	return out
}

func sketch(cmd *cli.Command, x client.History, width int, zone *time.Location) error {
	var ys []float64
	hold := x.HoldMs
	switch {
	case x.Kind == "text":
		return &UsageError{x.Series + " is text and cannot be drawn; leave --plot out"}
	case x.V != nil:
		for _, v := range *x.V {
			switch v := v.(type) {
			case float64:
				ys = append(ys, v)
			case bool:
				ys = append(ys, map[bool]float64{true: 1}[v])
			}
		}
	default:
		ys, hold = *x.Mean, max(hold, x.StepMs)
	}
	w := writer(cmd)
	ys = overTime(x.T, ys, hold, x.Gaps, x.From.UnixMilli(), x.To.UnixMilli(), width)
	if !slices.ContainsFunc(ys, func(y float64) bool { return !math.IsNaN(y) }) {
		_, _ = fmt.Fprintln(w, "No readings in this stretch.")
		return nil
	}
	caption := fmt.Sprintf("%s %s, %s to %s", x.Name, words.UnitSign(x.Unit), x.From.In(zone).Format("Mon 02 Jan 15:04"),
		x.To.In(zone).Format("Mon 02 Jan 15:04"))
	_, err := fmt.Fprintln(w, asciigraph.Plot(ys, asciigraph.Height(map[bool]int{true: 1, false: 12}[x.Kind == "onoff"]),
		asciigraph.Width(width), asciigraph.Precision(uint(x.Decimals)), asciigraph.Caption(caption)))
	return err
}
