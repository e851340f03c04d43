package e2e

import (
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/text"
)

// TestWordsOfTheTradeAreAnswered types each word that people in the trade know as a command, and pastes
// every line of the answer: all of them work.
func TestWordsOfTheTradeAreAnswered(t *testing.T) {
	t.Parallel()
	_, m := attached(t)
	m.write("gauge", map[string]string{"notes.txt": "n\n"})
	pasted := map[string]bool{"uncinate tour": true} // it has a test of its own
	for _, word := range strings.Fields(`push pull publish commit log diff revert restore discard invite people merge switch checkout login init
		create stash fetch remote fork lock conflict resolve rebase review reset rollback config whoami release open
		add amend-nothing ls rm upload download logout user open repo repos ssh password backup doctor scan demo`) {
		r := m.run("gauge", "", word)
		require.Equal(t, 2, r.code, "%s: %s", word, r.out)
		if word == "amend-nothing" {
			assert.Contains(t, r.err, "uncinate help", "an unknown word leads to the commands")
			continue
		}
		lines := 0
		for line := range strings.Lines(r.err) {
			line, is := strings.CutPrefix(strings.TrimRight(line, "\n"), "      ")
			if lines++; !is || pasted[line] {
				continue
			}
			pasted[line] = true
			words, err := text.Words(line)
			require.NoError(t, err)
			require.Equal(t, "uncinate", words[0], line)
			r := m.run("gauge", "", words[1:]...)
			assert.Equal(t, 0, r.code, "%s: %s\n%s%s", word, line, r.out, r.err)
		}
		assert.Greater(t, lines, 1, word)
	}
	assert.Greater(t, len(pasted), 25)
}

// TestPreviewsChangeNothing gives --preview to every command that changes something: each says what it
// would do, and neither the machine nor the host is another one afterwards.
func TestPreviewsChangeNothing(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.ok("", h.token["tern-own"], "account", "add", "--host", "gannet")
	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes", "--account", "tern")
	m.ok("gauge", "", "branch", "make", "task")
	m.ok("gauge", "", "tag", "make", "1.0.0")
	m.write("gauge", map[string]string{"log.txt": "l\n"})
	m.ok("gauge", "", "save", "-m", "Log")
	m.ok("gauge", "", "save", "--reword", "-m", "Begin a log") // there is a rescue copy now
	m.ok("", "", "key", "make", "tern-own", "--open")
	m.write("gauge", map[string]string{"notes.txt": "n\n"})
	require.NoError(t, os.Mkdir(filepath.Join(m.home, "gauge/hollow"), 0o755))
	m.project("other")
	m.git("", "clone", "-q", h.gitDir(t, "tern", "tern", "gauge"), "found")
	state := func() (map[string]string, string, string) {
		files := tree(t, m.home)
		maps.DeleteFunc(files, func(p, _ string) bool {
			return strings.Contains(p, "/state/") // what was seen, and who was asked
		})
		kept, err := os.ReadFile(filepath.Join(h.dir, "state.json"))
		require.NoError(t, err)
		return files, m.git("gauge", "for-each-ref") + m.git("gauge", "status", "--porcelain") + m.git("gauge", "config", "--list"), string(kept)
	}
	files, refs, kept := state()
	for _, line := range []string{"attach other --account tern", "detach gauge", "clone gauge ../x --account tern", "sync gauge", "save --folder gauge", "save --folder gauge --reword -m X",
		"branch make --folder gauge more --switch --publish", "branch switch --folder gauge task", "branch rename --folder gauge task errand", "branch join --folder gauge task",
		"branch remove --folder gauge task", "tag make --folder gauge 2.0.0", "tag remove --folder gauge 1.0.0", "rescue bring --folder gauge 1", "rescue drop --folder gauge 1",
		"ignore add --folder gauge *.log", "ignore keep --folder gauge", "survey --handover gauge", "project find .", "project forget gauge",
		"repository change gauge --description Levels --account tern", "repository delete gauge --account tern", "host add petrel", "host try gannet --write --account tern", "host pin " + strings.TrimPrefix(h.URL, "http://") + " --fingerprint " + h.HostKey(),
		"account add knot --host gannet", "account change tern --default --over https", "account forget tern", "token add tern", "token replace tern", "token revoke tern", "token forget tern",
		"key make tern", "key install tern-own", "key rotate tern-own", "vault change --by passphrase", "vault unlock", "vault lock", "settings set rescue.days 9", "settings unset git"} {
		r := m.run("", "", append(strings.Fields(line), "--preview")...)
		if strings.HasPrefix(line, "key rotate") { // it is not installed yet, which is said
			continue
		}
		assert.Equal(t, 0, r.code, "%s\n%s%s", line, r.out, r.err)
		assert.NotEmpty(t, r.out, line)
		nowFiles, nowRefs, nowKept := state()
		if !assert.Equal(t, files, nowFiles, line) || !assert.Equal(t, refs, nowRefs, line) || !assert.Equal(t, kept, nowKept, line) {
			files, refs, kept = nowFiles, nowRefs, nowKept
		}
		if strings.Contains(line, "clone") || strings.Contains(line, "ignore add") {
			continue
		}
		var doc struct {
			Plan []struct{ Step string }
		}
		asked := m.run("", "", append(strings.Fields(line), "--preview", "--json")...)
		if !strings.Contains(line, "survey") && assert.NoError(t, json.Unmarshal([]byte(asked.out), &doc), line) {
			assert.NotNil(t, doc.Plan, line)
		}
	}
	m.refused(2, []string{"cannot be used together"}, "", "", "sync", "gauge", "--preview", "--yes")
}

