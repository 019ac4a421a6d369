// Package serve puts hub, links, interface and console together into one running process.
package serve

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"golang.org/x/term"

	"idleember/api"
	"idleember/archive"
	"idleember/console"
	"idleember/household"
	"idleember/hub"
	"idleember/link/camera"
	"idleember/link/door"
	"idleember/link/itself"
	"idleember/link/lines"
	"idleember/link/modbus"
	"idleember/link/mqtt"
	"idleember/link/outside"
	"idleember/link/poll"
	"idleember/link/push"
	"idleember/link/udp"
	"idleember/pages"
	"idleember/post"
	"idleember/starter"
	"idleember/store"
	"idleember/upkeep"
	"idleember/upkeep/depot"
)

// Version is what the program says of itself; a release build sets it.
var Version = "0.1.0-dev"

// Options say where a hub lives and listens.
type Options struct {
	Data  string // folder of the database
	HTTP  string // address of console and interface
	HTTPS string // address of the same with TLS; empty: none
	MQTT  string // address of the broker
	MQTTS string // address of the broker with TLS; empty: none
	UDP   string // address for datagrams; empty: none
	// Certificate and Key are PEM files for TLS; empty: the hub makes its own.
	Certificate, Key string
	// Announce tells the house over multicast DNS where the console is.
	Announce bool
	// Hosts are names beside its own that the hub answers to.
	Hosts []string
	// Proxies are the addresses and networks of reverse proxies, which are believed who asks and whether over TLS.
	Proxies []netip.Prefix
	Log     *slog.Logger
	Level   *slog.LevelVar // of Log, to be changed while it runs; nil: it is not
	Gather  hub.Gather
	// Mount holds what else answers beside console and interface, by the beginning of its path.
	Mount map[string]http.Handler
	// Now is the computer's clock, and ClockSet says whether something keeps it right, where that is not what the system
	// says.
	Now      func() time.Time
	ClockSet func() bool
	// Boot says which start of the computer this is, and for how long it runs; nil: the kernel is asked.
	Boot func() (id string, up time.Duration)
	// NoSync leaves out the wait for the disk, for trials only.
	NoSync bool
	// Anew begins an empty hub in a folder that holds what is left of one.
	Anew bool
}

// Service is a running hub with everything around it. Use Start to get one.
type Service struct {
	Hub     *hub.Hub
	People  *household.People
	Pages   *pages.Pages
	Archive *archive.Archive
	// HTTP, HTTPS, MQTT, MQTTS and UDP are the addresses that it really listens on.
	HTTP, HTTPS, MQTT, MQTTS, UDP string

	store  *store.Store
	broker *mqtt.Broker
	udp    *udp.Server
	push   *push.Handler
	upkeep *upkeep.Keeper
	post   *post.Post
	cert   certificate
	secure net.Listener // with TLS; nil: none
	stop   context.CancelFunc
	links  sync.WaitGroup
	rooms  sync.WaitGroup // what goes on beside the hub
	ended  chan error
	once   sync.Once
}

// Start brings a hub up and returns when it answers.
func Start(ctx context.Context, o Options) (*Service, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	st, err := store.Open(ctx, o.Data, store.Options{Log: o.Log, NoSync: o.NoSync, Anew: o.Anew})
	if err != nil {
		return nil, err
	}
	s := &Service{store: st, ended: make(chan error, 1)}
	if err := s.start(ctx, o); err != nil {
		s.close()
		return nil, err
	}
	return s, nil
}

