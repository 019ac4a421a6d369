package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"idleember/core/engine"
	"idleember/core/site"
)

// Site reads the whole configuration.
func (s *Store) Site(ctx context.Context) (*site.Site, error) {
	out := (&site.Site{}).Clone()
	hub, err := s.hubValue(ctx, "site")
	if err != nil {
		return nil, err
	}
	if hub != "" {
		if err := json.Unmarshal([]byte(hub), &out.Hub); err != nil {
			return nil, fmt.Errorf("store: hub record: %w", err)
		}
	}
	if err := s.read.SelectContext(ctx, &out.Places, `SELECT id, name FROM places ORDER BY position, id`); err != nil {
		return nil, fmt.Errorf("store: places: %w", err)
	}
	var devices []struct {
		ID, Name, Place string
		Lease           int64 `db:"lease_ms"`
		NewSignals      bool  `db:"new_signals"`
		Created         int64 `db:"created_ms"`
	}
	if err := s.read.SelectContext(ctx, &devices, `SELECT id, name, place, lease_ms, new_signals, created_ms FROM devices`); err != nil {
		return nil, fmt.Errorf("store: devices: %w", err)
	}
	for _, d := range devices {
		out.Devices[d.ID] = site.Device{ID: d.ID, Name: d.Name, Place: d.Place, Lease: ms(d.Lease), NewSignals: d.NewSignals,
			Created: time.UnixMilli(d.Created)}
	}
	var signals []struct {
		ID, Device, Raw, Name, Kind, Unit, Reports, Guests string
		Decimals                                           int
		Interval                                           int64 `db:"interval_ms"`
		New                                                bool  `db:"is_new"`
	}
	if err := s.read.SelectContext(ctx, &signals, `SELECT * FROM signals`); err != nil {
		return nil, fmt.Errorf("store: signals: %w", err)
	}
	for _, g := range signals {
		out.Signals[g.ID] = site.Signal{ID: g.ID, Device: g.Device, Raw: g.Raw, Name: g.Name, Kind: site.Kind(g.Kind), Unit: g.Unit,
			Decimals: g.Decimals, Reports: site.Reports(g.Reports), Interval: ms(g.Interval), New: g.New, Guests: site.Guests(g.Guests)}
	}
	var controls []struct {
		ID, Device, Raw, Name, Guests string
		AtDevice                      string `db:"at_device"`
		Confirm                       int64  `db:"confirm_ms"`
		Resume                        int64  `db:"resume_ms"`
		Safe, Dangerous, Answers      bool
	}
	if err := s.read.SelectContext(ctx, &controls, `SELECT * FROM controls`); err != nil {
		return nil, fmt.Errorf("store: controls: %w", err)
	}
	for _, c := range controls {
		out.Controls[c.ID] = site.Control{ID: c.ID, Device: c.Device, Raw: c.Raw, Name: c.Name, ConfirmAfter: ms(c.Confirm),
			ResumeWithin: ms(c.Resume), Safe: c.Safe, Dangerous: c.Dangerous, AtDevice: site.AtDevice(c.AtDevice), Answers: c.Answers,
			Guests: site.Guests(c.Guests)}
	}
	return out, nil
}

func ms(n int64) time.Duration { return time.Duration(n) * time.Millisecond }

func (s *Store) hubValue(ctx context.Context, key string) (string, error) {
	var v string
	err := s.read.GetContext(ctx, &v, `SELECT value FROM hub WHERE key = ?`, key)
	if notFound(err) {
		return "", nil
	}
	return v, err
}

// SaveHub keeps what the owner told about the hub.
func SaveHub(h site.Hub) Change {
	return func(tx *Tx) error {
		b, err := json.Marshal(h)
		if err != nil {
			return err
		}
		return tx.exec(`INSERT OR REPLACE INTO hub (key, value) VALUES ('site', ?)`, string(b))
	}
}

