package serve

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"idleember/starter"
	"idleember/store"
)

// CheckCommand is `idleember check`.
func CheckCommand() *cli.Command {
	return &cli.Command{Name: "check", Usage: "verify everything that a hub keeps, and what it needs to run",
		Description: `Verifies the database's structure, the checksum and contents of every block of readings, and the sums of hours against the
readings; then the disk, the clock, backups, the addresses, certificates, and whether the mail server answers. For what is wrong it says
what to do. Of a hub that is running it verifies the database where it lies, and the rest in a copy in the folder for temporary
files (TMPDIR), and looks at the addresses that it listens on. For a stopped one tell it the same options as serve. Nothing is
changed, but that a stopped hub's database of an earlier version is backed up and brought up to date, as serve does. It exits with 1 where something is wrong.`,
		Flags: Flags(DefaultData()),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			o, err := Read(cmd, os.Stderr)
			if err != nil {
				return err
			}
			if _, err := os.Stat(filepath.Join(o.Data, store.File)); err != nil {
				return fmt.Errorf("there is no hub in %s; tell where it is with --data", o.Data)
			}
			c := &checkup{o: o}
			defer c.close()
			if err := c.open(ctx); err != nil {
				return err
			}
			wrong := 0
			for _, look := range []struct {
				what string
				f    func(context.Context) (string, error)
			}{{"store", c.kept}, {"orphans", c.orphans}, {"disk", c.disk}, {"clock", c.clock}, {"backups", c.backups},
				{"addresses", c.addresses}, {"certificates", c.certificates}, {"mail", c.mail}} {
				said, err := look.f(ctx)
				if ctx.Err() != nil {
					return ctx.Err()
				}
				sign := "well "
				if err != nil {
					sign, said = "WRONG", err.Error()
					wrong++
				}
				_, _ = fmt.Fprintf(cmd.Root().Writer, "%s  %-12s  %s\n", sign, look.what, strings.ReplaceAll(said, "\n",
					"\n                     "))
			}
			if wrong > 0 {
				return fmt.Errorf("%d of what was looked at in %s is wrong", wrong, o.Data)
			}
			_, _ = fmt.Fprintf(cmd.Root().Writer, "All is well in %s.\n", o.Data)
			return nil
		}}
}

// checkup looks at one thing after the other; each says what is well, or as an error what is wrong and what to do.
type checkup struct {
	o     Options
	store *store.Store
	copy  string // the folder of the copy that is looked at while the hub runs

	running starter.Addresses // where the running hub says that it listens
}

func (c *checkup) open(ctx context.Context) (err error) {
	c.store, err = store.Open(ctx, c.o.Data, store.Options{})
	if used := (*store.InUseError)(nil); !errors.As(err, &used) {
		return err
	} else if json.Unmarshal([]byte(used.Note), &c.running) == nil && c.running.HTTP != "" {
		at := c.running
		c.o.HTTP, c.o.HTTPS, c.o.MQTT, c.o.MQTTS, c.o.UDP = at.HTTP, at.HTTPS, at.MQTT, at.MQTTS, at.UDP
	}
	if err := store.Quick(ctx, c.o.Data); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return damaged(err)
	}
	if c.copy, err = os.MkdirTemp("", "idleember-check-"); err == nil {
		err = store.Copy(ctx, c.o.Data, c.copy)
	}
	if err != nil {
		return fmt.Errorf("the hub is running, and there is no copy to look at: %w; make room, tell with TMPDIR where "+
			"there is some, or stop the hub first", err)
	}
	c.store, err = store.Open(ctx, c.copy, store.Options{})
	return err
}

func (c *checkup) close() {
	if c.store != nil {
		_ = c.store.Close()
	}
	if c.copy != "" {
		_ = os.RemoveAll(c.copy)
	}
}

func damaged(err error) error {
	return fmt.Errorf("it is damaged; restore the newest backup to another folder, and keep this one for a rescue:\n%w",
		err)
}

func (c *checkup) kept(ctx context.Context) (string, error) {
	bar := progressbar.NewOptions(-1, progressbar.OptionSetWriter(os.Stderr),
		progressbar.OptionSetVisibility(term.IsTerminal(int(os.Stderr.Fd()))),
		progressbar.OptionSetDescription("series"), progressbar.OptionThrottle(100*time.Millisecond),
		progressbar.OptionClearOnFinish(), progressbar.OptionShowCount())
	n := 0
	err := c.store.Check(ctx, func(done, of int) {
		n = of
		bar.ChangeMax(of)
		_ = bar.Set(done)
	})
	_ = bar.Finish()
	if err != nil {
		return "", damaged(err)
	}
	return fmt.Sprintf("%d series are as they were written (%.1f MB)", n, float64(c.store.Size())/1e6), nil
}

func (c *checkup) orphans(ctx context.Context) (string, error) {
	lost, err := c.store.Orphans(ctx)
	switch {
	case err != nil:
		return "", err
	case len(lost) == 0:
		return "every series is of something that there is", nil
	}
	return fmt.Sprintf("%d series are of things that were taken away; their history stays until it is deleted: %s",
		len(lost), strings.Join(lost[:min(5, len(lost))], ", ")), nil
}

const fullDisk = 90 // per cent

