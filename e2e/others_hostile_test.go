package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestHostileAnswersAboutPeople lists what a host tells of people and branches that means no good, or
// makes no sense: every command ends, says what it can, and obeys nothing.
func TestHostileAnswersAboutPeople(t *testing.T) {
	t.Parallel()
	var answers map[string]any // by path; what is not there is an empty list
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		a, found := answers[q.URL.Path]
		switch {
		case q.URL.Path == "/who":
			a = map[string]any{"user": "tern"}
		case q.URL.Path == "/show":
			a = map[string]any{"id": "1", "owner": "tern", "name": "gauge", "visibility": "private", "right": "admin"}
		case !found:
			a = []any{}
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(a) // the program may be gone
	}))
	t.Cleanup(s.Close)
	var b strings.Builder
	fmt.Fprintf(&b, "language = 1\nname = \"skua\"\nbase = %q\n[address]\nhttps = \"{+base}/{owner}/{name}.git\"\n[page]\npeople = \"{+base}/people\"\n[signin]\nheader = { Skua = \"{token}\" }\n", s.URL)
	fmt.Fprintf(&b, "[value.visibility]\nprivate = \"private\"\npublic = \"public\"\n[value.right]\nread = \"read\"\nwrite = \"write\"\nadmin = \"admin\"\n[limits]\nprivate_collaborators = 3\n")
	fmt.Fprintf(&b, "[[action.identify.request]]\nurl = \"{+base}/who\"\nread = { user = \"$.user\" }\n[[action.repository-show.request]]\nurl = \"{+base}/show\"\nread = { id = \"$.id\", owner = \"$.owner\", name = \"$.name\", visibility = \"$.visibility\", right = \"$.right\" }\n")
	for action, read := range map[string]string{"people-list": `user = "$.user", full_name = "$.name", right = "$.right", created = "$.since", inherited = "$.by"`, "people-search": `user = "$.user"`,
		"invitation-sent": `id = "$.id", user = "$.user", email = "$.mail", right = "$.right"`, "invitation-list": `id = "$.id", owner = "$.owner", name = "$.name", right = "$.right", creator = "$.by"`,
		"protection-list": `branch = "$.branch", rewriting = "$.rewriting", right = "$.right", mergers = "$.mergers"`} {
		fmt.Fprintf(&b, "[[action.%s.request]]\nurl = \"{+base}/%s\"\nitems = \"$[*]\"\nread = { %s }\n", action, action, read)
	}
	for _, action := range []string{"people-grant", "people-withdraw", "invitation-send", "invitation-withdraw", "invitation-accept", "branch-protect", "branch-unprotect"} {
		fmt.Fprintf(&b, "[[action.%s.request]]\nmethod = \"POST\"\nurl = \"{+base}/%s\"\njson = { who = \"{person}\", mail = \"{email}\", id = \"{id}\", right = \"{right}\", branch = \"{branch}\" }\n", action, action)
	}
	m := newMachine(t)
	m.alone = true
	m.write("", map[string]string{"skua.toml": b.String()})
	m.ok("", "", "host", "add", "./skua.toml")
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", "token-5ec3e7\n", "account", "add", "tern", "--host", "skua", "--user", "tern")

	for _, given := range hostileAnswers() {
		answers = given
		for _, c := range []string{"access list --repository gauge", "access list --repository gauge --json", "access grant knot --repository gauge --yes", "access grant -x@y --repository gauge --yes", "access withdraw knot --repository gauge --yes", "invitation list",
			"invitation accept b --yes", "repository show gauge", "repository protect main --repository gauge --yes", "repository unprotect main --repository gauge --yes"} {
			began := time.Now()
			r := m.command("", "", program, strings.Fields(c)...)
			assert.Contains(t, []int{0, 1, 2, 3, 4, 5, 6}, r.code, "%s: %s", c, r.err)
			assert.Less(t, time.Since(began), time.Minute, c)
			for _, no := range []string{"\x1b", "\u202e", "panic", "goroutine "} {
				require.NotContains(t, r.out+r.err, no, c)
			}
			assert.Less(t, len(r.err), 20_000, c)
		}
	}
}

// hostileAnswers are sets of answers, by path.
func hostileAnswers() []map[string]any {
	evil := []any{"\x1b[2J\x1b[31mknot", "-rf", "../../x", strings.Repeat("long", 50_000), 7, true, nil, []any{"knot"}, map[string]any{"user": "knot"}, "a\nb", "\u202eknot", ""}
	var people, asked, mine, guards []any
	for i, e := range evil {
		people = append(people, map[string]any{"user": e, "name": e, "right": e, "since": e, "by": e}, e)
		asked = append(asked, map[string]any{"id": i, "user": e, "mail": e, "right": "read"}, map[string]any{"id": e, "user": fmt.Sprint("u", i)})
		mine = append(mine, map[string]any{"id": i, "owner": e, "name": e, "right": e, "by": e}, map[string]any{"id": e, "owner": "a", "name": "b"})
		guards = append(guards, map[string]any{"branch": e, "rewriting": e, "right": e, "mergers": e}, map[string]any{"branch": fmt.Sprint("b", i), "mergers": evil})
	}
	return []map[string]any{
		{"/people-list": people, "/invitation-sent": asked, "/invitation-list": mine, "/protection-list": guards, "/people-search": people},
		{"/people-list": map[string]any{"x": 1}, "/invitation-sent": "no", "/invitation-list": 7, "/protection-list": nil, "/people-search": true},
		{"/people-list": many(20_000, map[string]any{"user": "knot", "right": "read"}), "/invitation-sent": many(20_000, map[string]any{"id": 1, "user": "knot", "right": "read"})},
	}
}

// many repeats an item.
func many(n int, item any) []any {
	out := make([]any, n)
	for i := range out {
		out[i] = item
	}
	return out
}
