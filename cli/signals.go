package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/site"
	"idleember/core/words"
)

// sourceFlags say where in a device's messages a value is found.
func sourceFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "topic", Usage: "MQTT topic `FILTER`"},
		&cli.StringFlag{Name: "pointer", Usage: "JSON `POINTER` (RFC 6901), such as /sensor/0/temperature"},
		&cli.StringFlag{Name: "pattern", Usage: "regular `EXPRESSION`; its group named value, else its first group"},
		&cli.StringFlag{Name: "column", Usage: "CSV `COLUMN`, by name or number"},
		&cli.StringFlag{Name: "comma", Usage: "a comma in a number is `MEANING`: decimal (1.250,5) or thousands (1,250.5)",
			DefaultText: "decimal where that is plain"},
		&cli.StringSliceFlag{Name: "on", Usage: "`WORD` that means on"},
		&cli.StringSliceFlag{Name: "off", Usage: "`WORD` that means off"},
		&cli.StringFlag{Name: "register", Usage: "Modbus `TABLE:ADDRESS[:TYPE[:SCALE]]`, such as input:1:u32:0.1; swap " +
			"after the type for low word first"},
	}
}

func sourceFrom(cmd *cli.Command) (site.Source, error) {
	s := site.Source{Topic: cmd.String("topic"), Pointer: cmd.String("pointer"), Pattern: cmd.String("pattern"),
		Column: cmd.String("column"),
		On:     cmd.StringSlice("on"), Off: cmd.StringSlice("off"), Comma: site.Comma(cmd.String("comma"))}
	var err error
	s.Register, err = register(cmd.String("register"))
	return s, err
}

// register reads table:address[:type[:scale]].
func register(text string) (*site.Register, error) {
	if text == "" {
		return nil, nil
	}
	parts := strings.Split(text, ":")
	if len(parts) < 2 {
		return nil, &UsageError{fmt.Sprintf("%q is no register; use such as input:1 or holding:10:f32:0.1", text)}
	}
	r := &site.Register{Table: site.Table(parts[0])}
	var err error
	if r.Address, err = strconv.Atoi(parts[1]); err != nil {
		return nil, &UsageError{fmt.Sprintf("%q is no register's address; use a number from 0 to 65535", parts[1])}
	}
	for _, p := range parts[2:] {
		switch n, err := strconv.ParseFloat(p, 64); {
		case p == "swap":
			r.Swap = true
		case err == nil:
			r.Scale = n
		default:
			r.Type = p
		}
	}
	return r, nil
}

func signalsCommand() *cli.Command {
	return &cli.Command{Name: "signals", Usage: "list signals, add, change, map, calibrate or remove one",
		Flags: remote(output()),
		Commands: []*cli.Command{addSignalCommand(), changeSignalCommand(), mapSignalCommand(), calibrateCommand(),
			recalibrateCommand(), {
				Name: "remove", Usage: "take a signal away with its readings", ArgsUsage: "SIGNAL", Flags: remote(),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					if err := h.Signals().Remove(ctx, args[0]); err != nil {
						return err
					}
					return removed(cmd, args[0], nil)
				}, "SIGNAL")}},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.GetNowWithResponse(ctx)
			if err != nil {
				return err
			}
			return signalRows(cmd, r.JSON200.Signals)
		})}
}

func addSignalCommand() *cli.Command {
	return &cli.Command{Name: "add", Usage: "add a signal before its first reading", ArgsUsage: "DEVICE NAME",
		Flags: remote(append(sourceFlags(), output(),
			&cli.StringFlag{Name: "kind", Value: "number", Usage: "its `KIND`: number, onoff or text"},
			&cli.StringFlag{Name: "unit", Usage: "its `UNIT` as a UCUM symbol: Cel, %, W"},
			&cli.IntFlag{Name: "decimals", Usage: "show `N` digits behind the point"})...),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			src, err := sourceFrom(cmd)
			if err != nil {
				return err
			}
			s, err := h.Signals().Make(ctx, patch{"device": args[0], "raw": args[1], "kind": cmd.String("kind"),
				"decimals": cmd.Int("decimals"), "source": src}.texts(cmd, "unit"))
			if err != nil {
				return err
			}
			return signalRows(cmd, []shown.Signal{s})
		}, "DEVICE", "NAME")}
}

