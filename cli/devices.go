package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/site"
	"idleember/core/words"
)

func devicesCommand() *cli.Command {
	return &cli.Command{Name: "devices", Usage: "list devices, add, change, replace or remove one, see its traffic",
		Flags: remote(output()),
		Commands: []*cli.Command{addDeviceCommand(), changeDeviceCommand(), deviceKeyCommand(), trafficCommand(),
			tryCommand(), starterCommand(),
			refusalsCommand(), stateCommand("disable", "let a device neither be heard nor told anything", false),
			stateCommand("enable", "let a disabled device take part again", true),
			removeDeviceCommand()},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			list, err := h.Devices().List(ctx)
			if err != nil {
				return err
			}
			return deviceRows(cmd, list)
		})}
}

func deviceRows(cmd *cli.Command, list []shown.Device) error {
	now := time.Now()
	var rows [][]string
	for _, d := range list {
		rows = append(rows, []string{d.Config.ID, d.Config.Name, d.Config.Place, string(d.Config.Link.Kind), deviceState(d,
			now), ago(d.State.LastHeard, now), rhythm(d), fmt.Sprint(d.State.Refused)})
	}
	return show(cmd, list, []string{"id", "name", "place", "link", "state", "last heard", "messages", "refused"}, rows)
}

// deviceState says whether a device is there, and since when.
func deviceState(d shown.Device, now time.Time) string {
	state := "offline"
	switch {
	case d.Config.State != "":
		return string(d.Config.State)
	case d.State.Asleep:
		state = "asleep"
	case d.State.Online:
		state = "online"
	case d.State.Since == nil:
		return "never seen"
	}
	if d.State.Since != nil {
		state += " for " + words.Duration(now.Sub(*d.State.Since))
	}
	return state
}

// rhythm says how a device's messages come.
func rhythm(d shown.Device) string {
	every, jitter := time.Duration(d.State.EveryMS)*time.Millisecond, time.Duration(d.State.JitterMS)*time.Millisecond
	switch {
	case d.State.Messages == 0:
		return "none yet"
	case every == 0:
		return fmt.Sprintf("%d so far", d.State.Messages)
	case jitter > every/4:
		return fmt.Sprintf("irregular, about every %s", fine(every))
	}
	return fmt.Sprintf("every %s ± %s", fine(every), fine(jitter))
}

func fine(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return words.Duration(d)
}

func linkNames() string {
	names := site.LinkNames()
	last := len(names) - 1
	return strings.Join(names[:last], ", ") + " or " + names[last]
}

// linkFlags are how a device speaks with the hub.
func linkFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "link", Usage: "it speaks over `LINK`: " + linkNames()},
		&cli.StringFlag{Name: "address", Usage: "its `ADDRESS`: host:port, a serial port's path, or a page's URL"},
		&cli.StringFlag{Name: "broker", Usage: "the `ID` of the broker elsewhere that it speaks over"},
		&cli.DurationFlag{Name: "every", Usage: "ask it every `TIME` (modbus, poll)"},
		&cli.IntFlag{Name: "unit", Usage: "its Modbus unit `ID`"},
		&cli.IntFlag{Name: "baud", Usage: "the serial port's speed in `BAUD`"},
		&cli.BoolFlag{Name: "inside", Usage: "the page that is fetched may be at an address in the house"},
		&cli.BoolFlag{Name: "query-key", Usage: "its key may stand in the query string, for boards that can do no better"},
		&cli.StringFlag{Name: "presence", Usage: "the `TOPIC` on which its last will says whether it is there"},
		&cli.DurationFlag{Name: "lease", Usage: "how `LONG` it may keep a want without hearing the hub; 0 for none"},
		&cli.DurationFlag{Name: "wakes", Usage: "it sleeps and wakes every `TIME`; 0 for always awake"},
		&cli.IntFlag{Name: "per-second", Usage: "it may send `N` messages a second"},
		&cli.IntFlag{Name: "max-names", Usage: "it may bring `N` signals and controls"},
	}
}

