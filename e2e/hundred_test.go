package e2e

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// TestAHundredProjects brings a hundred projects onto an empty machine: one clone, one look,
// one sync.
func TestAHundredProjects(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	seed := newMachine(t)
	seed.project("seed")
	seed.git("seed", "init", "-q", "-b", "main")
	seed.git("seed", "add", "-A")
	seed.git("seed", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "First")
	for i := range 100 {
		owner := "tern"
		if i%4 == 0 {
			owner = "saltmarsh"
		}
		r, err := h.Store.Create(context.Background(), "tern", practice.Repo{Owner: owner, Name: fmt.Sprintf("station-%02d", i), Visibility: "private", Default: "main"})
		require.NoError(t, err)
		seed.git("seed", "push", "-q", h.Store.GitDir(r.ID), "main")
	}
	launch := signedIn(t, h)
	assert.Contains(t, launch.ok("", "", "clone", "--all", "--into", "work"), "100 repositories cloned, 0 here already, 0 failed.")
	assert.Contains(t, launch.ok("", "", "status", "--all"), "100 projects, 100 in step.")
	assert.Contains(t, launch.ok("", "", "sync", "--all"), "100 projects: 100 in step already, 0 brought into step.")
	assert.Equal(t, h.URL+"/saltmarsh/station-04.git", launch.git("work/saltmarsh/station-04", "remote", "get-url", "origin"))
	assert.Empty(t, launch.git("work/tern/station-99", "pull", "-q"))
}
