package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"idleember/client"
	"idleember/contract/shown"
	"idleember/core/site"
)

func modelsCommand() *cli.Command {
	return &cli.Command{Name: "models", Usage: "list device models, add devices from one, share and bring in model files",
		Flags: remote(output()), Commands: []*cli.Command{
			{Name: "show", Usage: "print a model as its file", ArgsUsage: "MODEL", Flags: remote(),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					r, err := h.Models().Get(ctx, args[0])
					if err != nil {
						return err
					}
					enc := json.NewEncoder(writer(cmd))
					enc.SetIndent("", "  ")
					return enc.Encode(r.Config)
				}, "MODEL")},
			{Name: "save", Usage: "keep a device's description as a model", ArgsUsage: "DEVICE NAME",
				Flags: remote(output(), &cli.StringFlag{Name: "about", Usage: "`TEXT` for people: what it is and how it is wired"},
					replaceFlag()),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					replace := cmd.Bool("replace")
					r, err := h.SaveAsModelWithResponse(ctx, args[0], client.SaveAsModelJSONRequestBody{Name: args[1],
						About: given(cmd, "about"), Replace: &replace})
					if err != nil {
						return err
					}
					if err := modelRows(cmd, []shown.Model{*r.JSON201}); err != nil {
						return err
					}
					return remarked(cmd, r.JSON201.State.LeftOut)
				}, "DEVICE", "NAME")},
			{Name: "import", Usage: "bring in a model file, or look at what it holds", ArgsUsage: "FILE",
				Flags:  remote(output(), &cli.BoolFlag{Name: "preview", Usage: "only check and show it"}, replaceFlag()),
				Action: connected(importModel, "FILE")},
			{Name: "add", Usage: "add devices of a model, all or none", ArgsUsage: "MODEL NAME ...",
				Flags: remote(output(), &cli.StringFlag{Name: "place", Usage: "the `PLACE` they are in", Required: true},
					&cli.StringSliceFlag{Name: "address", Usage: "their `ADDRESS`es, in the order of the names"}),
				Action: connected(addFromModel)},
			{Name: "remove", Usage: "forget a model; devices made from it stay", ArgsUsage: "MODEL", Flags: remote(),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					if err := h.Models().Remove(ctx, args[0]); err != nil {
						return err
					}
					return removed(cmd, args[0], nil)
				}, "MODEL")}},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.Models().List(ctx)
			if err != nil {
				return err
			}
			return modelRows(cmd, r)
		})}
}

func replaceFlag() cli.Flag {
	return &cli.BoolFlag{Name: "replace", Usage: "in the place of the model that has this id"}
}

func importModel(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
	var m site.Model
	if err := readFile(args[0], &m); err != nil {
		return err
	}
	if !cmd.Bool("preview") {
		save := h.Models().Add
		if cmd.Bool("replace") {
			save = h.Models().Save
		}
		kept, err := save(ctx, m)
		if err != nil {
			return err
		}
		return modelRows(cmd, []shown.Model{kept})
	}
	if _, err := h.TryModelWithResponse(ctx, m); err != nil {
		return err
	}
	if cmd.String("output") != "table" {
		return asJSON(cmd, m)
	}
	w := writer(cmd)
	_, _ = fmt.Fprintf(w, "%s (%s), over %s. %s\n\n", m.Name, m.ID, m.Link.Kind, m.About)
	var rows [][]string
	for _, g := range m.Signals {
		rows = append(rows, []string{g.ID, g.Name, string(g.Kind), g.Unit})
	}
	for _, c := range m.Controls {
		kind := string(c.Kind)
		if kind == "" {
			kind = string(site.Switch)
		}
		if slices.ContainsFunc(m.Automations, func(a *site.Automation) bool { return a.Control == c.ID }) {
			kind += ", decided by the hub"
		}
		rows = append(rows, []string{c.ID, c.Name, kind, ""})
	}
	for _, g := range m.Settings {
		rows = append(rows, []string{g.ID, g.Name, "setting, " + string(g.Kind), g.Unit})
	}
	return show(cmd, m, []string{"id", "name", "kind", "unit"}, rows)
}

func addFromModel(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
	args := cmd.Args().Slice()
	if len(args) < 2 {
		return &UsageError{"usage: idleember models add MODEL NAME ... --place PLACE"}
	}
	addresses := cmd.StringSlice("address")
	var list []any
	for i, name := range args[1:] {
		d := patch{"name": name, "place": cmd.String("place")}
		if i < len(addresses) {
			d["link"] = site.Link{Kind: site.MQTT, Address: addresses[i]} // the model's kind counts
		}
		list = append(list, d)
	}
	made, err := h.AddFromModel(ctx, args[0], list)
	if err != nil {
		return err
	}
	var rows [][]string
	for _, d := range made {
		rows = append(rows, []string{d.Device.Config.ID, d.Device.Config.Name, d.Key})
	}
	return show(cmd, made, []string{"id", "name", "key"}, rows)
}

