package bottle

import (
	"encoding/json"
	"fmt"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"
)

func TestDbg(t *testing.T) {
	seed, _ := strconv.Atoi(os.Getenv("SEED"))
	id := os.Getenv("ID")
	p := NewPlan(uint64(seed), 12*time.Hour, 12, 3)
	p.Ignore = strings.Split(os.Getenv("IGNORE"), ",")
	var told []string
	story := func(of, text string) {
		if of == id || of == os.Getenv("ALSO") {
			told = append(told, of+" "+text)
		}
	}
	r := happen(p, story, func(w *world) {
		a, _ := json.MarshalIndent(w.hub.site.Automations[id], "", " ")
		fmt.Println(string(a))
		s, _ := w.hub.engine.Control(id)
		b, _ := json.MarshalIndent(s, "", " ")
		fmt.Println(string(b))
		why, _ := w.hub.engine.Why(w.hub.time(), id)
		c, _ := json.MarshalIndent(why, "", " ")
		fmt.Println(string(c))
		for _, sig := range strings.Split(os.Getenv("SIG"), ",") {
			g, _ := w.hub.engine.Signal(sig)
			d, _ := json.Marshal(g)
			fmt.Println(string(d), fmt.Sprintf("%+v", w.oracle.signals[sig]), p.Every[sig], p.Site.Signals[sig].Interval)
		}
		if x := w.oracle.watched[id]; x != nil {
			for _, l := range x.locks {
				fmt.Printf("lock %+v\n  %+v\n", *l, *l.c)
			}
			for _, l := range x.demands {
				if l != nil && l.c != nil {
					fmt.Printf("demand %+v\n", *l.c)
				}
			}
		}
	})
	n, _ := strconv.Atoi(os.Getenv("N"))
	fmt.Println(strings.Join(told[max(0, len(told)-n):], "\n"))
	fmt.Println(r.Faults)
	if os.Getenv("V") != "" {
		fmt.Println(p.Script())
	}
}
