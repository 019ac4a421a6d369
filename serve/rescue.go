package serve

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	_ "embed"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/term"

	"idleember/core/guess"
	"idleember/link/door"
	"idleember/store"
)

// rescue answers at the console's address while the database does not open: it says why, and brings a backup back, or
// what is readable, for whoever has the code that stands in the terminal or in a file.
type rescue struct {
	dir  string
	why  error
	code string
	o    Options

	mu      sync.Mutex
	guesses guess.Book
	busy    string // what is being done
	done    int
	of      int
	failed  string
	remark  string
	ended   chan struct{}
}

//go:embed rescue.html
var rescueHTML string

//go:embed rescue.css
var rescueCSS []byte

var rescuePage = template.Must(template.New("rescue").Parse(rescueHTML))

const rescueFile = "rescue-code"

// await serves until the database was brought back, and returns what the household is to be told; an error where the
// context ends first.
func await(ctx context.Context, o Options, out io.Writer, why error) (remark string, err error) {
	l, err := net.Listen("tcp", o.HTTP)
	if err != nil {
		return "", errors.Join(why, addressError("--http", o.HTTP, err))
	}
	webs, _ := door.Divide(door.Descriptors())
	r := &rescue{dir: o.Data, why: why, o: o, code: strings.ToLower(rand.Text()[:16]), ended: make(chan struct{})}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	o.Log.Error("the database cannot be opened; the console says what can be done", "error", why, "console",
		"http://"+l.Addr().String())
	_, _ = fmt.Fprintf(out, "Idle Ember cannot start: %s\n\n  What can be done is at  http://%s\n\n", why, l.Addr())
	if f, ok := out.(*os.File); ok && !term.IsTerminal(int(f.Fd())) {
		file := filepath.Join(o.Data, rescueFile)
		if err := os.WriteFile(file, []byte(r.code+"\n"), 0o600); err != nil {
			return "", errors.Join(why, fmt.Errorf("the code for the console cannot be written to %s: %w", file, err))
		}
		defer func() { _ = os.Remove(file) }()
		o.Log.Info("the code for the console is in a file", "file", file)
	} else {
		_, _ = fmt.Fprintf(out, "It asks for this code:\n\n  %s\n\n", r.code)
	}
	srv := &http.Server{Handler: r.handler(ctx), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second,
		WriteTimeout: 30 * time.Second, IdleTimeout: 30 * time.Second, MaxHeaderBytes: 16 << 10, ConnContext: door.In}
	failed := make(chan error, 1)
	go func() { failed <- srv.Serve(door.New(webs).Guard(l)) }()
	select {
	case err = <-failed:
		err = errors.Join(why, err)
	case <-ctx.Done():
		err = why
	case <-r.ended:
		time.Sleep(time.Second) // so that the page can still say that it is done
	}
	stop()
	bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	if srv.Shutdown(bounded) != nil {
		_ = srv.Close()
	}
	return r.remark, err
}

func (r *rescue) handler(ctx context.Context) http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("GET /rescue.css", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/css; charset=utf-8")
		_, _ = w.Write(rescueCSS)
	})
	for _, path := range []string{"/healthz", "/readyz", "/metrics"} {
		m.HandleFunc("GET "+path, func(w http.ResponseWriter, _ *http.Request) {
			http.Error(w, "the database cannot be opened", http.StatusServiceUnavailable)
		})
	}
	m.HandleFunc("/api/", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusServiceUnavailable)
		_, _ = io.WriteString(w, `{"title":"Service Unavailable","status":503,"detail":"the hub's database cannot be opened; open its console for what can be done"}`)
	})
	m.HandleFunc("POST /restore", func(w http.ResponseWriter, q *http.Request) {
		r.act(ctx, w, q, "Restoring the backup", func() (string, error) {
			name := q.PostFormValue("backup")
			list, err := store.BackupsIn(r.dir)
			if err != nil {
				return "", err
			}
			for _, b := range list {
				if b.Name != name {
					continue
				}
				aside, err := store.Exchange(ctx, r.dir, func(fresh string) error {
					_, err := store.Restore(ctx, filepath.Join(r.dir, "backups", b.Name), fresh, q.PostFormValue("passphrase"))
					if errors.Is(err, store.ErrEncrypted) {
						return errors.New("this backup is encrypted; enter its passphrase")
					}
					return err
				})
				return fmt.Sprintf("The database could not be opened (%s). The backup of %s was restored; what was there before "+
					"is in %s.", r.why, b.At.Format("2006-01-02 15:04 UTC"), aside), err
			}
			return "", errors.New("choose a backup")
		})
	})
	m.HandleFunc("POST /salvage", func(w http.ResponseWriter, q *http.Request) {
		r.act(ctx, w, q, "Salvaging what is readable", func() (string, error) {
			var got store.Salvaged
			aside, err := store.Exchange(ctx, r.dir, func(fresh string) (err error) {
				got, err = store.Salvage(ctx, r.dir, fresh, r.progress)
				return err
			})
			if err != nil {
				return "", err
			}
			missing := "nothing is known to be missing"
			if len(got.Lost) > 0 {
				file := filepath.Join(aside, "missing.txt")
				if err := os.WriteFile(file, []byte(strings.Join(got.Lost, "\n")+"\n"), 0o600); err != nil {
					return "", err
				}
				missing = fmt.Sprintf("%d things are missing; %s names them", len(got.Lost), file)
				r.o.Log.Warn("something could not be salvaged", "missing", len(got.Lost), "named in", file)
			}
			return fmt.Sprintf("The database could not be opened (%s). %d readings and %d records were salvaged; %s. What was "+
				"there before is in %s.", r.why, got.Readings, got.Rows, missing, aside), nil
		})
	})
	m.HandleFunc("/", func(w http.ResponseWriter, q *http.Request) { r.show(w, http.StatusServiceUnavailable, "") })
	return http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'none'; style-src 'self'; form-action 'self'; frame-ancestors "+
			"'none'; base-uri 'none'")
		h.Set("Cache-Control", "no-store")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		q.Body = http.MaxBytesReader(w, q.Body, 8<<10)
		m.ServeHTTP(w, q)
	})
}

