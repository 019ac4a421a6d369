package site

import (
	"strings"
	"unicode"
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
