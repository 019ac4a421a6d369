package words_test

import (
	"fmt"
	"time"

	"idleember/core/words"
)

// What is so is said to each in their own way.
func Example() {
	f := words.Of("demand.below", "Name", "Kiln shelf", "Is", words.Quantity{Num: 18.5, Unit: "Cel", Decimals: 1}, "To",
		words.Quantity{Num: 20, Unit: "Cel"})
	fmt.Println(words.English.Say(f, time.Now()))
	fmt.Println(words.Reader{Units: words.Customary}.Say(f, time.Now()))
	// Output:
	// Kiln shelf 18.5 °C is below the setpoint 20 °C
	// Kiln shelf 65.3 °F is below the setpoint 68 °F
}
