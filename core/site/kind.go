package site

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
)

// Key names one part of the configuration: what kind it is of, and which one. What there is one of alone has no id.
type Key struct{ Kind, ID string }

// Thing is the kind of a key that names a place, device, signal, control or setting: they share one namespace, and
// whoever mentions one need not know which it is.
const Thing = "thing"

// IsThing reports whether the key's kind is one of those that share the namespace.
func (k Key) IsThing() bool { return slices.Contains(things, k.Kind) }

var things = []string{"place", "device", "signal", "control", "setting"}

// Member is the kind of a key that names somebody of the household, who is no part of the configuration and owns some.
const Member = "member"

// Bond says what becomes of a part when what it mentions goes.
type Bond int

// The bonds.
const (
	Loose  Bond = iota // only the mention goes, see Kind.Without
	Owned              // the part goes with it
	Held               // as Loose where it goes with something else, as Needed where it is to go itself
	Needed             // it cannot go before the part is changed
)

// Mention is what a part says of another one.
type Mention struct {
	Of   Key
	Bond Bond
	By   string // the part in words, where its name does not say enough: "the interlock “smoke” of Kiln vent"
}

// Reads tells what ids a formula names, none where it cannot be read.
type Reads func(formula string) []string

// Kind describes one kind of part of the configuration. Catalogue lists them all; whatever keeps, reads, checks,
// restores or removes parts asks here, so that it is the same for each.
type Kind struct {
	// Name stands in the store, in the journal and in keys.
	Name string
	// Alone says that there is exactly one, with no id, also where nobody ever made it.
	Alone bool
	// Idle parts decide nothing: the engine need not know that they changed.
	Idle bool

	prefix   string // of what lines of the journal are about
	ids      func(*Site) []string
	get      func(*Site, string) any
	put      func(*Site, any)
	drop     func(*Site, string)
	parse    func([]byte) (any, error)
	read     func([]byte) (any, error)
	id       func(any) string
	withID   func(any, string) any
	secrets  map[string]func(any) Goes
	named    bool
	name     func(any) string
	validate func(*Site, any) error
	mentions func(*Site, any, Reads, func(Mention))
	formulas func(any, func(place, text string, quantity bool))
	without  func(any, func(Key) bool) (any, bool)
}

// Goes says where a secret of a part goes: it must not go anywhere that whoever entered it did not know of.
type Goes struct {
	Wanted bool   // there is something that asks for it
	To     string // where it goes, for people
	With   string // all that says so, to be compared
}

// KindOf returns what is known of a kind by its name, nil where there is none.
func KindOf(name string) *Kind {
	return byName[name]
}

var byName = func() map[string]*Kind {
	m := map[string]*Kind{}
	for _, k := range Catalogue {
		m[k.Name] = k
	}
	return m
}()

// of is the kind that a part is of.
func of(part any) *Kind {
	k := byType[reflect.TypeOf(part)]
	if k == nil {
		panic(fmt.Sprintf("site: %T is no part of the configuration", part)) // a mistake in the program
	}
	return k
}

var byType = func() map[reflect.Type]*Kind {
	m := map[reflect.Type]*Kind{}
	for _, k := range Catalogue {
		v, err := k.parse([]byte("{}"))
		if err != nil {
			panic(err)
		}
		m[reflect.TypeOf(v)] = k
	}
	return m
}()

// KeyOf returns the key of a part.
func KeyOf(part any) Key {
	k := of(part)
	return Key{k.Name, k.id(part)}
}

// Object is what lines of the journal about a part are about.
func (k *Kind) Object(id string) string { return k.prefix + id }

// Named is a part's name, or its id where it has none.
func (k *Kind) Named(part any) string {
	if n := k.name(part); n != "" {
		return n
	}
	return k.id(part)
}

// NameOf is the name that people gave a part; ok is false where parts of the kind have none.
func (k *Kind) NameOf(part any) (name string, ok bool) { return k.name(part), k.named }

// IDs are the ids of all parts of the kind, sorted.
func (k *Kind) IDs(s *Site) []string { return k.ids(s) }

// Get returns a part, nil where there is none.
func (k *Kind) Get(s *Site, id string) any { return k.get(s, id) }

// Parse reads a part.
func (k *Kind) Parse(body []byte) (any, error) { return k.parse(body) }

// WithID returns a part under another id.
func (k *Kind) WithID(part any, id string) any { return k.withID(part, id) }

