// Package hub is the running service: it owns the engine, orders all writes, enforces access and fans live events out.
//
// One goroutine owns the engine and the site. Everything that comes in, from whatever door, is put in its inbox; what
// the engine wants kept is committed by the store, and only then are answers and wants let out. The safe value of a
// control alone does not wait for the disk.
package hub

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/formula"
	"idleember/core/mailbox"
	"idleember/core/reading"
	"idleember/core/site"
	"idleember/live"
	"idleember/sight"
	"idleember/store"
	"idleember/traffic"
)

// Options of Start.
type Options struct {
	Log *slog.Logger
	// Version is what the hub says of itself.
	Version string
	// Now is the computer's clock; nil: time.Now. ClockSet says whether something keeps it right; nil: the kernel is
	// asked.
	Now      func() time.Time
	ClockSet func() bool
	// Boot says which start of the computer this is, and for how long it runs; nil: the kernel is asked.
	Boot func() (id string, up time.Duration)
	// People are those who live with the hub; nil: nobody does.
	People People
	// Gather says for how long writes may be gathered; the zero value writes at once.
	Gather Gather
}

// Gather says for how long what came may wait for more, so that it is written together: memory cards wear by writing.
type Gather struct {
	Acknowledged time.Duration // for messages whose sender waits for the acknowledgement, where little is going on
	Others       time.Duration // for those that nobody waits for
}

// Hub is a running hub. Use Start to get one.
type Hub struct {
	store    *store.Store
	log      *slog.Logger
	version  string
	keeper   *timekeeper
	gather   Gather
	boot     string
	started  time.Time
	current  atomic.Pointer[site.Site] // the site, read from any goroutine
	keys     *keyring
	vault    vault
	doors    map[string]door
	states   sync.Map // how parts are now, func() any by kind, of kinds that somebody else knows
	meters   traffic.Meters
	changed  bell
	inbox    chan func()
	outgoing chan func()
	quit     chan struct{}
	loopEnd  chan struct{}
	outEnd   chan struct{}
	stop     sync.Once
	life     context.Context // until Stop, for what goes on beside the loop
	end      context.CancelFunc
	tasks    sync.WaitGroup // what goes on so
	live     *live.Feed
	people   People
	rights   atomic.Pointer[access.Rights] // of the site, read from any goroutine
	carriers atomic.Pointer[Carrier]
	making   sync.Mutex // of secrets that the hub makes for itself
	onRaised atomic.Pointer[func(cfg *site.Alert, n int64, raised time.Time)]
	glass    sight.Glass
	toldOf   map[string]told // of signals, by id
	sites    uint64          // how often the site was changed

	// what follows belongs to the loop alone
	undelivered undelivered
	engine      *engine.Engine
	site        *site.Site
	brokers     map[string]BrokerState
	modes       map[string]string     // of controls, as last recorded
	present     map[string]bool       // devices, as last recorded
	shipped     map[string]site.Model // models that are part of the program
	// versions are those of signals' settings in the site versionsOf.
	versions   map[string]string
	versionsOf *site.Site
	speakers   map[string]*speaker
	batch      batch
	flushed    time.Time // when a batch was written last
	ownedCount int       // readings that devices stamped themselves while the clock is not believed

	boxes   boxes
	trouble trouble
	full    atomic.Bool // the disk is full, as far as is known
}

// trouble is what failed commits left behind.
type trouble struct {
	sync.Mutex
	err     error
	unsaved []store.Change // states and journal entries, to be written when the store works again
}

// speaker is what the hub knows of a device as one who speaks to it.
type speaker struct {
	refused   int64
	last      string                 // the newest refusal's reason
	publisher map[string]string      // raw name -> session that it last came through
	sessions  map[string]string      // open session -> its name for people
	told      map[string]time.Time   // when a clash was last told
	taken     map[string][]time.Time // client id -> recent takeovers
	names     map[string]string      // raw name -> id, of the site namesOf
	namesOf   *site.Site
	full      map[string]string // short name -> the full name that had it first
	heard     time.Time         // when the engine was last told of a session without an end of its own
	clock     string            // what was strange about a time that it told, and when it told it
	clockAt   time.Time
	replaced  atomic.Int64 // readings that took the place of differing ones
}

// ErrStopped says that the hub is no longer running.
var ErrStopped = errors.New("the hub is stopping")

// How long recorded inputs are kept, and how many bytes of them at most.
const (
	tapeKept = 48 * time.Hour
	TapeMost = 256 << 20
)

