package store

import (
	"context"
	"errors"
	"math"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"idleember/core/series"
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
	// Earliest is the first time that can be kept.
	Earliest = earliest
	latest   = epoch + 1<<timeBits - 2*series.Day
)

func blockKey(id, t int64) int64 { return id<<timeBits | (t - epoch) }
func timeOf(key int64) int64     { return key&(1<<timeBits-1) + epoch }
func cellKey(id, day int64) int64 {
	return id<<dayBits | (day-epoch)/series.Day
}
func dayOf(key int64) int64 { return (key&(1<<dayBits-1))*series.Day + epoch }

// blockBytes is how long a block may become: long enough to be packed well, short enough to be written anew every hour.
const blockBytes = 4000

// block is a block with what is kept beside it.
type block struct {
	Key, Until, Count int64
	Body              []byte
}

func (p *block) from() int64 { return timeOf(p.Key) }

// readingAt is one reading of some columns.
func readingAt(c *series.Columns, i int) Reading {
	r := Reading{T: c.T[i], Value: c.Value(i), Quality: c.Quality(i)}
	if c.Raw != nil && c.Raw[i] == c.Raw[i] {
		raw := c.Raw[i]
		r.Raw = &raw
	}
	return r
}

// writeBlocks keeps columns as blocks. With fill all but the last are as long as they may be, else they are equally
// long, so that no tiny one is left in the midst of a series.
func (w *Tx) writeBlocks(id int64, c *series.Columns, fill bool) error {
	n, guess := c.Len(), 4096
	for i := 0; i < n; {
		j := i + min(n-i, guess, series.MostReadings)
		w.body = w.codec.Encode(w.body[:0], c.Slice(i, j))
		for len(w.body) < blockBytes*17/20 && j < n && j-i < series.MostReadings { // there is room for more
			j = i + min(n-i, series.MostReadings, 2*(j-i), 1+int(float64(j-i)*blockBytes/float64(len(w.body))*0.97))
			w.body = w.codec.Encode(w.body[:0], c.Slice(i, j))
		}
		for len(w.body) > blockBytes && j > i+1 {
			size := max(1, min(j-i-1, int(float64(j-i)*blockBytes/float64(len(w.body))*0.98)))
			if parts := (n - i + size - 1) / size; !fill {
				size = (n - i + parts - 1) / parts
			}
			j = min(j-1, i+size)
			w.body = w.codec.Encode(w.body[:0], c.Slice(i, j))
		}
		if err := w.exec(`INSERT OR REPLACE INTO blocks (key, until, count, body) VALUES (?, ?, ?, ?)`, blockKey(id, c.T[i]),
			c.T[j-1], j-i, w.body); err != nil {
			return err
		}
		i, guess = j, j-i
	}
	return nil
}

// merge brings what is recent of a series into its blocks and cells.
func (w *Tx) merge(id int64, l *layer) error {
	w.aside = nil
	for _, d := range l.drops {
		if err := w.dropStretch(id, d); err != nil {
			return err
		}
	}
	w.tail = nil
	thin := w.recent.thin(id) // what is older has sums alone
	first, _ := l.cols.Find(thin)
	for i := first; i < l.cols.Len(); {
		n, err := w.mergeInto(id, &l.cols, i)
		if err != nil {
			return err
		}
		i += n
	}
	hours := w.aside
	w.aside = nil
	for _, h := range touched(l) {
		if h.From = max(h.From, thin); h.From < h.To {
			hours = append(hours, h)
		}
	}
	for len(hours) > 0 {
		if err := w.refresh(id, hours); err != nil {
			return err
		}
		hours, w.aside = w.aside, nil
	}
	return nil
}

