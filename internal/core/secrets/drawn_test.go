package secrets

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestDrawnOnALine finds what was drawn by lot on a line that speaks of secrets, whatever stands between, and nothing else.
func TestDrawnOnALine(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	looked := 0
	for range 50 {
		v := "Ab3x" + draw(r, mixed, 12) + "Q7z"
		for name, line := range map[string]string{"a.hs": `verifyPassword scheme depth "` + v + `" stored`, "a.md": "its password, so far, has been " + v + " at both piers", "a.go": `open(password, mode, "` + v + `")`} {
			if c := read(t, name, "x\n"+line+"\n"); isDrawn([]byte(v)) && assert.Len(t, c.Findings, 1, line) {
				looked++
				assert.Equal(t, 2, c.Findings[0].Line)
				assert.NotContains(t, c.Findings[0].Excerpt, v)
			}
		}
		for name, line := range map[string]string{"a.go": "open(password, mode, " + v + ")", "b.go": "password\n\"" + v + `"`, "a.md": "password: its sha256 is " + v, "b.md": "the level was " + v,
			"c.go": strings.Repeat("x=1;", 150) + `if hasPassword { open("` + v + `") }`} {
			assert.Empty(t, read(t, name, line).Findings, line)
		}
	}
	assert.Greater(t, looked, 3*40, "most of them are drawn as people see it")
	found := 0
	for range 1000 {
		if isDrawn([]byte(draw(r, mixed, 16))) {
			found++
		}
	}
	assert.Greater(t, found, 850)
	for _, no := range []string{"DeleteEC2Creds", "Non-MT5634ZPX-PCI", "RFC2307-style", "--cfg=CONFIG_PKCS8_PRIVATE", "#CFB-and-CFB8", "3f2b8c1e9d4a4e6b8f7a", "tideTables2Levels", "Ab3"} {
		assert.False(t, isDrawn([]byte(no)), no)
	}
}
