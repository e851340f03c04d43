package e2e

import (
	"crypto/md5"
	"crypto/sha1"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// webServer is a real web server, from its own package, with git-http-backend behind it.
type webServer struct {
	dir          string // its files; the repositories are in srv
	plain        string // its address over http
	tls, certify string // over https; certify wants a certificate of whoever comes
	proxy        string // a proxy that wants a password
}

// A password as people have it, with blanks and what is not in ASCII.
const oddPassword = " low tide: 3 \"metres\" ü "

// webSettings is what the server is told: %[1]s its folder, %[2]s the folder of git's programs, then its ports.
const webSettings = `ServerRoot %[1]s
PidFile %[1]s/pid
ServerName localhost
Listen 127.0.0.1:%[3]s
Listen 127.0.0.1:%[4]s
Listen 127.0.0.1:%[5]s
Listen 127.0.0.1:%[6]s
LogLevel error
ErrorLog %[1]s/log
StartServers 3
%[7]s
<Directory />
Require all granted
</Directory>
SetEnv GIT_PROJECT_ROOT %[1]s/srv
SetEnv GIT_HTTP_EXPORT_ALL yes
SetEnvIf Git-Protocol ".*" GIT_PROTOCOL=$0
Alias /files/ %[1]s/srv/
ScriptAlias /open/ %[2]s/git-http-backend/
ScriptAlias /harbour/team/git/ %[2]s/git-http-backend/
ScriptAlias /digest/ %[2]s/git-http-backend/
<Location /harbour/team/git/>
AuthType Basic
AuthName harbour
AuthUserFile %[1]s/people
Require valid-user
<If "%%{QUERY_STRING} =~ /service=git-receive-pack/ || %%{REQUEST_URI} =~ m#/git-receive-pack$#">
Require user tern
</If>
</Location>
<Location /harbour/team/git/drawings.git/>
Require user tern
</Location>
<Location /digest/>
AuthType Digest
AuthName harbour
AuthUserFile %[1]s/digests
Require valid-user
</Location>
<VirtualHost 127.0.0.1:%[4]s>
SSLEngine on
SSLCertificateFile %[1]s/server.pem
SSLCertificateKeyFile %[1]s/server.key
</VirtualHost>
<VirtualHost 127.0.0.1:%[5]s>
SSLEngine on
SSLCertificateFile %[1]s/server.pem
SSLCertificateKeyFile %[1]s/server.key
SSLCACertificateFile %[1]s/authority.pem
SSLVerifyClient require
</VirtualHost>
<VirtualHost 127.0.0.1:%[6]s>
ProxyRequests On
AllowCONNECT %[4]s
<Proxy "*">
AuthType Basic
AuthName harbour
AuthUserFile %[1]s/people
Require valid-user
</Proxy>
</VirtualHost>
`

// newWebServer starts the server; people sign in with oddPassword.
func newWebServer(t *testing.T) *webServer {
	t.Helper()
	needs(t, "apache2", "apache2-bin")
	needs(t, "openssl", "openssl")
	dir, err := os.MkdirTemp("/tmp", "uncinate-e2e-web-") // whoever the server runs as gets there
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, os.RemoveAll(dir)) })
	require.NoError(t, os.Chmod(dir, 0o755))
	w := &webServer{dir: dir}
	for _, args := range [][]string{
		{"req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "authority.key", "-out", "authority.pem", "-subj", "/CN=Harbour", "-days", "2"},
		{"req", "-newkey", "rsa:2048", "-nodes", "-keyout", "server.key", "-out", "server.csr", "-subj", "/CN=127.0.0.1", "-addext", "subjectAltName=IP:127.0.0.1"},
		{"x509", "-req", "-in", "server.csr", "-CA", "authority.pem", "-CAkey", "authority.key", "-CAcreateserial", "-copy_extensions", "copy", "-out", "server.pem", "-days", "2"},
		{"req", "-newkey", "rsa:2048", "-nodes", "-keyout", "tern.key", "-out", "tern.csr", "-subj", "/CN=tern"},
		{"x509", "-req", "-in", "tern.csr", "-CA", "authority.pem", "-CAkey", "authority.key", "-CAcreateserial", "-out", "tern.pem", "-days", "2"}} {
		c := exec.Command("openssl", args...)
		c.Dir = dir
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	var people, digests strings.Builder
	for _, who := range []string{"tern", "knot"} {
		sum := sha1.Sum([]byte(oddPassword))
		fmt.Fprintf(&people, "%s:{SHA}%s\n", who, base64.StdEncoding.EncodeToString(sum[:]))
		digest := md5.Sum([]byte(who + ":harbour:" + oddPassword))
		fmt.Fprintf(&digests, "%s:harbour:%s\n", who, hex.EncodeToString(digest[:]))
	}
	var modules strings.Builder
	for _, name := range strings.Fields("mpm_prefork authn_core authn_file authz_core authz_user auth_basic auth_digest alias cgi env setenvif ssl proxy proxy_connect") {
		fmt.Fprintf(&modules, "LoadModule %s_module /usr/lib/apache2/modules/mod_%s.so\n", name, name)
	}
	if os.Getuid() == 0 {
		modules.WriteString("User nobody\nGroup nogroup\n")
	}
	ports := freePorts(t, 4)
	execPath, err := exec.Command("git", "--exec-path").Output()
	require.NoError(t, err)
	settings := fmt.Sprintf(webSettings, dir, strings.TrimSpace(string(execPath)), ports[0], ports[1], ports[2], ports[3], modules.String())
	for name, contents := range map[string]string{"people": people.String(), "digests": digests.String(), "settings": settings} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(contents), 0o644))
	}
	w.plain, w.tls, w.certify, w.proxy = "http://127.0.0.1:"+ports[0], "https://127.0.0.1:"+ports[1], "https://127.0.0.1:"+ports[2], "127.0.0.1:"+ports[3]
	for _, name := range []string{"almanac", "drawings", "notes"} {
		w.repository(t, name)
	}
	c := exec.Command("apache2", "-DFOREGROUND", "-f", filepath.Join(dir, "settings"))
	log, err := os.Create(filepath.Join(dir, "said"))
	require.NoError(t, err)
	c.Stdout, c.Stderr = log, log
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // it ends all of its group with itself
	require.NoError(t, c.Start())
	t.Cleanup(func() { _ = c.Process.Signal(syscall.SIGTERM); _ = c.Wait(); log.Close() })
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(read(t, filepath.Join(dir, "log")))
		}
	})
	listens(t, ports[1])
	return w
}

