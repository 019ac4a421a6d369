package store

import (
	"encoding/json"
	"errors"
	"math"
	"slices"
	"strings"

	"idleember/core/series"
	"idleember/core/site"
	"idleember/store/pages"
)

// rescued is a table of the new database.
type rescued struct {
	name    string
	keyed   bool // it has no rowid
	columns []column
	insert  string
	root    uint32
	gaps    []gap
	lost    int // rows that were refused
}

type column struct {
	Name    string
	Type    string
	NotNull bool
	Default *string
	PK      int
}

// alias reports whether a column is the rowid, which stands beside the row and not in it.
func (t *rescued) alias(i int) bool {
	return !t.keyed && t.columns[i].PK == 1 && t.columns[i].Type == "INTEGER"
}

// fits reports whether a row can be one of the table.
func (t *rescued) fits(r pages.Row) bool {
	if len(r.Values) == 0 || len(r.Values) > len(t.columns) {
		return false
	}
	for i, c := range t.columns {
		if i >= len(r.Values) {
			if c.NotNull && c.Default == nil {
				return false
			}
			continue
		}
		ok := true
		switch r.Values[i].(type) {
		case nil:
			ok = !c.NotNull || t.alias(i)
		case int64, float64:
			ok = c.Type == "INTEGER" || c.Type == "REAL" || c.Type == ""
		case string:
			ok = c.Type == "TEXT" || c.Type == ""
		case []byte:
			ok = c.Type == "BLOB" || c.Type == ""
		}
		if !ok || t.alias(i) && r.Values[i] != nil {
			return false
		}
	}
	return true
}

func (t *rescued) values(r pages.Row) []any {
	values := slices.Clone(r.Values)
	for i := range values {
		if t.alias(i) {
			values[i] = r.ID
		}
	}
	return values
}

var errDamaged = errors.New("it is damaged")

// sound returns the row as it is to be kept; nil: it need not be. Long, because it is one case for each table.
func (v *salvage) sound(t *rescued, values []any) ([]any, error) {
	text := func(i int) (s string) {
		if i < len(values) {
			s, _ = values[i].(string)
		}
		return s
	}
	number := func(i int) (n int64) {
		if i < len(values) {
			n, _ = values[i].(int64)
		}
		return n
	}
	blob := func(i int) (b []byte) {
		if i < len(values) {
			b, _ = values[i].([]byte)
		}
		return b
	}
	switch t.name {
	case "series":
		v.names[number(0)] = text(1)
		if len(values) > 2 && number(2) != math.MinInt64 {
			v.thinned[number(0)] = number(2)
		}
	case "blocks":
		return v.block(values, number, blob)
	case "cells":
		id := number(0) >> dayBits
		thin, ok := v.thinned[id]
		if !ok || dayOf(number(0)) >= thin {
			return nil, nil // they are made anew
		}
		cells, err := v.codec.DecodeCells(nil, dayOf(number(0)), blob(1))
		if err != nil {
			return values, &stretchError{"sums of hours of " + v.called(id), atTime(dayOf(number(0))), atTime(dayOf(number(0)) +
				series.Day)}
		}
		cells = slices.DeleteFunc(cells, func(c series.Cell) bool { return c.At >= thin })
		if len(cells) == 0 {
			return nil, nil
		}
		return []any{values[0], v.codec.EncodeCells(nil, dayOf(number(0)), cells)}, nil
	case "log":
		changes, err := openRow(number(0), blob(2))
		if err == nil {
			err = eachOp(changes, func(op) {})
		}
		if err != nil {
			return values, &stretchError{"some of what came", atTime(number(1) - 5000), atTime(number(1))}
		}
	case "places":
		return values, object(text(3)) // what formats before 13 had
	case "devices":
		return values, object(text(7))
	case "signals", "controls":
		return values, object(text(11))
	case "brokers", "models", "dashboards":
		return values, object(text(1))
	case "state":
		return values, unmarshals(text(2), &map[string]any{})
	case "preferences":
		return values, unmarshals(text(1), &site.Preferences{})
	case "parts":
		if (&site.Site{}).Clone().Load(text(0), []byte(text(2))) != nil {
			return values, errDamaged
		}
	case "hub":
		if slices.Contains(hubKeys, text(0)) && text(0) != "alive" {
			return values, object(text(1))
		}
	}
	return values, nil
}