// linkFrom puts the given flags into a link, and reports whether there were any.
func linkFrom(cmd *cli.Command, l *site.Link) (given bool) {
	for flag, f := range map[string]func(){
		"link":    func() { l.Kind = site.LinkKind(cmd.String("link")) },
		"address": func() { l.Address = cmd.String("address") },
		"broker":  func() { l.Broker = cmd.String("broker") },
		"every":   func() { l.IntervalMS = cmd.Duration("every").Milliseconds() },
		"unit":    func() { l.Unit = cmd.Int("unit") }, "baud": func() { l.Baud = cmd.Int("baud") },
		"inside": func() { l.Inside = cmd.Bool("inside") }, "query-key": func() { l.QueryKey = cmd.Bool("query-key") },
		"presence": func() { l.Presence = &site.Source{Topic: cmd.String("presence")} },
	} {
		if cmd.IsSet(flag) {
			f()
			given = true
		}
	}
	return given
}

// limitsFrom puts the given flags into limits, and reports whether there were any.
func limitsFrom(cmd *cli.Command, l *site.Limits) bool {
	if cmd.IsSet("per-second") {
		l.PerSecond = cmd.Int("per-second")
	}
	if cmd.IsSet("max-names") {
		l.MaxNames = cmd.Int("max-names")
	}
	return cmd.IsSet("per-second") || cmd.IsSet("max-names")
}

func addDeviceCommand() *cli.Command {
	return &cli.Command{Name: "add", Usage: "add a device, show its key, once, and wait for its first message",
		ArgsUsage:   " ",
		Description: "Asks for what is not given. With --model the device gets the signals and controls of a device model.",
		Flags: remote(append(linkFlags(), output(),
			&cli.StringFlag{Name: "name", Usage: "its `NAME`"},
			&cli.StringFlag{Name: "place", Usage: "the `PLACE` it is in; a new one is made"},
			&cli.StringFlag{Name: "id", Usage: "its `ID` (default: made from the name)"},
			&cli.StringFlag{Name: "model", Usage: "make it of this device `MODEL`"},
			&cli.DurationFlag{Name: "wait", Usage: "wait this `LONG` for its first message (default: 10 min on a terminal, " +
				"else not)"})...),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			b, err := askDevice(cmd)
			if err != nil {
				return err
			}
			made, err := addDevice(ctx, cmd, h, b)
			if err != nil {
				return err
			}
			if err := showKey(cmd, made); err != nil {
				return err
			}
			wait := cmd.Duration("wait")
			if !cmd.IsSet("wait") && cmd.String("output") == "table" && term.IsTerminal(int(os.Stdout.Fd())) {
				wait = 10 * time.Minute
			}
			if wait <= 0 {
				return nil
			}
			return awaitFirst(ctx, cmd, h, made.Device.Config.ID, wait)
		})}
}

func askDevice(cmd *cli.Command) (b patch, err error) {
	b = patch{}.texts(cmd, "id").millis(cmd, "lease", "wakes")
	if b["name"], err = ask("Name of the device", cmd.String("name"), false); err != nil {
		return b, err
	}
	if b["place"], err = ask("Place", cmd.String("place"), false); err != nil {
		return b, err
	}
	var l site.Link
	set := linkFrom(cmd, &l)
	if l.Kind == "" && cmd.String("model") == "" && term.IsTerminal(int(os.Stdin.Fd())) &&
		term.IsTerminal(int(os.Stdout.Fd())) {
		kind, err := ask("Link: "+linkNames()+" [mqtt]", "", false)
		if err != nil {
			return b, err
		}
		l.Kind, set = site.LinkKind(strings.TrimSpace(kind)), true
	}
	if l.Kind == "" && cmd.String("model") == "" {
		l.Kind = site.MQTT
	}
	if at := l.Spec().Address; at != nil && at.Must && l.Address == "" {
		if l.Address, err = ask(at.Question+", such as "+at.Example, "", false); err != nil {
			return b, err
		}
	}
	if set {
		l.Kind = cmp.Or(l.Kind, site.MQTT) // the model's counts
		b["link"] = l
	}
	var limits site.Limits
	if limitsFrom(cmd, &limits) {
		b["limits"] = limits
	}
	return b, nil
}