// repository makes an empty one on the server, which belongs to whom the server runs as.
func (w *webServer) repository(t *testing.T, name string) {
	t.Helper()
	at := filepath.Join(w.dir, "srv", name+".git")
	require.NoError(t, exec.Command("git", "init", "-q", "--bare", "-b", "main", at).Run())
	require.NoError(t, exec.Command("git", "--git-dir="+at, "config", "http.receivepack", "true").Run())
	if os.Getuid() == 0 {
		require.NoError(t, exec.Command("chown", "-R", "nobody:nogroup", at).Run())
	}
}

// id gives a commit that the server has.
func (w *webServer) id(t *testing.T, name, ref string) string {
	t.Helper()
	out, err := exec.Command("git", "-c", "safe.directory=*", "--git-dir="+filepath.Join(w.dir, "srv", name+".git"), "rev-parse", ref).Output()
	require.NoError(t, err)
	return strings.TrimSpace(string(out))
}

// freePorts are ports on which nothing listens.
func freePorts(t *testing.T, n int) []string {
	t.Helper()
	var out []string
	for range n {
		_, port, err := net.SplitHostPort(free(t))
		require.NoError(t, err)
		out = append(out, port)
	}
	return out
}

// person is a machine with a vault, whose git knows a name and an e-mail.
func person(t *testing.T, name string) *machine {
	t.Helper()
	m := newMachine(t)
	m.alone = true
	m.git("", "config", "--global", "user.name", name)
	m.git("", "config", "--global", "user.email", name+"@skerry.example")
	m.ok("", "", "vault", "make", "--by", "file")
	return m
}

