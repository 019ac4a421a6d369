package store

import (
	"context"
	"encoding/binary"
	"sync/atomic"
	"time"
)

// tape is what the engine was given, which is kept for a while: how many bytes of the log it takes.
type tape struct{ bytes atomic.Int64 }

const tapeRow = `length(inputs) + coalesce(length(readings), 0)`

// AddInputs records what the engine was given; body is packed by engine.Pack.
func AddInputs(at time.Time, body []byte) Change {
	return func(tx *Tx) error {
		tx.inputs = append(binary.AppendUvarint(tx.inputs, uint64(len(body))), body...)
		tx.inputsAt = at
		return nil
	}
}

// Inputs reads the recorded inputs since a time, one piece a commit, see engine.Unpack.
func (s *Store) Inputs(ctx context.Context, since time.Time) ([][]byte, error) {
	var rows [][]byte
	if err := s.read.SelectContext(ctx, &rows,
		`SELECT inputs FROM log WHERE at_ms >= ? AND inputs IS NOT NULL ORDER BY seq`, since.UnixMilli()); err != nil {
		return nil, err
	}
	var out [][]byte
	for _, row := range rows {
		for len(row) > 0 {
			n, k := binary.Uvarint(row)
			if k <= 0 || n > uint64(len(row)-k) {
				return nil, errLog
			}
			out, row = append(out, row[k:k+int(n)]), row[k+int(n):]
		}
	}
	return out, nil
}

// TapeBytes is how much recorded inputs take, with the readings that were written with them.
func (s *Store) TapeBytes() int64 { return s.tape.bytes.Load() }

// weighTape counts what was recorded up to a row, before this start.
func (s *Store) weighTape(ctx context.Context, upTo int64) {
	var n int64
	if err := s.read.GetContext(ctx, &n, `SELECT coalesce(sum(`+tapeRow+`), 0) FROM log WHERE inputs IS NOT NULL AND seq <= ?`, upTo); err != nil {
		s.log.Warn("it is not known how much was recorded", "error", err)
	}
	s.tape.bytes.Add(n)
}

// pruneAtOnce is how many rows are let go in one transaction, so that nobody has to wait long for the disk.
const pruneAtOnce = 5000

// pruneMostly is how many rows are looked at first.
const pruneMostly = 100

// PruneTape lets go of recorded inputs that are older than a time, and of the oldest ones of more than so many bytes;
// at most as many as one transaction takes: where that was not all, again is called after the commit. What is not in
// blocks yet stays.
func PruneTape(before time.Time, most int64, again func()) Change {
	return func(w *Tx) error {
		type row struct {
			Seq   int64
			At    int64 `db:"at_ms"`
			Bytes int64
		}
		var rows []row
		if err := w.query(&rows, `SELECT seq, at_ms, coalesce(`+tapeRow+`, 0) AS bytes FROM log WHERE seq <= (SELECT seq FROM sealed) ORDER BY seq LIMIT 1`); err != nil || len(rows) == 0 {
			return err
		}
		left := w.tape.bytes.Load()
		if rows[0].At >= before.UnixMilli() && left <= most {
			return nil
		}
		// The log is in time order; looking at its oldest rows only spares an index, which each commit would have to write.
		// Mostly a few are due, as each minute.
		last, gone, all := int64(-1), int64(0), false
		for _, n := range []int{pruneMostly, pruneAtOnce} {
			rows = nil
			if err := w.query(&rows, `SELECT seq, at_ms, coalesce(`+tapeRow+`, 0) AS bytes FROM log WHERE seq <= (SELECT seq FROM sealed) ORDER BY seq LIMIT ?`, n); err != nil {
				return err
			}
			last, gone = -1, 0
			for _, r := range rows {
				if r.At >= before.UnixMilli() && left-gone <= most {
					break
				}
				last, gone = r.Seq, gone+r.Bytes
			}
			if all = len(rows) < n || last != rows[len(rows)-1].Seq; all {
				break
			}
		}
		w.after = append(w.after, func() {
			if w.tape.bytes.Add(-gone); !all {
				again()
			}
		})
		return w.exec(`DELETE FROM log WHERE seq <= ?`, last)
	}
}
