package series_test

import (
	"fmt"
	"time"

	"idleember/core/series"
)

// Ten minutes in two buckets. A value holds until the next reading, so that the mean by time is not the mean of the
// readings.
func ExampleBucketer() {
	const minute = 60_000
	b := series.NewBucketer(0, 10*minute, 5*minute, 10*time.Minute)
	for _, p := range []series.Point{{T: 0, V: 20}, {T: 4 * minute, V: 30}, {T: 6 * minute, V: 10}} {
		b.Add(p)
	}
	buckets, gaps := b.Finish(10 * minute)
	for _, x := range buckets {
		fmt.Printf("%d readings, %g to %g, mean %g, by time %g\n", x.Count, x.Min, x.Max, x.Mean, x.TimeMean)
	}
	fmt.Println(len(gaps))
	// Output:
	// 2 readings, 20 to 30, mean 25, by time 22
	// 1 readings, 10 to 30, mean 10, by time 14
	// 0
}
