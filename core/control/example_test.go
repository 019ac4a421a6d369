package control_test

import (
	"fmt"
	"time"

	"idleember/core/control"
	"idleember/core/engine"
	"idleember/core/site"
)

// What was set by hand holds against demands, and an interlock against both.
func ExampleDecide() {
	fan := site.NewControl("kiln", "fan", "fan", "Vent fan")
	auto := &site.Automation{Control: fan.ID, Interlocks: []site.Interlock{{Name: "smoke"}},
		Demands: []site.Demand{{Kind: engine.Whenever}}}
	f := &control.Facts{Now: time.Hour, Config: &fan, Auto: auto, Interlocks: []control.Tri{control.False},
		Demands: []control.Demanded{{Is: control.True, To: 1}}}
	say := func() { d := control.Decide(f); fmt.Println(fan.Say(d.Value), d.Step) }
	say()
	off := site.Amount(0)
	f.Hand = &off
	say()
	on := site.Amount(1)
	f.Hand, f.Interlocks = &on, []control.Tri{control.True}
	say()
	// Output:
	// on demand
	// off hand
	// off interlock
}
