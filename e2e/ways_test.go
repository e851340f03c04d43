package e2e

import (
	"crypto/tls"
	"encoding/pem"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const settingsShown = "Git's own settings"

// TestAsGitGoes reaches a server as the person's own git does: by an authority of its own, a certificate to sign in with,
// a proxy that wants a password, and a header; without one of them the true cause is said.
func TestAsGitGoes(t *testing.T) {
	t.Parallel()
	needs(t, "openssl", "openssl")
	plain, dir := plainServer(t, "pa55-of-the-plain-host")
	to, err := url.Parse(plain)
	require.NoError(t, err)
	front, proxy, through := guarded(t, to)
	m := newMachine(t)
	m.alone = true
	m.git("", "config", "--global", "user.name", "Tern")
	m.git("", "config", "--global", "user.email", "tern@skerry.example")
	m.ok("", "", "vault", "make", "--by", "file")
	at := front.URL + "/drawings.git"
	add := func() result {
		return m.run("", "pa55-of-the-plain-host\n", "account", "add", "--at", at, "--user", "tern")
	}
	assert.Contains(t, add().err, "its certificate is not one that this machine trusts")
	set := func(name, value string) { m.git("", "config", "--global", "http."+front.URL+"."+name, value) }
	authority := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: front.Certificate().Raw})
	m.write("", map[string]string{"harbour.pem": string(authority)})
	set("sslCAInfo", "~/harbour.pem")
	assert.Contains(t, add().err, "does not accept this user name", "the header and the certificate are missing")
	m.command("", "", "openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", filepath.Join(m.home, "own.key"), "-out", filepath.Join(m.home, "own.pem"), "-subj", "/CN=tern", "-days", "2")
	set("sslCert", filepath.Join(m.home, "own.pem"))
	set("sslKey", filepath.Join(m.home, "own.key"))
	set("extraHeader", "Harbour-Pass: tern")
	r := add()
	require.Equal(t, 0, r.code, r.err)
	set("proxy", strings.Replace(proxy.URL, "http://", "http://tern:wrong@", 1))
	r = m.run("", "", "token", "test", "tern-drawings")
	assert.Contains(t, r.out+r.err, "by way of the proxy "+proxy.URL+", which git's setting http.proxy names")
	assert.NotContains(t, r.out+r.err, "wrong")
	set("proxy", "http://127.0.0.1:1")
	r = m.run("", "", "token", "test", "tern-drawings")
	assert.Contains(t, r.out+r.err, "by way of the proxy http://127.0.0.1:1")
	refuses(t, settingsShown, "a proxy that does not answer", m.run("", "", "clone", at, "never"))
	set("proxy", strings.Replace(proxy.URL, "http://", "http://tern:secret@", 1))
	m.project("drawings")
	m.ok("drawings", "", "attach", "--yes", "--to", at)
	assert.Equal(t, m.git("drawings", "rev-parse", "HEAD"), m.git(filepath.Join(dir, "drawings.git"), "rev-parse", "main"))
	assert.Positive(t, through.Load())
	m.ok("", "", "clone", at, "copy")
	m.ok("copy", "", "sync")
	works(t, settingsShown, "http.<url>.sslCAInfo (with ~), sslCert, sslKey, extraHeader, proxy with a sign-in")

	m.git("", "config", "--global", "--remove-section", "http."+front.URL)
	was := m.env
	m.env = append(was[:len(was):len(was)], "GIT_SSL_CAINFO="+filepath.Join(m.home, "harbour.pem"), "GIT_SSL_CERT="+filepath.Join(m.home, "own.pem"), "GIT_SSL_KEY="+filepath.Join(m.home, "own.key"),
		"ALL_PROXY="+strings.Replace(proxy.URL, "http://", "http://tern:secret@", 1))
	m.git("", "config", "--global", "http.extraHeader", "Harbour-Pass: tern")
	before := through.Load()
	m.ok("copy", "", "sync")
	assert.Greater(t, through.Load(), before, "by git's own variables, and the one that names a proxy for all")
	works(t, settingsShown, "GIT_SSL_CAINFO, GIT_SSL_CERT, GIT_SSL_KEY, ALL_PROXY, http.extraHeader")
}

// guarded gives a server in front of another one, with an authority of its own, that wants a certificate and a header;
// and a proxy that wants a password, with how often somebody went through it.
func guarded(t *testing.T, to *url.URL) (front, proxy *httptest.Server, through *atomic.Int32) {
	t.Helper()
	front = httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.Header.Get("Harbour-Pass") != "tern" || len(q.TLS.PeerCertificates) == 0 {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		httputil.NewSingleHostReverseProxy(to).ServeHTTP(w, q)
	}))
	front.TLS = &tls.Config{ClientAuth: tls.RequestClientCert}
	front.StartTLS()
	t.Cleanup(front.Close)
	through = &atomic.Int32{}
	proxy = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.Header.Get("Proxy-Authorization") != "Basic dGVybjpzZWNyZXQ=" { // tern:secret
			w.Header().Set("Proxy-Authenticate", `Basic realm="harbour"`)
			w.WriteHeader(http.StatusProxyAuthRequired)
			return
		}
		through.Add(1)
		tunnel(t, w, q)
	}))
	t.Cleanup(proxy.Close)
	return front, proxy, through
}

