package upkeep

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/store"
)

// Depot is another place for backups: names there, with their sizes.
type Depot interface {
	List(ctx context.Context) (map[string]int64, error)
	Put(ctx context.Context, name, file string) error
	Get(ctx context.Context, name string, to io.Writer) error
	Remove(ctx context.Context, name string) error
}

const (
	copyTag    = "backup tag"
	copyAsk    = time.Minute   // for what there is
	copyLong   = 6 * time.Hour // for a backup
	drillEvery = 30 * 24 * time.Hour
	drillRetry = 24 * time.Hour
)

// depot opens the other place; nil: there is none.
func (k *Keeper) depot(ctx context.Context) (Depot, error) {
	e := k.house.Site().Backups.Elsewhere
	if e.Via == "" {
		return nil, nil
	}
	return k.open(e, k.secret(site.Password))
}

// BackupsElsewhere lists those at the other place, the newest first.
func (k *Keeper) BackupsElsewhere(ctx context.Context, a access.Actor) ([]store.Backup, error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return nil, err
	}
	d, err := k.depot(ctx)
	if err != nil || d == nil {
		return []store.Backup{}, err
	}
	ctx, stop := context.WithTimeout(ctx, copyAsk)
	defer stop()
	there, err := k.backupsAt(ctx, d)
	if err != nil {
		return nil, &fault.RemoteError{Err: err}
	}
	list := []store.Backup{}
	for _, b := range there {
		list = append(list, b.Backup)
	}
	return list, nil
}

// copied is a backup at another place, and what it is called there.
type copied struct {
	store.Backup
	there string
}

// backupsAt lists what is at another place, the newest first. Several hubs may share one, so each copy is called after
// its hub there; one that is called after none was put there by hand.
func (k *Keeper) backupsAt(ctx context.Context, d Depot) ([]copied, error) {
	tag, err := k.tag(ctx)
	if err != nil {
		return nil, err
	}
	names, err := d.List(ctx)
	if err != nil {
		return nil, err
	}
	list := []copied{}
	for name, bytes := range names {
		at, of, ok := store.Named(name)
		if !ok {
			continue
		}
		if of == tag || strings.HasSuffix(of, "-"+tag) {
			of = ""
		}
		list = append(list, copied{store.Backup{Name: store.BackupName(at, of), At: at, Bytes: bytes, Of: of}, name})
	}
	slices.SortFunc(list, func(x, y copied) int {
		return cmp.Or(y.At.Compare(x.At), cmp.Compare(len(y.there), len(x.there)), cmp.Compare(x.there, y.there))
	})
	// Of two of one name, the one that the hub put there.
	return slices.CompactFunc(list, func(x, y copied) bool { return x.Name == y.Name }), nil
}

// tag tells the copies of this hub from those of others, also after a restore and after another name.
func (k *Keeper) tag(ctx context.Context) (string, error) {
	key, err := k.house.OwnSecret(ctx, copyTag)
	return fmt.Sprintf("%x", sha256.Sum256([]byte(key)))[:8], err
}

// nameThere is what a backup of this hub is called at another place.
func (k *Keeper) nameThere(at time.Time, tag string) string {
	if slug, err := site.Slug(k.house.Site().Hub.Name); err == nil {
		tag = slug + "-" + tag
	}
	return store.BackupName(at, tag)
}

// newestWhole is the newest of those of this hub that are not damaged. What seems to be of the future was made while
// the clock was wrong, and comes last.
func newestWhole(list []store.Backup, now time.Time) (best store.Backup, ok bool) {
	now = now.Add(time.Minute)
	for _, b := range list {
		if b.Of != "" || b.Damaged != "" {
			continue
		}
		if !ok || b.At.After(best.At) && !b.At.After(now) || best.At.After(now) && !b.At.After(now) {
			best, ok = b, true
		}
	}
	return best, ok
}

// FetchBackup brings a backup from the other place to the hub's own.
func (k *Keeper) FetchBackup(ctx context.Context, a access.Actor, name string) (store.Backup, error) {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return store.Backup{}, err
	}
	ctx, stop := context.WithTimeout(ctx, copyLong)
	defer stop()
	d, err := k.depot(ctx)
	if err != nil {
		return store.Backup{}, err
	}
	var there []copied
	if d != nil {
		if there, err = k.backupsAt(ctx, d); err != nil {
			return store.Backup{}, &fault.RemoteError{Err: err}
		}
	}
	i := slices.IndexFunc(there, func(b copied) bool { return b.Name == name })
	if i < 0 {
		return store.Backup{}, fault.NotFound("backup", name)
	}
	if err := k.spare(uint64(there[i].Bytes), "fetch "+name); err != nil {
		return store.Backup{}, &fault.RemoteError{Err: err}
	}
	b, err := k.store.TakeBackup(name, func(to io.Writer) error { return get(ctx, d, there[i], to) })
	if err != nil {
		return b, &fault.RemoteError{Err: err}
	}
	k.house.Record(a, "fetch", "hub.backups", "", fmt.Sprintf("%s, %.1f MB", b.Name, float64(b.Bytes)/1e6), "")
	return b, nil
}

