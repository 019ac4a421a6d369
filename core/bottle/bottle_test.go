package bottle

import (
	"fmt"
	"os"
	"runtime/debug"
	"strconv"
	"strings"
	"testing"
	"time"
)

// TestSearch looks for faults in houses of many seeds: SEEDS=from-to.
func TestSearch(t *testing.T) {
	from, to := 1, 20
	if s := os.Getenv("SEEDS"); s != "" {
		fmt.Sscanf(s, "%d-%d", &from, &to)
	}
	hours := 12
	if s, err := strconv.Atoi(os.Getenv("HOURS")); err == nil {
		hours = s
	}
	count := map[string]int{}
	for seed := from; seed <= to; seed++ {
		func() {
			defer func() {
				if e := recover(); e != nil {
					fmt.Printf("seed %d: panic: %v\n%s", seed, e, debug.Stack())
				}
			}()
			p := NewPlan(uint64(seed), time.Duration(hours)*time.Hour, 12, 3)
			p.Ignore = strings.Split(os.Getenv("IGNORE"), ",")
			done := time.AfterFunc(10*time.Second, func() { panic(fmt.Sprintf("seed %d hangs", seed)) })
			r := Run(p)
			done.Stop()
			for _, f := range r.Faults {
				count[f.Rule]++
				fmt.Printf("seed %d: %s\n", seed, f)
			}
			if os.Getenv("V") != "" {
				fmt.Println(p.Script(), r.Judged, r.Span, r.Events, r.Effects)
			}
		}()
	}
	fmt.Println(count)
}
