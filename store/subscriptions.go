package store

import (
	"context"
	"fmt"
)

// Subscription is where a person's console takes pushes (RFC 8030), with the keys that they are encrypted for (RFC
// 8291).
type Subscription struct {
	Endpoint  string `db:"endpoint"`
	Account   string `db:"account"`
	P256dh    string `db:"p256dh"`
	Auth      string `db:"auth"`
	CreatedMS int64  `db:"created_ms"`
}

// SaveSubscription keeps where a console takes pushes.
func SaveSubscription(s Subscription) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT OR REPLACE INTO subscriptions (endpoint, account, p256dh, auth, created_ms) VALUES (?, ?, ?, ?, ?)`, s.Endpoint, s.Account, s.P256dh, s.Auth, s.CreatedMS)
	}
}

// DropSubscription ends pushes to a console of a person.
func DropSubscription(account, endpoint string) Change {
	return func(tx *Tx) error {
		return tx.exec(`DELETE FROM subscriptions WHERE account = ? AND endpoint = ?`, account, endpoint)
	}
}

// Subscriptions returns where a person's consoles take pushes.
func (s *Store) Subscriptions(ctx context.Context, account string) (list []Subscription, err error) {
	if err := s.read.SelectContext(ctx, &list,
		`SELECT endpoint, account, p256dh, auth, created_ms FROM subscriptions WHERE account = ? ORDER BY created_ms`,
		account); err != nil {
		return nil, fmt.Errorf("store: subscriptions: %w", err)
	}
	return list, nil
}
