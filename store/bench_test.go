package store

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"idleember/core/reading"
	"idleember/core/series"
	"idleember/core/site"
)

// plain is what one writes at first: a table of rows with an index, a transaction for each request.
type plain struct{ db *sqlx.DB }

func newPlain(b *testing.B) plain {
	db, err := sqlx.Open("sqlite", "file:"+filepath.Join(b.TempDir(),
		"plain.db")+"?_txlock=immediate&_pragma=busy_timeout(20000)&_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)")
	require.NoError(b, err)
	db.SetMaxOpenConns(1)
	b.Cleanup(func() { _ = db.Close() })
	_, err = db.Exec(`CREATE TABLE readings (signal INTEGER, t INTEGER, v REAL); CREATE INDEX i ON readings (signal, t)`)
	require.NoError(b, err)
	return plain{db}
}

func (p plain) add(signal int64, list []Reading) error {
	tx, err := p.db.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	st, err := tx.Prepare(`INSERT INTO readings VALUES (?, ?, ?)`)
	if err != nil {
		return err
	}
	for _, r := range list {
		if _, err := st.Exec(signal, r.T, r.Value.Num); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// BenchmarkIngest measures durable readings: 64 writers, each of which waits for its commit. Store and plain table take
// turns in one run, so that what else the machine does hits both.
func BenchmarkIngest(b *testing.B) {
	for _, size := range []int{1, 20, 200} {
		b.Run(fmt.Sprintf("readings=%d", size), func(b *testing.B) {
			s, p := open(b, b.TempDir()), newPlain(b)
			defer func() { _ = s.Close() }()
			rates := map[string]float64{}
			var late time.Duration
			const turns = 4
			for turn := range turns {
				n := max(1, b.N/turns)
				took, worst := ingest(b, turn, n*40, size, func(signal int64, list []Reading) error {
					return s.Do(context.Background(), AddReadings("device.s"+strconv.FormatInt(signal, 10), list, nil))
				})
				rates["store"] += float64(n*40*size) / took.Seconds() / turns
				late = max(late, worst)
				took, _ = ingest(b, turn, n, size, p.add)
				rates["plain"] += float64(n*size) / took.Seconds() / turns
			}
			b.ReportMetric(rates["store"], "store/s")
			b.ReportMetric(rates["plain"], "plain/s")
			b.ReportMetric(rates["store"]/rates["plain"], "times")
			b.ReportMetric(float64(late.Microseconds())/1000, "p99-ms")
			b.ReportMetric(0, "ns/op")
		})
	}
}

func ingest(b *testing.B, turn, requests, size int, write func(signal int64, list []Reading) error) (took,
	p99 time.Duration) {
	const writers = 64
	var wg sync.WaitGroup
	var mu sync.Mutex
	var waits []time.Duration
	begun := time.Now()
	for w := range writers {
		wg.Add(1)
		go func() {
			defer wg.Done()
			var own []time.Duration
			rng := rand.New(rand.NewPCG(uint64(w), uint64(turn)))
			at := int64(1_790_000_000_000) + int64(turn)*1e9
			list := make([]Reading, size)
			for k := w; k < requests; k += writers {
				for i := range list {
					at += 1000
					list[i] = Reading{T: at, Value: reading.Number(math.Round(210+rng.NormFloat64()*5) / 10)}
				}
				asked := time.Now()
				if err := write(int64(w*3+k/writers%3), list); err != nil {
					b.Error(err)
					return
				}
				own = append(own, time.Since(asked))
			}
			mu.Lock()
			waits = append(waits, own...)
			mu.Unlock()
		}()
	}
	wg.Wait()
	took = time.Since(begun)
	slices.Sort(waits)
	if n := len(waits); n > 0 {
		p99 = waits[n*99/100]
	}
	return took, p99
}

// sensor makes what a sensor of one of five sorts sends every 10 s.
func sensor(sort, n int, from, jitter int64, yield func([]Reading)) {
	rng := rand.New(rand.NewPCG(uint64(sort), 7))
	v, slow := 0.0, 0.0
	list := make([]Reading, 0, 8640)
	for i := range n {
		at := from + int64(i)*10_000
		if jitter > 0 {
			at += rng.Int64N(2*jitter) - jitter
		}
		slow += (math.Sin(float64(i)/1374)*3 - slow) / 400
		switch sort % 5 {
		case 0:
			v = math.Round((21+slow+0.03*rng.NormFloat64())*10) / 10
		case 1:
			v = math.Round((55+4*slow+0.2*rng.NormFloat64())*2) / 2
		case 2:
			v = math.Round((1013+slow+0.02*rng.NormFloat64())*100) / 100
		case 3:
			v += float64(rng.IntN(3))
		case 4:
			if rng.IntN(180) == 0 {
				v = 1 - v
			}
		}
		kind := site.Number
		if sort%5 == 4 {
			kind = site.OnOff
		}
		list = append(list, Reading{T: at, Value: reading.Value{Kind: kind, Num: v}})
		if len(list) == cap(list) {
			yield(list)
			list = make([]Reading, 0, cap(list))
		}
	}
	if len(list) > 0 {
		yield(list)
	}
}

const begin = 1_735_686_000_000 // 2025 in Vienna

// BenchmarkSize tells how many bytes of the whole database file a reading takes: sixty signals of five sorts, three
// weeks long.
func BenchmarkSize(b *testing.B) {
	for _, jitter := range []int64{0, 50} {
		b.Run(fmt.Sprintf("jitter=%dms", jitter), func(b *testing.B) {
			const signals, n = 60, 21 * 8640
			dir := b.TempDir()
			s := open(b, dir)
			p := newPlain(b)
			for k := range signals {
				sensor(k, n, begin+int64(k)*137, jitter, func(list []Reading) {
					require.NoError(b, s.Do(b.Context(), AddReadings(fmt.Sprint("device.s", k), list, nil)))
				})
			}
			for k := range 5 {
				sensor(k, n, begin, jitter, func(list []Reading) { require.NoError(b, p.add(int64(k), list)) })
			}
			require.NoError(b, s.Seal(b.Context()))
			require.NoError(b, s.Close())
			info, err := os.Stat(filepath.Join(dir, File))
			require.NoError(b, err)
			var pages, size float64
			require.NoError(b, p.db.Get(&pages, `PRAGMA page_count`))
			require.NoError(b, p.db.Get(&size, `PRAGMA page_size`))
			plainPer := pages * size / (5 * n)
			per := float64(info.Size()) / (signals * n)
			b.ReportMetric(per, "bytes/reading")
			b.ReportMetric(plainPer, "plain-bytes/reading")
			b.ReportMetric(plainPer/per, "times")
			b.ReportMetric(0, "ns/op")
		})
	}
}

// BenchmarkYear reads a year of a 10 s signal as 1,000 buckets: from sums of hours, by decoding alone, and from a plain
// table. Then twelve signals over a day.
func BenchmarkYear(b *testing.B) {
	s := open(b, b.TempDir())
	defer func() { _ = s.Close() }()
	const n = 365 * 8640
	sensor(0, n, begin, 0, func(list []Reading) {
		require.NoError(b, s.Do(b.Context(), AddReadings("a.year", list, nil)))
	})
	p := sync.OnceValue(func() plain {
		p := newPlain(b)
		sensor(0, n, begin, 0, func(list []Reading) { require.NoError(b, p.add(1, list)) })
		return p
	})
	for k := range 12 {
		sensor(k, 8640, begin, 0, func(list []Reading) {
			require.NoError(b, s.Do(b.Context(), AddReadings(fmt.Sprint("a.day", k), list, nil)))
		})
	}
	require.NoError(b, s.Seal(b.Context()))
	zone, err := time.LoadLocation("Europe/Vienna")
	require.NoError(b, err)
	from, to := int64(begin+1234), int64(begin+n*10_000-4321)
	bounds := series.Bounds(from, to, series.Step(time.Duration(to-from)*time.Millisecond, 1000), zone)
	each := func(name string, f func() int) {
		b.Run(name, func(b *testing.B) {
			count := f() // what is made once is not measured
			b.ResetTimer()
			for range b.N {
				count = f()
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/1000/float64(b.N), "ms")
			b.ReportMetric(float64(count), "buckets")
			b.ReportMetric(0, "ns/op")
		})
	}
	each("cells", func() int {
		got, _, err := s.Buckets(b.Context(), "a.year", bounds, 30*time.Second, time.UnixMilli(to))
		require.NoError(b, err)
		return len(got)
	})
	each("decoding", func() int {
		k := series.Within(bounds, 30*time.Second)
		require.NoError(b, eachBlock(b.Context(), s, 1, from, to, func(c *series.Columns) bool {
			i, _ := c.Find(from)
			k.AddRange(c, i, c.Len())
			return true
		}))
		got, _ := k.Finish(to)
		return len(got)
	})
	each("plain", func() int {
		step := (to - from) / 1000
		rows, err := p().db.Queryx(`SELECT (t - ?) / ? AS k, min(v), max(v), avg(v), count(*) FROM readings WHERE signal = 1 AND t >= ? AND t < ? GROUP BY k`, from, step, from, to)
		require.NoError(b, err)
		defer func() { _ = rows.Close() }()
		count := 0
		for rows.Next() {
			count++
		}
		return count
	})
	day := series.Bounds(begin, begin+series.Day, time.Minute, zone)
	each("twelve-signals-a-day", func() int {
		count := 0
		for k := range 12 {
			got, _, err := s.Buckets(b.Context(), fmt.Sprint("a.day", k), day, 30*time.Second, time.UnixMilli(begin+series.Day))
			require.NoError(b, err)
			count += len(got)
		}
		return count
	})
}

// BenchmarkStart opens a store with years of sixty signals, and finds the newest reading of each.
func BenchmarkStart(b *testing.B) {
	dir := b.TempDir()
	s := open(b, dir)
	years := 0.1
	if v, err := strconv.ParseFloat(os.Getenv("IDLEEMBER_YEARS"), 64); err == nil {
		years = v
	}
	n := int(years * 365 * 8640)
	for k := range 60 {
		name := fmt.Sprint("device.s", k)
		sensor(k, n, begin, 0, func(list []Reading) {
			require.NoError(b, s.Do(b.Context(), func(tx *Tx) error { // past the log, which would only take long
				id, err := tx.seriesID(name)
				if err != nil {
					return err
				}
				l := layer{}
				for i := range list {
					l.put(&list[i])
				}
				return tx.merge(id, &l)
			}))
		})
	}
	require.NoError(b, s.Close())
	info, err := os.Stat(filepath.Join(dir, File))
	require.NoError(b, err)
	b.ResetTimer()
	for range b.N {
		s := open(b, dir)
		for k := range 60 {
			_, ok, err := s.Last(b.Context(), fmt.Sprint("device.s", k), site.Number)
			require.NoError(b, err)
			require.True(b, ok)
		}
		require.NoError(b, s.Close())
	}
	b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(b.N), "ms")
	b.ReportMetric(float64(info.Size())/float64(60*n), "bytes/reading")
	b.ReportMetric(float64(info.Size())/1e6, "MB")
	b.ReportMetric(0, "ns/op")
}