func addDevice(ctx context.Context, cmd *cli.Command, h *client.Remote, b patch) (client.DeviceWithKey, error) {
	model := cmd.String("model")
	if model == "" {
		return h.AddDevice(ctx, b)
	}
	made, err := h.AddFromModel(ctx, model, []any{b})
	if err != nil {
		return client.DeviceWithKey{}, err
	}
	return made[0], nil
}

// awaitFirst waits until a device was heard and tells what its first message contained.
func awaitFirst(ctx context.Context, cmd *cli.Command, h *client.Remote, device string, wait time.Duration) error {
	ctx, stop := signal.NotifyContext(ctx, syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	_, _ = fmt.Fprintf(os.Stderr, "\nWaiting for its first message; Ctrl-C ends the waiting, the device stays.\n")
	after, again := int64(0), true
	for {
		r, err := h.ListTrafficWithResponse(ctx, device, &client.ListTrafficParams{After: &after, Wait: &again})
		if ctx.Err() != nil {
			_, _ = fmt.Fprintln(os.Stderr, "Nothing came yet. Its traffic: idleember devices traffic "+device)
			return nil
		}
		if err != nil {
			return err
		}
		for _, m := range *r.JSON200 {
			after = m.Seq
			if m.Out {
				continue
			}
			word := "The first message arrived"
			if m.Refused {
				word = "A message arrived and was refused"
			}
			if _, err := fmt.Fprintf(writer(cmd), "%s on %s: %s\n  %s\n", word, m.Topic, m.Payload, m.Result); err != nil ||
				!m.Refused {
				return err
			}
		}
	}
}

func changeDeviceCommand() *cli.Command {
	return &cli.Command{Name: "change", Usage: "change a device's name, place, link, lease, schedule or limits",
		ArgsUsage: "DEVICE", Flags: remote(append(linkFlags(), output(),
			&cli.StringFlag{Name: "name", Usage: "its `NAME`"},
			&cli.StringFlag{Name: "place", Usage: "move it to this `PLACE`"},
			&cli.BoolFlag{Name: "new-signals", Usage: "it may bring new signals by itself"})...),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			d, err := changed(ctx, h.Devices(), args[0], func(d *site.Device) {
				for flag, field := range map[string]*string{"name": &d.Name, "place": &d.Place} {
					if cmd.IsSet(flag) {
						*field = cmd.String(flag)
					}
				}
				for flag, field := range map[string]*int64{"lease": &d.LeaseMS, "wakes": &d.WakesMS} {
					if cmd.IsSet(flag) {
						*field = cmd.Duration(flag).Milliseconds()
					}
				}
				if cmd.IsSet("new-signals") {
					d.NewSignals = cmd.Bool("new-signals")
				}
				limitsFrom(cmd, &d.Limits)
				linkFrom(cmd, &d.Link)
			})
			if err != nil {
				return err
			}
			return deviceRows(cmd, []shown.Device{d})
		}, "DEVICE")}
}

func deviceKeyCommand() *cli.Command {
	return &cli.Command{Name: "replace", Aliases: []string{"key"},
		Usage: "put another board in a device's place: make it safe and give it a new key", ArgsUsage: "DEVICE",
		Flags: remote(output()),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			r, err := h.ReplaceKeyWithResponse(ctx, args[0])
			if err != nil {
				return err
			}
			return showKey(cmd, *r.JSON201)
		}, "DEVICE")}
}

func stateCommand(name, usage string, enabled bool) *cli.Command {
	return &cli.Command{Name: name, Usage: usage, ArgsUsage: "DEVICE", Flags: remote(output(), stayFlag()),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			r, err := h.SetDeviceStateWithResponse(ctx, args[0], &client.SetDeviceStateParams{Stay: stays(cmd)},
				client.SetDeviceStateJSONRequestBody{Enabled: enabled})
			if err != nil {
				return err
			}
			if err := deviceRows(cmd, []shown.Device{r.JSON200.Device}); err != nil {
				return err
			}
			return remarked(cmd, r.JSON200.Remarks)
		}, "DEVICE")}
}

