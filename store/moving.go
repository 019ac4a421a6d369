package store

import (
	"context"
	"encoding/binary"
	"fmt"
	"math"

	"idleember/core/reading"
	"idleember/core/site"
)

// moveRows seals the readings that earlier versions kept as rows, portion by portion: where it is stopped, it goes on
// at the next start.
func (s *Store) moveRows(ctx context.Context) error {
	var there []int
	if err := s.tx.query(&there, `SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = 'readings'`); err != nil ||
		len(there) == 0 {
		return err
	}
	const portion = 50_000
	for {
		var id []int64
		if err := s.tx.query(&id, `SELECT series FROM readings LIMIT 1`); err != nil {
			return err
		}
		if len(id) == 0 {
			s.tx.forget() // a prepared statement would keep the table from going
			_, err := s.tx.conn.ExecContext(ctx, `DROP TABLE readings`)
			return err
		}
		var rows []struct {
			T   int64
			V   any
			Q   int
			Raw *float64
		}
		if err := s.tx.query(&rows, `SELECT t, v, q, raw FROM readings WHERE series = ? ORDER BY t LIMIT ?`, id[0],
			portion); err != nil {
			return err
		}
		s.log.Info("sealing readings of an earlier version", "series", id[0], "readings", len(rows))
		var l layer
		for _, r := range rows {
			v, err := rowValue(r.V)
			if err != nil {
				return err
			}
			if r.T >= earliest && r.T < latest {
				l.put(&Reading{T: r.T, Value: v, Quality: reading.Quality(r.Q), Raw: r.Raw})
			}
		}
		if err := s.tx.exec(`BEGIN IMMEDIATE`); err != nil {
			return err
		}
		err := s.tx.merge(id[0], &l)
		if err == nil {
			err = s.tx.exec(`DELETE FROM readings WHERE series = ? AND t <= ?`, id[0], rows[len(rows)-1].T)
		}
		if err == nil {
			err = s.tx.exec(`COMMIT`)
		}
		if err != nil {
			s.tx.rollback()
			return err
		}
	}
}

// forget closes all prepared statements.
func (w *Tx) forget() {
	for _, st := range w.prepared {
		_ = st.Close()
	}
	clear(w.prepared)
}

// rowValue is what a column of an earlier version held: a number, a text, or the eight bytes of a negative zero.
func rowValue(col any) (reading.Value, error) {
	switch c := col.(type) {
	case float64:
		return reading.Number(c), nil
	case int64:
		return reading.Number(float64(c)), nil
	case string:
		return reading.Text(c), nil
	case []byte:
		if len(c) == 8 {
			return reading.Value{Kind: site.Number, Num: math.Float64frombits(binary.LittleEndian.Uint64(c))}, nil
		}
	}
	return reading.Value{}, fmt.Errorf("store: a reading holds %T", col)
}
