package site

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"idleember/core/fault"
)

// Unprintable reports whether a character steers a terminal, ends a line, or turns the direction of what follows.
func Unprintable(r rune) bool {
	return unicode.IsControl(r) || r >= 0x2028 && r <= 0x202e || r >= 0x2066 && r <= 0x2069
}

// OneLine puts something in the place of what is unprintable.
func OneLine(s, instead string) string {
	if !strings.ContainsFunc(s, Unprintable) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if Unprintable(r) {
			b.WriteString(instead)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// Clip is the beginning of what came from outside, of up to n bytes, on one line.
func Clip(s string, n int) string {
	if len(s) > n {
		s = strings.ToValidUTF8(s[:n], "") + "…"
	}
	return OneLine(s, "·")
}

// CheckName says what is wrong with a name that somebody gave.
func CheckName(field, name string) error {
	switch {
	case strings.TrimSpace(name) == "":
		return &fault.InvalidError{Field: field, Reason: field + " is empty; give it a name"}
	case utf8.RuneCountInString(name) > 80:
		return &fault.InvalidError{Field: field, Reason: field + " is longer than 80 characters; shorten it"}
	case strings.ContainsFunc(name, Unprintable):
		return &fault.InvalidError{Field: field, Reason: field + " holds control characters; leave them out"}
	}
	return nil
}
