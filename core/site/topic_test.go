package site

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
		assert.Equal(t, tt.want, Matches(tt.filter, tt.topic), "%s and %s", tt.filter, tt.topic)
	}
}

func TestValidFilter(t *testing.T) {
	for filter, want := range map[string]bool{"a/b": true, "#": true, "+/b/#": true, "": false, "a/#/b": false,
		"a#": false, "a+/b": false, "a\x00": false} {
		assert.Equal(t, want, ValidFilter(filter), filter)
	}
}
