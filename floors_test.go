// Package uncinate_test checks the house: which floor may use which, and within a floor which
// room.
package uncinate_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors, from the top. A floor may use the floors below it and its own rooms.
var floors = []string{"cmd", "internal/screen", "internal/job", "internal/desk", "internal/world", "internal/core"}

func floorOf(path string) int {
	path = strings.TrimPrefix(path, "uncinate/")
	return slices.IndexFunc(floors, func(f string) bool { return path == f || strings.HasPrefix(path, f+"/") })
}

// outside lists what the computation must not know: files, network, clocks by
// themselves are values there, environment, terminal, processes.
var outside = []string{"os", "os/exec", "net/http", "io/ioutil", "syscall", "golang.org/x/term", "os/signal"}

// pkg is one package with what it imports.
type pkg struct {
	ImportPath string
	Imports    []string
}

// room is a row of the table of rooms: what it may use of the rooms of the desk and the jobs.
type room struct {
	name string
	uses []string
}

// rooms reads the table in CONTRIBUTING.md, which is also the picture that people read.
func rooms(t *testing.T) []room {
	t.Helper()
	data, err := os.ReadFile("CONTRIBUTING.md")
	require.NoError(t, err)
	var all []room
	for _, row := range regexp.MustCompile("(?m)^\\| `((?:desk|job)[a-z/]*)`[^|]*\\|[^|]*\\|([^|]*)\\|$").FindAllStringSubmatch(string(data), -1) {
		r := room{name: row[1]}
		for _, use := range regexp.MustCompile("`([a-z/]+)`").FindAllStringSubmatch(row[2], -1) {
			r.uses = append(r.uses, use[1])
		}
		all = append(all, r)
	}
	require.Greater(t, len(all), 15, "the table of rooms was not found")
	return all
}

// wrong tells what is wrong with a package's imports, by the floors and the table.
func wrong(p pkg, table []room) []string {
	var all []string
	here := floorOf(p.ImportPath)
	name := strings.TrimPrefix(p.ImportPath, "uncinate/internal/")
	at := slices.IndexFunc(table, func(r room) bool { return r.name == name })
	isRoom := here >= 0 && (floors[here] == "internal/job" || floors[here] == "internal/desk")
	test := strings.HasSuffix(name, "test") // packages for tests alone
	if isRoom && at < 0 && !test {
		return []string{p.ImportPath + " is not in the table of rooms"}
	}
	for _, i := range p.Imports {
		if strings.HasPrefix(i, "uncinate/internal/practice") && !test && !slices.Contains([]string{"uncinate/internal/screen/rehearse", "uncinate/bench"}, p.ImportPath) {
			all = append(all, p.ImportPath+" uses "+i+": only the commands practice and tour, and what measures, know the practice hosts")
		}
		there := floorOf(i)
		if there >= 0 && here >= 0 && there < here {
			all = append(all, fmt.Sprintf("%s uses %s, which is a floor above it", p.ImportPath, i))
		}
		used := strings.TrimPrefix(i, "uncinate/internal/")
		if isRoom && !test && there >= 0 && (floors[there] == "internal/job" || floors[there] == "internal/desk") && !slices.Contains(table[at].uses, used) {
			all = append(all, fmt.Sprintf("%s uses %s, which the table of rooms does not say", p.ImportPath, i))
		}
		if strings.HasSuffix(i, "test") && strings.HasPrefix(i, "uncinate/") && !test {
			all = append(all, fmt.Sprintf("%s uses %s, which is for tests", p.ImportPath, i))
		}
		if here >= 0 && floors[here] == "internal/job" && slices.Contains([]string{"os", "os/exec", "net/http"}, i) &&
			!(p.ImportPath == "uncinate/internal/job/comparing" && i == "net/http") { // http.DetectContentType is computation
			all = append(all, fmt.Sprintf("%s uses %s: a job touches the disk, the network and programs only through world", p.ImportPath, i))
		}
		if here == len(floors)-1 && slices.Contains(outside, i) && !(p.ImportPath == "uncinate/internal/core/description" && i == "net/http") { // http.Header is a value
			all = append(all, fmt.Sprintf("%s uses %s", p.ImportPath, i))
		}
	}
	return all
}

func TestFloors(t *testing.T) {
	table := rooms(t)
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	require.NoError(t, err)
	in := json.NewDecoder(strings.NewReader(string(out)))
	seen := map[int]int{}
	for in.More() {
		var p pkg
		require.NoError(t, in.Decode(&p))
		seen[floorOf(p.ImportPath)]++
		assert.Empty(t, wrong(p, table))
	}
	for i := range floors {
		assert.Positive(t, seen[i], "there is nothing on the floor %s, so nothing was checked", floors[i])
	}
}

// TestRoomsRunOneWay holds that the table has no circle: a room uses only rooms above it in the
// table, which stand nearer to the ground.
func TestRoomsRunOneWay(t *testing.T) {
	var before []string
	for _, r := range rooms(t) {
		for _, use := range r.uses {
			assert.Contains(t, before, use, "%s uses it, and it comes later", r.name)
		}
		before = append(before, r.name)
	}
}

// TestWrongImportsAreRefused shows that the rules above refuse what they are for.
func TestWrongImportsAreRefused(t *testing.T) {
	table := rooms(t)
	for from, to := range map[string]string{
		"uncinate/internal/desk/project":   "uncinate/internal/desk/worktree",
		"uncinate/internal/desk":           "uncinate/internal/job/attach",
		"uncinate/internal/job/history":    "uncinate/internal/job/syncing",
		"uncinate/internal/job/attach":     "uncinate/internal/screen",
		"uncinate/internal/job/attic":      "uncinate/internal/desk",
		"uncinate/internal/core/text":      "os",
		"uncinate/internal/job/syncing":    "os",
		"uncinate/internal/job/many":       "uncinate/internal/practice",
		"uncinate/internal/job/attach/joy": "uncinate/internal/core/text",
		"uncinate/internal/job/checks":     "uncinate/internal/desk/desktest",
		"uncinate/internal/world/git":      "uncinate/internal/desk",
	} {
		assert.NotEmpty(t, wrong(pkg{from, []string{to}}, table), "%s uses %s", from, to)
	}
	assert.Empty(t, wrong(pkg{"uncinate/internal/job/attach", []string{"uncinate/internal/desk/worktree"}}, table))
}
