package store

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"idleember/core/reading"
	"idleember/core/series"
	"idleember/core/site"
)

// Keys of blocks hold the series above the time of the first reading since 1900, those of cells above the day.
const (
	timeBits = 43
	dayBits  = 20
	epoch    = -2_208_988_800_000 // 1900-01-01 in Unix milliseconds
)

// earliest and latest bound the times that can be kept, in Unix milliseconds.
const (
	earliest = epoch + series.Day
	latest   = epoch + 1<<timeBits - 2*series.Day
)

func blockKey(id, t int64) int64 { return id<<timeBits | (t - epoch) }
func timeOf(key int64) int64     { return key&(1<<timeBits-1) + epoch }
func cellKey(id, day int64) int64 {
	return id<<dayBits | (day-epoch)/series.Day
}
func dayOf(key int64) int64 { return (key&(1<<dayBits-1))*series.Day + epoch }

// blockBytes is how long a block may become: with what SQLite needs it fills one page.
const blockBytes = pageSize - 70

// block is a block with what is kept beside it.
type block struct {
	Key, Until, Count int64
	Body              []byte
}

func (p *block) from() int64 { return timeOf(p.Key) }

// columnsOf turns readings into columns, all of one kind.
func columnsOf(list []Reading) *series.Columns {
	c := &series.Columns{T: make([]int64, len(list))}
	c.Kind = list[0].Value.Kind
	for i := range list {
		if k := list[i].Value.Kind; k != c.Kind {
			if c.Kind = site.Number; k == site.Text || list[0].Value.Kind == site.Text {
				c.Kind = site.Text
				break
			}
		}
	}
	if c.Kind == site.Text {
		c.Text = make([]string, len(list))
	} else {
		c.V = make([]float64, len(list))
	}
	for i := range list {
		r := &list[i]
		c.T[i] = r.T
		if c.Kind == site.Text {
			c.Text[i] = r.Value.String()
		} else {
			c.V[i] = r.Value.Num
		}
		if r.Quality != reading.Good {
			if c.Q == nil {
				c.Q = make([]byte, len(list))
			}
			c.Q[i] = byte(r.Quality)
		}
		if r.Raw != nil {
			if c.Raw == nil {
				c.Raw = make([]float64, len(list))
				for j := range c.Raw {
					c.Raw[j] = math.NaN()
				}
			}
			c.Raw[i] = *r.Raw
		}
	}
	return c
}

// readingAt is one reading of some columns.
func readingAt(c *series.Columns, i int) Reading {
	r := Reading{T: c.T[i]}
	if c.Kind == site.Text {
		r.Value = reading.Text(c.Text[i])
	} else {
		r.Value = reading.Value{Kind: c.Kind, Num: c.V[i]}
	}
	if c.Q != nil {
		r.Quality = reading.Quality(c.Q[i])
	}
	if c.Raw != nil && c.Raw[i] == c.Raw[i] {
		raw := c.Raw[i]
		r.Raw = &raw
	}
	return r
}

func slice(c *series.Columns, i, j int) *series.Columns {
	out := &series.Columns{Kind: c.Kind, T: c.T[i:j]}
	if c.V != nil && c.Kind != site.Text {
		out.V = c.V[i:j]
	}
	if c.Text != nil {
		out.Text = c.Text[i:j]
	}
	if c.Q != nil && slices.ContainsFunc(c.Q[i:j], func(q byte) bool { return q != 0 }) {
		out.Q = c.Q[i:j]
	}
	if c.Raw != nil && slices.ContainsFunc(c.Raw[i:j], func(v float64) bool { return v == v }) {
		out.Raw = c.Raw[i:j]
	}
	return out
}

// write keeps columns as blocks. All but the last of a series are filled.
func (w *Tx) writeBlocks(id int64, c *series.Columns, fill bool) error {
	n := c.Len()
	for i := 0; i < n; {
		j := min(n, i+series.MostReadings)
		body := w.codec.Encode(nil, slice(c, i, j))
		for len(body) > blockBytes && j > i+1 {
			size := max(1, min(j-i-1, int(float64(j-i)*blockBytes/float64(len(body))*0.98)))
			if !fill && j == n { // in equal parts, so that no tiny one is left in the midst of a series
				parts := (j - i + size - 1) / size
				size = max(1, (j-i+parts-1)/parts)
			}
			j = i + size
			body = w.codec.Encode(nil, slice(c, i, j))
		}
		if err := w.exec(`INSERT OR REPLACE INTO blocks (key, until, count, body) VALUES (?, ?, ?, ?)`, blockKey(id, c.T[i]), c.T[j-1], j-i, body); err != nil {
			return err
		}
		i = j
	}
	return nil
}

