package store

import (
	"context"
	"fmt"
	"slices"
	"time"

	"idleember/core/series"
)

// dropSums deletes the sums of hours that have no readings any more and lie in a stretch as a whole.
func (w *Tx) dropSums(id int64, d series.Span) error {
	from, to := floor(d.From+series.Hour-1, series.Hour), min(floor(d.To, series.Hour), w.recent.thin(id))
	for from < to {
		day := floor(from, series.Day)
		if from == day && to >= day+series.Day { // whole days at once
			to2 := floor(to, series.Day)
			if err := w.exec(`DELETE FROM cells WHERE key >= ? AND key < ?`, cellKey(id, day), cellKey(id, to2)); err != nil {
				return err
			}
			from = to2
			continue
		}
		end := min(to, day+series.Day)
		cells, err := w.cellsOf(id, day)
		if err != nil {
			return err
		}
		cells = slices.DeleteFunc(cells, func(c series.Cell) bool { return c.At >= from && c.At < end })
		if err := w.exec(`DELETE FROM cells WHERE key = ?`, cellKey(id, day)); err != nil {
			return err
		}
		if err := w.writeCells(id, cells); err != nil {
			return err
		}
		from = end
	}
	return nil
}

// cellsOf reads the sums of a day.
func (w *Tx) cellsOf(id, day int64) ([]series.Cell, error) {
	var bodies [][]byte
	if err := w.query(&bodies, `SELECT body FROM cells WHERE key = ?`, cellKey(id, day)); err != nil || len(bodies) == 0 {
		return nil, err
	}
	list, err := w.codec.DecodeCells(nil, day, bodies[0])
	if err != nil {
		return nil, fmt.Errorf("the sums of %s: %w", time.UnixMilli(day).UTC().Format(time.DateOnly), err)
	}
	return list, nil
}

// writeCells writes sums, day by day.
func (w *Tx) writeCells(id int64, list []series.Cell) error {
	for len(list) > 0 {
		day, n := floor(list[0].At, series.Day), 0
		for n < len(list) && list[n].At < day+series.Day {
			n++
		}
		w.body = w.codec.EncodeCells(w.body[:0], day, list[:n])
		if err := w.exec(`INSERT INTO cells (key, body) VALUES (?, ?)`, cellKey(id, day), w.body); err != nil {
			return err
		}
		list = list[n:]
	}
	return nil
}

// touched are the whole hours in which a layer changes something.
func touched(l *layer) (hours []series.Span) {
	for _, d := range l.drops {
		hours = append(hours, series.Span{From: floor(max(d.From, earliest), series.Hour),
			To: floor(min(d.To, latest)+series.Hour-1, series.Hour)})
	}
	for i := 0; i < l.cols.Len(); {
		hour := floor(l.cols.T[i], series.Hour)
		i, _ = l.cols.Find(hour + series.Hour)
		hours = append(hours, series.Span{From: hour, To: hour + series.Hour})
	}
	slices.SortFunc(hours, func(a, b series.Span) int { return int(min(1, max(-1, a.From-b.From))) })
	var out []series.Span
	for _, d := range hours {
		if n := len(out); n > 0 && d.From <= out[n-1].To {
			out[n-1].To = max(out[n-1].To, d.To)
		} else if d.To > d.From {
			out = append(out, d)
		}
	}
	return out
}

func floor(t, width int64) int64 {
	m := t % width
	if m < 0 {
		m += width
	}
	return t - m
}

// refresh sums some hours up anew.
func (w *Tx) refresh(id int64, hours []series.Span) error {
	for _, span := range hours {
		sum := series.Summer{Fewest: w.fewest}
		if w.tail != nil && span.From >= w.tail.T[0] { // which was just written, and need not be read again
			i, _ := w.tail.Find(span.From)
			j, _ := w.tail.Find(span.To)
			sum.Add(w.tail, i, j)
		} else if err := eachRange(context.Background(), w, id, span.From, span.To, &layer{}, func(c *series.Columns, i,
			j int) bool {
			sum.Add(c, i, j)
			return true
		}); err != nil {
			return err
		}
		sum.Flush()
		firstDay, lastDay := floor(span.From, series.Day), floor(span.To-1, series.Day)
		around, err := w.cellsOf(id, firstDay)
		if err != nil {
			return err
		}
		if lastDay != firstDay {
			more, err := w.cellsOf(id, lastDay)
			if err != nil {
				return err
			}
			around = append(around, more...)
		}
		var head, tail []series.Cell // of the same days, before and after
		for _, c := range around {
			if c.At < span.From {
				head = append(head, c)
			} else if c.At >= span.To {
				tail = append(tail, c)
			}
		}
		if err := w.exec(`DELETE FROM cells WHERE key >= ? AND key <= ?`, cellKey(id, firstDay), cellKey(id,
			lastDay)); err != nil {
			return err
		}
		if err := w.writeCells(id, slices.Concat(head, sum.Cells, tail)); err != nil {
			return err
		}
	}
	return nil
}
