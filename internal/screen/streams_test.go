package screen

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestVeil(t *testing.T) {
	var out bytes.Buffer
	v := &veil{}
	s := &stream{to: &out, veil: v}
	v.add("short")
	v.add("secret+with/signs=5ec3e7")
	v.add("secret+with/signs=5ec3e7-and-more")
	for _, line := range []string{"a short word", "plain secret+with/signs=5ec3e7.", "?t=secret%2Bwith%2Fsigns%3D5ec3e7", "secret+with/signs=5ec3e7-and-more"} {
		n, err := s.Write([]byte(line + "\n"))
		require.NoError(t, err)
		assert.Equal(t, len(line)+1, n)
	}
	assert.Equal(t, "a short word\nplain [secret].\n?t=[secret]\n[secret]\n", out.String(), "the longest is blanked first, words are not")
}

func TestASCII(t *testing.T) {
	assert.Equal(t, `plain`, ascii("plain"))
	assert.Equal(t, `\u00e4\u65e5`, ascii("ä日"))
	var back string
	require.NoError(t, json.Unmarshal([]byte(`"`+ascii("tide 🌊")+`"`), &back))
	assert.Equal(t, "tide 🌊", back, "JSON reads it as it was")
	for locale, utf8 := range map[string]bool{"C": false, "POSIX": false, "en_GB.UTF-8": true, "de_DE.utf8": true, "en_GB": false} {
		t.Setenv("LC_ALL", locale)
		assert.Equal(t, utf8, speaksUTF8(), locale)
	}
	t.Setenv("LC_ALL", "")
	t.Setenv("LC_CTYPE", "C.UTF-8")
	t.Setenv("LANG", "C")
	assert.True(t, speaksUTF8(), "the first that is set counts")
}

func TestTablesBecomeNarrower(t *testing.T) {
	e, out, _ := env()
	rows := [][]string{{"tern", "/home/tern/a-very-long-folder/that-goes-on/notes.txt:3", "plain", ""}, {"knot", "short", "as HTTP Basic, in a long cell of words", ""}}
	e.Out.width = 80
	e.Table([]string{"account", "found in", "form", "empty"}, rows)
	for line := range strings.SplitSeq(out.String(), "\n") {
		assert.LessOrEqual(t, len(line), 80, line)
	}
	assert.Contains(t, out.String(), "/home/tern/a-very-long-folder/that-goes-on/notes.txt:3", "no path is broken")
	assert.NotContains(t, out.String(), "empty", "a column with nothing in it is left out")
	out.Reset()
	e.Out.width = 60
	e.Table([]string{"account", "found in", "form"}, [][]string{rows[0][:3], rows[1][:3]})
	assert.Equal(t, "tern\n  found in  /home/tern/a-very-long-folder/that-goes-on/notes.txt:3\n  form      plain\nknot\n  found in  short\n  form      as HTTP Basic, in a long cell of words\n", out.String(),
		"where the columns do not fit, each row is a record")
	out.Reset()
	e.Out.width = 60
	e.List([]string{"file", "lines"}, [][]string{{"a.txt", "9"}, {"b.txt", "1,200"}, {"c.txt", "3"}}, 2)
	assert.True(t, strings.HasPrefix(out.String(), "file   lines\na.txt      9\nb.txt  1,200\n\n1 more. To see all:\n    uncinate "), out.String())
	out.Reset()
	e.Out.width = 0
	e.Table([]string{"a"}, [][]string{{strings.Repeat("x", 300)}})
	assert.Contains(t, out.String(), strings.Repeat("x", 300), "without a width a row is one line")
}

func TestGivingJSONOnce(t *testing.T) {
	e, out, errs := env()
	e.json = true
	require.NoError(t, e.Give(Versioned{Version: "1"}, func() { t.Error("words are not for a program") }))
	e.Fault(assert.AnError)
	assert.Equal(t, "{\n  \"version\": \"1\"\n}\n", out.String(), "one document, also when something fails after it")
	assert.Contains(t, errs.String(), "uncinate: ")
}

// TestNothingFromOutsideIsObeyed holds that the last step before the terminal shows whatever could
// steer it, and that what it writes in JSON still is what it was.
func TestNothingFromOutsideIsObeyed(t *testing.T) {
	for was, shown := range map[string]string{"a\x1b[31mred": `a\x1b[31mred`, "a\u009b31m": `a\u009b31m`, "a\u202egnp.exe": `a\u202egnp.exe`, "a\x7f\x07": `a\u007f\x07`, "\xc2a\x9b": `\xc2a\x9b`,
		"\U000e0041": `\udb40\udc41`, "\ue000\u0378": `\ue000\u0378`, "plain \u00e4 \u2713\n\tx\n": "plain \u00e4 \u2713\n\tx\n", look + "1mx" + look + "0m": "\x1b[1mx\x1b[0m"} {
		assert.Equal(t, shown, drawn(was))
	}
	name := "a\u009b\u202e\U000e0041\x7fb"
	data, err := json.Marshal(name)
	require.NoError(t, err)
	var back string
	require.NoError(t, json.Unmarshal([]byte(drawn(string(data))), &back))
	assert.Equal(t, name, back)
	assert.NotContains(t, drawn(string(data)), "\u202e")
}
