package engine

import (
	"encoding/json"
	"fmt"

	"idleember/core/alert"
)

// The kinds of state that are kept. What is kept under a kind and an id takes the place of what was there.
const (
	keptSignal    = "signal"
	keptControl   = "control"
	keptDemands   = "demands"
	keptDevice    = "device"
	keptSetting   = "setting"
	keptRule      = "rule"
	keptAlert     = "alert"
	keptCondition = "condition"
)

// Kept is what must be kept of an effect so that an engine can be restored; ok is false where nothing must. A nil State
// is to be forgotten.
func Kept(x Effect) (k Keep, ok bool) {
	switch e := x.(type) {
	case Keep:
		return e, true
	case ControlChanged:
		return Keep{keptControl, e.State.ID, x}, true
	case DeviceChanged:
		return Keep{keptDevice, e.State.ID, x}, true
	case SettingChanged:
		return Keep{keptSetting, e.State.ID, x}, true
	case SignalLearnt:
		return Keep{keptSignal, e.State.ID, x}, true
	case AlertChanged:
		return Keep{keptAlert, e.State.ID, x}, true
	case AlertGone:
		return Keep{keptAlert, e.ID, nil}, true
	}
	return Keep{}, false
}

// Body is a kept state as it is written.
func (k Keep) Body() ([]byte, error) {
	state := k.State
	switch x := state.(type) {
	case ControlChanged:
		state = x.State
	case DeviceChanged:
		state = x.State
	case SettingChanged:
		state = x.State
	case SignalLearnt:
		state = x.State
	case AlertChanged:
		state = x.State
	}
	return json.Marshal(state)
}

// Add takes back what was kept under a kind and an id. It fails where the body cannot be read; of a kind that it does
// not know it takes nothing.
func (r *Restored) Add(kind, id string, body []byte) error {
	var err error
	switch kind {
	case keptSignal:
		r.Signals, err = added(r.Signals, body)
	case keptControl:
		r.Controls, err = added(r.Controls, body)
	case keptDemands:
		r.Demands, err = added(r.Demands, body)
	case keptDevice:
		r.Devices, err = added(r.Devices, body)
	case keptSetting:
		r.Settings, err = added(r.Settings, body)
	case keptRule:
		r.Rules, err = added(r.Rules, body)
	case keptAlert:
		r.Alerts, err = added[alert.State](r.Alerts, body)
	case keptCondition:
		var list []CondState
		if list, err = added(list, body); err == nil {
			if r.Conditions == nil {
				r.Conditions = map[string]CondState{}
			}
			r.Conditions[id] = list[0]
		}
	}
	if err != nil {
		return fmt.Errorf("the kept state of %s %s: %w", kind, id, err)
	}
	return nil
}

func added[T any](list []T, body []byte) ([]T, error) {
	var v T
	if err := json.Unmarshal(body, &v); err != nil {
		return list, err
	}
	return append(list, v), nil
}

// Read completes the state of a signal by its newest stored reading.
func (s SignalState) Read(st Store) SignalState {
	s.Seen, s.At, s.Heard, s.Value, s.Raw, s.Quality = true, st.At, st.At, st.Value, st.Raw, st.Quality
	return s
}