// TestDefaultAccount has two accounts on one host: each is offered as a whole command until one is the
// default, which is said wherever it is used.
func TestDefaultAccount(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.ok("", h.token["tern-own"], "account", "add", "--host", "gannet")
	m.project("gauge")
	said := m.refused(3, []string{"2 accounts could do this; choose one"}, "gauge", "", "attach", "--name", "pier-gauge", "--yes")
	for _, account := range []string{"tern", "tern-own"} {
		assert.Contains(t, said, "      uncinate attach --account "+account+" --name pier-gauge --yes\n")
	}
	line := "uncinate account change tern --default"
	require.Contains(t, said, "      "+line+"\n")
	m.ok("", "", strings.Fields(line)[1:]...)
	m.ok("", "", "account", "change", "tern-own", "--default")
	var all []struct {
		Name    string
		Default bool
	}
	require.NoError(t, json.Unmarshal([]byte(m.ok("", "", "account", "list", "--json")), &all))
	all = slices.DeleteFunc(all, func(a struct {
		Name    string
		Default bool
	}) bool {
		return !a.Default
	})
	require.Len(t, all, 1, "a host has one default account")
	assert.Equal(t, "tern-own", all[0].Name)
	r := m.run("gauge", "", "attach", "--yes")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "Using the account tern-own, the default one on gannet.")
	assert.Contains(t, r.out, "/tern-own/gauge")
	m.refused(2, []string{"nothing to change", "uncinate account change tern --default"}, "", "", "account", "change", "tern")
}

// TestAPasswordIsNoToken holds that what is not a token of a host is told so, before it is sent anywhere.
func TestAPasswordIsNoToken(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	m.ok("", "", "host", "add", "gannet", "--at", h.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	m.refused(2, []string{"this is not a token of gannet; tokens are made at " + h.URL + "/chest/passes"}, "", "my-password\n", "account", "add", "--host", "gannet")
	require.NoError(t, h.Faults.Set([]string{"echo"}))
	m.refused(2, []string{"this is not a token of gannet"}, "", "my-password\n", "account", "add", "--host", "gannet")
	assert.Empty(t, h.Faults.Log(), "the host was not asked")
}

// TestAttachedAlready refuses what would be passed over.
func TestAttachedAlready(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes", "--description", "Levels")
	m.ok("gauge", "", "attach", "--yes", "--description", "Levels", "--visibility", "private", "--name", "gauge")
	said := m.refused(2, []string{"the project is attached already, and its visibility is private"}, "gauge", "", "attach", "--visibility", "public", "--yes")
	line := "uncinate repository change tern/gauge --visibility public"
	require.Contains(t, said, line)
	m.ok("gauge", "", append(strings.Fields(line)[1:], "--yes")...)
	m.refused(2, []string{"description is Levels"}, "gauge", "", "attach", "--description", "Other", "--yes")
	m.refused(2, []string{"is called tern/gauge"}, "gauge", "", "attach", "--name", "gauges", "--yes")
}

// TestFilesOfAnotherVersion refuses what an earlier version remembered, and says what to do.
func TestFilesOfAnotherVersion(t *testing.T) {
	t.Parallel()
	_, m := attached(t)
	path := filepath.Join(m.home, ".uncinate/state/register.json")
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte(strings.ReplaceAll(string(data), `"attached"`, `"joined_on"`)), 0o600))
	said := m.refused(1, []string{`was written by another version of this program: this one does not know "joined_on" in it`, "mv -- "}, "", "", "status", "--all")
	line := strings.TrimSpace(said[strings.Index(said, "mv -- "):])
	r := m.command("", "", "sh", "-c", line)
	require.Equal(t, 0, r.code, r.err)
	m.ok("", "", "project", "find", ".", "--yes")
	assert.Contains(t, m.ok("", "", "status", "--all", "--full"), "gauge")
}
