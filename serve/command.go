package serve

import (
	"context"
	"fmt"
	"idleember/hub"
	"io"
	"log/slog"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/BurntSushi/toml"
	"github.com/urfave/cli/v3"
)

// DefaultData is the data folder where none is given.
func DefaultData() string {
	if dir := os.Getenv("XDG_DATA_HOME"); dir != "" {
		return filepath.Join(dir, "idleember")
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "idleember-data"
	}
	return filepath.Join(home, ".local", "share", "idleember")
}

// homely writes a path below the home folder with ~.
func homely(path string) string {
	if home, err := os.UserHomeDir(); err == nil {
		if rest, ok := strings.CutPrefix(path, home+string(filepath.Separator)); ok {
			return filepath.Join("~", rest)
		}
	}
	return path
}

// Flags are the options of every command that runs a hub.
func Flags(data string) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "config", Usage: "read options from this TOML `FILE`; its keys are the long names, such as " +
			"http = \":8480\"", Sources: cli.EnvVars("IDLEEMBER_CONFIG")},
		&cli.StringFlag{Name: "data", Value: data, DefaultText: homely(data),
			Usage: "keep the database in this `DIR`, made where it is missing", Sources: cli.EnvVars("IDLEEMBER_DATA")},
		&cli.StringFlag{Name: "http", Value: "127.0.0.1:8480",
			Usage:   "serve console and interface at `ADDR`; :8480 opens them to the house",
			Sources: cli.EnvVars("IDLEEMBER_HTTP")},
		&cli.StringFlag{Name: "https", Usage: "serve them with TLS too at `ADDR`, such as :8443; phones need it to install " +
			"the console", Sources: cli.EnvVars("IDLEEMBER_HTTPS")},
		&cli.StringFlag{Name: "mqtt", Value: "127.0.0.1:1883",
			Usage:   "let boards connect over MQTT at `ADDR`; :1883 opens it to the house",
			Sources: cli.EnvVars("IDLEEMBER_MQTT")},
		&cli.StringFlag{Name: "mqtts", Value: "127.0.0.1:8883",
			Usage: "let boards connect over MQTT with TLS at `ADDR`; empty for none", Sources: cli.EnvVars("IDLEEMBER_MQTTS")},
		&cli.StringFlag{Name: "udp", Value: "127.0.0.1:8481", Usage: "take datagrams at `ADDR`; empty for none",
			Sources: cli.EnvVars("IDLEEMBER_UDP")},
		&cli.StringFlag{Name: "tls-cert", Usage: "show the certificate in this PEM `FILE`; without it the hub makes its own",
			Sources: cli.EnvVars("IDLEEMBER_TLS_CERT")},
		&cli.StringFlag{Name: "tls-key", Usage: "the certificate's key, a PEM `FILE`",
			Sources: cli.EnvVars("IDLEEMBER_TLS_KEY")},
		&cli.BoolFlag{Name: "announce", Usage: "tell the house over multicast DNS where the console is (_http._tcp), so " +
			"that phones find it by name", Sources: cli.EnvVars("IDLEEMBER_ANNOUNCE")},
		&cli.StringFlag{Name: "host", Usage: "answer also to these `NAMES`, separated by commas; the computer's own name, " +
			"addresses in the house and names such as studio.lan need not be told", Sources: cli.EnvVars("IDLEEMBER_HOST")},
		&cli.StringFlag{Name: "trusted-proxies", Usage: "believe these reverse proxies who asks and whether over TLS, " +
			"`ADDRS` or networks separated by commas", Sources: cli.EnvVars("IDLEEMBER_TRUSTED_PROXIES")},
		&cli.DurationFlag{Name: "gather-acknowledged", Value: 600 * time.Millisecond,
			Usage: "where little is going on, let a message wait up to `LONG` for others before it is written and " +
				"acknowledged; memory cards wear by writing", Sources: cli.EnvVars("IDLEEMBER_GATHER_ACKNOWLEDGED")},
		&cli.DurationFlag{Name: "gather", Value: 5 * time.Second,
			Usage: "gather readings that nobody waits for (QoS 0, datagrams, polls) for up to `LONG`; a power cut may lose " +
				"them",
			Sources: cli.EnvVars("IDLEEMBER_GATHER")},
		&cli.StringFlag{Name: "log", Value: "info", Usage: "log from this `LEVEL` on: debug, info, warn or error",
			Sources: cli.EnvVars("IDLEEMBER_LOG")},
		&cli.StringFlag{Name: "log-format", Value: "text", Usage: "log as `FORMAT`: text or json",
			Sources: cli.EnvVars("IDLEEMBER_LOG_FORMAT")},
		&cli.BoolFlag{Name: "anew", Usage: "begin an empty hub even where the folder holds what is left of one"},
		&cli.BoolFlag{Name: "no-sync", Hidden: true, Usage: "do not wait for the disk; for trials of what that loses",
			Sources: cli.EnvVars("IDLEEMBER_NO_SYNC")},
	}
}

