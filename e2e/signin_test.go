package e2e

import (
	"bufio"
	"context"
	"io"
	"net/http"
	"net/url"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// signsIn starts a sign-in and gives what it says, line by line, up to the waiting.
func (m *machine) signsIn(by string, args ...string) (said string, end func() (int, string)) {
	m.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	m.t.Cleanup(cancel)
	c := exec.CommandContext(ctx, program, append([]string{"account", "add", "--host", "gannet", "--by", by}, args...)...)
	c.Dir, c.Env = m.home, m.env
	errs, err := c.StderrPipe()
	require.NoError(m.t, err)
	var out strings.Builder
	c.Stdout = &out
	require.NoError(m.t, c.Start())
	in := bufio.NewReader(errs)
	for !strings.Contains(said, "Waiting for that") {
		line, err := in.ReadString('\n')
		require.NoError(m.t, err, said)
		said += line
	}
	return said, func() (int, string) {
		rest, _ := io.ReadAll(in)
		_ = c.Wait()
		return c.ProcessState.ExitCode(), out.String() + string(rest)
	}
}

// fills fills the host's page in, as a person in a browser would, and follows where it leads.
func fills(t *testing.T, page string, v url.Values) string {
	t.Helper()
	r, err := http.PostForm(page, v)
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return string(text)
}

var codeShown = regexp.MustCompile(`enter the code  ([A-Z]{4}-[A-Z]{4})`)

func TestSignInByDevice(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	m.ok("", "", "host", "add", "gannet", "--at", h.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	said, end := m.signsIn("device")
	code := codeShown.FindStringSubmatch(said)
	require.NotNil(t, code, said)
	page := h.URL + "/gangway/enter"
	assert.Contains(t, said, page)
	assert.Contains(t, fills(t, page, url.Values{"code": {"XXXX-XXXX"}, "user": {"tern"}, "token": {h.token["tern"]}, "say": {"yes"}}), "There is no such code")
	assert.Contains(t, fills(t, page, url.Values{"code": {code[1]}, "user": {"tern"}, "token": {"wrong"}, "say": {"yes"}}), "not a user with such a token")
	assert.Contains(t, fills(t, page, url.Values{"code": {strings.ToLower(code[1])}, "user": {"tern"}, "token": {h.token["tern"]}, "say": {"yes"}}), "signed in as tern")
	exit, out := end()
	require.Equal(t, 0, exit, out)
	assert.Contains(t, out, "Signed in; the sign-in renews itself from the vault.")
	assert.Contains(t, out, "self, look, work, launch, steer, lines", "the least scopes")
	assert.NotContains(t, out, "people")
	for _, holder := range holders(t, "surface~", m.home) {
		assert.Equal(t, "gannet.toml", filepath.Base(holder), "only the description names how tokens begin")
	}

	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes")
	// When its access token ends it is renewed by itself, also for plain git.
	h.LetTokensEnd("plunge~o")
	m.ageAccounts()
	m.write("gauge", map[string]string{"more": "more"})
	m.git("gauge", "add", "-A")
	m.git("gauge", "commit", "-q", "-m", "More")
	m.git("gauge", "push", "-q")
	assert.Contains(t, m.ok("gauge", "", "sync"), "In step")
	assert.Contains(t, m.ok("", "", "token", "list"), "renews itself")
	assert.Regexp(t, `good +token expiry +renews itself`, m.ok("", "", "ready"), "nobody is told to paste one")

	out = m.ok("gauge", "", "access", "list")
	assert.Contains(t, out, "it lacks the scope crew. To give the account a token that has it: uncinate account add tern --host gannet --by device --may publish --may keys --may people")
	m.ok("", "", "token", "revoke", "tern", "--yes")
	m.refused(3, []string{"the vault holds no token"}, "gauge", "", "sync")

	said, end = m.signsIn("device", "tern")
	code = codeShown.FindStringSubmatch(said)
	fills(t, page, url.Values{"code": {code[1]}, "user": {"tern"}, "token": {h.token["tern"]}, "say": {"no"}})
	exit, out = end()
	assert.Equal(t, 5, exit)
	assert.Contains(t, out, "was not allowed")

	// For people it takes a scope more. What renews it is revoked: a new sign-in is wanted, and the command says so.
	said, end = m.signsIn("device", "tern", "--may", "publish", "--may", "keys", "--may", "people")
	fills(t, page, url.Values{"code": {codeShown.FindStringSubmatch(said)[1]}, "user": {"tern"}, "token": {h.token["tern"]}, "say": {"yes"}})
	exit, out = end()
	require.Equal(t, 0, exit, out)
	assert.Contains(t, m.ok("gauge", "", "access", "list"), "names nobody beside its owner")
	h.LetTokensEnd("")
	m.ageAccounts()
	m.refused(5, []string{"the sign-in of account tern is over", "uncinate account add tern --host gannet --by device"}, "gauge", "", "sync")
}

func TestSignInByBrowser(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	m.ok("", "", "host", "add", "gannet", "--at", h.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	address := func(said string) string {
		for line := range strings.SplitSeq(said, "\n") {
			if strings.HasPrefix(strings.TrimSpace(line), h.URL+"/gangway/board?") {
				return strings.TrimSpace(line)
			}
		}
		t.Fatalf("no address in %s", said)
		return ""
	}
	said, end := m.signsIn("browser")
	at := address(said)
	u, err := url.Parse(at)
	require.NoError(t, err)
	assert.Equal(t, "S256", u.Query().Get("code_challenge_method"))
	back, err := url.Parse(u.Query().Get("redirect_uri"))
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1", back.Hostname())
	r, err := http.Get(back.String() + "?state=forged&code=stolen")
	require.NoError(t, err)
	r.Body.Close()
	assert.Equal(t, 404, r.StatusCode, "an answer that nobody asked for is not taken")
	assert.Contains(t, fills(t, at, url.Values{"user": {"tern"}, "token": {h.token["tern"]}, "say": {"yes"}}), "You are signed in")
	exit, out := end()
	require.Equal(t, 0, exit, out)
	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes")

	said, end = m.signsIn("browser", "tern")
	assert.Contains(t, fills(t, address(said), url.Values{"user": {"tern"}, "token": {h.token["tern"]}, "say": {"no"}}), "was not allowed")
	exit, out = end()
	assert.Equal(t, 5, exit, out)

	m.refused(2, []string{"by token, device or browser"}, "", "", "account", "add", "--host", "gannet", "--by", "pigeon")
	p := newHostOf(t, "petrel")
	m.ok("", "", "host", "add", "petrel", "--at", p.URL)
	m.refused(5, []string{"petrel offers no sign-in by device", "uncinate account add --host petrel"}, "", "", "account", "add", "--host", "petrel", "--by", "device")
	assert.FileExists(t, filepath.Join(m.home, ".uncinate/config/accounts.json"))
}
