package mqtt

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSessionKeepsOnlyTheNewestWantOfATopic(t *testing.T) {
	s := newSession()
	s.subscribe("ember/kiln/#", 1)
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