// Secrets are the names of what is kept with a part and must not be shown, each with where it goes.
func (k *Kind) Secrets() map[string]func(part any) Goes { return k.secrets }

// Read reads a part that somebody sent, and refuses fields that it does not have.
func (k *Kind) Read(body []byte) (any, error) { return k.read(body) }

// Validate says in a sentence what is wrong with a part in a site, or returns nil. It does not look into formulas.
func (k *Kind) Validate(s *Site, part any) error { return k.validate(s, part) }

// Formulas calls each with every formula of a part and its place.
func (k *Kind) Formulas(part any, each func(place, text string, quantity bool)) {
	if k.formulas != nil {
		k.formulas(part, each)
	}
}

// Change puts a part into a site, in the place of the one of its key, or takes the one of a key out.
type Change struct {
	Put  any
	Drop Key
}

// Put is the change that keeps a part.
func Put(part any) Change { return Change{Put: part} }

// Key is whose change it is.
func (c Change) Key() Key {
	if c.Put != nil {
		return KeyOf(c.Put)
	}
	return c.Drop
}

// With returns a copy of a site with some changes.
func (s *Site) With(changes ...Change) *Site {
	next := s.Clone()
	for _, c := range changes {
		if c.Put != nil {
			of(c.Put).put(next, c.Put)
		} else if k := KindOf(c.Drop.Kind); k != nil {
			k.drop(next, c.Drop.ID)
		}
	}
	return next
}

// Load puts a part as the store kept it into a site that is being read. What is of no kind that this program knows is
// left alone.
func (s *Site) Load(kind string, body []byte) error {
	k := KindOf(kind)
	if k == nil {
		return nil
	}
	part, err := k.parse(body)
	if err == nil {
		k.put(s, part)
	}
	return err
}

// NeededError says that a part cannot go as another one needs it.
type NeededError struct{ What, By string }

func (e *NeededError) Error() string {
	return fmt.Sprintf("%s is used by %s; change that first", e.What, e.By)
}

// Remove finds all that changes when some parts, or members of the household, go: what they own goes with them, and
// what is left mentions none of them any more. Where something that stays needs one of them it returns a *NeededError.
//
// Formulas that name what is gone are unknown from then on, and say so. Long, because it is one pass over the bonds
// of a part, with a case for each.
func (s *Site) Remove(reads Reads, keys ...Key) (changes []Change, err error) {
	gone := map[Key]bool{}
	var without []string // ids of the one namespace that are gone
	is := func(k Key) bool {
		if k.Kind == Thing {
			return slices.ContainsFunc(without, func(id string) bool { return k.ID == id || strings.HasPrefix(k.ID, id+".") })
		}
		return gone[k]
	}
	itself := func(k Key) bool {
		return slices.ContainsFunc(keys, func(x Key) bool { return x == k || k.Kind == Thing && x.IsThing() && x.ID == k.ID })
	}
	left := map[Key]any{}
	take := func(k Key) {
		if gone[k] {
			return
		}
		gone[k] = true
		delete(left, k)
		if kind := KindOf(k.Kind); kind != nil {
			changes = append(changes, Change{Drop: k})
			if k.IsThing() {
				without = append(without, k.ID)
			}
		}
	}
	for _, k := range keys {
		take(k)
	}
	for before := -1; before != len(gone); { // what goes takes others with it, until none is left that would
		before = len(gone)
		s.each(func(k *Kind, id string, part any) {
			key := Key{k.Name, id}
			if gone[key] {
				return
			}
			k.mentions(s, part, reads, func(m Mention) {
				if m.Bond == Owned && is(m.Of) {
					take(key)
				}
			})
			if gone[key] || k.without == nil {
				return
			}
			if now, has := left[key]; has {
				part = now
			}
			switch next, stays := k.without(part, is); {
			case !stays:
				take(key)
			case next != nil:
				left[key] = next
			}
		})
	}
	s.each(func(k *Kind, id string, part any) {
		if gone[Key{k.Name, id}] || err != nil {
			return
		}
		k.mentions(s, part, reads, func(m Mention) {
			if err == nil && (m.Bond == Needed && is(m.Of) || m.Bond == Held && itself(m.Of)) {
				err = &NeededError{s.Called(m.Of), m.By}
			}
		})
	})
	for _, k := range slices.SortedFunc(maps.Keys(left), func(a, b Key) int {
		return strings.Compare(a.Kind+" "+a.ID, b.Kind+" "+b.ID)
	}) {
		changes = append(changes, Change{Put: left[k]})
	}
	return changes, err
}

