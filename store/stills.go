package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Still is a picture of what a device sees at a time, a JPEG.
type Still struct {
	ID     int64  `db:"id"`
	Device string `db:"device"`
	AtMS   int64  `db:"at_ms"`
	Cause  string `db:"cause"` // the alert and its time, as in kiln_door#3@1767225600000; empty where somebody asked
	Size   int    `db:"size"`
}

// AddStill keeps a still picture, and tells its number.
func AddStill(s Still, body []byte, id *int64) Change {
	return func(tx *Tx) error {
		st, err := tx.prepare(`INSERT INTO stills (device, at_ms, cause, body) VALUES (?, ?, ?, ?)`)
		if err != nil {
			return err
		}
		res, err := st.Exec(s.Device, s.AtMS, s.Cause, body)
		if err != nil {
			return err
		}
		*id, err = res.LastInsertId()
		return err
	}
}

// DropStills forgets a device's still pictures of before a time.
func DropStills(device string, before time.Time) Change {
	return func(tx *Tx) error {
		return tx.exec(`DELETE FROM stills WHERE device = ? AND at_ms < ?`, device, before.UnixMilli())
	}
}

const stillColumns = `id, device, at_ms, cause, length(body) AS size`

// Stills returns a device's newest still pictures, newest first.
func (s *Store) Stills(ctx context.Context, device string, limit int) (list []Still, err error) {
	if err := s.read.SelectContext(ctx, &list,
		`SELECT `+stillColumns+` FROM stills WHERE device = ? ORDER BY at_ms DESC, id DESC LIMIT ?`, device,
		limit); err != nil {
		return nil, fmt.Errorf("store: still pictures: %w", err)
	}
	return list, nil
}

// StillOf returns the still picture that was taken for a cause.
func (s *Store) StillOf(ctx context.Context, cause string) (x Still, ok bool, err error) {
	return s.still(ctx, &x, `SELECT `+stillColumns+` FROM stills WHERE cause = ? ORDER BY id LIMIT 1`, cause)
}

// Still returns a still picture.
func (s *Store) Still(ctx context.Context, id int64) (x Still, body []byte, ok bool, err error) {
	if x, ok, err = s.still(ctx, &x, `SELECT `+stillColumns+` FROM stills WHERE id = ?`, id); !ok {
		return x, nil, false, err
	}
	if err := s.read.GetContext(ctx, &body, `SELECT body FROM stills WHERE id = ?`, id); err != nil {
		return x, nil, false, fmt.Errorf("store: a still picture: %w", err)
	}
	return x, body, true, nil
}

func (s *Store) still(ctx context.Context, x *Still, query string, arg any) (Still, bool, error) {
	err := s.read.GetContext(ctx, x, query, arg)
	if errors.Is(err, sql.ErrNoRows) {
		return *x, false, nil
	}
	if err != nil {
		return *x, false, fmt.Errorf("store: a still picture: %w", err)
	}
	return *x, true, nil
}
