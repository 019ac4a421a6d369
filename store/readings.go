package store

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"math"
	"slices"
	"sync"
	"time"

	"idleember/core/reading"
	"idleember/core/series"
	"idleember/core/site"
)

// Reading is one stored value of a series.
type Reading struct {
	T       int64 // Unix milliseconds
	Value   reading.Value
	Quality reading.Quality
	Raw     *float64 // before calibration; nil: Value is what came
}

// AddReading keeps a reading of a series. One of the same series and time takes the place of the earlier; replaced,
// where it is not nil, is told when that one differed.
func AddReading(series string, r Reading, replaced func(int)) Change {
	return AddReadings(series, []Reading{r}, replaced)
}

// AddReadings keeps many readings of a series, as AddReading does one. The list must not be changed afterwards.
func AddReadings(series string, list []Reading, replaced func(int)) Change {
	return func(tx *Tx) error {
		for i := range list {
			if t := list[i].T; t < earliest || t >= latest {
				return fmt.Errorf("a reading of %s has the time %s; readings are kept from 1900 to 2178", series,
					time.UnixMilli(t).UTC().Format(time.RFC3339))
			}
		}
		return tx.add(series, op{put: list, replaced: replaced})
	}
}

// Replace puts other values in the place of readings that are there: a recalibration.
func Replace(series string, list []Reading) Change { return AddReadings(series, list, nil) }

// DropReadings deletes the readings of a series in [from, to).
func DropReadings(name string, from, to time.Time) Change {
	return func(tx *Tx) error {
		return tx.add(name, op{drop: &series.Span{From: max(from.UnixMilli(), earliest), To: min(to.UnixMilli(), latest)}})
	}
}

// DropSeries deletes a series with all its readings. What is later kept under its name is another one. Its number stays
// taken, as rows of the log speak of it.
func DropSeries(name string) Change {
	return func(tx *Tx) error {
		var there int
		if err := tx.conn.GetContext(context.Background(), &there, `SELECT count(*) FROM series WHERE name = ?`,
			name); err != nil || there == 0 {
			return err
		}
		if err := DropReadings(name, time.UnixMilli(earliest), time.UnixMilli(latest))(tx); err != nil {
			return err
		}
		if err := tx.exec(`UPDATE series SET name = ? || id WHERE name = ?`, droppedSeries, name); err != nil {
			return err
		}
		delete(tx.series, name)
		tx.after = append(tx.after, func() { tx.names.forget(name) })
		return tx.exec(`DELETE FROM own_stamps WHERE series = ?`, name)
	}
}

// droppedSeries begins the names of those that were deleted.
const droppedSeries = "-"

func (w *Tx) add(name string, o op) (err error) {
	if o.series, err = w.seriesID(name); err == nil {
		w.ops = append(w.ops, o)
		w.readings += int64(len(o.put))
	}
	return err
}

func (w *Tx) seriesID(name string) (int64, error) {
	if id, ok := w.series[name]; ok {
		return id, nil
	}
	if err := w.exec(`INSERT OR IGNORE INTO series (name) VALUES (?)`, name); err != nil {
		return 0, err
	}
	var id int64
	if err := w.conn.GetContext(context.Background(), &id, `SELECT id FROM series WHERE name = ?`, name); err != nil {
		return 0, err
	}
	w.series[name] = id
	return id, nil
}

// writeLog writes what the transaction changes of series, and the inputs, as one row.
func (w *Tx) writeLog() error {
	if len(w.ops) == 0 && w.inputs == nil {
		return nil
	}
	var body []byte
	if len(w.ops) > 0 {
		body = make([]byte, sumSize, 256)
		for i := range w.ops {
			body = appendOp(body, w.ops[i])
		}
		sealRow(w.seq+1, body)
	}
	at := w.inputsAt
	if at.IsZero() || w.inputs == nil {
		at = time.Now()
	}
	// Numbered here, as SQLite's own counter would be one more page to write.
	if err := w.exec(`INSERT INTO log (seq, at_ms, readings, inputs) VALUES (?, ?, ?, ?)`, w.seq+1, at.UnixMilli(), body,
		w.inputs); err != nil {
		return err
	}
	w.wrote, w.taped = true, 0
	if w.inputs != nil {
		w.taped = len(w.inputs) + len(body)
	}
	return nil
}

