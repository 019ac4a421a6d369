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
	if messaging, err := s.hubValue(ctx, "messaging"); err != nil {
		return nil, err
	} else if messaging != "" {
		if err := json.Unmarshal([]byte(messaging), &out.Messaging); err != nil {
			return nil, fmt.Errorf("store: messaging: %w", err)
		}
	}
	for key, into := range map[string]any{"backups": &out.Backups, "rights": &out.Rights} {
		if text, err := s.hubValue(ctx, key); err != nil {
			return nil, err
		} else if text != "" {
			if err := json.Unmarshal([]byte(text), into); err != nil {
				return nil, fmt.Errorf("store: %s: %w", key, err)
			}
		}
	}
	var places []struct {
		site.Place
		Text string `db:"facts"`
	}
	if err := s.read.SelectContext(ctx, &places, `SELECT id, name, facts, picture FROM places ORDER BY position, id`); err != nil {
		return nil, fmt.Errorf("store: places: %w", err)
	}
	for _, p := range places {
		if err := json.Unmarshal([]byte(p.Text), &p.Facts); err != nil {
			return nil, fmt.Errorf("store: facts of %s: %w", p.ID, err)
		}
		if len(p.Facts) == 0 {
			p.Facts = nil
		}
		out.Places = append(out.Places, p.Place)
	}
	var devices []struct {
		ID, Name, Place string
		Lease           int64 `db:"lease_ms"`
		NewSignals      bool  `db:"new_signals"`
		Created         int64 `db:"created_ms"`
		Settings        string
	}
	if err := s.read.SelectContext(ctx, &devices, `SELECT id, name, place, lease_ms, new_signals, created_ms, settings FROM devices`); err != nil {
		return nil, fmt.Errorf("store: devices: %w", err)
	}
	for _, d := range devices {
		var more deviceSettings
		if err := json.Unmarshal([]byte(d.Settings), &more); err != nil {
			return nil, fmt.Errorf("store: settings of %s: %w", d.ID, err)
		}
		out.Devices[d.ID] = site.Device{ID: d.ID, Name: d.Name, Place: d.Place, Lease: ms(d.Lease), NewSignals: d.NewSignals,
			Created: time.UnixMilli(d.Created), Link: more.Link, Wakes: more.Wakes, Limits: more.Limits, State: more.State, Model: more.Model,
			Camera: more.Camera}
	}
	var signals []struct {
		ID, Device, Raw, Name, Kind, Unit, Reports, Guests string
		Decimals                                           int
		Interval                                           int64 `db:"interval_ms"`
		New                                                bool  `db:"is_new"`
		Settings                                           string
	}
	if err := s.read.SelectContext(ctx, &signals, `SELECT * FROM signals`); err != nil {
		return nil, fmt.Errorf("store: signals: %w", err)
	}
	for _, g := range signals {
		var more signalSettings
		if err := json.Unmarshal([]byte(g.Settings), &more); err != nil {
			return nil, fmt.Errorf("store: settings of %s: %w", g.ID, err)
		}
		out.Signals[g.ID] = site.Signal{ID: g.ID, Device: g.Device, Raw: g.Raw, Name: g.Name, Kind: site.Kind(g.Kind), Unit: g.Unit,
			Decimals: g.Decimals, Reports: site.Reports(g.Reports), Interval: ms(g.Interval), New: g.New, Guests: site.Guests(g.Guests),
			Source: more.Source, Calibration: more.Calibration, Sense: more.Sense, Keep: more.Keep, AcceptMS: more.AcceptMS}
	}
	var controls []struct {
		ID, Device, Raw, Name, Guests string
		AtDevice                      string `db:"at_device"`
		Confirm                       int64  `db:"confirm_ms"`
		Resume                        int64  `db:"resume_ms"`
		Safe                          float64
		Dangerous, Answers            bool
		Settings                      string
	}
	if err := s.read.SelectContext(ctx, &controls, `SELECT * FROM controls`); err != nil {
		return nil, fmt.Errorf("store: controls: %w", err)
	}
	for _, c := range controls {
		var more controlSettings
		if err := json.Unmarshal([]byte(c.Settings), &more); err != nil {
			return nil, fmt.Errorf("store: settings of %s: %w", c.ID, err)
		}
		out.Controls[c.ID] = site.Control{ID: c.ID, Device: c.Device, Raw: c.Raw, Name: c.Name, ConfirmAfter: ms(c.Confirm),
			ResumeWithin: ms(c.Resume), Safe: site.Amount(c.Safe), Dangerous: c.Dangerous, AtDevice: site.AtDevice(c.AtDevice), Answers: c.Answers,
			Guests: site.Guests(c.Guests), Source: more.Source, Target: more.Target, Kind: more.Kind,
			Options: more.Options, Lowest: more.Lowest, Momentary: more.Momentary, Ask: more.Ask}
	}
	if err := s.parts(ctx, out); err != nil {
		return nil, err
	}
	var brokers []struct{ ID, Body string }
	if err := s.read.SelectContext(ctx, &brokers, `SELECT id, body FROM brokers`); err != nil {
		return nil, fmt.Errorf("store: brokers: %w", err)
	}
	for _, b := range brokers {
		var x site.Broker
		if err := json.Unmarshal([]byte(b.Body), &x); err != nil {
			return nil, fmt.Errorf("store: broker %s: %w", b.ID, err)
		}
		out.Brokers[b.ID] = x
	}
	panel, err := s.hubValue(ctx, "panel")
	if err == nil && panel != "" {
		err = json.Unmarshal([]byte(panel), &out.Panel)
	}
	if err != nil {
		return nil, fmt.Errorf("store: panel: %w", err)
	}
	return out, nil
}

