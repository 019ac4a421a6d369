package store

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"

	"idleember/core/site"
)

// Site reads the whole configuration.
func (s *Store) Site(ctx context.Context) (*site.Site, error) {
	out := (&site.Site{}).Clone()
	var rows []struct{ Kind, ID, Body string }
	if err := s.read.SelectContext(ctx, &rows, `SELECT kind, id, body FROM parts`); err != nil {
		return nil, fmt.Errorf("store: parts: %w", err)
	}
	for _, r := range rows {
		if err := out.Load(r.Kind, []byte(r.Body)); err != nil {
			return nil, fmt.Errorf("store: %s: %w", strings.TrimSpace(r.Kind+" "+r.ID), err)
		}
	}
	return out, nil
}

// Keep writes changes of the configuration down. With a part goes all that is kept of it elsewhere, but for its series
// and the journal.
func Keep(changes ...site.Change) Change {
	return func(tx *Tx) error {
		for _, c := range changes {
			var err error
			if key := c.Key(); c.Put != nil {
				err = tx.exec(`INSERT OR REPLACE INTO parts (kind, id, body) VALUES (?, ?, ?)`, key.Kind, key.ID, asJSON(c.Put))
			} else {
				err = tx.dropPart(key)
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
}

// about is a condition for what is kept under the id ?1 of a thing, or under one that begins with it.
const about = `(%[1]s = ?1 OR substr(%[1]s, 1, length(?1)) = ?1 AND substr(%[1]s, length(?1) + 1, 1) NOT GLOB '[a-z0-9_]')`

func (tx *Tx) dropPart(key site.Key) error {
	if err := tx.exec(`DELETE FROM parts WHERE kind = ? AND id = ?`, key.Kind, key.ID); err != nil {
		return err
	}
	if err := tx.exec(`DELETE FROM secrets WHERE kind = ? AND id = ?`, key.Kind, key.ID); err != nil {
		return err
	}
	if !key.IsThing() {
		return tx.exec(`DELETE FROM state WHERE kind = ? AND id = ?`, key.Kind, key.ID)
	}
	for table, column := range map[string]string{"state": "id", "notes": "object", "messages": "object",
		"refusals": "device", "stills": "device"} {
		if err := tx.exec(`DELETE FROM `+table+` WHERE `+fmt.Sprintf(about, column), key.ID); err != nil {
			return err
		}
	}
	return nil
}

func asJSON(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain structs of strings and numbers, all finite
	}
	return string(b)
}

// SaveSecret keeps what must not be shown with the part that it belongs to; an empty one forgets it.
func SaveSecret(of site.Key, name, secret string) Change {
	return func(tx *Tx) error {
		if secret == "" {
			return tx.exec(`DELETE FROM secrets WHERE kind = ? AND id = ? AND name = ?`, of.Kind, of.ID, name)
		}
		return tx.exec(`INSERT OR REPLACE INTO secrets (kind, id, name, value) VALUES (?, ?, ?, ?)`, of.Kind, of.ID, name,
			secret)
	}
}

// Secret reads a secret, "" where there is none.
func (s *Store) Secret(ctx context.Context, of site.Key, name string) (string, error) {
	var v string
	err := s.read.GetContext(ctx, &v, `SELECT value FROM secrets WHERE kind = ? AND id = ? AND name = ?`, of.Kind, of.ID,
		name)
	if notFound(err) {
		return "", nil
	}
	return v, err
}

// SaveKey replaces a device's key by the SHA-256 of a new one.
func SaveKey(device string, sum []byte) Change {
	return SaveSecret(site.Key{Kind: "device", ID: device}, site.DeviceKey, hex.EncodeToString(sum))
}

// Keys returns the SHA-256 of each device's key.
func (s *Store) Keys(ctx context.Context) (map[string][]byte, error) {
	var rows []struct{ ID, Value string }
	if err := s.read.SelectContext(ctx, &rows, `SELECT id, value FROM secrets WHERE kind = 'device' AND name = ?`,
		site.DeviceKey); err != nil {
		return nil, fmt.Errorf("store: device keys: %w", err)
	}
	keys := make(map[string][]byte, len(rows))
	for _, r := range rows {
		sum, err := hex.DecodeString(r.Value)
		if err != nil {
			return nil, fmt.Errorf("store: the key of %s: %w", r.ID, err)
		}
		keys[r.ID] = sum
	}
	return keys, nil
}

// Secrets reads all secrets but the keys of devices, by part and name.
func (s *Store) Secrets(ctx context.Context) (map[site.Key]map[string]string, error) {
	var rows []struct{ Kind, ID, Name, Value string }
	if err := s.read.SelectContext(ctx, &rows, `SELECT kind, id, name, value FROM secrets WHERE name <> ?`,
		site.DeviceKey); err != nil {
		return nil, fmt.Errorf("store: secrets: %w", err)
	}
	out := map[site.Key]map[string]string{}
	for _, r := range rows {
		key := site.Key{Kind: r.Kind, ID: r.ID}
		if out[key] == nil {
			out[key] = map[string]string{}
		}
		out[key][r.Name] = r.Value
	}
	return out, nil
}