func (r *rescue) progress(done, of int) {
	r.mu.Lock()
	r.done, r.of = done, of
	r.mu.Unlock()
}

// act does one thing at a time, for whoever has the code.
func (r *rescue) act(ctx context.Context, w http.ResponseWriter, q *http.Request, what string, do func() (remark string,
	err error)) {
	from, _ := netip.ParseAddrPort(q.RemoteAddr)
	code := strings.ToLower(strings.TrimSpace(q.PostFormValue("code")))
	r.mu.Lock()
	wait := r.guesses.Try(time.Now(), from.Addr().String())
	if wait > 0 || subtle.ConstantTimeCompare([]byte(code), []byte(r.code)) != 1 {
		r.mu.Unlock()
		said := "The code is wrong; it stands in the terminal in which the hub was started, or in the file " + rescueFile +
			" in its data folder"
		if wait > 0 {
			said = fmt.Sprintf("Too many wrong codes; wait %s", max(time.Second, wait.Round(time.Second)))
		}
		r.show(w, http.StatusForbidden, said)
		return
	}
	r.guesses.Right(from.Addr().String())
	if r.busy == "" {
		r.failed, r.busy, r.done, r.of = "", what, 0, 0
		go func() {
			remark, err := do()
			r.mu.Lock()
			defer r.mu.Unlock()
			if r.busy = ""; err != nil {
				r.failed = "It did not work, and nothing has changed: " + err.Error()
				r.o.Log.Error("the database was not brought back", "error", err)
				return
			}
			if r.busy, r.remark = "The hub is starting", remark; ctx.Err() == nil {
				close(r.ended)
			}
		}()
	}
	r.mu.Unlock()
	http.Redirect(w, q, "/", http.StatusSeeOther)
}

// show shows the page; said is what whoever asks did wrong.
func (r *rescue) show(w http.ResponseWriter, status int, said string) {
	list, err := store.BackupsIn(r.dir)
	if err != nil {
		r.o.Log.Error("backups cannot be listed", "error", err)
	}
	type backup struct {
		Name, At, Size, Of string
		Damaged, First     bool
	}
	var backups []backup
	found := false
	for _, b := range list {
		first := b.Damaged == "" && b.Of == "" && !found
		found = found || first
		backups = append(backups, backup{b.Name, b.At.Format("Mon 2 Jan 2006, 15:04 UTC"), fmt.Sprintf("%.1f MB",
			float64(b.Bytes)/1e6), b.Of, b.Damaged != "", first})
	}
	_, gone := os.Stat(filepath.Join(r.dir, store.File))
	why := r.why.Error()
	r.mu.Lock()
	if said == "" {
		said = r.failed
	}
	data := map[string]any{"Why": strings.ToUpper(why[:1]) + why[1:], "Busy": r.busy, "Done": r.done, "Of": r.of,
		"Failed": said, "Backups": backups, "Folder": filepath.Join(r.dir, "backups"), "There": gone == nil}
	r.mu.Unlock()
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	if err := rescuePage.Execute(w, data); err != nil {
		r.o.Log.Debug("the page was not shown", "error", err)
	}
}
