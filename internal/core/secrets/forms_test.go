package secrets

import (
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// collected is one form: its kind, the file it is in, and the line.
type collected struct{ kind, file, line string }

func forms(t *testing.T) []collected {
	t.Helper()
	data, err := os.ReadFile("testdata/forms.tsv")
	require.NoError(t, err)
	var out []collected
	for line := range strings.Lines(string(data)) {
		if p := strings.SplitN(strings.TrimSuffix(line, "\n"), "\t", 3); len(p) == 3 {
			out = append(out, collected{p[0], p[1], strings.ReplaceAll(p[2], `\t`, "\t")})
		}
	}
	require.Greater(t, len(out), 350)
	return out
}

// TestCollectedForms holds the finder to forms that others wrote: at least 95 of 100 secrets are found, each
// with a value drawn anew, and at least 98 of 100 findings are right.
func TestCollectedForms(t *testing.T) {
	r := rand.New(rand.NewPCG(31, 32))
	secrets, found, wrong := 0, 0, 0
	for _, f := range forms(t) {
		value := draw(r, mixed, 28)
		if f.kind == "password" {
			value = []string{"Ebb-reed" + draw(r, "0123456789", 2), "harbour" + draw(r, "0123456789", 3), draw(r, mixed, 12) + "7aB", draw(r, mixed+"!#%*", 14) + "k3"}[r.IntN(4)]
		}
		line := strings.ReplaceAll(f.line, "VALUE", value)
		c := read(t, f.file, line+"\n")
		for _, x := range c.Findings {
			assert.NotContains(t, x.Excerpt, value, f.line)
		}
		switch is := len(c.Findings) > 0; {
		case f.kind == "none" && is:
			wrong++
			t.Logf("taken for a secret: %s: %s", f.file, f.line)
		case f.kind == "none":
		case is:
			secrets, found = secrets+1, found+1
		default:
			secrets++
			t.Logf("missed: %s: %s", f.file, line)
		}
	}
	assert.GreaterOrEqual(t, found*100, secrets*95, "%d of %d", found, secrets)
	assert.GreaterOrEqual(t, found*100, (found+wrong)*98, "%d wrong", wrong)
}