// get fetches a backup, and not a byte more than it was said to have: a place that sends without end would fill the
// disk.
func get(ctx context.Context, d Depot, b copied, to io.Writer) error {
	w := &measured{to: to, left: b.Bytes}
	if err := d.Get(ctx, b.there, w); err != nil {
		return err
	}
	if w.left > 0 {
		return fmt.Errorf("%s is not whole: %d of %d bytes are missing", b.Name, w.left, b.Bytes)
	}
	return nil
}

type measured struct {
	to   io.Writer
	left int64
}

func (m *measured) Write(b []byte) (int, error) {
	if m.left -= int64(len(b)); m.left < 0 {
		return 0, errors.New("the other place sends more than it said that there is")
	}
	return m.to.Write(b)
}

const roomBesides = 32 << 20 // for a reserve, and for what comes in meanwhile

func (k *Keeper) spare(bytes uint64, to string) error {
	if free := k.store.Free(); free < bytes+roomBesides {
		return fmt.Errorf("there is too little room to %s: it takes %d MB, and %d are free", to, (bytes+roomBesides)>>20,
			free>>20)
	}
	return nil
}

// copyAway sees to it that the newest backup without damage is at the other place, and that those there are not more
// than are kept. done is false where it is to be tried again.
func (k *Keeper) copyAway(ctx context.Context) (done bool) {
	d, err := k.depot(ctx)
	if d == nil && err == nil {
		k.copied(nil)
		return true
	}
	if err == nil {
		ctx, stop := context.WithTimeout(ctx, copyLong)
		err = k.copyNewest(ctx, d)
		stop()
	}
	if ctx.Err() != nil {
		return true
	}
	k.copied(err)
	return err == nil
}

// Long, because it is the steps of one copy, each of which may fail.
func (k *Keeper) copyNewest(ctx context.Context, d Depot) error {
	mine, err := k.store.Backups()
	if err != nil {
		return err
	}
	last, ok := newestWhole(mine, k.house.Time())
	if !ok {
		return nil
	}
	file := filepath.Join(k.store.BackupFolder(), last.Name)
	if k.house.Site().Backups.Elsewhere.Away() {
		if sealed, err := store.Encrypted(file); err != nil || !sealed {
			return errors.Join(err, errors.New("the newest backup was made without a passphrase, and such a one does not "+
				"leave the house; make a new one"))
		}
	}
	tag, err := k.tag(ctx)
	if err != nil {
		return err
	}
	name := k.nameThere(last.At, tag)
	names, err := d.List(ctx)
	if err != nil {
		return err
	}
	for part := range names { // what was broken off, of one that is not tried again
		if stem, ok := strings.CutSuffix(part, ".part"); ok && stem != name {
			if _, of, ok := store.Named(stem); ok && strings.HasSuffix(of, tag) {
				_ = d.Remove(ctx, part) // the next turn comes by again
			}
		}
	}
	there, err := k.backupsAt(ctx, d)
	if err != nil {
		return err
	}
	same := func(b copied) bool { return b.Name == last.Name && b.Bytes == last.Bytes }
	if !slices.ContainsFunc(there, same) {
		if err := d.Put(ctx, name, file); err != nil {
			return err
		}
		if there, err = k.backupsAt(ctx, d); err != nil {
			return err
		}
	}
	// Those of other hubs, and what somebody put there by hand, stay.
	there = slices.DeleteFunc(there, func(b copied) bool { return b.Of != "" || b.there == b.Name })
	for i, old := range there {
		if i < k.house.Site().Backups.Kept() || same(old) {
			continue
		}
		if err := d.Remove(ctx, old.there); err != nil {
			return fmt.Errorf("an old backup cannot be let go: %w", err)
		}
	}
	return nil
}

