package packing

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func good() *Pack {
	return &Pack{Version: Version, Machine: "pier", Hosts: []Host{{Name: "gannet", Description: "language = 1"}}, Accounts: []Account{{Name: "tern", Host: "gannet", User: "tern"}},
		Kinds: map[string]string{"tides.toml": ""}, Projects: []Project{{Folder: "work/gauge", Address: "https://gannet.example/tern/gauge.git", Account: "tern"}}}
}

func TestPackIsReadAsItWasWritten(t *testing.T) {
	data, err := json.Marshal(good())
	require.NoError(t, err)
	p, err := Read(data)
	require.NoError(t, err)
	assert.Equal(t, good(), p)
	for _, bad := range []string{"", "null x", string(data) + "{}", strings.Replace(string(data), `"version":1`, `"version":1,"token":"x"`, 1), strings.Replace(string(data), `"version":1`, `"version":9`, 1)} {
		_, err := Read([]byte(bad))
		assert.ErrorContains(t, err, "cannot be used", bad)
	}
}

func TestHostilePacks(t *testing.T) {
	for what, change := range map[string]func(*Pack){
		"out":                func(p *Pack) { p.Projects[0].Folder = "../x" },
		"from the top":       func(p *Pack) { p.Projects[0].Folder = "/etc" },
		"not clean":          func(p *Pack) { p.Projects[0].Folder = "a//b" },
		"git's own":          func(p *Pack) { p.Projects[0].Folder = "a/.GIT/hooks" },
		"a control":          func(p *Pack) { p.Projects[0].Folder = "a\x1b[2J" },
		"a drive":            func(p *Pack) { p.Projects[0].Folder = "c:/x" },
		"itself":             func(p *Pack) { p.Projects[0].Folder = "." },
		"twice":              func(p *Pack) { p.Projects = append(p.Projects, Project{Folder: "WORK/gauge", Address: "x"}) },
		"no such account":    func(p *Pack) { p.Projects[0].Account = "knot" },
		"no address":         func(p *Pack) { p.Projects[0].Address = "" },
		"an account outside": func(p *Pack) { p.Accounts[0].Name = "../tern" },
		"a host unknown":     func(p *Pack) { p.Accounts[0].Host = "skua" },
		"a host's name":      func(p *Pack) { p.Hosts[0].Name = "../gannet" },
		"a large host":       func(p *Pack) { p.Hosts[0].Description = strings.Repeat("x", 5<<20) },
		"a kind outside":     func(p *Pack) { p.Kinds["../x.toml"] = "" },
		"a kind that is not": func(p *Pack) { p.Kinds["x.sh"] = "" },
		"many": func(p *Pack) {
			for i := range MostProjects + 1 {
				p.Projects = append(p.Projects, Project{Folder: fmt.Sprint("p", i), Address: "x"})
			}
		},
	} {
		p := good()
		change(p)
		data, err := json.Marshal(p)
		require.NoError(t, err)
		_, err = Read(data)
		assert.ErrorContains(t, err, "cannot be used", what)
	}
}
