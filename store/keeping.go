package store

import (
	"context"
	"fmt"
	"math"
	"time"

	"idleember/core/series"
)

// thinAtOnce is how many blocks one transaction lets go or packs anew, so that nobody has to wait long for the disk.
const thinAtOnce = 32

// Thin lets go of the readings of a series before a time; of their hours the sums stay, those before another time go as
// well. A zero time lets nothing go. Blocks go as a whole, so that some readings stay a little longer. It says how many
// readings went. Reading and writing go on meanwhile.
func (s *Store) Thin(ctx context.Context, name string, readings, sums time.Time) (gone int64, err error) {
	id, ok, err := s.idOf(ctx, name)
	if err != nil || !ok {
		return 0, err
	}
	if err := s.Seal(ctx); err != nil { // what is recent, and old, belongs to the sums as well
		return 0, err
	}
	s.sealing.Lock()
	defer s.sealing.Unlock()
	for before := readings.UnixMilli(); !readings.IsZero(); {
		n := int64(0)
		if err := s.Do(ctx, func(tx *Tx) (err error) { n, err = tx.thin(id, before); return err }); err != nil {
			return gone, fmt.Errorf("store: thinning %s: %w", name, err)
		}
		if n == 0 {
			break
		}
		gone += n
	}
	if !sums.IsZero() {
		err = s.Do(ctx, func(tx *Tx) error {
			day := floor(min(max(sums.UnixMilli(), earliest), max(tx.recent.thin(id), earliest)), series.Day)
			return tx.exec(`DELETE FROM cells WHERE key >= ? AND key < ?`, cellKey(id, epoch), cellKey(id, day))
		})
	}
	return gone, err
}

func (w *Tx) thin(id, before int64) (gone int64, err error) {
	var list []block
	if err := w.query(&list, `SELECT key, until, count, body FROM blocks WHERE key >= ? AND key < ? AND until < ? ORDER BY key LIMIT ?`,
		blockKey(id, epoch), blockKey(id, min(max(before, earliest), latest)), before, thinAtOnce); err != nil ||
		len(list) == 0 {
		return 0, err
	}
	last := &list[len(list)-1]
	// The first hour may have been summed up before, when the readings that begin it went.
	span := series.Span{From: max(floor(list[0].from(), series.Hour), w.recent.thin(id)), To: floor(last.Until,
		series.Hour) + series.Hour}
	w.tail, w.fewest = nil, 1
	defer func() { w.fewest = 0 }()
	if span.From < span.To {
		for from := span.From; from < span.To; { // day by day, as sums are kept
			to := min(span.To, floor(from, series.Day)+series.Day)
			if err := w.refresh(id, []series.Span{{From: from, To: to}}); err != nil {
				return 0, err
			}
			from = to
		}
	}
	for i := range list {
		gone += list[i].Count
	}
	if err := w.exec(`DELETE FROM blocks WHERE key >= ? AND key <= ?`, list[0].Key, last.Key); err != nil {
		return 0, err
	}
	return gone, w.setThinned(id, max(span.To, w.recent.thin(id)))
}

func (w *Tx) setThinned(id, t int64) error {
	w.after = append(w.after, func() { w.recent.thinned[id] = t })
	return w.exec(`UPDATE series SET thinned = ? WHERE id = ?`, t, id)
}

// Repack brings short blocks of a series together, as many deletions and late readings leave, and says how many blocks
// fewer there are. Reading and writing go on meanwhile.
func (s *Store) Repack(ctx context.Context, name string) (fewer int, err error) {
	id, ok, err := s.idOf(ctx, name)
	if err != nil || !ok {
		return 0, err
	}
	s.sealing.Lock()
	defer s.sealing.Unlock()
	for from := blockKey(id, epoch); from != 0; {
		var n int
		if err := s.Do(ctx, func(tx *Tx) (err error) { n, from, err = tx.repack(id, from); return err }); err != nil {
			return fewer, fmt.Errorf("store: repacking %s: %w", name, err)
		}
		fewer += n
	}
	return fewer, nil
}