func changeSignalCommand() *cli.Command {
	return &cli.Command{Name: "change", Usage: "change how a signal is named, shown and judged", ArgsUsage: "SIGNAL",
		Flags: remote(output(),
			&cli.StringFlag{Name: "name", Usage: "its `NAME`"},
			&cli.StringFlag{Name: "unit", Usage: "its `UNIT` as a UCUM symbol: Cel, %, W"},
			&cli.IntFlag{Name: "decimals", Usage: "show `N` digits behind the point"},
			&cli.StringFlag{Name: "guests", Usage: "guests may do `WHAT`: none or see"},
			&cli.FloatFlag{Name: "lowest", Usage: "readings below `N` are bad"},
			&cli.FloatFlag{Name: "highest", Usage: "readings above `N` are bad"},
			&cli.FloatFlag{Name: "spike", Usage: "readings further than `N` from their neighbours are suspect; 0 for none"},
			&cli.DurationFlag{Name: "stuck", Usage: "unchanged for longer than `TIME` is suspect; 0 for none"},
			&cli.IntFlag{Name: "keep", Usage: "keep readings for `DAYS`, then the sums of their hours; 0 for ever"},
			&cli.IntFlag{Name: "keep-sums", Usage: "keep the sums of hours for `DAYS`; 0 for ever"}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			b, sense, keep := patch{}.texts(cmd, "name", "unit", "guests"), patch{}.millis(cmd, "stuck"), patch{}
			if cmd.IsSet("decimals") {
				b["decimals"] = cmd.Int("decimals")
			}
			for _, flag := range []string{"lowest", "highest", "spike"} {
				if cmd.IsSet(flag) {
					sense[flag] = cmd.Float(flag)
				}
			}
			const day = 24 * 3600_000
			if cmd.IsSet("keep") {
				keep["readings_ms"] = int64(cmd.Int("keep")) * day
			}
			if cmd.IsSet("keep-sums") {
				keep["sums_ms"] = int64(cmd.Int("keep-sums")) * day
			}
			b["keep"], b["sense"] = keep, sense
			s, err := h.Signals().Patch(ctx, args[0], b, "")
			if err != nil {
				return err
			}
			return signalRows(cmd, []shown.Signal{s})
		}, "SIGNAL")}
}

func changeSignal(ctx context.Context, cmd *cli.Command, h *client.Remote, id string, f func(*site.Signal)) error {
	s, err := changed(ctx, h.Signals(), id, f)
	if err != nil {
		return err
	}
	return signalRows(cmd, []shown.Signal{s})
}

func mapSignalCommand() *cli.Command {
	return &cli.Command{Name: "map", Usage: "say where in the device's messages a signal is found; without options: " +
		"where the link's rules say", ArgsUsage: "SIGNAL",
		Flags: remote(append(sourceFlags(), output())...),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			src, err := sourceFrom(cmd)
			if err != nil {
				return err
			}
			return changeSignal(ctx, cmd, h, args[0], func(s *site.Signal) { s.Source = src })
		}, "SIGNAL")}
}

func calibrateCommand() *cli.Command {
	return &cli.Command{Name: "calibrate", Usage: "say how a signal's raw numbers become readings", ArgsUsage: "SIGNAL",
		Description: `Choose one of --points, --gain, --divider and --table, or none of them for an offset or clamp alone. With --preview nothing
is saved. Past readings stay as they are until: idleember signals recalibrate`,
		Flags: remote(output(),
			&cli.StringFlag{Name: "points", Usage: "two points `RAW=VALUE,RAW=VALUE`"},
			&cli.StringFlag{Name: "gain", Usage: "one reference `RAW=VALUE`"},
			&cli.StringFlag{Name: "table", Usage: "points `RAW=VALUE,...`, straight lines between them"},
			&cli.StringFlag{Name: "divider", Usage: "resistors and converter `R1,R2,REFERENCE,COUNTS[,HIGHEST[,LIMIT]]` in " +
				"ohms and volts"},
			&cli.FloatFlag{Name: "offset", Usage: "add `N`"},
			&cli.FloatFlag{Name: "min", Usage: "lower results become `N`"},
			&cli.FloatFlag{Name: "max", Usage: "higher results become `N`"},
			&cli.BoolFlag{Name: "invert", Usage: "of on/off signals: on means off"},
			&cli.BoolFlag{Name: "none", Usage: "take the calibration away"},
			&cli.FloatSliceFlag{Name: "preview", Usage: "only show what becomes of these `RAW` numbers"}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			c, err := calibrationFrom(cmd)
			if err != nil {
				return err
			}
			if raw := cmd.FloatSlice("preview"); len(raw) > 0 {
				return preview(ctx, cmd, h, c, raw)
			}
			if !c.Set() && !cmd.Bool("none") {
				return &UsageError{"no calibration is given; use --points, --gain, --table, --divider, --offset, --invert or " +
					"--none"}
			}
			return changeSignal(ctx, cmd, h, args[0], func(s *site.Signal) { s.Calibration = c })
		}, "SIGNAL")}
}

