package attach

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/survey"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/attach/target"
	"uncinate/internal/job/surveying"
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
	for _, x := range surveying.PerFile(all) {
		said = append(said, surveying.Sentence(x))
	}
	assert.Equal(t, []string{
		"a.ini:3 holds a token: x = [20 characters], and 5 more in it",
		"a.ini:7 holds a password",
		"much would go up at once",
		"much would go up at once",
		`b\x1b is empty`,
	}, said)
	assert.Equal(t, "a.ini:1200 holds a token, and 4 more in it", surveying.Sentence(all[1]))

	a := &target.Target{Work: target.Work{Folder: &project.Folder{Path: "/x"}}}
	assert.NoError(t, surveying.CheckFindings(all[3:], a.Options.Folder, a.Again))
	err := surveying.CheckFindings(all, a.Options.Folder, a.Again)
	require.Error(t, err)
	assert.Equal(t, fault.Refused, fault.Of(err).Kind)
	moving := []survey.Finding{{Weight: survey.Stop, About: "changing", Path: "a", Says: "is being written"}}
	err = surveying.CheckFindings(moving, a.Options.Folder, a.Again)
	assert.Equal(t, fault.Decision, fault.Of(err).Kind)
	assert.ErrorContains(t, err, "a file is being written while we look")
	assert.ErrorContains(t, surveying.CheckFindings(append(moving, survey.Finding{Weight: survey.Stop, About: "changing", Path: "b"}), a.Options.Folder, a.Again), "2 files are being written", a.Options.Folder, a.Again)
}