// Start brings a hub to life with what the store kept.
func Start(ctx context.Context, st *store.Store, o Options) (*Hub, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	last, err := st.LastTime(ctx)
	if err != nil {
		return nil, err
	}
	doubt, err := st.Doubt(ctx)
	if err != nil {
		return nil, err
	}
	keeper, goesOn := newTimekeeper(o, last, doubt)
	boot := secret(4)
	h := &Hub{store: st, log: o.Log, version: o.Version, keeper: keeper, gather: o.Gather, boot: boot,
		started: keeper.started, inbox: make(chan func(), 1024),
		outgoing: make(chan func(), 1024), quit: make(chan struct{}), loopEnd: make(chan struct{}),
		outEnd: make(chan struct{}),
		toldOf: map[string]told{}, engine: engine.New(), speakers: map[string]*speaker{},
		people: o.People, brokers: map[string]BrokerState{}, modes: map[string]string{}, present: map[string]bool{}}
	if h.people == nil {
		h.people = nobody{}
	}
	h.live = live.New(boot, h.Time)
	h.life, h.end = context.WithCancel(context.WithoutCancel(ctx))
	if h.site, err = st.Site(ctx); err != nil {
		return nil, err
	}
	keys, err := st.Keys(ctx)
	if err != nil {
		return nil, err
	}
	h.keys = newKeyring(keys)
	if h.vault.of, err = st.Secrets(ctx); err != nil {
		return nil, err
	}
	if _, err := h.OwnSecret(ctx, SigningKey); err != nil {
		return nil, err
	}
	if h.shipped, err = shippedModels(); err != nil {
		return nil, err
	}
	h.doors = h.theDoors()
	h.rights.Store(access.NewRights(h.site.Rights.Lines))
	if h.undelivered, err = loadUndelivered(ctx, st); err != nil {
		return nil, err
	}
	refused, err := st.RefusalCounts(ctx)
	if err != nil {
		return nil, err
	}
	for id, n := range refused {
		h.speakerOf(id).refused = n
	}
	state, err := h.savedState(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range state.Controls {
		h.modes[c.ID] = string(c.Mode)
	}
	h.current.Store(h.site)
	h.beginClock(doubt, goesOn)
	h.applyNow(engine.SiteChanged{Site: h.site}) // the clock is looked at when there is something that moves with it
	state.Doubted = doubt != nil && !goesOn
	h.restorePresence(state)
	h.applyNow(state)
	go h.letOut()
	go h.loop()
	if st.OpenedFull() {
		h.stored(store.ErrFull, nil)
	}
	return h, nil
}

// savedState completes the kept state with each signal's last reading.
func (h *Hub) savedState(ctx context.Context) (engine.Restored, error) {
	state, err := h.store.State(ctx)
	if err != nil {
		return state, err
	}
	known := map[string]engine.SignalState{}
	for _, s := range state.Signals {
		known[s.ID] = s
	}
	state.Signals = nil
	for id, cfg := range h.site.Signals {
		s := known[id]
		s.ID = id
		last, ok, err := h.store.Last(ctx, id, cfg.Kind)
		if err != nil {
			return state, err
		}
		if ok {
			// what another clock stamped later would make all that comes late
			at := time.UnixMilli(min(last.T, h.Time().UnixMilli()))
			s.Seen, s.At, s.Heard, s.Value, s.Raw, s.Quality = true, at, at, last.Value, last.Raw, last.Quality
		}
		state.Signals = append(state.Signals, s)
	}
	return state, nil
}

// Stop ends the hub. What was acknowledged is stored; the store stays open.
func (h *Hub) Stop() {
	h.stop.Do(func() { h.end(); close(h.quit) })
	<-h.loopEnd
	<-h.outEnd
	h.tasks.Wait()
}

// What goes into one batch at most: inputs, and bytes of them as they are recorded.
const (
	drain      = 256
	drainBytes = 4 << 20
)

func (h *Hub) loop() {
	defer close(h.loopEnd)
	timer := time.NewTimer(0)
	defer timer.Stop()
	due := time.NewTimer(time.Hour)
	defer due.Stop()
	alive := time.NewTicker(time.Minute)
	defer alive.Stop()
	retry := time.NewTicker(5 * time.Second)
	defer retry.Stop()
	prune := time.NewTicker(time.Hour)
	defer prune.Stop()
	reasons := time.NewTicker(20 * time.Second)
	defer reasons.Stop()
	h.saveAlive()
	h.lookAtOneself()
	h.letGo()
	for {
		if at, ok := h.engine.NextWake(); ok {
			timer.Reset(max(0, at-time.Since(h.started)))
		}
		select {
		case f := <-h.inbox:
			f()
			for range drain {
				if h.batch.bytes > drainBytes { // changed sites are large
					break
				}
				select {
				case f := <-h.inbox:
					f()
					continue
				default:
				}
				break
			}
		case <-timer.C:
			h.apply(engine.Tick{})
		case <-due.C:
		case <-alive.C:
			h.saveAlive()
			h.write(h.people.Used()...)
			h.pruneTape()
			h.lookAtOneself()
		case <-reasons.C:
			h.tellReasons()
		case <-prune.C:
			h.letGo()
		case <-retry.C:
			h.lookAtClock()
			if h.inTrouble() {
				h.saveAlive()
			}
			// whether the store is still there, also where nothing is to be kept
			h.store.Commit(&store.Batch{Done: func(err error) {
				if errors.Is(err, store.ErrGone) {
					h.outgoing <- func() { h.stored(err, nil) }
				}
			}})
		case <-h.quit:
			h.saveAlive()
			h.write(h.people.Used()...)
			h.flush()
			done := make(chan struct{})
			h.store.Commit(&store.Batch{Done: func(error) { close(done) }})
			<-done
			close(h.outgoing)
			return
		}
		if wait := h.patience(); wait > 0 {
			due.Reset(wait)
		} else {
			h.flush()
		}
	}
}

func (h *Hub) saveAlive() { h.write(store.SaveAlive(h.Time())) }

// pruneTape lets go of recorded inputs, one transaction after the other until none is due.
func (h *Hub) pruneTape() {
	if h.trusted() {
		h.write(store.PruneTape(h.Time().Add(-tapeKept), TapeMost, func() { go h.enqueue(h.pruneTape) }))
	}
}

// letGo lets go of passes that have ended, of messages that are done with, and of the journal what is older than it is
// kept.
func (h *Hub) letGo() {
	if !h.trusted() {
		return
	}
	now := h.Time()
	h.write(store.EndPasses(now), store.DropDeliveries(now.Add(-keptMessages)))
	if days := h.site.Hub.JournalDays; days > 0 {
		h.write(store.PruneJournal(now.AddDate(0, 0, -days)))
	}
}

// do runs f in the loop and waits until what it wrote is on the disk.
func (h *Hub) do(ctx context.Context, f func() error) error {
	done := make(chan error, 1)
	task := func() {
		if err := f(); err != nil {
			done <- err
			return
		}
		h.later(func(err error) {
			if err != nil {
				err = store.Unsaved(err)
			}
			done <- err
		})
	}
	return h.await(ctx, task, done)
}

// ask runs f in the loop and waits for it; f writes nothing.
func (h *Hub) ask(ctx context.Context, f func() error) error {
	done := make(chan error, 1)
	return h.await(ctx, func() { done <- f() }, done)
}

func (h *Hub) await(ctx context.Context, task func(), done <-chan error) error {
	select {
	case h.inbox <- task:
	case <-ctx.Done():
		return ctx.Err()
	case <-h.loopEnd:
		return ErrStopped
	}
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	case <-h.outEnd:
		return ErrStopped
	}
}

