package alert_test

import (
	"fmt"
	"time"

	"idleember/core/alert"
	"idleember/core/words"
)

// An alert is raised, acknowledged, and over.
func ExampleState_Apply() {
	at := time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC)
	s := alert.State{ID: "hot"}
	for _, in := range []alert.Input{{Event: alert.Came, Value: words.Said("140 °C")}, {Event: alert.Acknowledge,
		By: "Mo"},
		{Event: alert.Went}} {
		what, err := s.Apply(alert.Config{}, at, in)
		fmt.Println(what, s.Phase(), err)
		at = at.Add(time.Minute)
	}
	// Output:
	// [raised] active <nil>
	// [acknowledged] acknowledged <nil>
	// [over] normal <nil>
}
