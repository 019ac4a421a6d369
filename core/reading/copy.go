package reading

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Copy is what a device says of its copy of a setting.
type Copy struct {
	Name  string // what the device calls it
	Value Value
	Based int64         // the revision that it was based on
	Age   time.Duration // since the device changed it; 0: it did not
}

const longestAge = 366 * 24 * 3600 // seconds

// CopyJSON takes {"v":24,"rev":7,"age":120} apart, where age is in seconds.
func CopyJSON(name string, payload []byte) (Copy, error) {
	var o struct {
		V   json.RawMessage `json:"v"`
		Rev int64           `json:"rev"`
		Age float64         `json:"age"`
	}
	err := json.Unmarshal(payload, &o)
	var v Value
	if err == nil {
		v, err = FromJSON(o.V)
	}
	if err != nil || o.Age < 0 || o.Age > longestAge {
		return Copy{}, fmt.Errorf(`%s is not what a copy of a setting says; expected one such as {"v":24,"rev":7,"age":120}`,
			clip(string(payload)))
	}
	return Copy{Name: name, Value: v, Based: o.Rev, Age: time.Duration(o.Age * float64(time.Second))}, nil
}

// CopyText takes the same written as one word apart: 24,7,120.
func CopyText(name, word string) (Copy, error) {
	fail := fmt.Errorf("the copy %s: %s is not what a copy of a setting says; expected value,revision,seconds since it "+
		"was changed, as in 24,7,120", clip(name), clip(word))
	rest, age, ok := cutLast(word)
	value, rev, ok2 := cutLast(rest)
	seconds, err := strconv.ParseFloat(age, 64)
	based, err2 := strconv.ParseInt(rev, 10, 64)
	v, err3 := Parse([]byte(value))
	if !ok || !ok2 || err != nil || err2 != nil || err3 != nil || !(seconds >= 0 && seconds <= longestAge) {
		return Copy{}, fail
	}
	return Copy{Name: name, Value: v, Based: based, Age: time.Duration(seconds * float64(time.Second))}, nil
}

func cutLast(s string) (before, after string, ok bool) {
	i := strings.LastIndexByte(s, ',')
	if i < 0 {
		return "", "", false
	}
	return s[:i], s[i+1:], true
}

// word writes a copy as CopyText reads it.
func (c Copy) word() string {
	return c.Value.String() + "," + strconv.FormatInt(c.Based, 10) + "," + strconv.FormatFloat(c.Age.Seconds(), 'f', -1,
		64)
}
