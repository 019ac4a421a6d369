package site

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// MaxSlug is the longest slug in bytes.
const MaxSlug = 40

var reserved = map[string]bool{
	"t": true, "key": true, "hub": true,
	// words of the formula language
	"and": true, "or": true, "not": true, "in": true, "let": true, "if": true, "else": true, "true": true, "false": true,
	"nil": true, "matches": true, "contains": true,
}

// CheckSlug says in a sentence why s is no slug, or returns nil. A slug is [a-z][a-z0-9_]*, at most 40 bytes, and no
// reserved word.
func CheckSlug(s string) error {
	switch {
	case s == "":
		return fmt.Errorf("an id is missing; use small letters, digits and _, beginning with a letter")
	case len(s) > MaxSlug:
		return fmt.Errorf("the id %.12q… has %d characters; at most %d are allowed", s, len(s), MaxSlug)
	case reserved[s]:
		return fmt.Errorf("the id %q is a reserved word; choose another", s)
	case s[0] < 'a' || s[0] > 'z':
		return fmt.Errorf("the id %q must begin with a small letter", s)
	}
	for _, r := range s {
		if (r < 'a' || r > 'z') && (r < '0' || r > '9') && r != '_' {
			return fmt.Errorf("the id %q holds %q; use small letters, digits and _", s, r)
		}
	}
	return nil
}

// Slug makes a slug of what a board or a person calls something: "Temp-1" gives "temp_1", "tempC" gives "temp_c". It
// fails where nothing usable is left.
func Slug(raw string) (string, error) {
	if len(raw) > 4*MaxSlug {
		return "", fmt.Errorf("the name %.20q… has %d bytes; at most %d are allowed", raw, len(raw), 4*MaxSlug)
	}
	var b strings.Builder
	gap, lower := false, false
	for _, r := range raw {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r >= 'A' && r <= 'Z':
			upper := unicode.IsUpper(r)
			if b.Len() > 0 && (gap || upper && lower) {
				b.WriteByte('_')
			}
			b.WriteRune(unicode.ToLower(r))
			gap, lower = false, !upper
		case r == '+' || r == '#':
			return "", fmt.Errorf("the name %q holds the wildcard %q; use letters, digits and _", raw, r)
		default:
			gap = true
		}
	}
	s := b.String()
	if s != "" && s[0] >= '0' && s[0] <= '9' {
		s = "n" + s
	}
	if s == "" {
		return "", fmt.Errorf("the name %q holds no letter or digit; use letters, digits and _", raw)
	}
	return s, CheckSlug(s)
}

// Title makes a first name for people of what a board calls something: "slip_level" gives "Slip level".
func Title(raw string) string {
	s := strings.TrimSpace(strings.NewReplacer("_", " ", "-", " ", ".", " ").Replace(raw))
	if s == "" {
		return raw
	}
	_, first := utf8.DecodeRuneInString(s)
	return strings.ToUpper(s[:first]) + s[first:]
}

// Nearest returns those of the ids that a misspelt one may have meant, closest first, at most three.
func Nearest(id string, ids []string) []string {
	type guess struct {
		id string
		d  int
	}
	var best []guess
	for _, c := range ids {
		d := distance(id, c)
		_, rest := Split(c)
		if rest != "" && rest == id {
			d = 0
		}
		if d <= 2+len(id)/6 {
			at := 0
			for at < len(best) && best[at].d <= d {
				at++
			}
			best = append(best[:at], append([]guess{{c, d}}, best[at:]...)...)
		}
	}
	var out []string
	for i := 0; i < len(best) && i < 3; i++ {
		out = append(out, best[i].id)
	}
	return out
}

// distance is the Levenshtein distance between a and b in bytes (V. I. Levenshtein, 1966), by the two-row method of
// Wagner and Fischer (1974).
func distance(a, b string) int {
	prev, cur := make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(a); i++ {
		cur[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			cur[j] = min(prev[j]+1, cur[j-1]+1, prev[j-1]+cost)
		}
		prev, cur = cur, prev
	}
	return prev[len(b)]
}
