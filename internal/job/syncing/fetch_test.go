package syncing

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
)

// TestMatch holds that names are carried over as git's refspecs do.
func TestMatch(t *testing.T) {
	for _, c := range [][4]string{
		{"refs/heads/*", "refs/remotes/origin/*", "refs/heads/a/b", "refs/remotes/origin/a/b"},
		{"refs/heads/main", "refs/remotes/o/main", "refs/heads/main", "refs/remotes/o/main"},
		{"refs/heads/main", "refs/remotes/o/main", "refs/heads/mainly", ""},
		{"refs/heads/v*-x", "refs/r/*", "refs/heads/v1-x", "refs/r/1"},
		{"refs/heads/v*-x", "refs/r/*", "refs/heads/v-", ""},
		{"refs/heads/*", "refs/remotes/origin/*", "refs/tags/v1", ""},
	} {
		assert.Equal(t, c[3], match(c[0], c[1], c[2]), c[2])
	}
	s := &Sync{folder: &project.Folder{Branch: "own"}, tie: &project.Tie{Remote: "origin"}}
	assert.Equal(t, "refs/remotes/origin/x", s.track("x"))
	s.folder.Settings = []git.Setting{{Key: "remote.origin.fetch", Value: "+refs/heads/main:refs/remotes/origin/main"}, {Key: "remote.origin.fetch", Value: "+refs/notes/*:refs/notes/*"}}
	assert.Equal(t, "refs/remotes/origin/main", s.track("main"))
	assert.Empty(t, s.track("x"), "it is not followed")
	assert.Equal(t, "refs/remotes/origin/own", s.track("own"), "but for the one that is checked out")
}