func (h *Hub) enqueue(f func()) bool {
	select {
	case h.inbox <- f:
		return true
	case <-h.loopEnd:
		return false
	}
}

// apply gives the engine an input and takes its effects apart.
func (h *Hub) apply(in engine.Input) (refused []string) {
	h.lookAtClock()
	return h.applyNow(in)
}

// Long, because it is one case for each kind.
func (h *Hub) applyNow(in engine.Input) (refused []string) {
	now := h.now()
	if rec, err := engine.Record(now, in); err == nil {
		h.batch.recorded = append(h.batch.recorded, rec)
		h.batch.bytes += rec.Bytes()
	}
	for _, x := range h.engine.Apply(now, in) {
		switch x := x.(type) {
		case *engine.Store:
			if x.Own {
				h.stampedItself(x.Signal, x.At.UnixMilli())
			}
			h.writeReadings(store.AddReading(x.Signal, store.Reading{T: x.At.UnixMilli(), Value: x.Value, Quality: x.Quality,
				Raw: x.Raw}, h.replacedBy(h.site.Signals[x.Signal].Device)))
			if x.Live {
				h.publishSignal(x.Signal)
			}
		case engine.Refused:
			refused = append(refused, x.Reason)
		case engine.SignalChanged:
			h.publishSignal(x.State.ID)
		case engine.SignalLearnt:
			h.remember(x)
		case engine.ControlChanged:
			h.controlChanged(now, x.State)
		case engine.DeviceChanged:
			h.remember(x)
			h.recordPresence(x.State)
			h.publishDevice(x.State.ID)
		case engine.Want:
			h.want(x)
		case engine.Keep:
			h.remember(x)
		case engine.SettingChanged:
			h.settingChanged(now, x.State)
		case engine.Mirror:
			h.later(func(error) { h.boxes.each(x.Device, func(b *Mailbox) { b.put(func(b *mailbox.Box) { b.Mirror(x) }) }) })
		case engine.NeedHistory:
			h.later(func(error) { h.tasks.Go(func() { h.fillWindow(formula.Need(x)) }) })
		case engine.Message:
			h.message(now.Wall, x)
		case engine.Note:
			h.writeState(store.AddNote(store.Remark{At: now.Wall, Object: x.Object, Text: x.Text, By: x.By.Name}, nil))
			h.journal(now.Wall, x.By, "note", x.Object, "", x.Text, "")
		case engine.AlertChanged:
			h.alertChanged(now, x)
		case engine.AlertLearnt:
			h.alertLearnt(now, x)
		case engine.AlertGone:
			h.remember(x)
			h.lookAgain()
		case engine.Withdrawn:
			raw := h.site.Controls[x.Control].Raw
			h.later(func(error) {
				h.boxes.each(x.Device, func(b *Mailbox) { b.put(func(b *mailbox.Box) { b.Withdraw(x.Control, raw, x.Rev) }) })
			})
		case engine.Beat:
			h.boxes.each(x.Device, func(b *Mailbox) { b.put(func(b *mailbox.Box) { b.Beat(x.Lease) }) })
		case engine.Journal:
			h.journal(now.Wall, x.Actor, x.Action, x.Object, x.Before, x.After, h.inWords(x.Reason))
		}
	}
	return refused
}