type deviceSettings struct {
	Link   site.Link     `json:"link"`
	Wakes  time.Duration `json:"wakes,omitempty"`
	Limits site.Limits   `json:"limits"`
	State  site.State    `json:"state,omitempty"`
	Model  string        `json:"model,omitempty"`
	Camera site.Camera   `json:"camera,omitzero"`
}

type signalSettings struct {
	Source      site.Source      `json:"source"`
	Calibration site.Calibration `json:"calibration"`
	Sense       site.Sense       `json:"sense"`
	Keep        site.Keep        `json:"keep"`
	AcceptMS    int64            `json:"accept_ms,omitempty"`
}

type controlSettings struct {
	Source    site.Source      `json:"source"`
	Target    site.Target      `json:"target"`
	Kind      site.ControlKind `json:"kind,omitempty"`
	Options   []string         `json:"options,omitempty"`
	Lowest    site.Amount      `json:"lowest,omitempty"`
	Momentary *site.Pulse      `json:"momentary,omitempty"`
	Ask       bool             `json:"ask,omitempty"`
}

func asJSON(v any) string {
	b, err := json.Marshal(v)
	if err != nil {
		panic(err) // plain structs of strings and numbers, all finite
	}
	return string(b)
}

func settingsOf(d site.Device) string {
	return asJSON(deviceSettings{Link: d.Link, Wakes: d.Wakes, Limits: d.Limits, State: d.State, Model: d.Model, Camera: d.Camera})
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

// SaveMessaging keeps how messages leave the hub.
func SaveMessaging(m site.Messaging) Change { return saveHubValue("messaging", asJSON(m)) }

// SaveBackups keeps how backups are made.
func SaveBackups(b site.Backups) Change { return saveHubValue("backups", asJSON(b)) }

// SaveRights keeps who may do what.
func SaveRights(lines []site.Right) Change { return saveHubValue("rights", asJSON(lines)) }

// SaveSecret keeps a secret of the hub's own under a name.
func SaveSecret(name, secret string) Change { return saveHubValue("secret "+name, secret) }

// DropSecret forgets a secret of the hub's own.
func DropSecret(name string) Change {
	return func(tx *Tx) error { return tx.exec(`DELETE FROM hub WHERE key = ?`, "secret "+name) }
}

// Secret reads a secret of the hub's own, "" where there is none.
func (s *Store) Secret(ctx context.Context, name string) (string, error) {
	return s.hubValue(ctx, "secret "+name)
}

func saveHubValue(key, value string) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT OR REPLACE INTO hub (key, value) VALUES (?, ?)`, key, value)
	}
}

// SavePlace adds or changes a place; a new one comes last.
func SavePlace(p site.Place) Change {
	return func(tx *Tx) error {
		facts := "[]"
		if len(p.Facts) > 0 {
			facts = asJSON(p.Facts)
		}
		return tx.exec(`INSERT INTO places (id, name, facts, picture, position) VALUES (?, ?, ?, ?, (SELECT count(*) FROM places))
			ON CONFLICT (id) DO UPDATE SET name = excluded.name, facts = excluded.facts, picture = excluded.picture`, p.ID, p.Name, facts, p.Picture)
	}
}

// AddDevice adds a device with the SHA-256 of its key.
func AddDevice(d site.Device, keyHash []byte) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT INTO devices (id, name, place, key_hash, lease_ms, new_signals, created_ms, settings) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
			d.ID, d.Name, d.Place, keyHash, d.Lease.Milliseconds(), d.NewSignals, d.Created.UnixMilli(), settingsOf(d))
	}
}

// SaveDevice changes a device.
func SaveDevice(d site.Device) Change {
	return func(tx *Tx) error {
		return tx.exec(`UPDATE devices SET name = ?, place = ?, lease_ms = ?, new_signals = ?, settings = ? WHERE id = ?`,
			d.Name, d.Place, d.Lease.Milliseconds(), d.NewSignals, settingsOf(d), d.ID)
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
		return tx.exec(`INSERT OR REPLACE INTO signals (id, device, raw, name, kind, unit, decimals, reports, interval_ms, is_new, guests, settings)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, g.ID, g.Device, g.Raw, g.Name, g.Kind, g.Unit, g.Decimals, g.Reports,
			g.Interval.Milliseconds(), g.New, g.Guests, asJSON(signalSettings{g.Source, g.Calibration, g.Sense, g.Keep, g.AcceptMS}))
	}
}