// merge brings what is recent of a series into its blocks and cells.
func (w *Tx) merge(id int64, l layer) error {
	for _, d := range l.drops {
		if err := w.dropStretch(id, d); err != nil {
			return err
		}
	}
	for list := l.list; len(list) > 0; {
		n, err := w.mergeInto(id, list)
		if err != nil {
			return err
		}
		list = list[n:]
	}
	return w.refresh(id, touched(l))
}

// mergeInto merges the first of some readings, as many as belong to one block, and says how many that were.
func (w *Tx) mergeInto(id int64, list []Reading) (n int, err error) {
	at, next, err := w.around(id, list[0].T)
	if err != nil {
		return 0, err
	}
	n = len(list)
	if next != nil {
		n, _ = (&layer{list: list}).find(next.from())
	}
	if at == nil {
		return n, w.writeBlocks(id, columnsOf(list[:n]), next == nil)
	}
	if list[0].T > at.Until && len(at.Body) > blockBytes*9/10 { // it is full
		return n, w.writeBlocks(id, columnsOf(list[:n]), next == nil)
	}
	old, err := w.decode(at)
	if err != nil {
		return 0, err
	}
	both := make([]Reading, 0, old.Len()+n)
	j := 0
	for i := range old.T {
		for ; j < n && list[j].T < old.T[i]; j++ {
			both = append(both, list[j])
		}
		if j < n && list[j].T == old.T[i] {
			continue // the newer takes its place
		}
		both = append(both, readingAt(old, i))
	}
	both = append(both, list[j:n]...)
	if err := w.exec(`DELETE FROM blocks WHERE key = ?`, at.Key); err != nil {
		return 0, err
	}
	return n, w.writeBlocks(id, columnsOf(both), next == nil)
}

// around returns the block that a time belongs to and the one after it. What is before all blocks belongs to the first.
func (w *Tx) around(id, t int64) (at, next *block, err error) {
	var list []block
	const first = `SELECT key, until, count, body FROM blocks WHERE key >= ? AND key <= ? ORDER BY key DESC LIMIT 1`
	if err := w.query(&list, first, blockKey(id, epoch), blockKey(id, t)); err != nil {
		return nil, nil, err
	}
	if len(list) > 0 {
		at = &list[0]
	}
	const after = `SELECT key, until, count, body FROM blocks WHERE key > ? AND key < ? ORDER BY key LIMIT 2`
	var more []block
	if err := w.query(&more, after, blockKey(id, t), blockKey(id+1, epoch)); err != nil {
		return nil, nil, err
	}
	if at == nil && len(more) > 0 {
		at, more = &more[0], more[1:]
	}
	if len(more) > 0 {
		next = &more[0]
	}
	return at, next, nil
}

// query is a select inside the transaction.
func (w *Tx) query(into any, query string, args ...any) error {
	st, err := w.prepare(query)
	if err != nil {
		return err
	}
	return st.Select(into, args...)
}

func (w *Tx) decode(p *block) (*series.Columns, error) {
	c := &series.Columns{}
	if err := w.codec.Decode(c, p.Body); err != nil {
		return nil, fmt.Errorf("block %d of series %d, from %s: %w", p.Key, p.Key>>timeBits, time.UnixMilli(p.from()).UTC().Format(time.RFC3339), err)
	}
	return c, nil
}