// repack looks at the blocks from a key on and says where to go on, 0 at the end.
func (w *Tx) repack(id, from int64) (fewer int, next int64, err error) {
	var list []block
	if err := w.query(&list, `SELECT key, until, count, body FROM blocks WHERE key >= ? AND key < ? ORDER BY key LIMIT ?`,
		from, blockKey(id+1, epoch), thinAtOnce); err != nil {
		return 0, 0, err
	}
	for i := 0; i < len(list); {
		j, size, count := i, 0, int64(0)
		for j < len(list) && (j == i || size+len(list[j].Body) <= blockBytes && count+list[j].Count <= series.MostReadings) {
			size, count = size+len(list[j].Body), count+list[j].Count
			j++
		}
		if j == len(list) && len(list) == thinAtOnce && i > 0 {
			return fewer, list[i].Key, nil // more may belong to it
		}
		if j-i > 1 {
			n, err := w.join(id, list[i:j])
			if err != nil {
				return fewer, 0, err
			}
			fewer += n
		}
		i = j
	}
	if len(list) < thinAtOnce {
		return fewer, 0, nil
	}
	return fewer, list[len(list)-1].Key + 1, nil
}

func (w *Tx) join(id int64, list []block) (fewer int, err error) {
	all := &series.Columns{}
	for i := range list {
		c := &series.Columns{}
		if w.codec.Decode(c, list[i].Body) != nil {
			return 0, nil // a damaged one stays as it is, see Check
		}
		all = series.Merge(all, c)
	}
	if w.body = w.codec.Encode(w.body[:0], all); len(w.body) > blockBytes {
		return 0, nil
	}
	if err := w.exec(`DELETE FROM blocks WHERE key >= ? AND key <= ?`, list[0].Key, list[len(list)-1].Key); err != nil {
		return 0, err
	}
	return len(list) - 1, w.exec(`INSERT INTO blocks (key, until, count, body) VALUES (?, ?, ?, ?)`, blockKey(id,
		all.T[0]), all.T[all.Len()-1], all.Len(), w.body)
}

// broken sets a damaged block aside, so that the rest goes on.
func (w *Tx) broken(p *block, err error) error {
	w.log.Error("a block is damaged; what it held is set aside", "series", p.Key>>timeBits, "from",
		time.UnixMilli(p.from()).UTC(), "readings", p.Count, "error", err)
	if err := w.exec(`INSERT INTO damaged (key, until, count, body, at_ms) VALUES (?, ?, ?, ?, ?)`, p.Key, p.Until,
		p.Count, p.Body, time.Now().UnixMilli()); err != nil {
		return err
	}
	w.aside = append(w.aside, series.Span{From: floor(p.from(), series.Hour), To: floor(p.Until, series.Hour) +
		series.Hour})
	return w.exec(`DELETE FROM blocks WHERE key = ?`, p.Key)
}

// broken leaves a damaged block out of what is read, and says so once.
func (s *Store) broken(p *block, err error) error {
	if _, told := s.told.LoadOrStore(p.Key, true); !told {
		s.leftOut.Add(1)
		s.log.Error("a block is damaged and left out; run idleember check", "series", p.Key>>timeBits, "from",
			time.UnixMilli(p.from()).UTC(), "readings", p.Count, "error", err)
	}
	return nil
}

// strict reads as the store does, and fails where something is damaged.
type strict struct{ *Store }

func (strict) broken(p *block, err error) error {
	return fmt.Errorf("the block from %s: %w", time.UnixMilli(p.from()).UTC().Format(time.RFC3339), err)
}

// thin is the time before which a series has sums and no readings.
func (r *recent) thin(id int64) int64 {
	r.mu.RLock()
	defer r.mu.RUnlock()
	if t, ok := r.thinned[id]; ok {
		return t
	}
	return math.MinInt64
}

// loadThinned reads what earlier runs let go.
func (s *Store) loadThinned(ctx context.Context) error {
	var rows []struct{ ID, Thinned int64 }
	if err := s.read.SelectContext(ctx, &rows, `SELECT id, thinned FROM series WHERE thinned > ?`,
		int64(math.MinInt64)); err != nil {
		return err
	}
	for _, x := range rows {
		s.recent.thinned[x.ID] = x.Thinned
	}
	return nil
}

// Thinned is the time before which a series has sums of hours and no readings any more; zero where there is no such
// time.
func (s *Store) Thinned(ctx context.Context, name string) (time.Time, error) {
	id, ok, err := s.idOf(ctx, name)
	if err != nil || !ok {
		return time.Time{}, err
	}
	if t := s.recent.thin(id); t > math.MinInt64 {
		return time.UnixMilli(t), nil
	}
	return time.Time{}, nil
}