const webShown = "A web server with git-http-backend"

// TestWebServer does the main job on a real web server: by one account for all that is below a path, with rights per person
// and repository, by both schemes of sign-in, over https with an authority of its own, through a proxy, and on files alone.
func TestWebServer(t *testing.T) {
	t.Parallel()
	w := newWebServer(t)
	tern, knot := person(t, "tern"), person(t, "knot")
	team := w.plain + "/harbour/team/git"
	add := func(m *machine, who, password string, more ...string) result {
		return m.run("", password+"\n", append([]string{"account", "add", "--user", who, "--at"}, more...)...)
	}
	refuses(t, webShown, "an account for the server, without a repository to test it on", add(tern, "tern", oddPassword, w.plain+"/"))
	refuses(t, webShown, "a wrong password", add(tern, "tern", "low tide", team, "--repository", "almanac.git"))
	r := add(tern, "tern", oddPassword, team, "--repository", "almanac.git")
	require.Equal(t, 0, r.code, r.err)
	works(t, webShown, "one account for all repositories below a path, by name and password, with blanks and others than ASCII in it")
	for _, name := range []string{"almanac", "drawings"} {
		tern.project(name)
		tern.ok(name, "", "attach", "--yes", "--to", team+"/"+name+".git")
		assert.Equal(t, tern.git(name, "rev-parse", "HEAD"), w.id(t, name, "main"))
	}
	tern.ok("", "", "clone", team+"/notes", "empty")
	works(t, webShown, "attach, and clone of an empty repository, behind a path prefix")
	require.Equal(t, 0, add(knot, "knot", oddPassword, team, "--repository", "almanac.git").code)
	knot.ok("", "", "clone", team+"/almanac.git")
	refuses(t, webShown, "clone of what one may not see", knot.run("", "", "clone", team+"/drawings.git"))
	knot.write("almanac", map[string]string{"k.txt": "k\n"})
	knot.ok("almanac", "", "save", "From knot")
	refuses(t, webShown, "sync of what one may only read", knot.run("almanac", "", "sync"))
	knot.git("almanac", "fetch", "-q") // by plain git, as it is set up
	tern.write("almanac", map[string]string{"t.txt": "t\n"})
	tern.ok("almanac", "", "sync", "--save", "--message", "From tern")
	assert.Contains(t, tern.ok("", "", "status", "--all"), "in step")
	tern.git("", "-c", "credential.helper=", "clone", "-q", w.plain+"/open/almanac.git", "by-hand")
	assert.Contains(t, tern.ok("by-hand", "", "sync"), "In step")
	works(t, webShown, "sync and status, with rights per person and repository")

	w.digest(t, add)
	m := person(t, "tern")
	w.overTLS(t, m)
	require.NoError(t, exec.Command("git", "-c", "safe.directory=*", "--git-dir="+filepath.Join(w.dir, "srv/almanac.git"), "update-server-info").Run())
	m.ok("", "", "clone", w.plain+"/files/almanac.git", "files")
	assert.Contains(t, m.ok("files", "", "sync"), "In step")
	assert.Contains(t, m.ok("", "", "status", "--all"), "in step")
	works(t, webShown, "files alone: clone, sync, status")
	m.write("files", map[string]string{"f.txt": "f\n"})
	m.ok("files", "", "save", "Mine")
	refuses(t, webShown, "files alone: something to send", m.run("files", "", "sync"))
}