// Mentions calls each with what a part says of others.
func (s *Site) Mentions(part any, reads Reads, each func(Mention)) {
	of(part).mentions(s, part, reads, each)
}

func (s *Site) each(f func(k *Kind, id string, part any)) {
	for _, k := range Catalogue {
		for _, id := range k.ids(s) {
			f(k, id, k.get(s, id))
		}
	}
}

// Called is how people know what a key names.
func (s *Site) Called(key Key) string {
	for _, k := range Catalogue {
		if k.Name == key.Kind || key.Kind == Thing && (Key{Kind: k.Name}).IsThing() {
			if part := k.get(s, key.ID); part != nil {
				return k.Named(part)
			}
		}
	}
	return key.ID
}

// kind is how the catalogue describes parts of a type.
type kind[T any] struct {
	name   string
	prefix string
	idle   bool

	many  func(*Site) map[string]T // where there are many
	alone func(*Site) *T           // where there is one

	id       func(*T) *string
	called   func(T) string // nil: by its id
	validate func(T, *Site) error
	mentions func(*Site, T, Reads, func(Mention))
	formulas func(T, func(place, text string, quantity bool))
	// without is the part without mentions of what is gone. changed: there were some; stays false: nothing is left of it.
	without func(T, func(Key) bool) (left T, changed, stays bool)
	filled  func(T) T // what is read of a store
	secrets map[string]func(T) Goes
}

func (k kind[T]) entry() *Kind {
	out := &Kind{Name: k.name, Alone: k.alone != nil, Idle: k.idle, prefix: k.prefix,
		id:       func(part any) string { return "" },
		name:     func(part any) string { return k.name },
		validate: func(s *Site, part any) error { return nil },
		mentions: func(*Site, any, Reads, func(Mention)) {},
		parse: func(body []byte) (any, error) {
			var v T
			err := json.Unmarshal(body, &v)
			if k.filled != nil && err == nil {
				v = k.filled(v)
			}
			return v, err
		},
		read: func(body []byte) (any, error) {
			var v T
			d := json.NewDecoder(bytes.NewReader(body))
			d.DisallowUnknownFields()
			if own, ok := any(&v).(interface{ decode(*json.Decoder) error }); ok {
				return v, own.decode(d)
			}
			err := d.Decode(&v)
			return v, err
		}}
	if k.alone != nil {
		out.ids = func(*Site) []string { return []string{""} }
		out.get = func(s *Site, _ string) any { return *k.alone(s) }
		out.put = func(s *Site, part any) { *k.alone(s) = part.(T) }
		out.drop = func(s *Site, _ string) { *k.alone(s) = *new(T) }
	} else if k.many != nil {
		out.ids = func(s *Site) []string { return slices.Sorted(maps.Keys(k.many(s))) }
		out.get = func(s *Site, id string) any {
			if v, ok := k.many(s)[id]; ok {
				return v
			}
			return nil
		}
		out.put = func(s *Site, part any) { v := part.(T); k.many(s)[*k.id(&v)] = v }
		out.drop = func(s *Site, id string) { delete(k.many(s), id) }
	}
	if k.id != nil {
		out.id = func(part any) string { v := part.(T); return *k.id(&v) }
		out.withID = func(part any, id string) any { v := part.(T); *k.id(&v) = id; return v }
		out.name = out.id
	}
	if k.called != nil {
		out.named = true
		out.name = func(part any) string { return k.called(part.(T)) }
	}
	if k.validate != nil {
		out.validate = func(s *Site, part any) error { return k.validate(part.(T), s) }
	}
	if k.mentions != nil {
		out.mentions = func(s *Site, part any, r Reads, each func(Mention)) { k.mentions(s, part.(T), r, each) }
	}
	if k.formulas != nil {
		out.formulas = func(part any, each func(place, text string, quantity bool)) { k.formulas(part.(T), each) }
	}
	for name, goes := range k.secrets {
		if out.secrets == nil {
			out.secrets = map[string]func(any) Goes{}
		}
		out.secrets[name] = func(part any) Goes { return goes(part.(T)) }
	}
	if k.without != nil {
		out.without = func(part any, gone func(Key) bool) (any, bool) {
			left, changed, stays := k.without(part.(T), gone)
			if !changed {
				return nil, stays
			}
			return left, stays
		}
	}
	return out
}