// committed brings what was committed into memory.
func (w *Tx) committed() {
	if w.wrote {
		w.seq++
		w.tape.bytes.Add(int64(w.taped))
	}
	counts := make([]int, len(w.ops))
	before := map[int64]*Reading{} // the last of each series in this transaction
	for i, o := range w.ops {
		w.know(o.series)
		if o.replaced != nil {
			counts[i] = w.differing(o, before[o.series])
		}
		if n := len(o.put); n > 0 {
			before[o.series] = &o.put[n-1]
		}
	}
	w.recent.mu.Lock()
	for _, o := range w.ops {
		w.recent.apply(o)
	}
	for _, f := range w.after {
		f()
	}
	w.recent.mu.Unlock()
	for i, o := range w.ops {
		if counts[i] > 0 {
			o.replaced(counts[i])
		}
	}
	w.reset()
}

func (r *recent) apply(o op) {
	x := r.run(o.series)
	if o.drop != nil {
		r.n -= x.fresh.drop(*o.drop)
	}
	for i := range o.put {
		if !x.fresh.put(&o.put[i]) {
			r.n++
		}
		if x.newest != math.MaxInt64 {
			x.newest = max(x.newest, o.put[i].T)
		}
	}
}

// know finds out how new the newest reading of a series is, the first time.
func (w *Tx) know(id int64) {
	x := w.recent.runs[id]
	if x != nil && x.newest != math.MaxInt64 {
		return
	}
	var until []int64
	if err := w.query(&until, `SELECT until FROM blocks WHERE key >= ? AND key < ? ORDER BY key DESC LIMIT 1`, blockKey(id,
		epoch), blockKey(id+1, epoch)); err != nil {
		return // it stays unknown: each reading is looked for
	}
	w.recent.mu.Lock()
	defer w.recent.mu.Unlock()
	x = w.recent.run(id)
	x.newest = math.MinInt64
	if len(until) > 0 {
		x.newest = until[0]
	}
	for _, l := range []*layer{&x.sealing, &x.fresh} {
		if n := l.cols.Len(); n > 0 {
			x.newest = max(x.newest, l.cols.T[n-1])
		}
	}
}

// differing counts the readings of a change that take the place of one that differs: of one that was there, or of the
// one just before, since those that come in a rush share a millisecond. before is the last of the series in the
// transaction, nil where it is the first. Long, because it is one pass over two lists.
func (w *Tx) differing(o op, before *Reading) (n int) {
	x := w.recent.runs[o.series]
	var at, next *block
	var cols *series.Columns
	low := int64(math.MaxInt64) // from here on, until next, readings belong to the block at
	for i := range o.put {
		r := &o.put[i]
		if i > 0 {
			before = &o.put[i-1]
		}
		if before != nil && before.T == r.T {
			if before.Value != r.Value {
				n++
			}
			continue
		}
		if x == nil || r.T > x.newest {
			continue
		}
		was, found, hidden := x.look(r.T)
		if !found && !hidden {
			if at == nil || r.T < low || next != nil && r.T >= next.from() {
				var err error
				if at, next, err = w.around(o.series, r.T); err != nil || at == nil {
					return n
				}
				if low = at.from(); low > r.T { // it is the first, and what is older belongs to it too
					low = math.MinInt64
				}
				if cols, err = w.decode(at); err != nil {
					return n
				}
			}
			if k, ok := cols.Find(r.T); ok {
				was, found = readingAt(cols, k), true
			}
		}
		if found && was.Value != r.Value {
			n++
		}
	}
	return n
}

// replay brings the rows of the log that are not in blocks into memory.
func (s *Store) replay(ctx context.Context) error {
	var from int64
	if err := s.read.GetContext(ctx, &from, `SELECT seq FROM sealed`); err != nil {
		return err
	}
	s.tx.seq = from
	rows, err := s.read.QueryxContext(ctx, `SELECT seq, readings FROM log WHERE seq > ? ORDER BY seq`, from)
	if err != nil {
		return err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var body []byte
		if err := rows.Scan(&s.tx.seq, &body); err != nil {
			return err
		}
		changes, err := openRow(s.tx.seq, body)
		if err == nil {
			err = eachOp(changes, s.recent.apply)
		}
		if err != nil {
			s.leftOut.Add(1)
			s.log.Error("a row of the log cannot be read; what it held is lost", "row", s.tx.seq, "error", err)
		}
	}
	return rows.Err()
}