func removeDeviceCommand() *cli.Command {
	return &cli.Command{Name: "remove", Usage: "take a device away, after making it safe", ArgsUsage: "DEVICE",
		Flags: remote(stayFlag(), &cli.StringFlag{Name: "history", Usage: "`WHAT` happens to its readings: keep or delete",
			Required: true}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			r, err := h.RemoveDeviceWithResponse(ctx, args[0],
				&client.RemoveDeviceParams{History: client.RemoveDeviceParamsHistory(cmd.String("history")), Stay: stays(cmd)})
			if err != nil {
				return err
			}
			return removed(cmd, args[0], r.JSON200.Remarks)
		}, "DEVICE")}
}

func removed(cmd *cli.Command, id string, remarks []string) error {
	if _, err := fmt.Fprintf(writer(cmd), "%s is gone.\n", id); err != nil {
		return err
	}
	return remarked(cmd, remarks)
}

func trafficCommand() *cli.Command {
	return &cli.Command{Name: "traffic", Usage: "show what a device and the hub told each other, and what became of it",
		ArgsUsage: "DEVICE",
		Flags:     remote(output(), &cli.BoolFlag{Name: "follow", Aliases: []string{"f"}, Usage: "go on until Ctrl-C"}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			ctx, stop := signal.NotifyContext(ctx, syscall.SIGINT, syscall.SIGTERM)
			defer stop()
			zone, follow, after := hubZone(ctx, h), cmd.Bool("follow"), int64(0)
			for first := true; first || follow; first = false {
				wait := !first
				r, err := h.ListTrafficWithResponse(ctx, args[0], &client.ListTrafficParams{After: &after, Wait: &wait})
				if ctx.Err() != nil {
					return nil
				}
				if err != nil {
					return err
				}
				var rows [][]string
				for _, m := range *r.JSON200 {
					after = m.Seq
					way := "in"
					if m.Out {
						way = "out"
					}
					rows = append(rows, []string{m.At.In(zone).Format("15:04:05.000"), way, m.Link, m.Topic, shorten(m.Payload, 60),
						m.Result})
				}
				if len(rows) == 0 && !first {
					continue
				}
				if err := show(cmd, *r.JSON200, []string{"at", "way", "link", "topic", "payload", "what became of it"},
					rows); err != nil {
					return err
				}
			}
			return nil
		}, "DEVICE")}
}

func shorten(s string, n int) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > n {
		return string(r[:n]) + "…"
	}
	return s
}

func tryCommand() *cli.Command {
	return &cli.Command{Name: "try", Usage: "see what a device's mapping makes of a message, before it is saved",
		ArgsUsage:   "DEVICE",
		Description: `With --signal or --control and a mapping, the draft is tried instead of what is saved. Nothing is kept.`,
		Flags: remote(append(sourceFlags(), output(),
			&cli.StringFlag{Name: "message-topic", Usage: "the `TOPIC` on which the message comes"},
			&cli.StringFlag{Name: "payload", Usage: "the message's `TEXT`; @FILE reads a file", Required: true},
			&cli.StringFlag{Name: "signal", Usage: "draft: the mapping is of this `SIGNAL`"},
			&cli.StringFlag{Name: "control", Usage: "draft: the mapping is of this `CONTROL`"})...),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			b := client.Trial{Topic: given(cmd, "message-topic"), Payload: cmd.String("payload")}
			if file, ok := strings.CutPrefix(b.Payload, "@"); ok {
				text, err := os.ReadFile(file)
				if err != nil {
					return err
				}
				b.Payload = string(text)
			}
			src, err := sourceFrom(cmd)
			if err != nil {
				return err
			}
			if id := cmd.String("signal"); id != "" {
				b.Signals = &map[string]client.Source{id: src}
			}
			if id := cmd.String("control"); id != "" {
				b.Controls = &map[string]client.Source{id: src}
			}
			r, err := h.TryMessageWithResponse(ctx, args[0], b)
			if err != nil {
				return err
			}
			var rows [][]string
			for _, x := range *r.JSON200 {
				rows = append(rows, []string{x.Id, shorten(x.Text, 40), x.Value, x.Why})
			}
			if len(rows) == 0 && cmd.String("output") == "table" {
				_, err := fmt.Fprintln(writer(cmd), "No mapping of this device speaks of such a message.")
				return err
			}
			return show(cmd, *r.JSON200, []string{"id", "in the message", "value", "why not"}, rows)
		}, "DEVICE")}
}