// object says whether a text is JSON.
func object(text string) error {
	if text != "" && !json.Valid([]byte(text)) {
		return errDamaged
	}
	return nil
}

func unmarshals(text string, into any) error {
	if text == "" || into == nil {
		return nil
	}
	if json.Unmarshal([]byte(text), into) != nil {
		return errDamaged
	}
	return nil
}

// block verifies a block by its own checksum and by what stands beside it.
func (v *salvage) block(values []any, number func(int) int64, blob func(int) []byte) ([]any, error) {
	id, from := number(0)>>timeBits, timeOf(number(0))
	span := series.Span{From: from, To: number(1) + 1}
	where := &stretchError{v.called(id), atTime(from), atTime(number(1))}
	c := &series.Columns{}
	if err := v.codec.Decode(c, blob(3)); err != nil || c.Len() == 0 || c.T[0] != from || c.T[c.Len()-1] != number(1) ||
		int64(c.Len()) != number(2) || !slices.IsSorted(c.T) {
		if err == nil && c.Len() > 0 && slices.IsSorted(c.T) && c.T[0] == from { // what stands beside it is wrong
			values = []any{values[0], c.T[c.Len()-1], int64(c.Len()), blob(3)}
			span.To = c.T[c.Len()-1] + 1
		} else {
			return values, where
		}
	}
	at, _ := slices.BinarySearchFunc(v.blocks[id], span.From, func(s series.Span, t int64) int {
		return int(min(1, max(-1, s.From-t)))
	})
	if at > 0 && v.blocks[id][at-1].To > span.From || at < len(v.blocks[id]) && v.blocks[id][at].From < span.To {
		return nil, nil // what is there is newer
	}
	v.blocks[id] = slices.Insert(v.blocks[id], at, span)
	return values, nil
}

// stateKinds are those of what the engine remembers, hubKeys what stands in the table of the hub itself.
var (
	stateKinds = []string{"signal", "control", "device", "setting", "alert", "rule", "group", "demands", "condition"}
	hubKeys    = []string{"site", "messaging", "backups", "rights", "panel", "alive", "clock"}
)

// looks reports whether what is written in a row is of the table: several have columns of the same types. Long,
// because it is one case for each table.
func (t *rescued) looks(values []any) bool {
	text := func(i int) (s string) {
		if i < len(values) {
			s, _ = values[i].(string)
		}
		return s
	}
	has := func(i int, key string) bool {
		var x map[string]json.RawMessage
		return json.Unmarshal([]byte(text(i)), &x) == nil && x[key] != nil
	}
	switch t.name {
	case "hub":
		return slices.Contains(hubKeys, text(0)) || strings.HasPrefix(text(0), "secret ")
	case "members":
		return slices.Contains([]string{"owner", "member", "guest"}, text(2))
	case "signals", "controls":
		return strings.HasPrefix(text(0), text(1)+".")
	case "models":
		return strings.HasPrefix(text(1), "{") && !slices.Contains(hubKeys, text(0))
	case "dashboards":
		return has(1, "tiles")
	case "preferences":
		return strings.HasPrefix(text(1), "{") && !has(1, "tiles")
	case "parts":
		k := site.KindOf(text(0))
		return k != nil && (has(2, "name") || k.Alone || k.Name == "automation" && has(2, "control"))
	case "secrets":
		return site.KindOf(text(0)) != nil
	case "state":
		return slices.Contains(stateKinds, text(0)) && strings.HasPrefix(text(2), "{") && !has(2, "name")
	case "brokers":
		return strings.HasPrefix(text(1), "{")
	}
	return true
}
