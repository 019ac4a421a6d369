package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"idleember/core/access"
	"idleember/core/site"
)

// Member is a person with an account.
type Member struct {
	ID       string      `db:"id"`
	Name     string      `db:"name"`
	Role     access.Role `db:"role"`
	Password string      `db:"password"` // an argon2id hash in PHC form
	Created  int64       `db:"created_ms"`
	Disabled bool        `db:"disabled"`
	Until    int64       `db:"until_ms"`    // a guest's end; 0: none
	Seen     int64       `db:"seen_ms"`     // within minutes; 0: never
	Factor   string      `db:"factor"`      // the secret of the second factor; "": there is none
	Step     int64       `db:"factor_step"` // the newest one that was used
	Recovery string      `db:"recovery"`    // a JSON list of SHA-256
}

// Active reports whether the account is open.
func (m Member) Active(now time.Time) bool {
	return !m.Disabled && (m.Until == 0 || now.UnixMilli() < m.Until)
}

// Members reads all members in the order in which they came.
func (s *Store) Members(ctx context.Context) ([]Member, error) {
	var out []Member
	if err := s.read.SelectContext(ctx, &out,
		`SELECT id, name, role, password, created_ms, disabled, until_ms, seen_ms, factor, factor_step, recovery FROM members ORDER BY created_ms, id`); err != nil {
		return nil, fmt.Errorf("store: members: %w", err)
	}
	return out, nil
}

// SaveMember adds or changes a member.
func SaveMember(m Member) Change {
	return func(tx *Tx) error {
		if m.Recovery == "" {
			m.Recovery = "[]"
		}
		return tx.exec(`INSERT INTO members (id, name, role, password, created_ms, disabled, until_ms, seen_ms, factor, factor_step, recovery)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (id) DO UPDATE SET name = excluded.name, role = excluded.role, password = excluded.password, disabled = excluded.disabled,
			until_ms = excluded.until_ms, seen_ms = excluded.seen_ms, factor = excluded.factor, factor_step = excluded.factor_step, recovery = excluded.recovery`,
			m.ID, m.Name, m.Role, m.Password, m.Created, m.Disabled, m.Until, m.Seen, m.Factor, m.Step, m.Recovery)
	}
}

// RemoveMember takes a person away with all that is theirs alone.
func RemoveMember(account string) Change {
	return func(tx *Tx) error {
		for _, q := range []string{`DELETE FROM passes WHERE member = ?`, `DELETE FROM preferences WHERE account = ?`,
			`DELETE FROM subscriptions WHERE account = ?`,
			`DELETE FROM invites WHERE account = ?`, `DELETE FROM members WHERE id = ?`} {
			if err := tx.exec(q, account); err != nil {
				return err
			}
		}
		return nil
	}
}

// Pass is a browser session, a token, or the key of a wall that a member made.
type Pass struct {
	Hash    []byte `db:"hash"`
	ID      string `db:"id"`
	Kind    string `db:"kind"`
	Member  string `db:"member"`
	Name    string `db:"name"`
	Created int64  `db:"created_ms"`
	Expires int64  `db:"expires_ms"` // 0: never
	Wall    string `db:"wall"`       // what a wall shows, as JSON
	Scopes  string `db:"scopes"`     // of a token, in words; "": all that its member may
	Used    int64  `db:"used_ms"`    // within minutes
}

// Passes reads all sessions and tokens.
func (s *Store) Passes(ctx context.Context) ([]Pass, error) {
	var out []Pass
	if err := s.read.SelectContext(ctx, &out,
		`SELECT hash, id, kind, member, name, created_ms, expires_ms, wall, scopes, used_ms FROM passes ORDER BY created_ms, id`); err != nil {
		return nil, fmt.Errorf("store: passes: %w", err)
	}
	return out, nil
}

// SavePass keeps a session or token.
func SavePass(p Pass) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT OR REPLACE INTO passes (hash, id, kind, member, name, created_ms, expires_ms, wall, scopes, used_ms) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			p.Hash, p.ID, p.Kind, p.Member, p.Name, p.Created, p.Expires, p.Wall, p.Scopes, p.Used)
	}
}

// DeletePass ends a session or token.
func DeletePass(id string) Change {
	return func(tx *Tx) error { return tx.exec(`DELETE FROM passes WHERE id = ?`, id) }
}

