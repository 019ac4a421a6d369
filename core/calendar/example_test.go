package calendar_test

import (
	"fmt"
	"time"

	"idleember/core/calendar"
)

// From 22:00 on weekdays, for two hours: the run of a Friday ends on Saturday.
func ExampleSchedule_Runs() {
	s := calendar.Schedule{Windows: []calendar.Window{{Days: []int{1, 2, 3, 4, 5},
		Start: calendar.Moment{Base: calendar.Clock, Minutes: 22 * 60}, ForMS: 2 * 3600_000}}}
	zone, _ := time.LoadLocation("Europe/Vienna")
	friday := time.Date(2026, 3, 6, 12, 0, 0, 0, zone)
	for _, r := range s.Runs(friday, friday.AddDate(0, 0, 3), calendar.Spot{}) {
		fmt.Println(r.From.Format("Mon 15:04"), r.To.Format("Mon 15:04"))
	}
	// Output:
	// Fri 22:00 Sat 00:00
}