func (w *Tx) dropStretch(id int64, d series.Span) error {
	d.From, d.To = max(d.From, earliest), min(d.To, latest)
	if d.From >= d.To {
		return nil
	}
	if err := w.exec(`DELETE FROM blocks WHERE key >= ? AND key < ? AND until < ?`, blockKey(id, d.From), blockKey(id, d.To), d.To); err != nil {
		return err
	}
	for _, t := range []int64{d.From, d.To - 1} { // those that reach over an end
		at, _, err := w.around(id, t)
		if err != nil {
			return err
		}
		if at == nil || at.from() >= d.To || at.Until < d.From {
			continue
		}
		c, err := w.decode(at)
		if err != nil {
			return err
		}
		if err := w.exec(`DELETE FROM blocks WHERE key = ?`, at.Key); err != nil {
			return err
		}
		from, _ := slices.BinarySearch(c.T, d.From)
		to, _ := slices.BinarySearch(c.T, d.To)
		for _, left := range []*series.Columns{slice(c, 0, from), slice(c, to, c.Len())} {
			if left.Len() > 0 {
				if err := w.writeBlocks(id, left, false); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// touched are the whole days in which a layer changes something.
func touched(l layer) (days []series.Span) {
	for _, d := range l.drops {
		days = append(days, series.Span{From: floorDay(max(d.From, earliest)), To: floorDay(min(d.To, latest) + series.Day - 1)})
	}
	for i := 0; i < len(l.list); {
		day := floorDay(l.list[i].T)
		i, _ = l.find(day + series.Day)
		days = append(days, series.Span{From: day, To: day + series.Day})
	}
	slices.SortFunc(days, func(a, b series.Span) int { return int(min(1, max(-1, a.From-b.From))) })
	var out []series.Span
	for _, d := range days {
		if n := len(out); n > 0 && d.From <= out[n-1].To {
			out[n-1].To = max(out[n-1].To, d.To)
		} else if d.To > d.From {
			out = append(out, d)
		}
	}
	return out
}

func floorDay(t int64) int64 {
	m := t % series.Day
	if m < 0 {
		m += series.Day
	}
	return t - m
}

// refresh sums the hours of some days up anew.
func (w *Tx) refresh(id int64, days []series.Span) error {
	for _, d := range days {
		if err := w.exec(`DELETE FROM cells WHERE key >= ? AND key < ?`, cellKey(id, d.From), cellKey(id, d.To)); err != nil {
			return err
		}
		var list []Reading
		var cells []series.Cell
		flush := func() {
			if len(list) > 0 {
				cells = append(cells, series.Cells(columnsOf(list))...)
			}
			list = list[:0]
		}
		day := d.From
		save := func() error {
			flush()
			if len(cells) == 0 {
				return nil
			}
			body := w.codec.EncodeCells(nil, day, cells)
			cells = cells[:0]
			return w.exec(`INSERT OR REPLACE INTO cells (key, body) VALUES (?, ?)`, cellKey(id, day), body)
		}
		for r, err := range scanBlocks(context.Background(), w.conn, id, d.From, d.To, layer{}) {
			if err != nil {
				return err
			}
			if r.T >= day+series.Day {
				if err := save(); err != nil {
					return err
				}
				day = floorDay(r.T)
			}
			list = append(list, r)
		}
		if err := save(); err != nil {
			return err
		}
	}
	return nil
}

// Sealing goes on in the background. Readings become blocks when there are many of them, or after a while.
const (
	sealReadings = 150_000
	sealBytes    = 4 << 20
	sealEvery    = time.Hour
	sealAtOnce   = 20_000 // readings in one transaction, so that nobody has to wait long for the disk
)

func (s *Store) sealer() {
	defer close(s.sealerEnd)
	every := time.NewTicker(sealEvery)
	defer every.Stop()
	for {
		select {
		case <-s.quit:
			return
		case <-every.C:
		case <-s.full:
		}
		if err := s.Seal(context.Background()); err != nil {
			s.log.Warn("readings could not be sealed; they stay in the log", "error", err)
		}
	}
}

// Seal brings all recent readings into blocks. Reading and writing go on meanwhile.
func (s *Store) Seal(ctx context.Context) error {
	s.sealing.Lock()
	defer s.sealing.Unlock()
	var upTo int64
	var ids []int64
	if err := s.Do(ctx, func(tx *Tx) error { upTo, ids = tx.beginSealing(); return nil }); err != nil {
		return err
	}
	for len(ids) > 0 {
		some, n := ids[:0:0], 0
		for len(ids) > 0 && n < sealAtOnce {
			s.recent.mu.RLock()
			n += len(s.recent.runs[ids[0]].sealing.list)
			s.recent.mu.RUnlock()
			some, ids = append(some, ids[0]), ids[1:]
		}
		err := s.Do(ctx, func(tx *Tx) error {
			for _, id := range some {
				if err := tx.merge(id, tx.recent.runs[id].sealing); err != nil {
					return err
				}
			}
			tx.after = append(tx.after, func() {
				for _, id := range some {
					x := tx.recent.runs[id]
					tx.recent.n -= len(x.sealing.list)
					x.sealing = layer{}
				}
			})
			return nil
		})
		if err != nil {
			return err
		}
	}
	return s.Do(ctx, func(tx *Tx) error {
		if err := tx.exec(`UPDATE sealed SET seq = ?`, upTo); err != nil {
			return err
		}
		return tx.exec(`DELETE FROM log WHERE seq <= ? AND inputs IS NULL`, upTo)
	})
}

// beginSealing sets what is recent aside. Where an earlier sealing failed, its rest is taken along.
func (w *Tx) beginSealing() (upTo int64, ids []int64) {
	w.recent.mu.Lock()
	defer w.recent.mu.Unlock()
	for id, x := range w.recent.runs {
		if x.sealing.empty() {
			x.sealing, x.fresh = x.fresh, layer{}
		} else {
			x.sealing.list = slices.DeleteFunc(x.sealing.list, func(r Reading) bool { return dropped(x.fresh.drops, r.T) })
			x.sealing.drops = append(x.sealing.drops, x.fresh.drops...)
			for _, r := range x.fresh.list {
				x.sealing.put(r)
			}
			x.fresh = layer{}
		}
		if !x.sealing.empty() {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	w.logged = 0
	return w.seq, ids
}

// scanBlocks yields the readings of a series in [from, to) in time order: those of its blocks, changed by a layer.
func scanBlocks(ctx context.Context, q sqlx.QueryerContext, id, from, to int64, top layer) func(func(Reading, error) bool) {
	return func(yield func(Reading, error) bool) {
		list, last := top.list, int64(math.MinInt64)
		err := eachBlock(ctx, q, id, from, to, func(c *series.Columns) bool {
			i, _ := slices.BinarySearch(c.T, from)
			for ; i < c.Len() && c.T[i] < to; i++ {
				t := c.T[i]
				if t <= last { // a block that was written anew while the next ones were fetched
					continue
				}
				last = t
				for len(list) > 0 && list[0].T < t {
					if !yield(list[0], nil) {
						return false
					}
					list = list[1:]
				}
				if len(list) > 0 && list[0].T == t || len(top.drops) > 0 && dropped(top.drops, t) {
					continue
				}
				if !yield(readingAt(c, i), nil) {
					return false
				}
			}
			return true
		})
		if err != nil {
			if err != errEnough {
				yield(Reading{}, err)
			}
			return
		}
		for _, r := range list {
			if !yield(r, nil) {
				return
			}
		}
	}
}

var errEnough = fmt.Errorf("enough")

// blocksAtOnce is how many blocks one query reads: a long read would stop the write-ahead log from being reset.
const blocksAtOnce = 64

// eachBlock decodes the blocks of a series that hold something of [from, to), in time order. It returns errEnough where each
// has enough.
func eachBlock(ctx context.Context, q sqlx.QueryerContext, id, from, to int64, each func(*series.Columns) bool) error {
	from, to = max(from, earliest), min(to, latest)
	if from >= to {
		return nil
	}
	var codec series.Codec
	var cols series.Columns
	var start []int64
	if err := sqlx.SelectContext(ctx, q, &start, `SELECT key FROM blocks WHERE key >= ? AND key <= ? ORDER BY key DESC LIMIT 1`, blockKey(id, epoch), blockKey(id, from)); err != nil {
		return err
	}
	key := blockKey(id, from)
	if len(start) > 0 {
		key = start[0]
	}
	for {
		var page []block
		if err := sqlx.SelectContext(ctx, q, &page, `SELECT key, until, count, body FROM blocks WHERE key >= ? AND key < ? ORDER BY key LIMIT ?`,
			key, blockKey(id, to), blocksAtOnce); err != nil {
			return err
		}
		for i := range page {
			p := &page[i]
			if p.Until < from {
				continue
			}
			if err := codec.Decode(&cols, p.Body); err != nil {
				return fmt.Errorf("the block from %s: %w", time.UnixMilli(p.from()).UTC().Format(time.RFC3339), err)
			}
			if !each(&cols) {
				return errEnough
			}
		}
		if len(page) < blocksAtOnce {
			return nil
		}
		key = page[len(page)-1].Key + 1
	}
}