func calibrationFrom(cmd *cli.Command) (c site.Calibration, err error) {
	for flag, method := range map[string]string{"points": "two_point", "gain": "gain", "table": "table"} {
		if !cmd.IsSet(flag) {
			continue
		}
		if c.Method != "" {
			return c, &UsageError{"choose one of --points, --gain, --table and --divider"}
		}
		c.Method = method
		for _, p := range strings.Split(cmd.String(flag), ",") {
			raw, value, ok := strings.Cut(p, "=")
			a, err1 := strconv.ParseFloat(raw, 64)
			b, err2 := strconv.ParseFloat(value, 64)
			if !ok || err1 != nil || err2 != nil {
				return c, &UsageError{fmt.Sprintf("%q is no point; use RAW=VALUE, such as 512=4.18", p)}
			}
			c.Points = append(c.Points, [2]float64{a, b})
		}
	}
	if cmd.IsSet("divider") {
		if c.Method != "" {
			return c, &UsageError{"choose one of --points, --gain, --table and --divider"}
		}
		var n [6]float64
		parts := strings.Split(cmd.String("divider"), ",")
		if len(parts) < 4 || len(parts) > 6 {
			return c, &UsageError{"a divider needs R1,R2,REFERENCE,COUNTS, such as 100000,22000,3.3,1023"}
		}
		for i, p := range parts {
			if n[i], err = strconv.ParseFloat(p, 64); err != nil {
				return c, &UsageError{fmt.Sprintf("%q is no number", p)}
			}
		}
		c.Method, c.Divider = "divider", &site.Divider{R1: n[0], R2: n[1], Reference: n[2], Counts: n[3], Highest: n[4],
			Limit: n[5]}
	}
	c.Offset, c.Invert = cmd.Float("offset"), cmd.Bool("invert")
	if cmd.IsSet("min") {
		n := cmd.Float("min")
		c.Min = &n
	}
	if cmd.IsSet("max") {
		n := cmd.Float("max")
		c.Max = &n
	}
	return c, nil
}

func preview(ctx context.Context, cmd *cli.Command, h *client.Remote, c site.Calibration, raw []float64) error {
	r, err := h.TryCalibrationWithResponse(ctx, client.TryCalibrationJSONRequestBody{Calibration: c, Raw: raw})
	if err != nil {
		return err
	}
	var rows [][]string
	for i, v := range r.JSON200.Values {
		rows = append(rows, []string{strconv.FormatFloat(raw[i], 'f', -1, 64), strconv.FormatFloat(v, 'g', 8, 64)})
	}
	if err := show(cmd, *r.JSON200, []string{"raw", "value"}, rows); err != nil || cmd.String("output") != "table" {
		return err
	}
	if r.JSON200.Factor != 0 {
		_, _ = fmt.Fprintf(writer(cmd), "One count is %.6g.\n", r.JSON200.Factor)
	}
	if r.JSON200.Warning != "" {
		_, err = fmt.Fprintln(writer(cmd), r.JSON200.Warning)
	}
	return err
}

func recalibrateCommand() *cli.Command {
	return &cli.Command{Name: "recalibrate", Usage: "apply a signal's calibration to a stretch of its history, from " +
		"what came raw", ArgsUsage: "SIGNAL",
		Flags: remote(
			&cli.StringFlag{Name: "from", Usage: "begin at this `TIME`", Required: true},
			&cli.StringFlag{Name: "to", Value: "now", Usage: "end at this `TIME`"}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			now := time.Now().In(hubZone(ctx, h))
			from, err := when(cmd.String("from"), now)
			if err != nil {
				return err
			}
			to, err := when(cmd.String("to"), now)
			if err != nil {
				return err
			}
			const piece = 30 * 24 * time.Hour // so that there is progress to tell, and what is done stays done
			bar := progress(int64(max(1, (to.Sub(from)+piece-1)/piece)), "months")
			changed := 0
			for at := from; ; at = at.Add(piece) {
				end := to
				if at.Add(piece).Before(to) {
					end = at.Add(piece)
				}
				r, err := h.RecalibrateWithResponse(ctx, args[0], client.RecalibrateJSONRequestBody{From: at, To: end})
				if err != nil {
					if changed > 0 {
						err = fmt.Errorf("%w (up to %s %d readings changed; it can be done again)", err, at.Format("2006-01-02 15:04"),
							changed)
					}
					return err
				}
				changed += r.JSON200.Changed
				_ = bar.Add(1)
				if end.Equal(to) {
					break
				}
			}
			_ = bar.Finish()
			_, err = fmt.Fprintf(writer(cmd), "%d readings changed.\n", changed)
			return err
		}, "SIGNAL")}
}

func signalRows(cmd *cli.Command, list []shown.Signal) error {
	var rows [][]string
	for _, s := range list {
		every := "on change"
		if s.Config.Reports == site.Periodic {
			every = "learning"
			if s.State.IntervalMS > 0 {
				every = "every " + words.Duration(time.Duration(s.State.IntervalMS)*time.Millisecond)
			}
		}
		rows = append(rows, []string{s.Config.ID, s.Config.Name, string(s.Config.Kind), s.Config.Unit,
			fmt.Sprint(s.Config.Decimals), every, string(s.Config.Guests)})
	}
	return show(cmd, list, []string{"id", "name", "kind", "unit", "decimals", "reports", "guests"}, rows)
}