// digest signs in by the digest scheme.
func (w *webServer) digest(t *testing.T, add func(m *machine, who, password string, more ...string) result) {
	t.Helper()
	digest := person(t, "tern")
	require.Equal(t, 0, add(digest, "tern", oddPassword, w.plain+"/digest", "--repository", "almanac.git").code)
	digest.ok("", "", "clone", w.plain+"/digest/almanac.git")
	digest.write("almanac", map[string]string{"d.txt": "d\n"})
	digest.ok("almanac", "", "sync", "--save", "--message", "By digest")
	assert.Equal(t, digest.git("almanac", "rev-parse", "HEAD"), w.id(t, "almanac", "main"))
	works(t, webShown, "the digest scheme of sign-in")
	refuses(t, webShown, "a wrong password by the digest scheme", add(digest, "tern", "low tide", w.plain+"/digest", "--repository", "drawings.git"))
}

// overTLS goes over https and through a proxy, as git is set.
func (w *webServer) overTLS(t *testing.T, m *machine) {
	t.Helper()
	refuses(t, webShown, "https with an authority of its own, that is not in git's settings", m.run("", "", "clone", w.tls+"/open/almanac.git"))
	m.git("", "config", "--global", "http."+w.tls+".sslCAInfo", filepath.Join(w.dir, "authority.pem"))
	m.ok("", "", "clone", w.tls+"/open/almanac.git", "by-tls")
	m.git("", "config", "--global", "http."+w.certify+".sslCAInfo", filepath.Join(w.dir, "authority.pem"))
	refuses(t, webShown, "https that wants a certificate of whoever comes, without one", m.run("", "", "clone", w.certify+"/open/almanac.git", "by-certificate"))
	m.git("", "config", "--global", "http."+w.certify+".sslCert", filepath.Join(w.dir, "tern.pem"))
	m.git("", "config", "--global", "http."+w.certify+".sslKey", filepath.Join(w.dir, "tern.key"))
	m.ok("", "", "clone", w.certify+"/open/almanac.git", "by-certificate")
	works(t, webShown, "https with an authority of its own, and with a certificate to sign in, as git is set (http.sslCAInfo, sslCert, sslKey, by address)")

	m.git("", "config", "--global", "http."+w.tls+".proxy", "http://"+w.proxy)
	refuses(t, webShown, "a proxy that wants a sign-in, without one", m.run("by-tls", "", "sync"))
	m.git("", "config", "--global", "http."+w.tls+".proxy", "http://knot:"+strings.NewReplacer(" ", "%20", ":", "%3A", `"`, "%22", "ü", "%C3%BC").Replace(oddPassword)+"@"+w.proxy)
	m.write("by-tls", map[string]string{"p.txt": "p\n"})
	m.ok("by-tls", "", "sync", "--save", "--message", "Through the proxy")
	assert.Equal(t, m.git("by-tls", "rev-parse", "HEAD"), w.id(t, "almanac", "main"))
	works(t, webShown, "through a proxy that wants a sign-in, as git is set (http.proxy, by address)")

	r := m.run("", oddPassword+"\n", "account", "add", "--user", "tern", "--at", w.tls+"/harbour/team/git", "--repository", "almanac.git")
	require.Equal(t, 0, r.code, r.err)
	m.ok("", "", "clone", w.tls+"/harbour/team/git/almanac.git", "signed")
	m.git("", "config", "--global", "http."+w.tls+".proxy", "http://knot@"+w.proxy)
	refuses(t, webShown, "a proxy whose password nobody tells", m.run("signed", "", "sync"))
	m.write("", map[string]string{"helper": "#!/bin/sh\necho username=knot\nprintf 'password=%s\\n' '" + oddPassword + "'\n"})
	require.NoError(t, os.Chmod(filepath.Join(m.home, "helper"), 0o700))
	m.git("", "config", "--global", "credential.http://"+w.proxy+".helper", filepath.Join(m.home, "helper"))
	m.write("signed", map[string]string{"q.txt": "q\n"})
	m.ok("signed", "", "sync", "--save", "--message", "By git's own helper")
	assert.Equal(t, m.git("signed", "rev-parse", "HEAD"), w.id(t, "almanac", "main"))
	works(t, webShown, "a proxy whose password a helper of the person's own git tells: git asks there, for what has an account too")
}
