// Package due keeps what is to happen at times of its own, the next first and what is due together in the order in which it
// came. It is a binary heap; unlike with container/heap nothing in it costs an allocation of its own.
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
	q.items = append(q.items, item[T]{at, q.count, x})
	for i := len(q.items) - 1; i > 0 && q.before(i, (i-1)/2); i = (i - 1) / 2 {
		q.items[i], q.items[(i-1)/2] = q.items[(i-1)/2], q.items[i]
	}
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
	first, last := q.items[0], len(q.items)-1
	q.items[0], q.items[last] = q.items[last], item[T]{}
	q.items = q.items[:last]
	for i := 0; ; {
		next := 2*i + 1
		if next+1 < last && q.before(next+1, next) {
			next++
		}
		if next >= last || !q.before(next, i) {
			return first.at, first.seq, first.x
		}
		q.items[i], q.items[next] = q.items[next], q.items[i]
		i = next
	}
}

func (q *Queue[T]) before(i, j int) bool {
	a, b := &q.items[i], &q.items[j]
	return a.at < b.at || a.at == b.at && a.seq < b.seq
}
