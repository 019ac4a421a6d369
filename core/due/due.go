// Package due keeps what is to happen at times of its own, the next first and what is due together in the order in
// which it came. It is a binary heap; unlike with container/heap nothing in it costs an allocation of its own.
package due

import "time"

// Queue holds what is due. The zero value is empty.
type Queue[T any] struct {
	items []item[T]
	count uint64
}

type item[T any] struct {
	at  time.Duration
	seq uint64
	x   T
}

// Len is how much is in it.
func (q *Queue[T]) Len() int { return len(q.items) }

// Push puts something in and returns its number, which counts from 1.
func (q *Queue[T]) Push(at time.Duration, x T) uint64 {
	q.count++
	in := item[T]{at, q.count, x}
	q.items = append(q.items, in)
	i := len(q.items) - 1
	for ; i > 0 && at < q.items[(i-1)/2].at; i = (i - 1) / 2 { // of two that are due together the newer one is below
		q.items[i] = q.items[(i-1)/2]
	}
	q.items[i] = in
	return q.count
}

// Next is when the next is due; false: nothing is.
func (q *Queue[T]) Next() (time.Duration, bool) {
	if len(q.items) == 0 {
		return 0, false
	}
	return q.items[0].at, true
}

// Pop takes the next out, with its time and its number. There must be one.
func (q *Queue[T]) Pop() (at time.Duration, seq uint64, x T) {
	first, n := q.items[0], len(q.items)-1
	last := q.items[n]
	q.items[n] = item[T]{}
	q.items = q.items[:n]
	if n == 0 {
		return first.at, first.seq, first.x
	}
	i := 0
	for next := 1; next < n; next = 2*i + 1 {
		if next+1 < n && q.items[next+1].before(&q.items[next]) {
			next++
		}
		if last.before(&q.items[next]) {
			break
		}
		q.items[i] = q.items[next]
		i = next
	}
	q.items[i] = last
	return first.at, first.seq, first.x
}

func (a *item[T]) before(b *item[T]) bool { return a.at < b.at || a.at == b.at && a.seq < b.seq }
