package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAModelWithAnEmptyAutomationIsRefused(t *testing.T) {
	m := Model{Format: ModelFormat, ID: "x", Name: "X", Link: Link{Kind: MQTT},
		Controls: []ModelControl{{ID: "heater", Name: "Heater"}}}
	require.NoError(t, m.Validate())
	m.Automations = []*Automation{nil}
	assert.ErrorContains(t, m.Validate(), "automation 1 is empty")
	m.Automations = []*Automation{{Control: "heater", Idle: 1}, {Control: "heater"}}
	assert.ErrorContains(t, m.Validate(), "automation 2")
}