// SavePlace adds or changes a place; a new one comes last.
func SavePlace(p site.Place) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT INTO places (id, name, position) VALUES (?, ?, (SELECT count(*) FROM places))
			ON CONFLICT (id) DO UPDATE SET name = excluded.name`, p.ID, p.Name)
	}
}

// AddDevice adds a device with the SHA-256 of its key.
func AddDevice(d site.Device, keyHash []byte) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT INTO devices (id, name, place, key_hash, lease_ms, new_signals, created_ms) VALUES (?, ?, ?, ?, ?, ?, ?)`,
			d.ID, d.Name, d.Place, keyHash, d.Lease.Milliseconds(), d.NewSignals, d.Created.UnixMilli())
	}
}

// SaveDevice changes a device.
func SaveDevice(d site.Device) Change {
	return func(tx *Tx) error {
		return tx.exec(`UPDATE devices SET name = ?, place = ?, lease_ms = ?, new_signals = ? WHERE id = ?`,
			d.Name, d.Place, d.Lease.Milliseconds(), d.NewSignals, d.ID)
	}
}

// SaveKey replaces a device's key by the SHA-256 of a new one.
func SaveKey(device string, keyHash []byte) Change {
	return func(tx *Tx) error {
		return tx.exec(`UPDATE devices SET key_hash = ? WHERE id = ?`, keyHash, device)
	}
}

// Keys returns the SHA-256 of each device's key.
func (s *Store) Keys(ctx context.Context) (map[string][]byte, error) {
	var rows []struct {
		ID  string
		Key []byte `db:"key_hash"`
	}
	if err := s.read.SelectContext(ctx, &rows, `SELECT id, key_hash FROM devices`); err != nil {
		return nil, fmt.Errorf("store: device keys: %w", err)
	}
	keys := make(map[string][]byte, len(rows))
	for _, r := range rows {
		keys[r.ID] = r.Key
	}
	return keys, nil
}

// SaveSignal adds or changes a signal.
func SaveSignal(g site.Signal) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT OR REPLACE INTO signals (id, device, raw, name, kind, unit, decimals, reports, interval_ms, is_new, guests)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, g.ID, g.Device, g.Raw, g.Name, g.Kind, g.Unit, g.Decimals, g.Reports,
			g.Interval.Milliseconds(), g.New, g.Guests)
	}
}

// SaveControl adds or changes a control.
func SaveControl(c site.Control) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT OR REPLACE INTO controls (id, device, raw, name, confirm_ms, resume_ms, safe, dangerous, at_device, answers, guests)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, c.ID, c.Device, c.Raw, c.Name, c.ConfirmAfter.Milliseconds(),
			c.ResumeWithin.Milliseconds(), c.Safe, c.Dangerous, c.AtDevice, c.Answers, c.Guests)
	}
}

// SaveState keeps the engine's state of a signal, control or device.
func SaveState[T engine.SignalState | engine.ControlState | engine.DeviceState](id string, state T) Change {
	return func(tx *Tx) error {
		b, err := json.Marshal(state)
		if err != nil {
			return err
		}
		return tx.exec(`INSERT OR REPLACE INTO state (kind, id, body) VALUES (?, ?, ?)`, stateKind(state), id, string(b))
	}
}

func stateKind(state any) string {
	switch state.(type) {
	case engine.SignalState:
		return "signal"
	case engine.ControlState:
		return "control"
	default:
		return "device"
	}
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
		var err error
		switch r.Kind {
		case "signal":
			err = into(&out.Signals, r.Body)
		case "control":
			err = into(&out.Controls, r.Body)
		case "device":
			err = into(&out.Devices, r.Body)
		}
		if err != nil {
			return out, fmt.Errorf("store: state of %s: %w", r.ID, err)
		}
	}
	alive, err := s.hubValue(ctx, "alive")
	if err != nil {
		return out, fmt.Errorf("store: alive: %w", err)
	}
	if alive != "" {
		if out.Alive, err = time.Parse(time.RFC3339Nano, alive); err != nil {
			return out, fmt.Errorf("store: alive: %w", err)
		}
	}
	return out, nil
}

func into[T any](list *[]T, body string) error {
	var v T
	if err := json.Unmarshal([]byte(body), &v); err != nil {
		return err
	}
	*list = append(*list, v)
	return nil
}