// tunnel connects a caller of a proxy with where it wants to go (RFC 9110, CONNECT).
func tunnel(t *testing.T, w http.ResponseWriter, q *http.Request) {
	if q.Method != http.MethodConnect {
		w.WriteHeader(http.StatusMethodNotAllowed)
		return
	}
	there, err := net.DialTimeout("tcp", q.Host, 5*time.Second)
	if err != nil {
		w.WriteHeader(http.StatusBadGateway)
		return
	}
	here, read, err := w.(http.Hijacker).Hijack()
	if !assert.NoError(t, err) {
		return
	}
	_, _ = io.WriteString(here, "HTTP/1.1 200 OK\r\n\r\n") // only now: what the caller sends next is for the other side
	go func() {
		_, _ = io.Copy(there, read) // it ends with either side
		there.Close()
	}()
	_, _ = io.Copy(here, there)
	here.Close()
}

// TestEnvironments runs where the home folder is not named, where nothing temporary can be written, and with few files open
// at a time: what can go on does, and the true cause is said of what cannot.
func TestEnvironments(t *testing.T) {
	t.Parallel()
	linux(t)
	_, m := attached(t)
	m.alone = true
	bash := func(before string, args ...string) result {
		return m.command("gauge", "", "bash", append([]string{"-c", before + `; exec "$0" "$@"`, program}, args...)...)
	}
	r := bash("unset HOME", "status")
	assert.Equal(t, 0, r.code, r.err)
	r = bash("unset HOME UNCINATE_HOME", "account", "list") // the system knows whose home it is
	assert.Equal(t, 0, r.code, r.err)
	works(t, environments, "HOME not set: it is asked of the system")
	m.write("gauge", map[string]string{"one.txt": "1\n", "two.txt": "2\n"})
	r = bash("export TMPDIR=/no/such/folder", "save", "--message", "One", "--only", "one.txt")
	assert.Equal(t, 1, r.code)
	assert.Contains(t, r.err, "nothing temporary can be written into /no/such/folder: no such file or directory.\n  The variable TMPDIR names that folder.")
	refuses(t, environments, "TMPDIR names no folder", r)
	leave := m.smallDisk("full", 16)
	leave(0)
	r = bash("export TMPDIR="+filepath.Join(m.home, "full"), "save", "--message", "One", "--only", "one.txt")
	assert.Contains(t, strings.ToLower(r.err), "no space left on device")
	refuses(t, environments, "TMPDIR is full", r)
	assert.Equal(t, "?? one.txt\n?? two.txt", m.git("gauge", "status", "--porcelain"), "nothing was done")
	r = bash("ulimit -n 64", "sync", "--save", "--message", "Both")
	assert.Equal(t, 0, r.code, r.err)
	assert.Equal(t, "", m.git("gauge", "status", "--porcelain"))
	works(t, environments, "64 open files at most (ulimit -n 64)")
	r = bash("export LC_ALL=C", "status", "--all")
	assert.Equal(t, 0, r.code, r.err)
	works(t, environments, "the C locale, and no terminal")
}

const environments = "Environments"

