package engine_test

import (
	"fmt"
	"time"

	"idleember/core/access"
	"idleember/core/engine"
	"idleember/core/site"
)

// A wish for a control becomes a want for its device.
func ExampleEngine_Apply() {
	s := (&site.Site{}).With(site.Put(site.Device{ID: "kiln", Name: "Kiln"}),
		site.Put(site.NewControl("kiln", "fan", "fan", "Vent fan")))
	e := engine.New()
	now := engine.Now{Wall: time.Date(2026, 3, 1, 9, 0, 0, 0, time.UTC), Trusted: true}
	e.Apply(now, engine.SiteChanged{Site: s})
	now.Mono += time.Second
	for _, x := range e.Apply(now, engine.Command{Control: "kiln.fan", To: 1, Actor: access.HubActor()}) {
		if w, ok := x.(engine.Want); ok {
			fmt.Println(w.Control, w.Value, w.Urgent)
		}
	}
	c, _ := e.Control("kiln.fan")
	fmt.Println(c.Phase)
	// Output:
	// kiln.fan 1 false
	// pending
}
