package store

import (
	"context"
	"fmt"
	"time"
)

// Remark is a note, or a message to people.
type Remark struct {
	ID     int64      `json:"id"`
	At     time.Time  `json:"at"`
	Object string     `json:"object"`
	Text   string     `json:"text"`
	Grave  bool       `json:"grave"`
	By     string     `json:"by" db:"by_name"`
	Until  *time.Time `json:"until,omitempty"` // a note about a stretch

	AtMS    int64  `json:"-" db:"at_ms"`
	UntilMS *int64 `json:"-" db:"until_ms"`
}

// AddNote keeps a note. id is told its number, where it is not nil.
func AddNote(n Remark, id func(int64)) Change {
	return func(tx *Tx) error {
		var until *int64
		if n.Until != nil {
			ms := n.Until.UnixMilli()
			until = &ms
		}
		st, err := tx.prepare(`INSERT INTO notes (at_ms, until_ms, object, text, by_name) VALUES (?, ?, ?, ?, ?)`)
		if err != nil {
			return err
		}
		res, err := st.Exec(n.At.UnixMilli(), until, n.Object, n.Text, n.By)
		if err != nil || id == nil {
			return err
		}
		k, err := res.LastInsertId()
		id(k)
		return err
	}
}

// DropNote forgets a note.
func DropNote(id int64) Change {
	return func(tx *Tx) error { return tx.exec(`DELETE FROM notes WHERE id = ?`, id) }
}

// AddMessage keeps a message to people.
func AddMessage(at time.Time, object, text string, grave bool, by string) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT INTO messages (at_ms, object, text, grave, by_name) VALUES (?, ?, ?, ?, ?)`, at.UnixMilli(),
			object, text, grave, by)
	}
}

// DropNotes forgets the notes about a device, signal or control.
func DropNotes(id string) Change {
	return func(tx *Tx) error {
		return tx.exec(`DELETE FROM notes WHERE object = ?1 OR substr(object, 1, length(?1) + 1) = ?1 || '.'`, id)
	}
}

const noteColumns = `SELECT id, at_ms, until_ms, object, text, 0 AS grave, by_name FROM notes `

// Notes returns the notes that are about something in [from, to), newest first.
func (s *Store) Notes(ctx context.Context, from, to time.Time, limit int) ([]Remark, error) {
	return s.remarks(ctx, noteColumns+`WHERE at_ms < ? AND coalesce(until_ms, at_ms) >= ? ORDER BY at_ms DESC, id DESC LIMIT ?`, to.UnixMilli(), from.UnixMilli(), limit)
}

// Note returns one note, and false where there is none with this number.
func (s *Store) Note(ctx context.Context, id int64) (Remark, bool, error) {
	list, err := s.remarks(ctx, noteColumns+`WHERE id = ?`, id)
	if err != nil || len(list) == 0 {
		return Remark{}, false, err
	}
	return list[0], true, nil
}

// Messages returns the newest messages, newest first.
func (s *Store) Messages(ctx context.Context, limit int) ([]Remark, error) {
	return s.remarks(ctx, `SELECT id, at_ms, NULL AS until_ms, object, text, grave, by_name FROM messages ORDER BY id DESC LIMIT ?`, limit)
}

func (s *Store) remarks(ctx context.Context, query string, args ...any) ([]Remark, error) {
	list := []Remark{}
	if err := s.read.SelectContext(ctx, &list, query, args...); err != nil {
		return nil, fmt.Errorf("store: remarks: %w", err)
	}
	for i := range list {
		list[i].At = time.UnixMilli(list[i].AtMS)
		if ms := list[i].UntilMS; ms != nil {
			until := time.UnixMilli(*ms)
			list[i].Until = &until
		}
	}
	return list, nil
}