// copied remembers whether the newest backup is at the other place, and tells people when it no longer is.
func (k *Keeper) copied(err error) {
	k.said.Lock()
	was := k.notCopied
	k.notCopied = ""
	if err != nil {
		k.notCopied = err.Error()
	}
	k.said.Unlock()
	if err != nil && was == "" {
		k.log.Warn("the backup was not copied to the other place", "error", err)
		k.house.Tell("The backup was not copied to the other place: " + err.Error() + ". It is tried again every half hour.")
	}
}

// Drill shows that a backup can be restored: the newest one at the other place, or else of the hub's own, is brought to
// a folder beside the database, opened, read and verified, and let go again.
func (k *Keeper) Drill(ctx context.Context, a access.Actor) error {
	if err := access.May(a, access.Configure, access.Anything); err != nil {
		return err
	}
	k.drills.Lock()
	defer k.drills.Unlock()
	begun := time.Now()
	name, from, err := k.drill(ctx)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	k.said.Lock()
	was := k.drillFailed
	k.drillFailed = ""
	if err != nil {
		k.drillFailed = err.Error()
	}
	k.said.Unlock()
	if err != nil {
		k.log.Error("the restore drill failed", "backup", name, "error", err)
		if was == "" {
			k.house.Warn("The restore drill failed: " + err.Error() + ". Make a new backup, and try again.")
		}
		return &fault.RemoteError{Err: err}
	}
	k.house.Record(a, "drill", "hub.backups", "", fmt.Sprintf("%s from %s was restored and verified in %s", name, from,
		time.Since(begun).Round(time.Second)), "")
	return nil
}

// keepCopies copies what was made, and tries a restore each month, until the context ends. It is apart from what makes
// backups, since another place may be slow.
func (k *Keeper) keepCopies(ctx context.Context) {
	var copyAt, drillAt time.Time
	for {
		select {
		case <-ctx.Done():
			return
		case <-k.made:
			copyAt = time.Time{}
		case <-time.After(backupLook):
		}
		b := k.house.Site().Backups
		if now := time.Now(); b.Elsewhere.Via != "" && !now.Before(copyAt) {
			if copyAt = now.Add(time.Hour); !k.copyAway(ctx) {
				copyAt = now.Add(backupRetry)
			}
		}
		if now := time.Now(); b.Every != "" && k.house.Trusted() && !now.Before(drillAt) && k.drillDue(now) {
			drillAt = now.Add(drillRetry)
			_ = k.Drill(ctx, access.HubActor()) // it says by itself what is wrong
		}
	}
}

// drillDue reports whether a restore is to be tried: a month after the last one, where there is a backup.
func (k *Keeper) drillDue(now time.Time) bool {
	last := k.store.Drilled()
	if !last.IsZero() && now.Sub(last) < drillEvery {
		return false
	}
	made, ok := k.store.LastBackup()
	return ok && now.After(made)
}

func (k *Keeper) drill(ctx context.Context) (name, from string, err error) {
	d, err := k.depot(ctx)
	if err != nil {
		return "", "", err
	}
	word := k.secret(site.Passphrase)
	folder, err := os.MkdirTemp(filepath.Dir(k.store.BackupFolder()), store.DrillFolder)
	if err != nil {
		return "", "", err
	}
	defer func() { _ = os.RemoveAll(folder) }()
	list, err := k.store.Backups()
	from = "the hub"
	var there []copied
	if d != nil {
		from = "the other place"
		there, err = k.backupsAt(ctx, d)
		list = nil
		for _, b := range there {
			list = append(list, b.Backup)
		}
	}
	if err != nil {
		return "", from, err
	}
	last, ok := newestWhole(list, k.house.Time())
	if !ok {
		return "", from, errors.New("there is no backup to restore; make one")
	}
	name = last.Name
	if err := k.spare(3*uint64(last.Bytes), "restore "+name+" for a trial"); err != nil {
		return name, from, err
	}
	file := filepath.Join(k.store.BackupFolder(), name)
	if d != nil {
		file = filepath.Join(folder, name)
		to, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return name, from, err
		}
		ctx, stop := context.WithTimeout(ctx, copyLong)
		defer stop()
		i := slices.IndexFunc(there, func(b copied) bool { return b.Name == name })
		if err := errors.Join(get(ctx, d, there[i], to), to.Close()); err != nil {
			return name, from, err
		}
	}
	err = k.store.Drill(ctx, file, filepath.Join(folder, "restored"), word)
	if errors.Is(err, store.ErrEncrypted) || errors.Is(err, store.ErrPassphrase) {
		err = fmt.Errorf("%s was encrypted with another passphrase than the one that is set", name)
	}
	return name, from, err
}