func starterCommand() *cli.Command {
	return &cli.Command{Name: "starter", Usage: "print starter code for a device", ArgsUsage: "DEVICE",
		Flags: remote(output(),
			&cli.StringFlag{Name: "kind", Usage: "for `WHAT`: wifi, micropython, shell, curl or datagram (default: list what " +
				"there is)"},
			&cli.StringFlag{Name: "key", Usage: "put the device's `KEY` in", Sources: cli.EnvVars("IDLEEMBER_KEY")}),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			r, err := h.ListStartersWithResponse(ctx, args[0])
			if err != nil {
				return err
			}
			kind := cmd.String("kind")
			var rows [][]string
			for _, x := range *r.JSON200 {
				if x.Id == kind {
					code := x.Code
					if key := cmd.String("key"); key != "" {
						code = strings.ReplaceAll(code, "DEVICE-KEY", key)
					}
					_, err := fmt.Fprint(writer(cmd), code)
					return err
				}
				rows = append(rows, []string{x.Id, x.Name, x.File, x.About})
			}
			if kind != "" {
				return &UsageError{fmt.Sprintf("there is no starter code called %q for this device; leave --kind out to see what "+
					"there is", kind)}
			}
			return show(cmd, *r.JSON200, []string{"kind", "for", "file", "about"}, rows)
		}, "DEVICE")}
}

func showKey(cmd *cli.Command, d client.DeviceWithKey) error {
	if cmd.String("output") != "table" {
		return show(cmd, d, []string{"id", "key"}, [][]string{{d.Device.Config.ID, d.Key}})
	}
	w := writer(cmd)
	_, _ = fmt.Fprintf(w, "%s has the id %s. Its key is shown this once:\n\n  %-18s  %s\n\n", d.Device.Config.Name,
		d.Device.Config.ID, "Key", d.Key)
	for _, r := range d.Connect.Rows {
		_, _ = fmt.Fprintf(w, "  %-18s  %s\n", r.Label, r.Value)
	}
	for _, x := range d.Connect.Examples {
		_, _ = fmt.Fprintf(w, "\n%s from a shell:\n\n  %s\n", x.Label, x.Value)
	}
	if d.Connect.Remark != nil {
		_, _ = fmt.Fprintf(w, "\n%s\n", *d.Connect.Remark)
	}
	return remarked(cmd, d.Remarks)
}

// remarked tells what could not be made safe.
func remarked(cmd *cli.Command, remarks []string) error {
	for _, r := range remarks {
		if _, err := fmt.Fprintln(writer(cmd), "Mind: "+r+"."); err != nil {
			return err
		}
	}
	return nil
}

func refusalsCommand() *cli.Command {
	return &cli.Command{Name: "refusals", Usage: "show what a device sent and the hub could not take", ArgsUsage: "DEVICE",
		Flags: remote(output()),
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
			r, err := h.ListRefusalsWithResponse(ctx, args[0])
			if err != nil {
				return err
			}
			var rows [][]string
			zone := hubZone(ctx, h)
			for _, x := range *r.JSON200 {
				payload := fmt.Sprintf("%.40q", x.Payload)
				rows = append(rows, []string{fmt.Sprint(x.N), x.At.In(zone).Format("Mon 02 Jan 15:04:05"), x.Topic, payload,
					x.Reason})
			}
			return show(cmd, *r.JSON200, []string{"no", "at", "topic", "payload", "why"}, rows)
		}, "DEVICE")}
}
