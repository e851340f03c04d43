package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// TestOthersKilled kills each command about people and branches after each line of its journal, and runs
// it again: nothing is done twice, and nothing half.
func TestOthersKilled(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	knot := signedInAs(t, h, "knot")
	repo := func() *practice.Repo { return h.repoAt(t, h.URL+"/tern/gauge") }
	waiting := func() int {
		all, err := h.Store.Invites("tern", "tern", "gauge")
		require.NoError(t, err)
		return len(all)
	}
	cut := 0
	for line := 1; line < 4; line++ {
		for _, c := range []struct {
			m     *machine
			args  string
			after func() any
			want  any
		}{
			{m, "access grant knot dunlin --right write --repository tern/gauge", func() any { return waiting() }, 2},
			{knot, "invitation accept tern/gauge", func() any { return fmt.Sprint(waiting(), repo().People) }, "1 map[knot:2]"},
			{m, "access withdraw knot dunlin --repository tern/gauge", func() any { return fmt.Sprint(waiting(), repo().People) }, "0 map[]"},
			{m, "repository protect main --repository tern/gauge", func() any { return len(repo().Guards) }, 1},
			{m, "repository unprotect main --repository tern/gauge", func() any { return len(repo().Guards) }, 0},
			{m, "repository archive tern/gauge", func() any { return repo().Archived }, true},
			{m, "repository archive tern/gauge --end", func() any { return repo().Archived }, false},
			{m, fmt.Sprint("repository copy tern/gauge copy-", line), func() any { return len(h.Store.List("tern", fmt.Sprint("copy-", line))) }, 1},
		} {
			args := append(strings.Fields(c.args), "--yes")
			if c.m.killAt("", line, args...) {
				cut++
				c.m.free()
				if r := c.m.command("", "", program, args...); r.code != 0 {
					t.Errorf("%s, killed after line %d: %s", c.args, line, r.err)
				}
			}
			assert.Equal(t, c.want, c.after(), "%s, killed after line %d", c.args, line)
		}
	}
	assert.Greater(t, cut, 12)
}

// TestOthersRefused is told why of what somebody without the right asks, and of what is gone meanwhile.
func TestOthersRefused(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	knot := signedInAs(t, h, "knot")
	require.NoError(t, h.Store.SetRight(t.Context(), "tern", "tern", "gauge", "knot", practice.Write, 0))
	for _, args := range []string{"access grant dunlin", "access withdraw knot", "repository protect main"} {
		knot.refused(5, []string{"gannet does not allow account knot to"}, "", "", append(strings.Fields(args), "--repository", "tern/gauge", "--yes")...)
	}
	for _, args := range []string{"repository archive tern/gauge", "repository change tern/gauge --description x", "repository delete tern/gauge --without-copy"} {
		knot.refused(5, []string{"gannet does not allow account knot to"}, "", "", append(strings.Fields(args), "--yes")...)
	}
	assert.Empty(t, h.repoAt(t, h.URL+"/tern/gauge").Guards)
	out := knot.ok("", "", "access", "list", "--repository", "tern/gauge")
	assert.Regexp(t, `knot\s+write`, out)
	assert.Contains(t, out, "The invitations are not listed: gannet does not allow account knot")
	assert.Contains(t, m.ok("gauge", "", "access", "grant", "Dunlin", "dunlin", "--preview"), "1. Invite dunlin to read tern/gauge\n  Note", "once")

	// A token that may do less names the scope, the page and the command.
	small, err := h.Store.NewToken("plunge~", "tern", []string{"self", "look", "work", "launch"}, time.Now().AddDate(1, 0, 0))
	require.NoError(t, err)
	m.ok("", small+"\n", "account", "add", "tern", "--host", "gannet", "--user", "tern")
	for args, scope := range map[string]string{"access list": "crew --may publish --may keys --may people", "access grant knot": "crew --may publish --may keys --may people", "repository protect main": "steer"} {
		scope, may, _ := strings.Cut(scope, " ")
		m.refused(5, []string{"it lacks the scope " + scope, h.URL + "/chest/passes", strings.TrimSpace("uncinate account add tern --host gannet " + may)}, "gauge", "", strings.Fields(args)...)
	}
	m.refused(5, []string{"it lacks the scope steer"}, "", "", "repository", "archive", "tern/gauge")
	assert.Contains(t, m.run("", "", "repository", "show", "tern/gauge").err, "Not told: its people")
	m.ok("", h.token["tern"]+"\n", "account", "add", "tern", "--host", "gannet", "--user", "tern")

	// Gone while it was asked about.
	for _, args := range []string{"access grant dunlin", "repository protect main", "access withdraw knot"} {
		k := m.talk("", append(strings.Fields(args), "--repository", "tern/gauge")...)
		k.asked("Go ahead? (yes or no) ", "")
		r := h.repoAt(t, h.URL+"/tern/gauge")
		_, err := h.Store.Change(t.Context(), "tern", "tern", "gauge", 0, func(r *practice.Repo) error { r.Name = "away"; return nil })
		require.NoError(t, err)
		k.asked("", "yes\n")
		code, said := k.ends()
		assert.Equal(t, 5, code, said)
		assert.Contains(t, said, "tern/gauge is no longer on gannet")
		_, err = h.Store.Change(t.Context(), "tern", "tern", "away", 0, func(now *practice.Repo) error { now.Name = r.Name; return nil })
		require.NoError(t, err)
	}
}