// SaveControl adds or changes a control.
func SaveControl(c site.Control) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT OR REPLACE INTO controls (id, device, raw, name, confirm_ms, resume_ms, safe, dangerous, at_device, answers, guests, settings)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, c.ID, c.Device, c.Raw, c.Name, c.ConfirmAfter.Milliseconds(),
			c.ResumeWithin.Milliseconds(), float64(c.Safe), c.Dangerous, c.AtDevice, c.Answers, c.Guests,
			asJSON(controlSettings{c.Source, c.Target, c.Kind, c.Options, c.Lowest, c.Momentary, c.Ask}))
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

func into[T any](list *[]T, body string) error {
	var v T
	if err := json.Unmarshal([]byte(body), &v); err != nil {
		return err
	}
	*list = append(*list, v)
	return nil
}

// SaveBroker adds or changes a broker elsewhere, with the password that it wants.
func SaveBroker(b site.Broker, password string) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT OR REPLACE INTO brokers (id, body, password) VALUES (?, ?, ?)`, b.ID, asJSON(b), password)
	}
}

// DropBroker forgets a broker.
func DropBroker(id string) Change {
	return func(tx *Tx) error { return tx.exec(`DELETE FROM brokers WHERE id = ?`, id) }
}

// BrokerPasswords reads the passwords by broker.
func (s *Store) BrokerPasswords(ctx context.Context) (map[string]string, error) {
	var rows []struct{ ID, Password string }
	if err := s.read.SelectContext(ctx, &rows, `SELECT id, password FROM brokers`); err != nil {
		return nil, fmt.Errorf("store: brokers: %w", err)
	}
	out := map[string]string{}
	for _, r := range rows {
		out[r.ID] = r.Password
	}
	return out, nil
}

// SavePanel keeps what is offered to a panel.
func SavePanel(p site.Panel) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT OR REPLACE INTO hub (key, value) VALUES ('panel', ?)`, asJSON(p))
	}
}

// SaveModel keeps a device model under its id.
func SaveModel(m site.Model) Change {
	return func(tx *Tx) error {
		return tx.exec(`INSERT OR REPLACE INTO models (id, body) VALUES (?, ?)`, m.ID, asJSON(m))
	}
}

// DropModel forgets a device model.
func DropModel(id string) Change {
	return func(tx *Tx) error { return tx.exec(`DELETE FROM models WHERE id = ?`, id) }
}

// Models reads the kept device models, in order of their ids.
func (s *Store) Models(ctx context.Context) ([]site.Model, error) {
	var rows []string
	if err := s.read.SelectContext(ctx, &rows, `SELECT body FROM models ORDER BY id`); err != nil {
		return nil, fmt.Errorf("store: models: %w", err)
	}
	var out []site.Model
	for _, body := range rows {
		if err := into(&out, body); err != nil {
			return nil, fmt.Errorf("store: a model: %w", err)
		}
	}
	return out, nil
}

// DropDevice forgets a device with everything that describes it. Its readings go by DropSeries.
func DropDevice(id string) Change {
	return func(tx *Tx) error {
		for _, q := range []string{`DELETE FROM state WHERE id = ?1 OR substr(id, 1, length(?1) + 1) = ?1 || '.'`, `DELETE FROM signals WHERE device = ?1`,
			`DELETE FROM controls WHERE device = ?1`,
			`DELETE FROM parts WHERE kind IN ('automation', 'setting') AND substr(id, 1, length(?1) + 1) = ?1 || '.'`, `DELETE FROM refusals WHERE device = ?1`, `DELETE FROM devices WHERE id = ?1`} {
			if err := tx.exec(q, id); err != nil {
				return err
			}
		}
		return nil
	}
}

// DropControl forgets a control. Its history stays.
func DropControl(id string) Change {
	return func(tx *Tx) error {
		if err := tx.exec(`DELETE FROM state WHERE id = ?`, id); err != nil {
			return err
		}
		if err := tx.exec(`DELETE FROM parts WHERE kind = 'automation' AND id = ?`, id); err != nil {
			return err
		}
		return tx.exec(`DELETE FROM controls WHERE id = ?`, id)
	}
}

// DropSignal forgets a signal. Its readings go by DropSeries.
func DropSignal(id string) Change {
	return func(tx *Tx) error {
		if err := tx.exec(`DELETE FROM state WHERE id = ?`, id); err != nil {
			return err
		}
		return tx.exec(`DELETE FROM signals WHERE id = ?`, id)
	}
}