func (c *checkup) disk(context.Context) (string, error) {
	used, err := c.store.DiskUsed()
	if err != nil {
		return "", err
	}
	if used > fullDisk {
		return "", fmt.Errorf("the disk is %.0f %% full; make room, or keep readings for less time", used)
	}
	return fmt.Sprintf("%.0f %% of it are used", used), nil
}

func (c *checkup) clock(ctx context.Context) (string, error) {
	st, err := c.store.State(ctx)
	if err != nil {
		return "", err
	}
	now := time.Now()
	if ahead := st.Alive.Sub(now); ahead > time.Minute {
		return "", fmt.Errorf("it shows %s, but the hub was running at %s; set the clock (timedatectl), or give the "+
			"computer one with a battery", now.Format(time.DateTime), st.Alive.Local().Format(time.DateTime))
	}
	return "it shows " + now.Format("2006-01-02 15:04 -07:00"), nil
}

const oldBackup = 8 * 24 * time.Hour

func (c *checkup) backups(ctx context.Context) (string, error) {
	at, ok := store.LastBackup(c.o.Data)
	people, err := c.store.Members(ctx)
	if err != nil {
		return "", err
	}
	fresh := len(people) == 0 || time.Since(time.UnixMilli(people[0].Created)) < oldBackup
	switch {
	case !ok && fresh:
		return "none yet; the hub is young", nil
	case !ok:
		return "", errors.New("there is none; make one with: idleember backup --data " + c.o.Data + " FILE")
	case time.Since(at) > oldBackup:
		return "", fmt.Errorf("the newest is of %s; make one, and let the hub make them by itself (Settings)",
			at.Format("2006-01-02"))
	}
	return "the newest is of " + at.Format("2006-01-02 15:04"), nil
}

func (c *checkup) addresses(ctx context.Context) (string, error) {
	var good []string
	var wrong []error
	for _, x := range []struct{ option, at, kind string }{{"--http", c.o.HTTP, "tcp"}, {"--https", c.o.HTTPS, "tcp"},
		{"--mqtt", c.o.MQTT, "tcp"}, {"--mqtts", c.o.MQTTS, "tcp"}, {"--udp", c.o.UDP, "udp"}} {
		if x.at == "" || c.copy != "" && (x.kind == "udp" || strings.HasSuffix(x.at, ":0")) {
			continue
		}
		if err := c.address(ctx, x.option, x.at, x.kind); err != nil {
			wrong = append(wrong, err)
		} else {
			good = append(good, x.at)
		}
	}
	are := "are free"
	if c.copy != "" {
		are = "are answered by the hub that is running"
	}
	return strings.Join(good, ", ") + " " + are, errors.Join(wrong...)
}

// address tells whether an address can be had, or of a hub that is running whether somebody answers there.
func (c *checkup) address(ctx context.Context, option, at, kind string) error {
	var closer io.Closer
	var err error
	switch {
	case c.copy != "":
		d := net.Dialer{Timeout: 5 * time.Second}
		if closer, err = d.DialContext(ctx, kind, at); err != nil {
			return fmt.Errorf("a hub is running in %s, but nobody answers at %s (%s): %w; %s", c.o.Data, at, option, err,
				c.advice())
		}
	case kind == "udp":
		closer, err = net.ListenPacket(kind, at)
	default:
		closer, err = net.Listen(kind, at)
	}
	if err != nil {
		return addressError(option, at, err)
	}
	return closer.Close()
}

func (c *checkup) advice() string {
	if c.running.HTTP != "" {
		return "the hub itself says that it listens there: look into its log, and start it anew"
	}
	return "tell check the same options as serve"
}

func (c *checkup) certificates(context.Context) (string, error) {
	file, what := filepath.Join(c.o.Data, tlsFolder, authorityFile), "the hub's own authority"
	if c.o.Certificate != "" {
		file, what = c.o.Certificate, c.o.Certificate
	}
	b, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) && c.o.Certificate == "" {
		return "none yet; the hub makes its own when it is needed", nil
	}
	if err != nil {
		return "", fmt.Errorf("%s cannot be read: %w", what, err)
	}
	block, _ := pem.Decode(b)
	if block == nil {
		return "", fmt.Errorf("%s is no PEM file", file)
	}
	cert, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return "", fmt.Errorf("%s cannot be read: %w", file, err)
	}
	if left := time.Until(cert.NotAfter); left < 14*24*time.Hour {
		return "", fmt.Errorf("%s ends on %s; renew it", what, cert.NotAfter.Format(time.DateOnly))
	}
	return fmt.Sprintf("%s is valid until %s", what, cert.NotAfter.Format(time.DateOnly)), nil
}

func (c *checkup) mail(ctx context.Context) (string, error) {
	s, err := c.store.Site(ctx)
	if err != nil {
		return "", err
	}
	m := s.Messaging.Mail
	if m.Host == "" {
		return "no mail server is entered", nil
	}
	at := net.JoinHostPort(m.Host, strconv.Itoa(m.Port))
	d := net.Dialer{Timeout: 5 * time.Second}
	conn, err := d.DialContext(ctx, "tcp", at)
	if err != nil {
		return "", fmt.Errorf("the mail server %s does not answer (%w); check its name and port under Alerts, and the "+
			"network", at, err)
	}
	return "the mail server " + at + " answers", conn.Close()
}