// mergeInto merges readings from the i-th on, as many as belong to one block, and says how many that were.
func (w *Tx) mergeInto(id int64, c *series.Columns, i int) (n int, err error) {
	at, next, err := w.around(id, c.T[i])
	if err != nil {
		return 0, err
	}
	j := c.Len()
	if next != nil {
		j, _ = c.Find(next.from())
	}
	some := c.Slice(i, j)
	w.tail = nil
	if at == nil || some.T[0] > at.Until && len(at.Body) > blockBytes*9/10 { // it is full
		if at == nil {
			w.tail = some
		}
		return j - i, w.writeBlocks(id, some, next == nil)
	}
	old, err := w.decode(at)
	if err != nil {
		return 0, err
	}
	if err := w.exec(`DELETE FROM blocks WHERE key = ?`, at.Key); err != nil {
		return 0, err
	}
	both := series.Merge(old, some)
	if next == nil {
		w.tail = both
	}
	return j - i, w.writeBlocks(id, both, next == nil)
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

// decode reads a block that is to be written anew. A damaged one is set aside and holds nothing.
func (w *Tx) decode(p *block) (*series.Columns, error) {
	c := &series.Columns{}
	if err := w.codec.Decode(c, p.Body); err != nil {
		return &series.Columns{}, w.broken(p, err)
	}
	return c, nil
}

func (w *Tx) dropStretch(id int64, d series.Span) error {
	d.From, d.To = max(d.From, earliest), min(d.To, latest)
	if d.From >= d.To {
		return nil
	}
	if err := w.dropSums(id, d); err != nil {
		return err
	}
	if err := w.exec(`DELETE FROM blocks WHERE key >= ? AND key < ? AND until < ?`, blockKey(id, d.From), blockKey(id,
		d.To), d.To); err != nil {
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
		from, _ := c.Find(d.From)
		to, _ := c.Find(d.To)
		for _, left := range []*series.Columns{c.Slice(0, from), c.Slice(to, c.Len())} {
			if left.Len() > 0 {
				if err := w.writeBlocks(id, left, false); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// Sealing goes on in the background. Readings become blocks when there are many of them, or after a while.
const (
	sealReadings = 100_000
	sealEach     = 2000 // of each series: with fewer, the newest blocks are written anew too often
	sealEvery    = time.Hour
	sealAtOnce   = 5_000 // readings in one transaction, so that nobody has to wait long for the disk
)

func (s *Store) sealer(recorded int64) {
	defer close(s.sealerEnd)
	s.weighTape(context.Background(), recorded)
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
	if err := s.Bring(ctx, func(tx *Tx) error { upTo, ids = tx.beginSealing(); return nil }); err != nil {
		return err
	}
	for len(ids) > 0 {
		some, n := ids[:0:0], 0
		for len(ids) > 0 && n < sealAtOnce {
			s.recent.mu.RLock()
			n += s.recent.runs[ids[0]].sealing.cols.Len()
			s.recent.mu.RUnlock()
			some, ids = append(some, ids[0]), ids[1:]
		}
		err := s.Bring(ctx, func(tx *Tx) error {
			for _, id := range some {
				if err := tx.merge(id, &tx.recent.runs[id].sealing); err != nil {
					return err
				}
			}
			tx.after = append(tx.after, func() {
				for _, id := range some {
					x := tx.recent.runs[id]
					tx.recent.n -= x.sealing.cols.Len()
					if len(x.sealing.drops) > 0 && x.fresh.empty() { // mostly of something that was taken away
						delete(tx.recent.runs, id)
					}
					x.sealing = layer{}
				}
			})
			return nil
		})
		if err != nil {
			return err
		}
	}
	return s.Bring(ctx, func(tx *Tx) error {
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
			x.sealing = x.fresh
		} else {
			both := x.sealing.cols.Len() + x.fresh.cols.Len()
			x.sealing.under(&x.fresh)
			w.recent.n -= both - x.sealing.cols.Len() // of the same time, or dropped
		}
		x.fresh = layer{}
		if !x.sealing.empty() {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return w.seq, ids
}

// eachRange calls each with the readings of a series in [from, to), in time order and portions: those of its blocks,
// changed by a layer. It returns errEnough where each has enough. The columns are only there during the call.
func eachRange(ctx context.Context, q preparer, id, from, to int64, top *layer, each func(c *series.Columns, i,
	j int) bool) error {
	k, last := 0, int64(math.MinInt64)
	err := eachBlock(ctx, q, id, from, to, func(c *series.Columns) bool {
		i, _ := c.Find(max(from, last+1)) // a block may be written anew while the next ones are fetched
		end, _ := c.Find(to)
		for i < end {
			if k < top.cols.Len() && top.cols.T[k] <= c.T[i] {
				was := k
				if k, _ = top.cols.Find(c.T[i] + 1); !each(&top.cols, was, k) {
					return false
				}
				if top.cols.T[k-1] == c.T[i] {
					i++
				}
				continue
			}
			j := end
			if k < top.cols.Len() {
				j, _ = c.Find(top.cols.T[k])
				j = min(j, end)
			}
			if len(top.drops) > 0 {
				for ; i < j && dropped(top.drops, c.T[i]); i++ {
				}
				kept := i
				for ; kept < j && !dropped(top.drops, c.T[kept]); kept++ {
				}
				j = kept
			}
			if j > i && !each(c, i, j) {
				return false
			}
			i = j
		}
		if c.Len() > 0 {
			last = c.T[c.Len()-1]
		}
		return true
	})
	if err == nil && k < top.cols.Len() && !each(&top.cols, k, top.cols.Len()) {
		return errEnough
	}
	return err
}

// preparer prepares statements once, and knows what to do about a damaged block.
type preparer interface {
	prepare(query string) (*sqlx.Stmt, error)
	broken(p *block, err error) error
}

func selectBy(ctx context.Context, q preparer, into any, query string, args ...any) error {
	st, err := q.prepare(query)
	if err != nil {
		return err
	}
	return st.SelectContext(ctx, into, args...)
}

var errEnough = errors.New("enough")

// blocksAtOnce is how many blocks one query reads: a long read would stop the write-ahead log from being reset.
const blocksAtOnce = 64

// eachBlock decodes the blocks of a series that hold something of [from, to), in time order. It returns errEnough where
// each has enough.
func eachBlock(ctx context.Context, q preparer, id, from, to int64, each func(*series.Columns) bool) error {
	from, to = max(from, earliest), min(to, latest)
	if from >= to {
		return nil
	}
	var codec series.Codec
	var cols series.Columns
	for at := from; ; {
		// In one statement, and from the time that was reached: meanwhile short blocks may be joined to the one before them.
		var page []block
		if err := selectBy(ctx, q, &page, `SELECT key, until, count, body FROM blocks
			WHERE key >= coalesce((SELECT max(key) FROM blocks WHERE key >= ? AND key <= ?), ?) AND key < ? ORDER BY key LIMIT ?`,
			blockKey(id, epoch), blockKey(id, at), blockKey(id, at), blockKey(id, to), blocksAtOnce); err != nil {
			return err
		}
		for i := range page {
			p := &page[i]
			if p.Until < at {
				continue
			}
			at = p.Until + 1
			if err := codec.Decode(&cols, p.Body); err != nil {
				if err := q.broken(p, err); err != nil {
					return err
				}
				continue
			}
			if !each(&cols) {
				return errEnough
			}
		}
		if len(page) < blocksAtOnce {
			return nil
		}
	}
}
