package cli

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/urfave/cli/v3"
)

// What comes from a board or a person neither steers the terminal nor begins a line, and no spreadsheet runs it.
func TestWhatComesFromElsewhereIsNothingButWords(t *testing.T) {
	rows := func() [][]string {
		return [][]string{{"=HYPERLINK(\"http://evil.example\")", "-5.5"}, {"+1 more", "two\nlines\tand \x1b[2Jmore\u202e"},
			{"@SUM(A1)", "'quoted"}, {"-x", ""}}
	}
	said := func(form string) string {
		var b bytes.Buffer
		cmd := &cli.Command{Name: "x", Writer: &b, Flags: []cli.Flag{output()}, Action: nil}
		assert.NoError(t, cmd.Set("output", form))
		assert.NoError(t, show(cmd, nil, []string{"a", "b"}, rows()))
		return b.String()
	}
	table := said("table")
	assert.NotContains(t, table, "\x1b")
	assert.NotContains(t, table, "\u202e")
	assert.Contains(t, table, "two lines and  [2Jmore")
	assert.Equal(t, "a,b\n\"'=HYPERLINK(\"\"http://evil.example\"\")\",-5.5\n'+1 more,\"two\nlines\tand "+
		"\x1b[2Jmore\u202e\"\n'@SUM(A1),'quoted\n'-x,\n", said("csv"))
	for _, s := range []string{"=1+1", "-x", "+a", "@b", "\tc", "plain", "'own", "-5"} {
		assert.Equal(t, s, fromCell(cells([]string{s})[0]))
	}
	var b bytes.Buffer
	tamed := &tame{Writer: &b}
	_, _ = tamed.Write([]byte("a\x1b[31m\r\u009b\nb\tc"))
	assert.Equal(t, "a·[31m··\nb\tc", b.String())
}