// names are the ids of series, which change only when one is deleted.
type names struct {
	mu    sync.Mutex
	of    map[string]int64
	drops int // how many were deleted
}

func (n *names) forget(name string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	delete(n.of, name)
	n.drops++
}

func (s *Store) idOf(ctx context.Context, name string) (int64, bool, error) {
	s.names.mu.Lock()
	id, ok := s.names.of[name]
	drops := s.names.drops
	s.names.mu.Unlock()
	if ok {
		return id, true, nil
	}
	if err := s.read.GetContext(ctx, &id, `SELECT id FROM series WHERE name = ?`, name); err != nil {
		if notFound(err) {
			return 0, false, nil
		}
		return 0, false, fmt.Errorf("store: series %s: %w", name, err)
	}
	s.names.mu.Lock()
	defer s.names.mu.Unlock()
	if s.names.of == nil {
		s.names.of = map[string]int64{}
	}
	if s.names.drops == drops { // else it may have been that one
		s.names.of[name] = id
	}
	return id, true, nil
}

// Readings yields the readings of a series in [from, to), in time order. The reading before from, which tells what held
// at the start, comes first where there is one and before is true.
func (s *Store) Readings(ctx context.Context, name string, kind site.ValueKind, from, to time.Time,
	before bool) iter.Seq2[Reading, error] {
	return func(yield func(Reading, error) bool) {
		id, ok, err := s.idOf(ctx, name)
		if err == nil && ok && before {
			var r Reading
			var had bool
			if r, had, err = s.lastBefore(ctx, id, from.UnixMilli()); had && err == nil && !yield(ofKind(r, kind), nil) {
				return
			}
		}
		if err != nil {
			yield(Reading{}, err)
		}
		if err != nil || !ok {
			return
		}
		for r, err := range s.scan(ctx, id, from.UnixMilli(), to.UnixMilli()) {
			if err != nil {
				yield(r, fmt.Errorf("store: readings of %s: %w", name, err))
				return
			}
			if !yield(ofKind(r, kind), nil) {
				return
			}
		}
	}
}

func (s *Store) scan(ctx context.Context, id, from, to int64) iter.Seq2[Reading, error] {
	return func(yield func(Reading, error) bool) {
		from, to := max(from, earliest), min(to, latest)
		top := s.recent.view(id, from, to)
		err := eachRange(ctx, s, id, from, to, &top, func(c *series.Columns, i, j int) bool {
			for ; i < j; i++ {
				if !yield(readingAt(c, i), nil) {
					return false
				}
			}
			return true
		})
		if err != nil && !errors.Is(err, errEnough) {
			yield(Reading{}, err)
		}
	}
}

// ofKind gives a reading the kind that its signal has now.
func ofKind(r Reading, kind site.ValueKind) Reading {
	switch {
	case r.Value.Kind == kind:
	case kind == site.Text:
		r.Value = reading.Text(r.Value.String())
	case r.Value.Kind != site.Text:
		r.Value.Kind = kind
	}
	return r
}

// lastBefore returns the newest reading of a series before a time.
func (s *Store) lastBefore(ctx context.Context, id, t int64) (last Reading, had bool, err error) {
	t = min(t, latest)
	top := s.recent.view(id, math.MinInt64, t)
	for end := t; !had; {
		var list []block
		if err := selectBy(ctx, s, &list, `SELECT key, until, count, body FROM blocks WHERE key >= ? AND key < ? ORDER BY key DESC LIMIT 1`,
			blockKey(id, epoch), blockKey(id, max(end, earliest))); err != nil {
			return last, false, fmt.Errorf("store: last of series %d: %w", id, err)
		}
		from := int64(math.MinInt64)
		if len(list) > 0 {
			from = list[0].from()
		}
		i, _ := top.cols.Find(from)
		if n := top.cols.Len(); n > 0 && (len(list) == 0 || top.cols.T[n-1] > list[0].Until) {
			return readingAt(&top.cols, n-1), true, nil
		}
		if len(list) == 0 {
			return last, false, nil
		}
		part := layer{drops: top.drops, cols: top.cols.Clone(i, top.cols.Len())}
		err := eachRange(ctx, s, id, from, end, &part, func(c *series.Columns, _, j int) bool {
			last, had = readingAt(c, j-1), true
			return true
		})
		if err != nil {
			return last, false, fmt.Errorf("store: last of series %d: %w", id, err)
		}
		top.cols.Delete(i, top.cols.Len())
		end = from
	}
	return last, had, nil
}

