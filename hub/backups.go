package hub

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/calendar"
	"idleember/core/engine"
	"idleember/core/site"
	"idleember/store"
)

// backups makes one at a time.
type backups struct {
	mu     sync.Mutex
	drills sync.Mutex
	made   chan struct{} // one was made, and is to be copied
	said   sync.Mutex
	failed string
	open   func(site.Elsewhere, string) (Depot, error)

	notCopied, drillFailed string
}

// Backups returns how they are made, for owners.
func (h *Hub) Backups(ctx context.Context, a access.Actor) (v shown.Backups, err error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return v, err
	}
	v.Config, v.Folder = h.Site().Backups, h.store.BackupFolder()
	v.Version = Version(v.Config)
	h.backups.said.Lock()
	v.Failed, v.NotCopied, v.DrillFailed = h.backups.failed, h.backups.notCopied, h.backups.drillFailed
	h.backups.said.Unlock()
	if at := h.store.Drilled(); !at.IsZero() {
		v.Drilled = &at
	}
	v.Secret, v.Encrypted = h.backupSecret(site.Password) != "", h.backupSecret(site.Passphrase) != ""
	list, err := h.store.Backups()
	v.List = []shown.Backup{}
	for _, b := range list {
		v.List = append(v.List, shown.Backup(b))
	}
	return v, err
}

// SaveBackups changes how they are made. passphrase is that by which they are encrypted: nil where it stays, "" for none;
// secret likewise the password of the other place.
func (h *Hub) SaveBackups(ctx context.Context, a access.Actor, b site.Backups, passphrase, secret *string, check func(any) error) (shown.Backups, error) {
	err := h.do(ctx, func() error {
		_, err := h.keep(a, edit{part: b, check: check, secrets: map[string]*string{site.Passphrase: passphrase, site.Password: secret}})
		if err == nil && passphrase != nil {
			h.journal(h.Time(), a, "change", "hub.backups", "", map[bool]string{true: "with a passphrase", false: "without a passphrase"}[*passphrase != ""], "")
		}
		return err
	})
	if err != nil {
		return shown.Backups{}, err
	}
	return h.Backups(ctx, a)
}

// checkBackups: a backup holds all by which people and boards sign in; where it goes, and who can read it, is for a person.
func (h *Hub) checkBackups(a access.Actor, before any, e *edit) error {
	b := e.part.(site.Backups)
	if e.secrets[site.Passphrase] != nil || e.secrets[site.Password] != nil || b.Elsewhere != before.(site.Backups).Elsewhere {
		if err := h.inPerson(a); err != nil {
			return err
		}
	}
	if b.Elsewhere.Via == site.ToFolder && h.store.Within(b.Elsewhere.Address) {
		return &InvalidError{"backups", "the folder " + b.Elsewhere.Address + " is in the hub's own; take one on another disk"}
	}
	word := h.backupSecret(site.Passphrase)
	if entered := e.secrets[site.Passphrase]; entered != nil {
		word = *entered
	}
	if b.Elsewhere.Away() && word == "" {
		return &InvalidError{"passphrase", "a backup holds password hashes: what leaves the house is encrypted; enter a passphrase"}
	}
	return nil
}

func (h *Hub) backupSecret(name string) string { return h.vault.get(site.Key{Kind: "backups"}, name) }

// BackUp makes a backup now, and lets go of those that are more than are kept.
func (h *Hub) BackUp(ctx context.Context, a access.Actor) (store.Backup, error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return store.Backup{}, err
	}
	h.backups.mu.Lock()
	defer h.backups.mu.Unlock()
	b, err := h.store.MakeBackup(ctx, h.Site().Backups.Kept(), h.backupSecret(site.Passphrase))
	h.backups.said.Lock()
	h.backups.failed = ""
	if err != nil {
		h.backups.failed = err.Error()
	}
	h.backups.said.Unlock()
	if err != nil {
		return b, &RemoteError{err}
	}
	if b.Damaged != "" {
		h.tellDamage(b.Damaged)
	}
	select {
	case h.backups.made <- struct{}{}:
	default:
	}
	h.enqueue(func() {
		h.lookAtOneself()
		h.journal(h.Time(), a, "back up", "hub.backups", "", fmt.Sprintf("%s, %.1f MB", b.Name, float64(b.Bytes)/1e6), "")
	})
	return b, nil
}

// tellDamage tells everybody of what a look at all that is kept found damaged.
func (h *Hub) tellDamage(what string) {
	h.log.Error("what is kept is damaged", "what", what)
	first, more, _ := strings.Cut(what, "\n")
	if more != "" {
		first += fmt.Sprintf(", and %d faults more", strings.Count(more, "\n")+1)
	}
	h.Warn("What is kept is damaged: " + first + ". The newest backup without damage stays; idleember check tells all of it.")
}

// Warn tells everybody who hears of critical alerts something about the hub itself.
func (h *Hub) Warn(text string) {
	h.enqueue(func() { h.message(h.Time(), engine.Message{Object: "hub", Grave: true, Text: text}) })
}

const (
	backupLook  = 20 * time.Second // how often it is looked whether one is due
	backupRetry = 30 * time.Minute // after one that failed
)

// keepBackups makes backups when they are due, until the context ends. What was due while the hub was away is made when it is back.
func (h *Hub) keepBackups(ctx context.Context) {
	wait := backupLook
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		wait = backupLook
		s := h.Site()
		if s.Backups.Every == "" || !h.trusted() {
			continue
		}
		due, _ := calendar.LastDue(s.Backups.Every, s.Backups.At, h.Time(), s.Hub.Location())
		if last, ok := h.store.LastBackup(); ok && !due.After(last) {
			continue
		}
		if _, err := h.BackUp(ctx, access.HubActor()); err != nil && ctx.Err() == nil {
			h.log.Error("the backup was not made", "error", err)
			wait = backupRetry
		}
	}
}
