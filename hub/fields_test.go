package hub

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"idleember/core/engine"
	"idleember/core/site"
)

func TestTheJournalTellsFormulasAsTheyAreWritten(t *testing.T) {
	a := site.Automation{Demands: []site.Demand{{Kind: engine.Whenever,
		Condition: site.Condition{When: `kiln.chamber > 120 and fan.mode == "manual" & x`}}}}
	assert.Equal(t, `kind formula, when kiln.chamber > 120 and fan.mode == 'manual' & x`, fieldsOf(a)["demands"])
}