func (s *Service) start(ctx context.Context, o Options) error {
	l, err := net.Listen("tcp", o.HTTP)
	if err != nil {
		return addressError("--http", o.HTTP, err)
	}
	s.HTTP = l.Addr().String()
	webs, boards := door.Divide(door.Descriptors())
	webs.Own = o.Proxies
	web, board := door.New(webs), door.New(boards)
	l = web.Guard(l)
	if o.HTTPS != "" || o.MQTTS != "" {
		if s.cert, err = loadCertificate(o); err != nil {
			_ = l.Close()
			return err
		}
	}
	if o.HTTPS != "" {
		plain, err := net.Listen("tcp", o.HTTPS)
		if err != nil {
			_ = l.Close()
			return addressError("--https", o.HTTPS, err)
		}
		s.HTTPS, s.secure = plain.Addr().String(), tls.NewListener(web.Guard(plain), s.cert.config)
	}
	defer func() {
		if s.stop == nil && s.secure != nil { // it never began to answer
			_ = s.secure.Close()
		}
	}()
	if s.Hub, s.People, err = household.Start(ctx, s.store, hub.Options{Log: o.Log, Version: Version, Gather: o.Gather,
		Now: o.Now, ClockSet: o.ClockSet, Boot: o.Boot}); err != nil {
		_ = l.Close()
		return err
	}
	if err := s.listen(o, board); err != nil {
		_ = l.Close()
		return err
	}
	s.Archive = archive.New(s.Hub, s.store, o.Log)
	s.Pages = pages.New(s.Hub, s.store, camera.Fetch, o.Log)
	s.Hub.OnRaised(s.Pages.LookOn)
	s.post = post.New(s.Hub, s.store, s.Archive, s.Pages, o.Log)
	s.Hub.Carries(s.post)
	s.upkeep = upkeep.New(s.Hub, s.store, depot.Open, o.Log)
	s.Hub.Tells("backups", func() any { return s.upkeep.State() })
	s.push = push.New(s.Hub)
	mount := map[string]http.Handler{"/push/": s.push, "/mqtt": s.broker}
	maps.Copy(mount, o.Mount)
	at := starter.Addresses{HTTP: s.HTTP, HTTPS: s.HTTPS, MQTT: s.MQTT, MQTTS: s.MQTTS, UDP: s.UDP}
	note, _ := json.Marshal(at) // plain texts
	if err := s.store.LockNote(string(note)); err != nil {
		o.Log.Warn("check will not know where this hub listens", "error", err)
	}
	server, err := api.New(api.Rooms{Hub: s.Hub, People: s.People, Post: s.post, Pages: s.Pages, Archive: s.Archive,
		Upkeep: s.upkeep}, api.Options{Log: o.Log, Console: console.Files(), Authority: s.cert.authority, Addresses: at,
		Mount: mount, Proxies: o.Proxies, Hosts: o.Hosts, Trusted: s.cert.trusted, Door: web, Level: o.Level})
	if err != nil {
		_ = l.Close()
		return err
	}
	serving, stop := context.WithCancel(context.WithoutCancel(ctx))
	s.stop = stop
	doors := []net.Listener{l}
	if s.secure != nil {
		doors = append(doors, s.secure)
	}
	go func() { s.ended <- server.Serve(serving, doors...) }()
	if o.Announce {
		if err := announce(serving, s.Hub, s.HTTP, o.Log); err != nil {
			o.Log.Warn("not announced", "error", err)
		}
	}
	for _, run := range []func(context.Context){s.upkeep.Run, s.post.Run, s.Pages.Run, s.Archive.Run} {
		s.rooms.Go(func() { run(serving) })
	}
	for _, run := range links {
		s.links.Go(func() { run(serving, s.Hub, o.Log) })
	}
	return nil
}

// links are those that speak by themselves, each until the context ends.
var links = []func(context.Context, *hub.Hub, *slog.Logger){lines.Run, poll.Run, modbus.Run, itself.Run,
	modbus.RunPanel, outside.Run}

// listen opens the broker and the port for datagrams.
func (s *Service) listen(o Options, at *door.Keeper) error {
	var err error
	if s.broker, err = mqtt.Listen(s.Hub, mqtt.Options{TCP: o.MQTT, TLS: o.MQTTS, Certificate: s.cert.config, Door: at,
		Tokens: s.People, Log: o.Log}); err != nil {
		var at *mqtt.AddressError
		if errors.As(err, &at) && at.TLS {
			return addressError("--mqtts", o.MQTTS, err)
		}
		return addressError("--mqtt", o.MQTT, err)
	}
	s.MQTT, s.MQTTS = s.broker.Addr().String(), s.broker.SecureAddr()
	if o.UDP != "" {
		if s.udp, err = udp.Listen(s.Hub, o.UDP); err != nil {
			return addressError("--udp", o.UDP, err)
		}
		s.UDP = s.udp.Addr().String()
	}
	return nil
}

