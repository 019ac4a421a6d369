package words

import (
	"embed"
	"fmt"
	"io/fs"
	"math"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/BurntSushi/toml"
	"github.com/nicksnyder/go-i18n/v2/i18n"
	"golang.org/x/text/language"
)

// Reader is a class of people who read the same: what is said to one of them can be shown to all. Readers can be
// compared.
type Reader struct {
	Language string // "" is English
	Units    Units  // which units they think in
	Comma    bool   // it stands before their decimals
	Clock12  bool   // they write 2:05 pm
	Zone     string // of the hub; "": times stay in their own
}

// English reads what is said in logs, in tests and wherever nobody told otherwise.
var English = Reader{}

//go:embed en
var files embed.FS

// catalogue reads the message files once. What is wrong with them is found by the first test.
var catalogue = sync.OnceValue(func() map[string]*i18n.Localizer {
	bundle := i18n.NewBundle(language.English)
	bundle.RegisterUnmarshalFunc("toml", toml.Unmarshal)
	speak := map[string]*i18n.Localizer{}
	err := fs.WalkDir(files, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		lang, _, _ := strings.Cut(path, "/")
		b, err := files.ReadFile(path)
		if err != nil {
			return err
		}
		// The library takes the language from the end of a file's name.
		if _, err = bundle.ParseMessageFileBytes(b, lang+".toml"); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		if speak[lang] == nil {
			speak[lang] = i18n.NewLocalizer(bundle, lang)
		}
		return nil
	})
	if err != nil {
		panic(err)
	}
	return speak
})

// Say puts a fact into words. now decides how times are told: without a date where they are of today; the zero time
// tells all of them.
func (r Reader) Say(f Fact, now time.Time) string {
	if f.Empty() {
		return ""
	}
	config := i18n.LocalizeConfig{MessageID: f.Code}
	if len(f.With) > 0 {
		with := make(map[string]string, len(f.With))
		for _, v := range f.With {
			if n, ok := v.Is.(int); ok {
				config.PluralCount = n
			}
			with[v.Name] = r.value(v.Is, now)
		}
		if f.Code == said {
			return with["Text"]
		}
		config.TemplateData = with
	}
	text, err := r.speaker().Localize(&config)
	if err != nil && config.PluralCount != nil { // the message has one form for all counts
		config.PluralCount = nil
		text, err = r.speaker().Localize(&config)
	}
	if err != nil { // of a newer version, kept by it
		return f.Code
	}
	return text
}

func (r Reader) speaker() *i18n.Localizer {
	all := catalogue()
	if s := all[r.Language]; s != nil {
		return s
	}
	return all["en"]
}

func (r Reader) value(v any, now time.Time) string {
	switch x := v.(type) {
	case string:
		return x
	case int:
		return strconv.Itoa(x)
	case Quantity:
		return r.Quantity(x)
	case time.Duration:
		return r.Duration(x)
	case time.Time:
		return r.Time(x, now)
	case Clock:
		return string(x)
	case Fact:
		return r.Say(x, now)
	case List:
		return r.join(x, "; ", now)
	case Row:
		return r.join(x, ", ", now)
	case Run:
		return r.join(x, "", now)
	}
	return fmt.Sprint(v)
}

func (r Reader) join(facts []Fact, by string, now time.Time) string {
	parts := make([]string, len(facts))
	for i, f := range facts {
		parts[i] = r.Say(f, now)
	}
	return strings.Join(parts, by)
}

// Duration is a time as one says it: 35 s, 20 min, 2 h 10 min, 5 days.
func (r Reader) Duration(d time.Duration) string {
	switch {
	case d < time.Minute:
		return r.Say(Of("for.seconds", "N", int(max(d, 0).Seconds())), time.Time{})
	case d < time.Hour:
		return r.Say(Of("for.minutes", "N", int(d.Minutes())), time.Time{})
	case d < 48*time.Hour:
		hours := Of("for.hours", "N", int(d.Hours()))
		if m := int(d.Minutes()) % 60; m > 0 {
			return r.Say(Of("for.both", "Hours", hours, "Minutes", Of("for.minutes", "N", m)), time.Time{})
		}
		return r.Say(hours, time.Time{})
	}
	return r.Say(Of("for.days", "N", int(d.Hours()/24)), time.Time{})
}

// Duration is a time as one says it in English.
func Duration(d time.Duration) string { return English.Duration(d) }

var zones sync.Map // by their names

// location is a zone by its name, UTC where there is no such zone.
func location(zone string) *time.Location {
	if l, ok := zones.Load(zone); ok {
		return l.(*time.Location)
	}
	l, err := time.LoadLocation(zone)
	if err != nil {
		return time.UTC
	}
	zones.Store(zone, l)
	return l
}

const nearDays = 6 // for which the name of the day says which one

// Time is a time as one says it: 14:05 of today, Mon 14:05 of these days, else with its date.
func (r Reader) Time(t, now time.Time) string {
	if r.Zone != "" {
		t = t.In(location(r.Zone))
	}
	now = now.In(t.Location())
	clock := "15:04"
	if r.Clock12 {
		clock = "3:04 pm"
	}
	switch {
	case t.Format(time.DateOnly) == now.Format(time.DateOnly):
		return t.Format(clock)
	case t.Sub(now).Abs() < nearDays*24*time.Hour:
		return r.Say(Of("day."+strings.ToLower(t.Format("Mon"))), now) + " " + t.Format(clock)
	}
	return t.Format(time.DateOnly + " " + clock)
}

// Number is a number with so many decimals; below 0: as many as it has, or Short.
func (r Reader) Number(v float64, decimals int) string {
	short := decimals == Short
	if short {
		decimals = 2
	}
	s := strconv.FormatFloat(v, 'f', decimals, 64)
	if short {
		s = trimmed(s)
	}
	if strings.Trim(s, "-0.") == "" { // -0.0
		s = strings.TrimPrefix(s, "-")
	}
	return r.point(s)
}

const exact = 6 // decimals of a number that was converted, where it has as many as it has

func trimmed(s string) string { return strings.TrimSuffix(strings.TrimRight(s, "0"), ".") }

func (r Reader) point(s string) string {
	if r.Comma {
		s = strings.Replace(s, ".", ",", 1)
	}
	return s
}

// Quantity is a number with the sign of its unit, in the units that the reader thinks in.
func (r Reader) Quantity(q Quantity) string {
	num, sign := q.Num, UnitSign(q.Unit)
	if c, ok := r.Units.Conversion(q.Unit); ok {
		if q.Apart {
			c.B = 0
		}
		num, sign = c.Of(num), UnitSign(c.To)
		if q.Decimals < 0 { // as exactly as it was, and no more
			few := exact
			if q.Decimals == Short {
				few = 2
			}
			few += max(0, int(math.Ceil(-math.Log10(c.K))))
			return strings.TrimSpace(r.point(trimmed(strconv.FormatFloat(num, 'f', few, 64))) + " " + sign)
		}
		q.Decimals += c.Decimals
	}
	return strings.TrimSpace(r.Number(num, q.Decimals) + " " + sign)
}
