package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"idleember/core/site"
)

// DropAlertHistory forgets what became of an alert that went with what it was about, and what is on its way because of
// it.
func DropAlertHistory(id string) Change {
	return func(tx *Tx) error {
		if err := tx.exec(`DELETE FROM alert_events WHERE alert = ?`, id); err != nil {
			return err
		}
		return tx.exec(`DELETE FROM deliveries WHERE alert = ?`, id)
	}
}

// AlertEvent is what became of an alert at a time.
type AlertEvent struct {
	ID       int64         `json:"id"`
	At       time.Time     `json:"at"`
	Alert    string        `json:"alert"`
	Name     string        `json:"name"`
	Place    string        `json:"place"`
	Severity site.Severity `json:"severity"`
	N        int64         `json:"n"`    // of which time it was raised
	What     string        `json:"what"` // raised, over, acknowledged and so on
	Value    string        `json:"value"`
	By       string        `json:"by" db:"by_name"`
	Word     string        `json:"word"`

	AtMS int64 `json:"-" db:"at_ms"`
}

// AddAlertEvent keeps what became of an alert.
func AddAlertEvent(e AlertEvent) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT INTO alert_events (at_ms, alert, name, place, severity, n, what, value, by_name, word) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			e.At.UnixMilli(), e.Alert, e.Name, e.Place, e.Severity, e.N, e.What, e.Value, e.By, e.Word)
	}
}

// AlertFilter chooses among what became of alerts; empty fields choose everything.
type AlertFilter struct {
	Alert    string
	Place    string
	Severity site.Severity
	What     string
	From, To time.Time
	Before   int64 // only events with a smaller number
	Limit    int
}

// AlertEvents returns what became of alerts, newest first.
func (s *Store) AlertEvents(ctx context.Context, f AlertFilter) ([]AlertEvent, error) {
	where, args := []string{"1"}, []any{}
	only := func(clause string, v any, on bool) {
		if on {
			where, args = append(where, clause), append(args, v)
		}
	}
	only("alert = ?", f.Alert, f.Alert != "")
	only("place = ?", f.Place, f.Place != "")
	only("severity = ?", f.Severity, f.Severity != "")
	only("what = ?", f.What, f.What != "")
	only("at_ms >= ?", f.From.UnixMilli(), !f.From.IsZero())
	only("at_ms < ?", f.To.UnixMilli(), !f.To.IsZero())
	only("id < ?", f.Before, f.Before > 0)
	list := []AlertEvent{}
	if err := s.read.SelectContext(ctx, &list,
		`SELECT id, at_ms, alert, name, place, severity, n, what, value, by_name, word FROM alert_events WHERE `+strings.Join(
			where, " AND ")+` ORDER BY id DESC LIMIT ?`, append(args, f.Limit)...); err != nil {
		return nil, fmt.Errorf("store: what became of alerts: %w", err)
	}
	for i := range list {
		list[i].At = time.UnixMilli(list[i].AtMS)
	}
	return list, nil
}

// How far a delivery is.
const (
	Waiting = "waiting"
	Sent    = "sent"
	Failed  = "failed" // given up
)

// Delivery is a message on its way to somebody.
type Delivery struct {
	ID     int64  `db:"id"`
	MID    string `db:"mid"` // the same however often it is tried
	Route  string `db:"route"`
	Alert  string `db:"alert"`
	At     int64  `db:"at_ms"`
	Next   int64  `db:"next_ms"` // when it is tried
	Tries  int    `db:"tries"`
	State  string `db:"state"`
	Done   int64  `db:"done_ms"`
	Answer string `db:"answer"` // what the other side said last
	Body   string `db:"body"`   // JSON
}

// AddDelivery puts a message on its way. No two have the same mid.
func AddDelivery(d Delivery) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT INTO deliveries (mid, route, alert, at_ms, next_ms, tries, state, done_ms, answer, body) VALUES (?, ?, ?, ?, ?, 0, 'waiting', 0, '', ?)`,
			d.MID, d.Route, d.Alert, d.At, max(d.At, d.Next), d.Body)
	}
}

// DeliveryTried keeps how a try went: what comes next, and what the other side said.
func DeliveryTried(d Delivery) Change {
	return func(tx *Tx) error {
		return tx.exec(`UPDATE deliveries SET next_ms = ?, tries = ?, state = ?, done_ms = ?, answer = ? WHERE id = ?`,
			d.Next, d.Tries, d.State, d.Done, d.Answer, d.ID)
	}
}

// DeliveriesDue makes what was tried and waits due now, as if it had not been tried yet.
func DeliveriesDue() Change {
	return func(tx *Tx) error {
		return tx.exec(`UPDATE deliveries SET next_ms = 0, tries = 0 WHERE state = 'waiting' AND tries > 0`)
	}
}

// DropDeliveries forgets messages that were done with before a time.
func DropDeliveries(before time.Time) Change {
	return func(tx *Tx) error {
		return tx.exec(`DELETE FROM deliveries WHERE state <> 'waiting' AND done_ms < ?`, before.UnixMilli())
	}
}

// WaitingDeliveries returns what is on its way, in the order in which it goes.
func (s *Store) WaitingDeliveries(ctx context.Context) (list []Delivery, err error) {
	if err := s.read.SelectContext(ctx, &list,
		`SELECT id, mid, route, alert, at_ms, next_ms, tries, state, done_ms, answer, body FROM deliveries WHERE state = 'waiting' ORDER BY id`); err != nil {
		return nil, fmt.Errorf("store: deliveries: %w", err)
	}
	return list, nil
}

// FailedDeliveries counts what was given up in a stretch, by route.
func (s *Store) FailedDeliveries(ctx context.Context, from, to time.Time) (map[string]int, error) {
	var rows []struct {
		Route string `db:"route"`
		N     int    `db:"n"`
	}
	if err := s.read.SelectContext(ctx, &rows,
		`SELECT route, count(*) AS n FROM deliveries WHERE state = 'failed' AND done_ms >= ? AND done_ms < ? GROUP BY route`,
		from.UnixMilli(), to.UnixMilli()); err != nil {
		return nil, fmt.Errorf("store: deliveries: %w", err)
	}
	out := map[string]int{}
	for _, r := range rows {
		out[r.Route] = r.N
	}
	return out, nil
}

// Deliveries returns the newest messages, newest first; of one alert where that is not empty.
func (s *Store) Deliveries(ctx context.Context, alert string, limit int) (list []Delivery, err error) {
	if err := s.read.SelectContext(ctx, &list,
		`SELECT id, mid, route, alert, at_ms, next_ms, tries, state, done_ms, answer, body FROM deliveries WHERE ? = '' OR alert = ? ORDER BY id DESC LIMIT ?`, alert, alert, limit); err != nil {
		return nil, fmt.Errorf("store: deliveries: %w", err)
	}
	return list, nil
}