// MarkUsed keeps when passes were used last and when members were seen.
func MarkUsed(passes, members map[string]int64) Change {
	return func(tx *Tx) error {
		for id, at := range passes {
			if err := tx.exec(`UPDATE passes SET used_ms = ? WHERE id = ?`, at, id); err != nil {
				return err
			}
		}
		for id, at := range members {
			if err := tx.exec(`UPDATE members SET seen_ms = ? WHERE id = ?`, at, id); err != nil {
				return err
			}
		}
		return nil
	}
}

// Invite is a one-time link by which somebody comes into the household.
type Invite struct {
	Hash    []byte      `db:"hash"`
	ID      string      `db:"id"`
	Account string      `db:"account"` // whose password it sets; "": a new person's
	Name    string      `db:"name"`
	Role    access.Role `db:"role"`
	Until   int64       `db:"until_ms"` // the guest's end; 0: none
	Created int64       `db:"created_ms"`
	Expires int64       `db:"expires_ms"`
	By      string      `db:"by_name"`
}

// Invites reads all invitations, oldest first.
func (s *Store) Invites(ctx context.Context) ([]Invite, error) {
	out := []Invite{}
	if err := s.read.SelectContext(ctx, &out,
		`SELECT hash, id, account, name, role, until_ms, created_ms, expires_ms, by_name FROM invites ORDER BY created_ms, id`); err != nil {
		return nil, fmt.Errorf("store: invites: %w", err)
	}
	return out, nil
}

// SaveInvite keeps an invitation.
func SaveInvite(x Invite) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT INTO invites (hash, id, account, name, role, until_ms, created_ms, expires_ms, by_name) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			x.Hash, x.ID, x.Account, x.Name, x.Role, x.Until, x.Created, x.Expires, x.By)
	}
}

// DropInvite takes an invitation back, or away because it was used.
func DropInvite(id string) Change {
	return func(tx *Tx) error { return tx.exec(`DELETE FROM invites WHERE id = ?`, id) }
}

// Entry is one line of the journal.
type Entry struct {
	ID        int64  `db:"id"`
	At        int64  `db:"at_ms"`
	ActorKind string `db:"actor_kind"`
	ActorID   string `db:"actor_id"`
	ActorName string `db:"actor_name"`
	Source    string `db:"source"`
	Action    string `db:"action"`
	Object    string `db:"object"`
	Before    string `db:"before"`
	After     string `db:"after"`
	Reason    string `db:"reason"`
	Kept      bool   `db:"kept"` // there is a version from before it
}

// Version is what a part of the configuration was before a change, and after it.
type Version struct {
	Entry int64  `db:"entry"` // of the journal
	Kind  string `db:"kind"`
	ID    string `db:"id"`
	Body  string `db:"body"`  // JSON
	After string `db:"after"` // JSON; "" where it was taken away
}

