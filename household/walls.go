package household

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"idleember/contract/shown"
	"idleember/core/access"
	"idleember/core/fault"
	"idleember/core/site"
	"idleember/hub"
	"idleember/sight"
	"idleember/store"
)

func wallOf(x store.Pass) (w shown.Wall) {
	_ = json.Unmarshal([]byte(x.Wall), &w) // we wrote it
	w.ID, w.Name, w.CreatedMS = x.ID, x.Name, x.Created
	return w
}

// kept is what is kept of a wall with its pass.
func kept(w shown.Wall) string {
	// plain fields
	body, _ := json.Marshal(shown.Wall{Dashboard: w.Dashboard, Switches: w.Switches, DimFrom: w.DimFrom,
		DimUntil: w.DimUntil})
	return string(body)
}

// AddWall makes the key of a wall, which is told once.
func (p *People) AddWall(ctx context.Context, a access.Actor, w shown.Wall) (string, shown.Wall, error) {
	if err := access.May(a, access.Own, access.Anything); err != nil { // the key of a wall is one more way in
		return "", w, err
	}
	if err := sight.MayHang(p.house.Site(), a, w); err != nil {
		return "", w, err
	}
	key, x, err := p.pass(ctx, a, store.Pass{Kind: "wall", Name: w.Name, Wall: kept(w)}, 0)
	return key, wallOf(x), err
}

// Walls returns the walls of a dashboard; none to whoever may not take them down.
func (p *People) Walls(a access.Actor, dashboard string) ([]shown.Wall, error) {
	out := []shown.Wall{}
	var denied *access.Denied
	if err := sight.MayTakeDown(p.house.Site(), a, dashboard); errors.As(err, &denied) {
		return out, nil
	} else if err != nil {
		return nil, err
	}
	p.mu.RLock()
	defer p.mu.RUnlock()
	for _, x := range p.passes {
		if x.Kind == "wall" {
			if w := wallOf(x); w.Dashboard == dashboard {
				out = append(out, w)
			}
		}
	}
	slices.SortFunc(out, func(x, y shown.Wall) int { return int(x.CreatedMS - y.CreatedMS) })
	return out, nil
}

// EndWall revokes the key of a wall; what shows it goes dark at once.
func (p *People) EndWall(ctx context.Context, a access.Actor, dashboard, id string) error {
	if err := sight.MayTakeDown(p.house.Site(), a, dashboard); err != nil {
		return err
	}
	return p.house.Do(ctx, func(t hub.Turn) error {
		p.mu.Lock()
		defer p.mu.Unlock()
		for sum, x := range p.passes {
			if x.Kind == "wall" && x.ID == id && wallOf(x).Dashboard == dashboard {
				p.endPass(t, sum, x)
				t.Journal(a, "end wall", "dashboard."+dashboard, id, "", "")
				t.LookAgain()
				return nil
			}
		}
		return fault.NotFound("wall", id)
	})
}

// WallOf returns the wall whose key it is, and what stands before it.
func (p *People) WallOf(key, from string) (shown.Wall, access.Actor, error) {
	a, x, err := p.who(key, from)
	if err == nil && a.Kind != access.Wall {
		err = ErrSignedOut
	}
	return wallOf(x), a, err
}

// PartsGone ends the walls of dashboards that are gone, and takes from the others what they may switch that is. It
// returns what keeps that.
func (p *People) PartsGone(s *site.Site) (writes []store.Change) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for sum, x := range p.passes {
		if x.Kind != "wall" {
			continue
		}
		w := wallOf(x)
		if s.Dashboards[w.Dashboard].ID == "" {
			writes = append(writes, p.forget(sum, x))
			continue
		}
		left := slices.DeleteFunc(slices.Clone(w.Switches), func(id string) bool {
			return !s.Has(id) && s.Presets[id].ID == ""
		})
		if len(left) < len(w.Switches) {
			w.Switches = left
			x.Wall = kept(w)
			p.passes[sum] = x
			writes = append(writes, store.SavePass(x))
		}
	}
	return writes
}
