package mqtt

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSessionKeepsOnlyTheNewestWantOfATopic(t *testing.T) {
	s := newSession()
	s.subscribe("ember/kiln/#", subscription{qos: 1})
	for _, word := range []string{"on", "off", "on"} {
		s.offer(message{topic: "ember/kiln/want/fan", payload: []byte(word), qos: 1, want: true}, false)
	}
	for range 3 * queued {
		s.offer(message{topic: "ember/kiln/r/x", payload: []byte("1"), qos: 1}, false)
	}
	assert.LessOrEqual(t, len(s.waiting), queued, "what waits for an absent client is bounded")
	s.offer(message{topic: "ember/kiln/want/fan", payload: []byte("off"), qos: 1, want: true}, false)
	n := 0
	for _, m := range s.waiting {
		if m.want {
			n++
			assert.Equal(t, "off", string(m.payload))
		}
	}
	assert.Equal(t, 1, n)
	s.offer(message{topic: "ember/kiln/lease", payload: []byte("60")}, false) // not kept for the absent: a beat is for now
	assert.NotContains(t, s.waiting, message{topic: "ember/kiln/lease", payload: []byte("60")})
}

// What a fresh subscription gets keeps to the client's Receive Maximum, is all told, and before anything newer of its
// topic.
func TestRetainedMessagesKeepToTheWindow(t *testing.T) {
	s := newSession()
	c := &conn{window: 2, wake: make(chan struct{}, 1)}
	s.take(c)
	s.subscribe("ember/kiln/#", subscription{qos: 1})
	const many = 3 * queued
	topic := func(i int) string { return fmt.Sprintf("ember/kiln/want/%d", i) }
	for i := range many {
		s.offer(message{topic: topic(i), payload: []byte("on"), qos: 1, want: true, kept: true}, true)
	}
	s.offer(message{topic: topic(many - 1), payload: []byte("off"), qos: 1, want: true, kept: true}, false)
	s.offer(message{topic: "ember/kiln/r/x", payload: []byte("1"), qos: 1}, false)
	for i := range many + 1 {
		require.Len(t, c.out, min(i+2, many+1))
		require.LessOrEqual(t, len(s.flight), 2)
		s.acked(c.out[i].PacketID)
	}
	assert.True(t, c.out[0].FixedHeader.Retain)
	assert.Equal(t, []string{topic(many - 1), "ember/kiln/r/x"}, []string{c.out[many-1].TopicName, c.out[many].TopicName})
	assert.Equal(t, "off", string(c.out[many-1].Payload), "the newer one in its place")
	assert.False(t, c.out[many-1].FixedHeader.Retain)
	assert.Empty(t, s.fresh)
}
