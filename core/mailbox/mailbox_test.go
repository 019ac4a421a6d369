package mailbox

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"idleember/core/engine"
	"idleember/core/site"
)

var noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

func said(p Post) (out []site.Amount) {
	for _, w := range p.Wants {
		out = append(out, w.Value)
	}
	return out
}

func TestTheLastWantCounts(t *testing.T) {
	var b Box
	b.Name("kiln.fan", "Fan-1")
	b.Want(engine.Want{Control: "kiln.fan", Value: 1, Rev: 3})
	b.Want(engine.Want{Control: "kiln.fan", Value: 0, Rev: 5})
	b.Want(engine.Want{Control: "kiln.fan", Value: 1, Rev: 4}) // it waited for the disk
	p := b.Take(noon)
	assert.Equal(t, []site.Amount{0}, said(p))
	assert.Equal(t, "Fan-1", p.Wants[0].Raw)
	assert.Empty(t, said(b.Take(noon)))
	b.Want(engine.Want{Control: "kiln.fan", Value: 1, Rev: 4})
	assert.Empty(t, said(b.Take(noon)), "nor after it was taken")
	b.Want(engine.Want{Control: "kiln.fan", Value: 0, Rev: 5})
	assert.Equal(t, []site.Amount{0}, said(b.Take(noon)), "the same once more")
}

func TestPulsesAreNeverMergedNorLate(t *testing.T) {
	var b Box
	for i, v := range []site.Amount{1, 0, 1} {
		b.Want(engine.Want{Control: "door.bell", Value: v, Rev: int64(i), Pulse: "p", Deadline: noon.Add(5 * time.Second)})
	}
	b.Want(engine.Want{Control: "door.bell", Value: 0, Rev: 4, Pulse: "p"})
	assert.Equal(t, []site.Amount{1, 0, 1, 0}, said(b.Take(noon)))
	b.Want(engine.Want{Control: "door.bell", Value: 1, Rev: 5, Pulse: "p", Deadline: noon})
	b.Want(engine.Want{Control: "door.bell", Value: 0, Rev: 6, Pulse: "p"})
	assert.Equal(t, []site.Amount{0}, said(b.Take(noon)), "on is too late, off never is")
	for i := range 200 {
		b.Want(engine.Want{Control: "door.bell", Value: 1, Rev: int64(7 + i), Pulse: "p"})
	}
	assert.Len(t, b.Take(noon).Wants, pulsesKept)
}

func TestWhatIsWithdrawnIsGoneUnlessSomethingNewerIsWanted(t *testing.T) {
	var b Box
	b.Want(engine.Want{Control: "kiln.fan", Value: 1, Rev: 3})
	b.Want(engine.Want{Control: "door.bell", Value: 1, Rev: 1, Pulse: "p"})
	b.Withdraw("kiln.fan", "fan", 4)
	b.Withdraw("door.bell", "bell", 2)
	p := b.Take(noon)
	assert.Empty(t, said(p))
	assert.Equal(t, []string{"fan", "bell"}, p.Gone)
	b.Want(engine.Want{Control: "kiln.fan", Value: 1, Rev: 6}) // an interlock did not wait for the disk
	b.Withdraw("kiln.fan", "fan", 5)
	assert.Equal(t, []site.Amount{1}, said(b.Take(noon)))
}

func TestTheRestOfThePost(t *testing.T) {
	var b Box
	b.Beat(time.Minute)
	b.Mirror(engine.Mirror{Raw: "b", Rev: 1})
	b.Mirror(engine.Mirror{Raw: "b", Rev: 2})
	b.Mirror(engine.Mirror{Raw: "a"})
	b.End()
	for range 100 {
		b.Problem(Problem{Reason: "no"})
	}
	p := b.Take(noon)
	assert.Equal(t, time.Minute, p.Beat)
	assert.True(t, p.Ended)
	assert.Len(t, p.Problems, problemsKept)
	assert.Equal(t, []engine.Mirror{{Raw: "a"}, {Raw: "b", Rev: 2}}, p.Mirrors)
	assert.Equal(t, Post{}, b.Take(noon))
}
