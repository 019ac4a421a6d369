package store

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
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
}

// Members reads all members in the order in which they came.
func (s *Store) Members(ctx context.Context) ([]Member, error) {
	var out []Member
	if err := s.read.SelectContext(ctx, &out, `SELECT * FROM members ORDER BY created_ms, id`); err != nil {
		return nil, fmt.Errorf("store: members: %w", err)
	}
	return out, nil
}

// SaveMember adds or changes a member.
func SaveMember(m Member) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT INTO members (id, name, role, password, created_ms, disabled) VALUES (?, ?, ?, ?, ?, ?)
			ON CONFLICT (id) DO UPDATE SET name = excluded.name, role = excluded.role, password = excluded.password, disabled = excluded.disabled`,
			m.ID, m.Name, m.Role, m.Password, m.Created, m.Disabled)
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
}

// Passes reads all sessions and tokens.
func (s *Store) Passes(ctx context.Context) ([]Pass, error) {
	var out []Pass
	if err := s.read.SelectContext(ctx, &out, `SELECT * FROM passes ORDER BY created_ms, id`); err != nil {
		return nil, fmt.Errorf("store: passes: %w", err)
	}
	return out, nil
}

// SavePass keeps a session or token.
func SavePass(p Pass) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT OR REPLACE INTO passes (hash, id, kind, member, name, created_ms, expires_ms, wall) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
			p.Hash, p.ID, p.Kind, p.Member, p.Name, p.Created, p.Expires, p.Wall)
	}
}

// DeletePass ends a session or token.
func DeletePass(id string) Change {
	return func(tx *Tx) error { return tx.exec(`DELETE FROM passes WHERE id = ?`, id) }
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
}

// AddEntry writes a line of the journal.
func AddEntry(at time.Time, a access.Actor, action, object, before, after, reason string) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT INTO journal (at_ms, actor_kind, actor_id, actor_name, source, action, object, before, after, reason)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, at.UnixMilli(), string(a.Kind), a.ID, a.Name, a.From, action, object, before, after, reason)
	}
}

// Journal reads up to limit entries before an id (0: the newest), newest first, about object where it is given.
func (s *Store) Journal(ctx context.Context, object string, before int64, limit int) ([]Entry, error) {
	out := []Entry{}
	err := s.read.SelectContext(ctx, &out, `SELECT * FROM journal WHERE (? = '' OR object = ? OR object LIKE ? || '.%')
		AND (? = 0 OR id < ?) ORDER BY id DESC LIMIT ?`, object, object, object, before, before, limit)
	if err != nil {
		return nil, fmt.Errorf("store: journal: %w", err)
	}
	return out, nil
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

// AddInputs records what the engine was given; body is packed by engine.Pack.
func AddInputs(at time.Time, body []byte) Change {
	return func(tx *Tx) error {
		tx.inputs = append(binary.AppendUvarint(tx.inputs, uint64(len(body))), body...)
		tx.inputsAt = at
		return nil
	}
}

// Inputs reads the recorded inputs since a time, one piece a commit, see engine.Unpack.
func (s *Store) Inputs(ctx context.Context, since time.Time) ([][]byte, error) {
	var rows [][]byte
	if err := s.read.SelectContext(ctx, &rows, `SELECT inputs FROM log WHERE at_ms >= ? AND inputs IS NOT NULL ORDER BY seq`, since.UnixMilli()); err != nil {
		return nil, err
	}
	var out [][]byte
	for _, row := range rows {
		for len(row) > 0 {
			n, k := binary.Uvarint(row)
			if k <= 0 || n > uint64(len(row)-k) {
				return nil, errLog
			}
			out, row = append(out, row[k:k+int(n)]), row[k+int(n):]
		}
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
