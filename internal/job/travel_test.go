package job

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/survey"
)

func TestFindingsInAFewLines(t *testing.T) {
	all := []survey.Finding{
		{Weight: survey.Stop, Path: "a.ini", Line: 3, Says: "holds a token", Excerpt: "x = [20 characters]"},
		{Weight: survey.Stop, Path: "a.ini", Line: 1200, Says: "holds a token", More: 4},
		{Weight: survey.Stop, Path: "a.ini", Line: 7, Says: "holds a password"},
		{Weight: survey.Look, Says: "much would go up at once"},
		{Weight: survey.Look, Says: "much would go up at once"},
		{Weight: survey.Know, Path: "b\x1b", Says: "is empty"},
	}
	var said []string
	for _, x := range PerFile(all) {
		said = append(said, Sentence(x))
	}
	assert.Equal(t, []string{
		"a.ini:3 holds a token: x = [20 characters], and 5 more in it",
		"a.ini:7 holds a password",
		"much would go up at once",
		"much would go up at once",
		`b\x1b is empty`,
	}, said)
	assert.Equal(t, "a.ini:1200 holds a token, and 4 more in it", Sentence(all[1]))

	a := &Attach{folder: &folder{path: "/x"}}
	assert.NoError(t, checkFindings(all[3:], a.options.Folder, a.again))
	err := checkFindings(all, a.options.Folder, a.again)
	require.Error(t, err)
	assert.Equal(t, fault.Refused, fault.Of(err).Kind)
	moving := []survey.Finding{{Weight: survey.Stop, About: "changing", Path: "a", Says: "is being written"}}
	err = checkFindings(moving, a.options.Folder, a.again)
	assert.Equal(t, fault.Decision, fault.Of(err).Kind)
	assert.ErrorContains(t, err, "a file is being written while we look")
	assert.ErrorContains(t, checkFindings(append(moving, survey.Finding{Weight: survey.Stop, About: "changing", Path: "b"}), a.options.Folder, a.again), "2 files are being written", a.options.Folder, a.again)
}

func TestWhatWasLetThrough(t *testing.T) {
	d, _ := desk(t)
	day := time.Date(2025, 3, 1, 0, 0, 0, 0, time.UTC)
	require.NoError(t, d.keepLet("/x", []Let{{"keys", "test keys", day}, {"*.pem", "old", day}}))
	require.NoError(t, d.keepLet("/x", []Let{{"*.pem", "newer", day.AddDate(0, 0, 1)}}))
	require.NoError(t, d.keepLet("/x", nil))
	all, err := d.letThrough("/x")
	require.NoError(t, err)
	assert.Equal(t, []Let{{"keys", "test keys", day}, {"*.pem", "newer", day.AddDate(0, 0, 1)}}, all)
	let := letPaths(all)
	for path, want := range map[string]bool{"keys/a": true, "sub/keys/a": false, "a.pem": true, "x/a.pem": false, "other": false} {
		assert.Equal(t, want, let(path), path)
	}
	none, err := d.letThrough("/y")
	require.NoError(t, err)
	assert.Empty(t, none)
}

func TestLimitsOfADescription(t *testing.T) {
	h := &Host{Name: "skua", Description: &description.Description{Limits: map[string]any{"file_size": "100 MiB", "push_size": "2 GB", "repository_size": 5}}}
	assert.Equal(t, survey.Limits{Host: "skua", File: 100 << 20, Push: 2_000_000_000}, limitsOf(h))
}
