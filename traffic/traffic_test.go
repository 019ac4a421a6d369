package traffic

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestPulse(t *testing.T) {
	start := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	m := &Meter{next: 1}
	for i := range 20 { // a reading and a report every 10 s, one of them a little late
		at := start.Add(time.Duration(i) * 10 * time.Second)
		if i == 7 {
			at = at.Add(400 * time.Millisecond)
		}
		m.Add(Message{At: at, Payload: []byte("r")})
		m.Add(Message{At: at.Add(3 * time.Millisecond), Payload: []byte("is")})
		m.Add(Message{At: at, Out: true})
	}
	p := m.Pulse(start.Add(195 * time.Second))
	assert.EqualValues(t, 40, p.Count, "what the hub says does not count")
	assert.Equal(t, 10*time.Second, p.Every)
	assert.Less(t, p.Jitter, 100*time.Millisecond)
	assert.Equal(t, 12.0, p.PerMinute)
	for range 2 * messagesKept {
		m.Add(Message{At: start, Payload: make([]byte, 5000)})
	}
	list, _ := m.After(0)
	assert.Len(t, list, messagesKept)
	assert.Len(t, list[0].Payload, payloadKept)
	assert.Equal(t, 5000, list[0].Bytes)
	later, _ := m.After(list[len(list)-2].Seq)
	assert.Len(t, later, 1)
}