// Read takes the options of a command: a flag counts before the environment, that before the file, that before the
// default.
func Read(cmd *cli.Command, logTo io.Writer) (Options, error) {
	if file := cmd.String("config"); file != "" {
		if err := readFile(cmd, file); err != nil {
			return Options{}, err
		}
	}
	o := Options{Data: cmd.String("data"), HTTP: cmd.String("http"), HTTPS: cmd.String("https"), MQTT: cmd.String("mqtt"),
		MQTTS: cmd.String("mqtts"), UDP: cmd.String("udp"), Certificate: cmd.String("tls-cert"), Key: cmd.String("tls-key"),
		NoSync: cmd.Bool("no-sync"), Anew: cmd.Bool("anew"), Announce: cmd.Bool("announce"),
		Gather: hub.Gather{Acknowledged: cmd.Duration("gather-acknowledged"), Others: cmd.Duration("gather")}}
	if g := o.Gather; g.Acknowledged < 0 || g.Acknowledged > 5*time.Second || g.Others < 0 || g.Others > time.Minute {
		return o, fmt.Errorf("writes can be gathered for up to 5 s where somebody waits, up to 1 min where nobody does; "+
			"not for %s and %s", g.Acknowledged, g.Others)
	}
	for _, name := range strings.Split(cmd.String("host"), ",") {
		if name = strings.TrimSpace(name); name != "" {
			o.Hosts = append(o.Hosts, name)
		}
	}
	for _, text := range strings.Split(cmd.String("trusted-proxies"), ",") {
		if text = strings.TrimSpace(text); text == "" {
			continue
		}
		p, err := netip.ParsePrefix(text)
		if a, single := netip.ParseAddr(text); err != nil && single == nil {
			p, err = a.Prefix(a.BitLen())
		}
		if err != nil {
			return o, fmt.Errorf("%q is no address or network of a proxy; write it as 127.0.0.1 or 10.0.0.0/8", text)
		}
		o.Proxies = append(o.Proxies, p)
	}
	level, err := levelOf(cmd.String("log"))
	if err != nil {
		return o, err
	}
	o.Level = new(slog.LevelVar)
	o.Level.Set(level)
	switch ho := (&slog.HandlerOptions{Level: o.Level}); cmd.String("log-format") {
	case "text":
		o.Log = slog.New(slog.NewTextHandler(logTo, ho))
	case "json":
		o.Log = slog.New(slog.NewJSONHandler(logTo, ho))
	default:
		return o, fmt.Errorf("%q is no log format; use text or json", cmd.String("log-format"))
	}
	return o, nil
}

func levelOf(text string) (level slog.Level, err error) {
	if err := level.UnmarshalText([]byte(text)); err != nil {
		return level, fmt.Errorf("%q is no log level; use debug, info, warn or error", text)
	}
	return level, nil
}

func readFile(cmd *cli.Command, file string) error {
	values := map[string]any{}
	if _, err := toml.DecodeFile(file, &values); err != nil {
		return fmt.Errorf("the options file %s cannot be read: %w", file, err)
	}
	var known []string
	for _, f := range cmd.Flags {
		known = append(known, f.Names()[0])
	}
	for key, v := range values {
		if !slices.Contains(known, key) || key == "config" {
			return fmt.Errorf("the options file %s has the unknown key %q; known are %s", file, key, strings.Join(known[1:],
				", "))
		}
		if cmd.IsSet(key) {
			continue
		}
		if err := cmd.Set(key, fmt.Sprint(v)); err != nil {
			return fmt.Errorf("the options file %s: %s: %w", file, key, err)
		}
	}
	return nil
}

// Command is `idleember serve`.
func Command() *cli.Command {
	return &cli.Command{
		Name:  "serve",
		Usage: "run the hub",
		Description: `Runs the hub in one process: the broker that boards connect to, the database, the console and the interface.
It stops cleanly on SIGINT (Ctrl-C) and SIGTERM. Every option can also come from the environment or from a TOML
file; a flag counts before the environment, the environment before the file.

The first start prints a one-time setup code with which you become the hub's owner.`,
		Flags: Flags(DefaultData()),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			o, err := Read(cmd, os.Stderr)
			if err != nil {
				return err
			}
			ctx, stop := signal.NotifyContext(ctx, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			return Run(ctx, o, os.Stdout)
		},
	}
}
