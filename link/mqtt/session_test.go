package mqtt

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// The examples of MQTT 5, section 4.7, and what is easily got wrong.
func TestMatches(t *testing.T) {
	for _, tt := range []struct {
		filter, topic string
		want          bool
	}{
		{"sport/tennis/player1/#", "sport/tennis/player1", true},
		{"sport/tennis/player1/#", "sport/tennis/player1/ranking", true},
		{"sport/tennis/player1/#", "sport/tennis/player2", false},
		{"sport/tennis/+", "sport/tennis/player1", true},
		{"sport/tennis/+", "sport/tennis/player1/ranking", false},
		{"sport/+", "sport", false},
		{"sport/+", "sport/", true},
		{"+/+", "/finance", true},
		{"+", "/finance", false},
		{"a/b", "a/b", true},
		{"a/b", "a/bc", false},
		{"a/b/c", "a/b", false},
		{"a/b", "a/b/c", false},
		{"a/+/c", "a/b/c", true},
		{"a/+/#", "a/b", true},
		{"#", "a", true},
	} {
		assert.Equal(t, tt.want, matches(tt.filter, tt.topic), "%s and %s", tt.filter, tt.topic)
	}
}

func TestValidFilter(t *testing.T) {
	for filter, want := range map[string]bool{"a/b": true, "#": true, "+/b/#": true, "": false, "a/#/b": false, "a#": false, "a+/b": false, "a\x00": false} {
		assert.Equal(t, want, validFilter(filter), filter)
	}
}

func TestSessionKeepsOnlyTheNewestWantOfATopic(t *testing.T) {
	s := newSession(&device{id: "kiln"})
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
