package store

import (
	"context"
	"fmt"
	"time"

	"idleember/core/engine"
)

func (s *Store) hubValue(ctx context.Context, key string) (string, error) {
	var v string
	err := s.read.GetContext(ctx, &v, `SELECT value FROM hub WHERE key = ?`, key)
	if notFound(err) {
		return "", nil
	}
	return v, err
}

// SaveAlive keeps the time at which the hub was last known to run.
func SaveAlive(at time.Time) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT OR REPLACE INTO hub (key, value) VALUES ('alive', ?)`, at.UTC().Format(time.RFC3339Nano))
	}
}

// State reads what the engine has to be restored with.
func (s *Store) State(ctx context.Context) (engine.Restored, error) {
	var out engine.Restored
	var rows []struct{ Kind, ID, Body string }
	if err := s.read.SelectContext(ctx, &rows, `SELECT kind, id, body FROM state ORDER BY kind, id`); err != nil {
		return out, fmt.Errorf("store: state: %w", err)
	}
	for _, r := range rows {
		if err := out.Add(r.Kind, r.ID, []byte(r.Body)); err != nil {
			return out, fmt.Errorf("store: %w", err)
		}
	}
	var err error
	out.Alive, err = s.alive(ctx)
	return out, err
}

// alive is when the hub was last known to run.
func (s *Store) alive(ctx context.Context) (at time.Time, err error) {
	text, err := s.hubValue(ctx, "alive")
	if err == nil && text != "" {
		at, err = time.Parse(time.RFC3339Nano, text)
	}
	if err != nil {
		return at, fmt.Errorf("store: alive: %w", err)
	}
	return at, nil
}

// Remember keeps a state of the engine, or forgets it where it is nil.
func Remember(k engine.Keep) Change {
	return func(tx *Tx) error {
		if k.State == nil {
			return tx.exec(`DELETE FROM state WHERE kind = ? AND id = ?`, k.Kind, k.ID)
		}
		body, err := k.Body()
		if err != nil {
			return err
		}
		return tx.exec(`INSERT OR REPLACE INTO state (kind, id, body) VALUES (?, ?, ?)`, k.Kind, k.ID, string(body))
	}
}
