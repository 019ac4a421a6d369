package access

import "idleember/core/site"

// Rights are the lines in which a household says who may do what, beyond what roles say. The zero value has none.
type Rights struct {
	lines map[[2]string]site.Guests // by who and what
}

// NewRights puts lines in order.
func NewRights(lines []site.Right) *Rights {
	r := &Rights{map[[2]string]site.Guests{}}
	for _, l := range lines {
		r.lines[[2]string{l.Who, l.Of}] = l.May
	}
	return r
}

// may is what an actor may do with an object: see, switch, or nothing. The most specific line counts: one for the
// person before one for everybody of the role; then one for the thing itself before one for its device or its place.
// Without a line members see and switch everything, and guests what the thing itself is opened for.
func (r *Rights) may(a Actor, o Object) site.Guests {
	guest := a.Role == Guest
	for _, who := range [2]string{a.ID, string(a.Role) + "s"} {
		for i, of := range [3]string{o.Name, o.Device, o.Place} {
			if of == "" {
				continue
			}
			m, ok := r.line(who, of)
			if ok && guest && i > 0 {
				if o.Private {
					m = site.GuestsNothing
				} else if o.Dangerous && m == site.GuestsSwitch {
					m = site.GuestsSee
				}
			}
			if ok {
				return m
			}
			if i == 0 && guest && who != a.ID && o.Guests != "" && o.Guests != site.GuestsNothing {
				return o.Guests
			}
		}
	}
	if guest {
		return o.Guests
	}
	return site.GuestsSwitch
}

func (r *Rights) line(who, of string) (site.Guests, bool) {
	if r == nil {
		return "", false
	}
	m, ok := r.lines[[2]string{who, of}]
	return m, ok
}
