// Command mutants changes the deciding code in small ways, one at a time, and tells which changes the tests do not
// notice.
//
//	go run ./scripts/mutants -n 300 -seed 1 > docs/mutants.md
//
// Each mutant is one operator turned round, one condition negated, one statement left out, or one true made false (R.
// DeMillo, R. Lipton and F. Sayward, Hints on test data selection, 1978). All of them are built into one binary for
// each package of tests, and MUTANT says which one counts (R. Untch, A. Offutt and M. Harrold, Mutation analysis using
// mutant schemata, 1993). They live in an overlay, so the tree is never touched. Those that no test could tell from the
// original stand in scripts/mutants/equivalent.txt with the reason, and do not count.
package main

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// where the decisions are taken.
var where = []string{"core/control/control.go", "core/engine/deciding.go", "core/engine/build.go",
	"core/engine/lock.go", "core/engine/mover.go", "core/engine/pace.go", "core/engine/groups.go",
	"core/engine/wants.go", "core/engine/command.go", "core/engine/demand.go", "core/engine/restore.go",
	"core/engine/presence.go", "core/engine/rules.go", "core/engine/ring.go"}

// tests are what a mutant has to get past, in order: what takes longest comes last.
var tests = []struct{ name, of, run string }{
	{"beside the code", "core/control", ""}, {"beside the code", "core/engine", ""}, {"oracle", "core/bottle",
		"Mutants|KeptCases"},
	{"recorded days", "core/bottle", "AsRecorded"}, {"properties", "core/bottle", "WhatIsKept|AKilledHouse|SameSite"}}

