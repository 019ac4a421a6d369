package access_test

import (
	"fmt"

	"idleember/core/access"
	"idleember/core/site"
)

// Guests see and switch what it is opened to them for, and nothing else.
func ExampleMay() {
	guest := access.Actor{Kind: access.Person, ID: "lou", Name: "Lou", Role: access.Guest}
	lamp := access.Object{Device: "yard", Name: "yard.lamp", Guests: site.GuestsSee}
	fmt.Println(access.May(guest, access.Look, lamp))
	fmt.Println(access.May(guest, access.Switch, lamp) != nil)
	// Output:
	// <nil>
	// true
}
