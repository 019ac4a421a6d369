// Package guess counts wrong guesses at secrets, and says how long whoever guesses has to wait. It has no clock.
//
// A try counts as wrong before it is judged, however long that takes; once it is found right it never was. So of any
// number of tries at the same time only as many are judged as of tries one after another. Each key that a try is booked
// under counts by itself: an account, an address, or the two together.
package guess

import "time"

const (
	free    = 5 // tries that cost no wait
	first   = 2 * time.Second
	longest = 15 * time.Minute
	keeps   = time.Hour // how long a wrong try is remembered
	most    = 10_000    // keys that are remembered
)

// Book is what is known of wrong tries. The zero value is empty. It is not safe for use by several goroutines at once.
type Book struct {
	of    map[string]*tries
	swept time.Time
}

type tries struct {
	wrong int
	until time.Time
	last  time.Time
}

// Try books a try under some keys, unless one of them has to wait: then nothing is booked, and wait is how long.
func (b *Book) Try(now time.Time, keys ...string) (wait time.Duration) {
	if b.of == nil {
		b.of = map[string]*tries{}
	}
	for _, k := range keys {
		if t := b.of[k]; t != nil {
			wait = max(wait, t.until.Sub(now))
		}
	}
	if wait > 0 {
		return wait
	}
	b.sweep(now)
	for _, k := range keys {
		t := b.of[k]
		if t == nil {
			t = &tries{}
			b.of[k] = t
		}
		t.wrong++
		t.last = now
		if t.wrong >= free {
			t.until = now.Add(min(longest, first<<min(t.wrong-free, 12)))
		}
	}
	return 0
}

// Right takes back what was booked under some keys, with all that was wrong before.
func (b *Book) Right(keys ...string) {
	for _, k := range keys {
		delete(b.of, k)
	}
}

// Undo takes back a single try that was not judged after all.
func (b *Book) Undo(keys ...string) {
	for _, k := range keys {
		if t := b.of[k]; t != nil {
			if t.wrong--; t.wrong < free {
				t.until = time.Time{}
			}
			if t.wrong <= 0 {
				delete(b.of, k)
			}
		}
	}
}

// sweep forgets what was long ago; where there is too much even so, what was longest ago.
func (b *Book) sweep(now time.Time) {
	if now.Sub(b.swept) < time.Minute && len(b.of) < most {
		return
	}
	b.swept = now
	oldest := ""
	for k, t := range b.of {
		if now.Sub(t.last) > keeps {
			delete(b.of, k)
		} else if oldest == "" || t.last.Before(b.of[oldest].last) {
			oldest = k
		}
	}
	if len(b.of) >= most {
		delete(b.of, oldest)
	}
}
