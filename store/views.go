package store

import (
	"context"
	"fmt"
)

// View is a view of charts that somebody gave a name.
type View struct {
	ID            int64
	Account, Name string
	View          string // what stands in the console's address
	Shared        bool   // everybody in the household finds it
}

// SaveView keeps a view in the place of the one of that account and name. id is told its number.
func SaveView(v View, id func(int64)) Change {
	return func(tx *Tx) error {
		st, err := tx.prepare(`INSERT INTO views (account, name, view, shared) VALUES (?, ?, ?, ?)
			ON CONFLICT (account, name) DO UPDATE SET view = excluded.view, shared = excluded.shared RETURNING id`)
		if err != nil {
			return err
		}
		var n int64
		if err := st.Get(&n, v.Account, v.Name, v.View, v.Shared); err != nil {
			return err
		}
		id(n)
		return nil
	}
}

// DropView forgets a view.
func DropView(id int64) Change {
	return func(tx *Tx) error { return tx.exec(`DELETE FROM views WHERE id = ?`, id) }
}

// Views returns all views, by name.
func (s *Store) Views(ctx context.Context) ([]View, error) {
	list := []View{}
	if err := s.read.SelectContext(ctx, &list, `SELECT id, account, name, view, shared FROM views ORDER BY name, account`); err != nil {
		return nil, fmt.Errorf("store: views: %w", err)
	}
	return list, nil
}