func modelRows(cmd *cli.Command, list []shown.Model) error {
	var rows [][]string
	for _, m := range list {
		from := "yours"
		if m.State.Shipped {
			from = "ships"
		}
		rows = append(rows, []string{m.Config.ID, m.Config.Name, string(m.Config.Link.Kind),
			fmt.Sprint(len(m.Config.Signals)), fmt.Sprint(len(m.Config.Controls)), from, fmt.Sprint(m.State.Devices)})
	}
	return show(cmd, list, []string{"id", "name", "link", "signals", "controls", "from", "devices"}, rows)
}

func brokersCommand() *cli.Command {
	return &cli.Command{Name: "brokers", Usage: "list MQTT brokers elsewhere, add or remove one", Flags: remote(output()),
		Commands: []*cli.Command{
			{Name: "save", Usage: "add a broker, or change the one that has the id", ArgsUsage: "NAME",
				Flags: remote(output(),
					&cli.StringFlag{Name: "id", Usage: "its `ID` (default: made from the name)"},
					&cli.StringFlag{Name: "address", Usage: "its `ADDRESS`: mqtt://host:1883 or mqtts://host:8883", Required: true},
					&cli.StringFlag{Name: "user", Usage: "sign in as this `USER`"},
					&cli.StringFlag{Name: "broker-password", Usage: "with this `PASSWORD`",
						Sources: cli.EnvVars("IDLEEMBER_BROKER_PASSWORD")},
					&cli.StringFlag{Name: "client-id", Usage: "as this client `ID`"},
					&cli.StringFlag{Name: "share", Usage: "share the load with the hubs of this `GROUP`"},
					&cli.StringFlag{Name: "alive", Usage: "`TOPIC` that says online while the hub is there, and offline by its last " +
						"will"},
					&cli.StringFlag{Name: "ca", Usage: "PEM `FILE` of the authority that signed its certificate"}),
				Action: connected(saveBroker, "NAME")},
			{Name: "remove", Usage: "forget a broker that no device uses", ArgsUsage: "BROKER", Flags: remote(),
				Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
					if err := h.Brokers().Remove(ctx, args[0]); err != nil {
						return err
					}
					return removed(cmd, args[0], nil)
				}, "BROKER")}},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.Brokers().List(ctx)
			if err != nil {
				return err
			}
			return brokerRows(cmd, r)
		})}
}

func saveBroker(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
	b := site.Broker{ID: cmd.String("id"), Name: args[0], Address: cmd.String("address"), User: cmd.String("user"),
		ClientID: cmd.String("client-id"), Share: cmd.String("share"), Alive: cmd.String("alive")}
	if file := cmd.String("ca"); file != "" {
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		b.CA = string(text)
	}
	brokers := h.Brokers()
	if cmd.IsSet("broker-password") {
		brokers = brokers.With(site.Password, cmd.String("broker-password"))
	}
	saved, err := brokers.Save(ctx, b)
	if err != nil {
		return err
	}
	return brokerRows(cmd, []shown.Broker{saved})
}

func brokerRows(cmd *cli.Command, list []shown.Broker) error {
	var rows [][]string
	for _, b := range list {
		state := "away"
		if b.State.Connected {
			state = "connected"
		}
		rows = append(rows, []string{b.Config.ID, b.Config.Name, b.Config.Address, b.Config.User, b.Config.Share, state,
			b.State.Why})
	}
	return show(cmd, list, []string{"id", "name", "address", "user", "share", "state", "why"}, rows)
}

func panelCommand() *cli.Command {
	return &cli.Command{Name: "panel", Usage: "show what the hub offers to a Modbus panel, or change it",
		Flags: remote(output()),
		Commands: []*cli.Command{{Name: "set", Usage: "take the panel's description from a JSON file", ArgsUsage: "FILE",
			Flags: remote(output()),
			Description: `The file holds such as
  {"on": true, "address": "0.0.0.0:1502", "allow": ["192.168.1.30"],
   "points": [{"id": "kiln.temperature", "register": {"table": "input", "address": 0, "type": "s16", "scale": 0.1}},
              {"id": "kiln.fan", "register": {"table": "coil", "address": 0}, "write": true}]}`,
			Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, args []string) error {
				var p site.Panel
				if err := readFile(args[0], &p); err != nil {
					return err
				}
				r, err := h.Panel().Put(ctx, p, "")
				if err != nil {
					return err
				}
				return panelRows(cmd, r)
			}, "FILE")}},
		Action: connected(func(ctx context.Context, cmd *cli.Command, h *client.Remote, _ []string) error {
			r, err := h.Panel().Get(ctx)
			if err != nil {
				return err
			}
			return panelRows(cmd, r)
		})}
}

func panelRows(cmd *cli.Command, p shown.Panel) error {
	var rows [][]string
	for _, pt := range p.Config.Points {
		kind := pt.Register.Type
		if kind == "" && !pt.Register.Bit() {
			kind = "u16"
		}
		may := "read"
		if pt.Write {
			may = "read and write"
		}
		rows = append(rows, []string{pt.ID, string(pt.Register.Table), fmt.Sprint(pt.Register.Address), kind, may})
	}
	if cmd.String("output") == "table" {
		state := "off"
		if p.Config.On {
			state = "on at " + p.Config.Address + " for " + strings.Join(p.Config.Allow, ", ")
		}
		_, _ = fmt.Fprintf(writer(cmd), "The panel is %s.\n\n", state)
	}
	return show(cmd, p, []string{"id", "table", "address", "type", "panel may"}, rows)
}
