// Package upkeep keeps a hub safe: it makes backups by itself, copies them to another place, tries to restore them, and
// tells what is kept and how much room that takes.
package upkeep

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/calendar"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/sight"
	"idleember/store"
)

// House is what upkeep asks of the hub that it keeps safe.
type House interface {
	Site() *site.Site
	Time() time.Time
	Trusted() bool // the time is believed
	Secret(of site.Key, name string) string
	// that the hub makes for itself the first time it is asked for
	OwnSecret(ctx context.Context, name string) (string, error)
	Sight(a access.Actor) sight.Sight
	Record(a access.Actor, action, object, before, after, reason string)
	Tell(text string)       // people, as they wish to hear of messages
	Warn(text string)       // everybody who hears of what is critical
	TellDamage(what string) // of what is kept
	LookAtOneself()         // at once: something changed
}

// Keeper keeps a hub safe. Use New to get one.
type Keeper struct {
	house   House
	store   *store.Store
	log     *slog.Logger
	open    func(site.Elsewhere, string) (Depot, error)
	started time.Time

	mu     sync.Mutex // one backup at a time
	drills sync.Mutex
	made   chan struct{} // one was made, and is to be copied

	said                           sync.Mutex
	failed, notCopied, drillFailed string
}

// New returns a keeper of a hub and its store. open opens other places for backups.
func New(h House, s *store.Store, open func(site.Elsewhere, string) (Depot, error), log *slog.Logger) *Keeper {
	return &Keeper{house: h, store: s, log: log, open: open, started: time.Now(), made: make(chan struct{}, 1)}
}

// Run makes backups, copies them and tries to restore them as the site says, and reads now and then all that is kept,
// until the context ends.
func (k *Keeper) Run(ctx context.Context) {
	var tasks sync.WaitGroup
	tasks.Go(func() { k.keepBackups(ctx) })
	tasks.Go(func() { k.keepCopies(ctx) })
	tasks.Go(func() { k.keepWhole(ctx) })
	tasks.Wait()
}

func (k *Keeper) secret(name string) string { return k.house.Secret(site.Key{Kind: "backups"}, name) }

// State is what there is of backups.
func (k *Keeper) State() shown.BackupsState {
	v := shown.BackupsState{Folder: k.store.BackupFolder(), Password: k.secret(site.Password) != "",
		Passphrase: k.secret(site.Passphrase) != "", List: []shown.Backup{}}
	k.said.Lock()
	v.Failed, v.NotCopied, v.DrillFailed = k.failed, k.notCopied, k.drillFailed
	k.said.Unlock()
	if at := k.store.Drilled(); !at.IsZero() {
		v.Drilled = &at
	}
	list, err := k.store.Backups()
	if err != nil && v.Failed == "" {
		v.Failed = err.Error()
	}
	for _, b := range list {
		v.List = append(v.List, shown.Backup(b))
	}
	return v
}

// BackUp makes a backup now, and lets go of those that are more than are kept.
func (k *Keeper) BackUp(ctx context.Context, a access.Actor) (store.Backup, error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return store.Backup{}, err
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	b, err := k.store.MakeBackup(ctx, k.house.Site().Backups.Kept(), k.secret(site.Passphrase))
	k.said.Lock()
	k.failed = ""
	if err != nil {
		k.failed = err.Error()
	}
	k.said.Unlock()
	if err != nil {
		return b, &fault.RemoteError{Err: err}
	}
	if b.Damaged != "" {
		k.house.TellDamage(b.Damaged)
	}
	select {
	case k.made <- struct{}{}:
	default:
	}
	k.house.LookAtOneself()
	k.house.Record(a, "back up", "hub.backups", "", fmt.Sprintf("%s, %.1f MB", b.Name, float64(b.Bytes)/1e6), "")
	return b, nil
}

const (
	backupLook  = 20 * time.Second // how often it is looked whether one is due
	backupRetry = 30 * time.Minute // after one that failed
)

// keepBackups makes backups when they are due, until the context ends. What was due while the hub was away is made when
// it is back.
func (k *Keeper) keepBackups(ctx context.Context) {
	wait := backupLook
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = backupLook
		s := k.house.Site()
		if s.Backups.Every == "" || !k.house.Trusted() {
			continue
		}
		due, _ := calendar.LastDue(s.Backups.Every, s.Backups.At, k.house.Time(), s.Hub.Location())
		if last, ok := k.store.LastBackup(); ok && !due.After(last) {
			continue
		}
		if _, err := k.BackUp(ctx, access.HubActor()); err != nil && ctx.Err() == nil {
			k.log.Error("the backup was not made", "error", err)
			wait = backupRetry
		}
	}
}