// remember keeps what the engine must be restored with. How often a signal reports can be learnt again.
func (h *Hub) remember(x engine.Effect) {
	k, ok := engine.Kept(x)
	if _, learnt := x.(engine.SignalLearnt); learnt {
		h.writeReadings(store.Remember(k))
	} else if ok {
		h.writeState(store.Remember(k))
	}
}

func (h *Hub) journal(at time.Time, a access.Actor, action, object, before, after, reason string) {
	h.writeState(store.AddEntry(at, a, action, object, before, after, reason, nil))
}

// controlChanged keeps a control's state, and its is and want as history.
func (h *Hub) controlChanged(now engine.Now, s engine.ControlState) {
	h.remember(engine.ControlChanged{State: s})
	cfg := h.site.Controls[s.ID]
	record := func(what string, a *site.Amount, at time.Time) {
		if a != nil && !at.IsZero() {
			h.writeReadings(store.AddReading(s.ID+"."+what, store.Reading{T: at.UnixMilli(), Value: reading.OfControl(cfg, *a)},
				nil))
		}
	}
	record("is", s.Is, s.IsSince)
	record("want", s.Want, s.WantAt)
	if mode := string(s.Mode); mode != h.modes[s.ID] {
		h.modes[s.ID] = mode
		if mode == "" {
			mode = "none"
		}
		h.writeReadings(store.AddReading(s.ID+".mode", store.Reading{T: now.Wall.UnixMilli(), Value: reading.Text(mode)},
			nil))
	}
	h.publishControl(s.ID)
}

// want lets a want out: the safe value and what an interlock forces at once, anything else after the commit.
func (h *Hub) want(w engine.Want) {
	send := func(error) { h.boxes.each(w.Device, func(b *Mailbox) { b.want(w) }) }
	if w.Urgent || w.Pulse != "" && w.Value == 0 {
		send(nil)
		return
	}
	h.later(send)
}

func (h *Hub) speakerOf(device string) *speaker {
	t := h.speakers[device]
	if t == nil {
		t = &speaker{publisher: map[string]string{}, sessions: map[string]string{}, told: map[string]time.Time{},
			taken: map[string][]time.Time{}}
		h.speakers[device] = t
	}
	return t
}