// TestHomes works where nothing can be written into the home folder, and as a user who may do little: what is in the way
// is said with a line that, pasted into a small shell, helps.
func TestHomes(t *testing.T) {
	t.Parallel()
	linux(t)
	needs(t, "busybox", "busybox")
	at, dir := plainServer(t, "")
	m := newMachine(t)
	m.alone = true
	m.project("first")
	m.commit("first", "main")
	m.git("first", "push", "-q", filepath.Join(dir, "almanac.git"), "main")
	readOnly := func(before string, args ...string) result {
		return m.command("", "", "unshare", append([]string{"-m", "sh", "-c", `mount --bind "$HOME" "$HOME" && mount -o remount,ro,bind "$HOME" && exec busybox sh -c "$0" "$@"`,
			before + `; exec "$0" "$@"`, program}, args...)...)
	}
	r := readOnly("unset UNCINATE_HOME", "settings", "set", "machine", "pier")
	assert.Contains(t, r.err, "cannot be made: read-only file system")
	refuses(t, environments, "HOME cannot be written", r)
	remedy := regexp.MustCompile(`export UNCINATE_HOME=\S+`).FindString(r.err)
	require.NotEmpty(t, remedy, r.err)
	elsewhere := t.TempDir()
	r = readOnly(strings.Replace(remedy, os.TempDir()+"/uncinate-home", elsewhere, 1)+"; cd "+elsewhere, "clone", at+"/almanac.git")
	assert.Equal(t, 0, r.code, r.err)
	works(t, environments, "HOME cannot be written, and UNCINATE_HOME names another folder; the lines pasted into busybox")

	who, err := os.MkdirTemp("/tmp", "uncinate-e2e-who-")
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, os.RemoveAll(who)) })
	require.Equal(t, 0, m.command("", "", "cp", program, who+"/uncinate").code)
	require.Equal(t, 0, m.command("", "", "chown", "-R", "65534:65534", who).code)
	as := func(dir string, args ...string) result {
		return m.command("", "", "env", append([]string{"-i", "-C", filepath.Join(who, dir), "HOME=" + who, "PATH=" + os.Getenv("PATH"), "setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "--no-new-privs"}, args...)...)
	}
	for _, args := range [][]string{{"git", "config", "--global", "user.name", "Tern"}, {"git", "config", "--global", "user.email", "tern@skerry.example"}, {"./uncinate", "vault", "make", "--by", "file"}, {"./uncinate", "clone", at + "/almanac.git"}, {"touch", "almanac/new.txt"}} {
		r := as("", args...)
		require.Equal(t, 0, r.code, r.err)
	}
	r = as("almanac", "../uncinate", "sync", "--save", "--message", "New")
	assert.Equal(t, 0, r.code, r.err)
	works(t, environments, "a user without any right beyond the own folder, and an almost empty environment")
	r = as("", "./uncinate", "clone", at+"/almanac.git", "/var/lib/almanac")
	assert.Contains(t, r.err, "permission denied")
	refuses(t, environments, "a folder in which that user may not write", r)
}

// TestFilesAlone follows a repository whose files alone are served: it is cloned, compared and brought up to date, and
// that nothing can be sent to it is said.
func TestFilesAlone(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	m := newMachine(t)
	m.alone = true
	bare := filepath.Join(dir, "almanac.git")
	m.command("", "", "git", "init", "-q", "--bare", "-b", "trunk", bare)
	m.project("own")
	m.commit("own", "trunk")
	sends := func() string {
		m.git("own", "push", "-q", bare, "trunk")
		m.git("", "--git-dir="+bare, "update-server-info")
		return m.git("own", "rev-parse", "trunk")
	}
	sends()
	s := httptest.NewServer(http.FileServer(http.Dir(dir)))
	t.Cleanup(s.Close)
	m.ok("", "", "clone", s.URL+"/almanac.git", "copy")
	assert.Equal(t, "trunk", m.git("copy", "branch", "--show-current"))
	assert.Contains(t, m.ok("copy", "", "status"), "in step")
	m.write("own", map[string]string{"more.txt": "more\n"})
	m.git("own", "add", "-A")
	m.git("own", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "More")
	newest := sends()
	assert.Contains(t, m.ok("", "", "status", "--all"), "behind")
	m.ok("", "", "sync", "--all", "--yes")
	assert.Equal(t, newest, m.git("copy", "rev-parse", "HEAD"))
	assert.Contains(t, m.ok("copy", "", "sync"), "In step")
	m.git("copy", "config", "user.name", "Tern")
	m.git("copy", "config", "user.email", "tern@skerry.example")
	m.write("copy", map[string]string{"mine.txt": "mine\n"})
	m.ok("copy", "", "save", "--message", "Mine")
	m.refused(5, []string{"serves files alone: one receives from it, and nothing can be sent there", "Your commits stay here."}, "copy", "", "sync")
}

// TestFirstBranch heeds what the host's first branch is to be called, or else what the person's git calls one, so that
// whoever clones has the files; where the two differ it is said, with the line that helps.
func TestFirstBranch(t *testing.T) {
	t.Parallel()
	at, dir := plainServer(t, "")
	m := newMachine(t)
	m.alone = true
	m.git("", "config", "--global", "user.name", "Tern")
	m.git("", "config", "--global", "user.email", "tern@skerry.example")
	m.git("", "--git-dir="+filepath.Join(dir, "almanac.git"), "symbolic-ref", "HEAD", "refs/heads/watch")
	m.git("", "--git-dir="+filepath.Join(dir, "drawings.git"), "symbolic-ref", "HEAD", "refs/heads/watch")
	m.project("almanac")
	assert.Contains(t, m.ok("almanac", "", "attach", "--preview", "--to", at+"/almanac.git"), "on branch watch")
	m.ok("almanac", "", "attach", "--yes", "--to", at+"/almanac.git")
	m.git("", "clone", "-q", at+"/almanac.git", "by-git")
	assert.FileExists(t, filepath.Join(m.home, "by-git/README.md"))

	m.project("drawings")
	m.commit("drawings", "main")
	r := m.run("drawings", "", "attach", "--preview", "--to", at+"/drawings.git")
	said := strings.Join(strings.Fields(r.out+r.err), " ")
	assert.Contains(t, said, "The first branch there is to be called watch, and yours is main: whoever clones it gets an empty folder")
	m.ok("", "", "branch", "rename", "main", "watch", "--here", "--folder", "drawings")
	m.ok("drawings", "", "attach", "--yes", "--to", at+"/drawings.git")
	m.git("", "clone", "-q", at+"/drawings.git", "drawn")
	assert.FileExists(t, filepath.Join(m.home, "drawn/README.md"))

	h := newHost(t)
	m.git("", "config", "--global", "init.defaultBranch", "trunk")
	m.signIn(h)
	m.project("gauge")
	assert.Contains(t, m.ok("gauge", "", "attach", "--yes"), "branch trunk at")
	assert.Equal(t, "trunk", h.repoAt(t, h.URL+"/tern/gauge").Default)
}