// Last returns the newest reading of a series, and false where it has none.
func (s *Store) Last(ctx context.Context, name string, kind site.ValueKind) (Reading, bool, error) {
	id, ok, err := s.idOf(ctx, name)
	if err != nil || !ok {
		return Reading{}, false, err
	}
	r, ok, err := s.lastBefore(ctx, id, latest)
	return ofKind(r, kind), ok, err
}

// Newest returns the newest readings of a series in [from, to), at most limit, the newest first.
func (s *Store) Newest(ctx context.Context, name string, kind site.ValueKind, from, to time.Time, limit int) ([]Reading,
	error) {
	id, ok, err := s.idOf(ctx, name)
	if err != nil || !ok {
		return nil, err
	}
	end := min(to.UnixMilli(), latest)
	for width := int64(series.Hour); ; width *= 4 { // further back until there are enough
		start := max(from.UnixMilli(), earliest, end-width)
		var list []Reading
		for r, err := range s.scan(ctx, id, start, end) {
			if err != nil {
				return nil, fmt.Errorf("store: readings of %s: %w", name, err)
			}
			list = append(list, ofKind(r, kind))
		}
		if len(list) >= limit || start <= max(from.UnixMilli(), earliest) {
			slices.Reverse(list)
			return list[:min(limit, len(list))], nil
		}
		if len(list) == 0 { // straight to the newest one before
			r, ok, err := s.lastBefore(ctx, id, start)
			if err != nil || !ok || r.T < from.UnixMilli() {
				return nil, err
			}
			end = r.T + 1
			width = series.Hour
		}
	}
}

// Extent says how much is kept of a series.
type Extent struct {
	Count    int64 // readings
	Bytes    int64 // of their blocks
	From, To time.Time
}

// Extent returns how much is kept of a series. What is not sealed yet counts towards the readings alone.
func (s *Store) Extent(ctx context.Context, name string) (out Extent, err error) {
	id, ok, err := s.idOf(ctx, name)
	if err != nil || !ok {
		return out, err
	}
	var sum struct {
		Count, Bytes, First, Until *int64
	}
	if err := s.read.GetContext(ctx, &sum, `SELECT sum(count) AS count, sum(length(body)) AS bytes, min(key) AS first, max(until) AS until FROM blocks WHERE key >= ? AND key < ?`,
		blockKey(id, epoch), blockKey(id+1, epoch)); err != nil {
		return out, fmt.Errorf("store: extent of %s: %w", name, err)
	}
	first, until := int64(math.MaxInt64), int64(math.MinInt64)
	if sum.Count != nil {
		out.Count, out.Bytes, first, until = *sum.Count, *sum.Bytes, timeOf(*sum.First), *sum.Until
	}
	top := s.recent.view(id, math.MinInt64, latest)
	if n := top.cols.Len(); n > 0 && len(top.drops) == 0 && top.cols.T[0] > until {
		out.Count += int64(n)
		first, until = min(first, top.cols.T[0]), top.cols.T[n-1]
	} else if n > 0 || len(top.drops) > 0 { // rare, and soon sealed: counted one by one
		out.Count, first, until = 0, math.MaxInt64, math.MinInt64
		for r, err := range s.scan(ctx, id, earliest, latest) {
			if err != nil {
				return out, err
			}
			out.Count++
			first, until = min(first, r.T), r.T
		}
	}
	if out.Count > 0 {
		out.From, out.To = time.UnixMilli(first), time.UnixMilli(until)
	}
	return out, nil
}

// Count returns how many readings a series has.
func (s *Store) Count(ctx context.Context, name string) (int64, error) {
	e, err := s.Extent(ctx, name)
	return e.Count, err
}

// Times are those of readings, in Unix milliseconds.
func Times(list []Reading) (out []int64) {
	for _, r := range list {
		out = append(out, r.T)
	}
	return out
}
