package store

import (
	"context"
	"fmt"
)

// Picture is one that somebody uploaded.
type Picture struct {
	ID      string `db:"id"`
	Account string `db:"account"`
	Name    string `db:"name"`
	Type    string `db:"type"`
	Created int64  `db:"created_ms"`
	Body    []byte `db:"body"`
	Rules   int    `db:"rules"` // by which it was made safe
}

// SavePicture keeps a picture; of one that is there, what it shows is replaced.
func SavePicture(p Picture) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT INTO pictures (id, account, name, type, created_ms, body, rules) VALUES (?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (id) DO UPDATE SET body = excluded.body, rules = excluded.rules`, p.ID, p.Account, p.Name, p.Type, p.Created, p.Body, p.Rules)
	}
}

// DropPicture forgets a picture.
func DropPicture(id string) Change {
	return func(tx *Tx) error { return tx.exec(`DELETE FROM pictures WHERE id = ?`, id) }
}

// Picture returns a picture, and false where there is none of that id.
func (s *Store) Picture(ctx context.Context, id string) (p Picture, ok bool, err error) {
	if err := s.read.GetContext(ctx, &p, `SELECT id, account, name, type, created_ms, body, rules FROM pictures WHERE id = ?`, id); err != nil {
		if notFound(err) {
			return p, false, nil
		}
		return p, false, fmt.Errorf("store: picture: %w", err)
	}
	return p, true, nil
}

// PicturesBefore returns the ids of pictures that came before a time, in Unix milliseconds.
func (s *Store) PicturesBefore(ctx context.Context, ms int64) (ids []string, err error) {
	if err := s.read.SelectContext(ctx, &ids, `SELECT id FROM pictures WHERE created_ms < ?`, ms); err != nil {
		return nil, fmt.Errorf("store: pictures: %w", err)
	}
	return ids, nil
}