// AddEntry writes a line of the journal, and with it what was before, where v is not nil.
func AddEntry(at time.Time, a access.Actor, action, object, before, after, reason string, v *Version) Change {
	return func(tx *Tx) error {
		err := tx.exec(`INSERT INTO journal (at_ms, actor_kind, actor_id, actor_name, source, action, object, before, after, reason)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, at.UnixMilli(), string(a.Kind), a.ID, a.Name, a.From, action, object, before, after, reason)
		if err != nil || v == nil {
			return err
		}
		return tx.exec(`INSERT INTO versions (entry, kind, id, body, after) VALUES (last_insert_rowid(), ?, ?, ?, ?)`, v.Kind,
			v.ID, v.Body, v.After)
	}
}

// JournalFilter says which lines of the journal are wanted; what is empty does not count.
type JournalFilter struct {
	Objects  []string // ids, each with everything below it
	Actor    string   // an account, a device's id, or a name
	Words    string   // that stand anywhere in a line
	From, To time.Time
	Before   int64 // an id
	Limit    int
}

// Journal reads entries, newest first.
func (s *Store) Journal(ctx context.Context, f JournalFilter) ([]Entry, error) {
	where, args := []string{"1"}, []any{}
	and := func(q string, a ...any) { where, args = append(where, "("+q+")"), append(args, a...) }
	if len(f.Objects) > 0 {
		var any []string
		var of []interface{}
		for _, o := range f.Objects {
			any, of = append(any, `object = ? OR object LIKE ? ESCAPE '!'`), append(of, o, like(o)+".%")
		}
		and(strings.Join(any, " OR "), of...)
	}
	if f.Actor != "" {
		and(`actor_id = ? OR actor_name LIKE ? ESCAPE '!'`, f.Actor, "%"+like(f.Actor)+"%")
	}
	for _, w := range strings.Fields(f.Words) {
		and(`action || ' ' || object || ' ' || actor_name || ' ' || source || ' ' || before || ' ' || journal.after || ' ' || reason LIKE ? ESCAPE '!'`, "%"+like(w)+"%")
	}
	if !f.From.IsZero() {
		and("at_ms >= ?", f.From.UnixMilli())
	}
	if !f.To.IsZero() {
		and("at_ms < ?", f.To.UnixMilli())
	}
	if f.Before > 0 {
		and("journal.id < ?", f.Before)
	}
	out := []Entry{}
	err := s.read.SelectContext(ctx, &out, `SELECT journal.*, versions.entry IS NOT NULL AS kept FROM journal LEFT JOIN versions ON versions.entry = journal.id
		WHERE `+strings.Join(where, " AND ")+` ORDER BY journal.id DESC LIMIT ?`, append(args, f.Limit)...)
	if err != nil {
		return nil, fmt.Errorf("store: journal: %w", err)
	}
	return out, nil
}

// like makes words mean themselves in a LIKE that escapes by an exclamation mark.
func like(s string) string { return strings.NewReplacer("!", "!!", "%", "!%", "_", "!_").Replace(s) }

// Version reads what was before an entry of the journal.
func (s *Store) Version(ctx context.Context, entry int64) (v Version, ok bool, err error) {
	err = s.read.GetContext(ctx, &v, `SELECT entry, kind, id, body, after FROM versions WHERE entry = ?`, entry)
	if notFound(err) {
		return v, false, nil
	}
	return v, err == nil, err
}

// PruneJournal lets go of lines from before a time.
func PruneJournal(before time.Time) Change {
	return func(tx *Tx) error {
		if err := tx.exec(`DELETE FROM versions WHERE entry IN (SELECT id FROM journal WHERE at_ms < ?)`,
			before.UnixMilli()); err != nil {
			return err
		}
		return tx.exec(`DELETE FROM journal WHERE at_ms < ?`, before.UnixMilli())
	}
}

// Refusal is something from a device that could not be taken.
type Refusal struct {
	Device  string `db:"device"`
	N       int64  `db:"n"` // counts the device's refusals
	At      int64  `db:"at_ms"`
	Link    string `db:"link"`
	Topic   string `db:"topic"`
	Payload []byte `db:"payload"` // its beginning
	Bytes   int    `db:"bytes"`   // its whole length
	Reason  string `db:"reason"`
}

// RefusalsKept is how many refusals of a device are kept.
const RefusalsKept = 100

// AddRefusal keeps a refusal in the place of the device's oldest.
func AddRefusal(r Refusal) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT OR REPLACE INTO refusals (device, slot, n, at_ms, link, topic, payload, bytes, reason)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, r.Device, r.N%RefusalsKept, r.N, r.At, r.Link, r.Topic, r.Payload, r.Bytes, r.Reason)
	}
}

// Refusals reads the refusals of a device, newest first.
func (s *Store) Refusals(ctx context.Context, device string) ([]Refusal, error) {
	out := []Refusal{}
	err := s.read.SelectContext(ctx, &out, `SELECT device, n, at_ms, link, topic, payload, bytes, reason FROM refusals WHERE device = ? ORDER BY n DESC`, device)
	if err != nil {
		return nil, fmt.Errorf("store: refusals: %w", err)
	}
	return out, nil
}

// RefusalCounts returns how often each device was refused something.
func (s *Store) RefusalCounts(ctx context.Context) (map[string]int64, error) {
	var rows []struct {
		Device string
		N      int64
	}
	if err := s.read.SelectContext(ctx, &rows, `SELECT device, max(n) AS n FROM refusals GROUP BY device`); err != nil {
		return nil, fmt.Errorf("store: refusals: %w", err)
	}
	out := make(map[string]int64, len(rows))
	for _, r := range rows {
		out[r.Device] = r.N
	}
	return out, nil
}

// Preferences returns how a person wants the console.
func (s *Store) Preferences(ctx context.Context, account string) (p site.Preferences, err error) {
	var body string
	if err := s.read.GetContext(ctx, &body, `SELECT body FROM preferences WHERE account = ?`, account); err != nil {
		if notFound(err) {
			return p, nil
		}
		return p, fmt.Errorf("store: preferences: %w", err)
	}
	if err := json.Unmarshal([]byte(body), &p); err != nil {
		return p, fmt.Errorf("store: preferences of %s: %w", account, err)
	}
	return p, nil
}

// SavePreferences keeps how a person wants the console.
func SavePreferences(account string, p site.Preferences) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT OR REPLACE INTO preferences (account, body) VALUES (?, ?)`, account, asJSON(p))
	}
}
