// Package uncinate_test checks the house: which floor may use which.
package uncinate_test

import (
	"encoding/json"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors, from the top. A floor may use the floors below it and its own rooms.
var floors = []string{"cmd", "internal/screen", "internal/job", "internal/world", "internal/core"}

func floorOf(path string) int {
	path = strings.TrimPrefix(path, "uncinate/")
	return slices.IndexFunc(floors, func(f string) bool { return path == f || strings.HasPrefix(path, f+"/") })
}

// outside lists what the computation must not know: files, network, clocks by
// themselves are values there, environment, terminal, processes.
var outside = []string{"os", "os/exec", "net/http", "io/ioutil", "syscall", "golang.org/x/term", "os/signal"}

func TestFloors(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	require.NoError(t, err)
	in := json.NewDecoder(strings.NewReader(string(out)))
	seen := map[int]int{}
	for in.More() {
		var p struct {
			ImportPath string
			Imports    []string
		}
		require.NoError(t, in.Decode(&p))
		here := floorOf(p.ImportPath)
		seen[here]++
		for _, i := range p.Imports {
			if strings.HasPrefix(i, "uncinate/internal/practice") {
				assert.Contains(t, []string{"uncinate/internal/screen/rehearse", "uncinate/bench"}, p.ImportPath, "only the commands practice and tour, and what measures, know the practice hosts")
			}
			if there := floorOf(i); there >= 0 && here >= 0 {
				assert.GreaterOrEqual(t, there, here, "%s uses %s, which is a floor above it", p.ImportPath, i)
			}
			if here == len(floors)-1 {
				allowed := p.ImportPath == "uncinate/internal/core/description" && i == "net/http" // http.Header is a value
				assert.True(t, allowed || !slices.Contains(outside, i), "%s uses %s", p.ImportPath, i)
			}
		}
	}
	for i := range floors {
		assert.Positive(t, seen[i], "there is nothing on the floor %s, so nothing was checked", floors[i])
	}
}
