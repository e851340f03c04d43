package description

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const plainHost = `language = 1
name = "skua"
base = "https://skua.example"
[address]
api = "{+base}/api"
https = "{+base}/{owner}/{name}.git"
ssh = "ssh://git@{+host}/{owner}/{name}.git"
also = ["https://gannet.example/{owner}/{name}"]
[signin]
header = { Authorization = "Bearer {token}" }
git = { user = "{user}", secret = "{token}" }
`

// TestOrigins holds that a description leads nowhere but to its base and to what it names as
// trusted, and recognises nothing else.
func TestOrigins(t *testing.T) {
	d, mistakes := Load([]byte(plainHost))
	require.Empty(t, mistakes)
	assert.Equal(t, []Use{{"https://skua.example", []string{"API", "git"}}, {"ssh://skua.example", []string{"git over SSH"}}}, d.Origins())
	for where, may := range map[string]bool{"https://skua.example/x/y": true, "https://SKUA.example:443/x": true, "https://skua.example:8443/x": false, "http://skua.example/x": false,
		"https://skua.example.evil.example/x": false, "https://evil.example/?https://skua.example": false, "https://skua.example@evil.example/x": false, "ssh://git@skua.example:2222/x/y": true,
		"git@skua.example:x/y": true, "git@evil.example:x/y": false, "//skua.example/x": false, "": false} {
		assert.Equal(t, may, d.Trusts(where), where)
	}
	_, _, known := d.Recognise("https://gannet.example/tern/gauge")
	assert.False(t, known, "another host's addresses are not its own")
	_, _, known = d.Recognise("ssh://git@skua.example/tern/gauge.git")
	assert.True(t, known)

	for was, is := range map[string]string{
		`https = "{+base}`:        `https = "https://evil.example`,
		`api = "{+base}/api"`:     `api = "https://evil.example/api"`,
		`ssh://git@{+host}`:       `ssh://git@evil.example`,
		`git = {`:                 `oauth = { metadata = "https://evil.example/.well-known/x", client = "uncinate", ways = ["device"] }` + "\ngit = {",
		`https = "{+base}/{owner`: `https = "https://{owner}.skua.example/{owner`,
	} {
		_, mistakes := Load([]byte(strings.Replace(plainHost, was, is, 1)))
		require.NotEmpty(t, mistakes, is)
		assert.Contains(t, "this leads to the host in this address must", mistakes[0].Says[:13], is)
		assert.Greater(t, mistakes[0].Line, 4, "%s: %s", is, mistakes[0])
	}
	with := strings.Replace(plainHost, `"{+base}/api"`, `"https://api.skua.example/v"`, 1) + "[trust]\naddresses = [\"https://api.skua.example\"]\n"
	d, mistakes = Load([]byte(with))
	require.Empty(t, mistakes)
	assert.True(t, d.Trusts("https://api.skua.example/v/x"))
	assert.Contains(t, d.Origins(), Use{"https://api.skua.example", []string{"API"}})
	for _, bad := range []string{"https://*.skua.example", "api.skua.example", "https://api.skua.example/v", "http://api.skua.example", "https://user@api.skua.example", "ftp://x"} {
		_, mistakes := Load([]byte(strings.Replace(with, `["https://api.skua.example"]`, `["`+bad+`"]`, 1)))
		assert.NotEmpty(t, mistakes, bad)
	}
}

// TestBounds holds that a description which is deeper or longer than any needs is refused at once,
// by its shape.
func TestBounds(t *testing.T) {
	deep := func(open, shut string) string { return strings.Repeat(open, 3000) + shut }
	for _, s := range []string{"[" + strings.TrimSuffix(deep("a.", ""), ".") + "]\n", strings.TrimSuffix(deep("a.", ""), ".") + " = 1\n", "x = " + deep("[", strings.Repeat("]", 3000)) + "\n",
		"x = " + deep("{a = ", "1"+strings.Repeat("}", 3000)) + "\n", deep("[[a]]\n", "") + deep("b = 1\n", "")} {
		_, mistakes := Load([]byte(plainHost + s))
		require.Len(t, mistakes, 1, "%.40s", s)
		assert.Greater(t, mistakes[0].Line, 10)
	}
	_, why := newReading("$" + strings.Repeat("[0,0]", 8))
	assert.Contains(t, why, "commas")
	_, why = newReading("$." + strings.Repeat("a", 300))
	assert.Contains(t, why, "characters")
}
