package bottle

// Shrink leaves out of a failing plan what its first fault does not need: whole stretches of happenings first, then
// single ones (A. Zeller and R. Hildebrandt, Simplifying and isolating failure-inducing input, 2002). What is left
// breaks the same promise at the same control.
func Shrink(p *Plan) *Plan {
	first := Run(p)
	if len(first.Faults) == 0 {
		return p
	}
	fault := first.Faults[0]
	best := *p
	best.Span = fault.At + lookGap
	fails := func(q *Plan) bool {
		r := Run(q)
		return len(r.Faults) > 0 && r.Faults[0].Rule == fault.Rule && r.Faults[0].Of == fault.Of
	}
	for size := len(best.Happenings); size > 0; size /= 2 {
		for at := 0; at < len(best.Happenings); {
			q := best
			end := min(at+size, len(best.Happenings))
			q.Happenings = append(append([]Happening{}, best.Happenings[:at]...), best.Happenings[end:]...)
			if fails(&q) {
				best = q
			} else {
				at = end
			}
		}
	}
	return &best
}