// Close stops listening, lets what is under way finish, and closes the store.
func (s *Service) Close() error {
	var err error
	s.once.Do(func() {
		s.push.Close()
		s.stop()
		s.links.Wait()
		s.rooms.Wait()
		err = <-s.ended
		err = errors.Join(err, s.close())
	})
	return err
}

func (s *Service) close() error {
	if s.udp != nil {
		s.udp.Close()
	}
	if s.broker != nil {
		s.broker.Close()
	}
	if s.Hub != nil {
		s.Hub.Stop()
	}
	return s.store.Close()
}

// addressError says in a sentence why an address cannot be listened on.
func addressError(option, addr string, err error) error {
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return fmt.Errorf("the address %s is taken by another program; choose another with %s, or stop the other", addr,
			option)
	case errors.Is(err, syscall.EACCES):
		return fmt.Errorf("the address %s may not be used by this account; choose a port above 1023 with %s", addr, option)
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return fmt.Errorf("the address %s is none of this computer's; choose another with %s", addr, option)
	}
	return fmt.Errorf("the address %s cannot be listened on: %w; check %s", addr, err, option)
}

// Run serves until the context ends and tells people what they need to know.
func Run(ctx context.Context, o Options, out io.Writer) error {
	boundMemory()
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	s, err := Start(ctx, o)
	for store.Damaged(err) {
		remark, wrong := await(ctx, o, out, err)
		if wrong != nil {
			return wrong
		}
		if s, err = Start(ctx, o); err == nil {
			s.Hub.Warn(remark)
		}
	}
	if err != nil {
		return err
	}
	if err := s.Greet(o, out); err != nil {
		_ = s.Close()
		return err
	}
	<-ctx.Done()
	o.Log.Info("stopping")
	return s.Close()
}

// secureLine tells where the console is with TLS, and what a phone has to know first.
func (s *Service) secureLine() string {
	switch {
	case s.HTTPS == "":
		return ""
	case s.cert.authority == nil:
		return "  Secure   https://" + s.HTTPS + "\n"
	}
	return fmt.Sprintf("  Secure   https://%s, once a phone trusts http://%s/ca.pem\n", s.HTTPS, s.HTTP)
}

// codeFile is where the setup code waits when there is no terminal to show it in.
const codeFile = "setup-code"

// Greet tells where the hub is and, on a first start, how to become its owner.
func (s *Service) Greet(o Options, out io.Writer) error {
	o.Log.Info("serving", "http", s.HTTP, "https", s.HTTPS, "mqtt", s.MQTT, "mqtts", s.MQTTS, "udp", s.UDP, "data", o.Data,
		"version", Version)
	code := s.People.SetupCode()
	file := filepath.Join(o.Data, codeFile)
	if code == "" {
		_ = os.Remove(file)
		_, _ = fmt.Fprintf(out, "Idle Ember is running.\n\n  Console  http://%s\n  Boards   mqtt://%s\n%s", s.HTTP, s.MQTT,
			s.secureLine())
		return nil
	}
	_, _ = fmt.Fprintf(out, "Idle Ember is running and has no owner yet.\n\n  Console  http://%s\n  Boards   "+
		"mqtt://%s\n%s\n", s.HTTP, s.MQTT, s.secureLine())
	if f, ok := out.(*os.File); ok && !term.IsTerminal(int(f.Fd())) {
		if err := os.WriteFile(file, []byte(code+"\n"), 0o600); err != nil {
			return fmt.Errorf("the setup code cannot be written to %s: %w", file, err)
		}
		go func() {
			<-s.People.SetUpDone()
			_ = os.Remove(file)
		}()
		o.Log.Info("the setup code is in a file", "file", file)
		_, _ = fmt.Fprintf(out, "The one-time setup code is in %s.\n", file)
	} else {
		_, _ = fmt.Fprintf(out, "Become its owner in the console, or with `idleember setup`, with this one-time code:\n\n  "+
			"%s\n\n", code)
	}
	_, err := fmt.Fprintf(out, `The hub listens where --http and --mqtt say; by default that is this computer alone.
To open it to the house, stop it and start it with:

  idleember serve --data %s --http :8480 --mqtt :1883
`, o.Data)
	return err
}
