package netrc

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFind(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		want *Entry
	}{
		"one line":                {"machine gannet.example login tern password x\n", &Entry{Line: 1, Login: "tern"}},
		"over lines":              {"# mine\nmachine a login b password c\nmachine gannet.example\n\tlogin tern\n\tpassword x\n", &Entry{Line: 3, Login: "tern"}},
		"another host":            {"machine other.example login tern password x\n", nil},
		"for every host":          {"machine other.example login a password b\ndefault login knot password x\n", &Entry{Line: 2, Login: "knot", Any: true}},
		"the first counts":        {"machine gannet.example login a password b\nmachine gannet.example login c password d\n", &Entry{Line: 1, Login: "a"}},
		"a macro is not an entry": {"macdef up\nmachine gannet.example login evil password x\n\nmachine gannet.example login tern\n", &Entry{Line: 4, Login: "tern"}},
		"a word as a password":    {"machine other.example password machine login gannet.example\n", nil},
		"empty":                   {"", nil},
	} {
		home := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(home, ".netrc"), []byte(c.text), 0o600))
		got := Find(home, "gannet.example")
		if c.want != nil {
			c.want.File = filepath.Join(home, ".netrc")
		}
		assert.Equal(t, c.want, got, name)
	}
	assert.Nil(t, Find(t.TempDir(), "gannet.example"))
}

func FuzzScan(f *testing.F) {
	f.Add("machine a login b password c\ndefault login d", "a")
	f.Add("macdef x\n y\n\nmachine a\nlogin b", "a")
	f.Fuzz(func(t *testing.T, file, host string) {
		e := scan(strings.NewReader(file), host)
		if e != nil && (e.Line < 1 || e.Line > strings.Count(file, "\n")+1 || strings.ContainsAny(e.Login, " \n\t")) {
			t.Fatalf("%q gives %+v", file, e)
		}
	})
}