func main() {
	n := flag.Int("n", 300, "how many mutants; 0: all")
	seed := flag.Uint64("seed", 1, "which ones")
	workers := flag.Int("workers", 2, "how many at a time")
	flag.Parse()
	dir, err := os.MkdirTemp("", "mutants")
	if err != nil {
		log.Fatal(err)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	all := build(dir)
	if by := try(dir, 0); by != "" {
		log.Fatalf("without a mutant the tests fail: %s", by)
	}
	rand.New(rand.NewPCG(*seed, 0)).Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	possible := len(all)
	if *n > 0 {
		all = all[:min(*n, len(all))]
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	killed, equal, alive := run(ctx, dir, all, *workers)
	total := 0
	for _, k := range killed {
		total += k
	}
	fmt.Printf("# Mutants\n\nOf %d possible mutants of the deciding code %d were tried on %s (`make mutants`): %d "+
		"killed (%.1f %%), %d alive, %d equivalent.\n",
		possible, total+len(alive)+equal, time.Now().UTC().Format(time.DateOnly), total,
		100*float64(total)/float64(max(1, total+len(alive))), len(alive), equal)
	fmt.Printf("%d fell to the tests beside the code, %d more to the oracle of the house in a bottle, %d more to the "+
		"recorded days, which tell that something changed but not what is right, %d more to what must be so of each "+
		"house.\nWhy the equivalent ones are that says `scripts/mutants/equivalent.txt`.\n",
		killed[tests[0].name], killed[tests[2].name], killed[tests[3].name], killed[tests[4].name])
	if len(alive) > 0 {
		fmt.Printf("\nAlive:\n\n")
	}
	for _, m := range alive {
		fmt.Printf("- %s\n", m)
	}
}

// run tries mutants, some at a time, until it is interrupted.
func run(ctx context.Context, dir string, all []mutant, workers int) (killed map[string]int, equal int,
	alive []string) {
	killed = map[string]int{}
	same := equivalent()
	var mu sync.Mutex
	done := 0
	jobs := make(chan mutant)
	var left sync.WaitGroup
	for range workers {
		left.Go(func() {
			for m := range jobs {
				by := ""
				known := slices.Contains(same, line.ReplaceAllString(m.String(), " "))
				if !known {
					by = try(dir, m.id)
				}
				mu.Lock()
				switch {
				case known:
					equal++
				case by != "":
					killed[by]++
				default:
					alive = append(alive, m.String())
					log.Printf("alive: %s", m)
				}
				if done++; done%50 == 0 {
					log.Printf("%d of %d tried, %d alive", done, len(all), len(alive))
				}
				mu.Unlock()
			}
		})
	}
	for _, m := range all {
		select {
		case jobs <- m:
			continue
		case <-ctx.Done():
		}
		break
	}
	close(jobs)
	left.Wait()
	slices.Sort(alive)
	return killed, equal, alive
}

// try runs the tests on a mutant and tells which of them noticed it.
func try(dir string, id int) string {
	for _, t := range tests {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		args := []string{"-test.timeout=50s", "-test.failfast", "-test.run=" + t.run}
		if t.run == "" { // a property that a mutant breaks is not to be tried on the next
			args = append(args, "-rapid.nofailfile")
		}
		cmd := exec.CommandContext(ctx, filepath.Join(dir, filepath.Base(t.of)+".test"), args...)
		cmd.Dir = t.of
		cmd.Env = append(os.Environ(), "IDLEEMBER_MUTANTS=1", "MUTANT="+strconv.Itoa(id))
		err := cmd.Run()
		cancel()
		if err != nil {
			return t.name
		}
	}
	return ""
}

// build makes the test binaries with all mutants in them. What does not compile, as texts cannot be subtracted, is left
// out.
func build(dir string) []mutant {
	left := map[int]bool{}
	for {
		replace := map[string]string{}
		var all []mutant
		helped := map[string]bool{}
		for _, file := range where {
			text, made := mutate(file, len(all), left)
			all = append(all, made...)
			pkg := filepath.Dir(file)
			write(dir, replace, file, text)
			if !helped[pkg] {
				helped[pkg] = true
				write(dir, replace, filepath.Join(pkg, "zz_mutant.go"), "package "+filepath.Base(pkg)+helpers)
			}
		}
		overlay, _ := json.Marshal(map[string]any{"Replace": replace})
		if err := os.WriteFile(filepath.Join(dir, "overlay.json"), overlay, 0o600); err != nil {
			log.Fatal(err)
		}
		wrong := compile(dir)
		if len(wrong) == 0 {
			return slices.DeleteFunc(all, func(m mutant) bool { return left[m.id] })
		}
		before := len(left)
		for _, m := range all {
			if m.adds && slices.ContainsFunc(wrong, m.at) {
				left[m.id] = true
			}
		}
		if len(left) == before {
			log.Fatalf("what does not compile is no mutant: %v", wrong)
		}
	}
}

func write(dir string, replace map[string]string, file, text string) {
	here, _ := filepath.Abs(file)
	replace[here] = filepath.Join(dir, strings.ReplaceAll(file, "/", "_"))
	if err := os.WriteFile(replace[here], []byte(text), 0o600); err != nil {
		log.Fatal(err)
	}
}

var line = regexp.MustCompile(`:\d+ `)

var mistake = regexp.MustCompile(`(?m)(\w+\.go):(\d+):\d+: `)

// compile returns the lines that are wrong.
func compile(dir string) (wrong []string) {
	for _, t := range tests {
		cmd := exec.Command("go", "test", "-c", "-vet=off", "-gcflags=-e", "-overlay="+filepath.Join(dir, "overlay.json"),
			"-o", filepath.Join(dir, filepath.Base(t.of)+".test"), "./"+t.of)
		out, err := cmd.CombinedOutput()
		for _, m := range mistake.FindAllStringSubmatch(string(out), -1) {
			name := m[1]
			for _, file := range where {
				if strings.HasSuffix(name, strings.ReplaceAll(file, "/", "_")) {
					name = filepath.Base(file)
				}
			}
			wrong = append(wrong, name+":"+m[2])
		}
		if err != nil && len(wrong) == 0 {
			log.Fatalf("%s", out)
		}
		if len(wrong) > 0 {
			return wrong
		}
	}
	return nil
}

// equivalent lists the mutants that no test could tell from the original, each without the number of its line and with
// the reason.
func equivalent() (list []string) {
	text, _ := os.ReadFile("scripts/mutants/equivalent.txt")
	for _, line := range strings.Split(string(text), "\n") {
		if name, _, ok := strings.Cut(line, " — "); ok {
			list = append(list, name)
		}
	}
	return list
}
