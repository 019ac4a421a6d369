package tests

import (
	"testing"

	"go.uber.org/goleak"
)

// What a test began it also ended, but for connections that the standard client keeps for the next request.
func TestMain(m *testing.M) {
	goleak.VerifyTestMain(m, goleak.IgnoreTopFunction("net/http.(*persistConn).readLoop"),
		goleak.IgnoreTopFunction("net/http.(*persistConn).writeLoop"),
		goleak.IgnoreTopFunction("internal/poll.runtime_pollWait"))
}
