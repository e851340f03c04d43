package e2e

import (
	"bytes"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/text"
)

// stranger is a folder from elsewhere on a machine, whose programs note that they ran.
type stranger struct {
	*machine
	canary, ran string
}

func strangerOn(m *machine) *stranger {
	m.alone = true
	s := &stranger{machine: m, canary: filepath.Join(m.home, "canary"), ran: filepath.Join(m.home, "ran")}
	require.NoError(m.t, os.WriteFile(s.canary, []byte("#!/bin/sh\necho \"$0 $*\" >> '"+s.ran+"'\ncat >/dev/null 2>&1 </dev/null\n"), 0o755))
	return s
}

// set sets a key in a repository's own configuration, past git's own checks.
func (s *stranger) set(dir string, kv ...string) {
	s.t.Helper()
	for i := 0; i < len(kv); i += 2 {
		s.git(dir, "config", "--local", kv[i], kv[i+1])
	}
}

// clean tells of what ran, and forgets it.
func (s *stranger) clean(about ...any) {
	s.t.Helper()
	if ran, err := os.ReadFile(s.ran); err == nil {
		assert.Fail(s.t, "it ran: "+string(ran), about...)
		require.NoError(s.t, os.Remove(s.ran))
	}
}

// evil makes a repository with a few commits.
func (s *stranger) evil(dir string) {
	s.t.Helper()
	s.write(dir, map[string]string{"a.txt": "one\n", "src/b.c": "int b;\n", "big.bin": "x\n", ".gitattributes": "* filter=evil diff=evil merge=evil\n*.bin filter=a=b\n"})
	s.git(dir, "init", "-q", "-b", "main")
	s.set(dir, "user.name", "Tern", "user.email", "tern@skerry.example")
	s.git(dir, "add", "-A")
	s.git(dir, "commit", "-q", "-m", "One")
	s.write(dir, map[string]string{"a.txt": "two\n"})
	s.git(dir, "commit", "-q", "-a", "-m", "Two")
	s.git(dir, "branch", "other")
	s.write(dir, map[string]string{"a.txt": "six\n", "big.bin": "y\n", "new.txt": "n\n"})
}

// drop takes the object of a file of the last commit away, so that git would bring it in.
func (s *stranger) drop(dir, spec string) {
	s.t.Helper()
	id := s.git(dir, "rev-parse", spec)
	require.NoError(s.t, os.Remove(filepath.Join(s.home, dir, ".git/objects", id[:2], id[2:])))
}

// waysIn are the ways by which a folder has had its code run, each on a fresh one.
func waysIn(s *stranger) map[string]func(dir string) {
	c := s.canary
	promisor := func(dir string) {
		s.set(dir, "core.repositoryFormatVersion", "1", "extensions.partialClone", "origin", "remote.origin.promisor", "true", "remote.origin.fetch", "+refs/heads/*:refs/remotes/origin/*")
		s.drop(dir, "HEAD:a.txt")
		s.drop(dir, "HEAD~1:a.txt")
	}
	return map[string]func(dir string){
		"lazily, by ssh": func(dir string) {
			promisor(dir)
			s.set(dir, "remote.origin.url", "ssh://hut.skerry.example/x", "core.sshCommand", c+" ssh")
		},
		"lazily, by the other side's program": func(dir string) {
			promisor(dir)
			s.set(dir, "remote.origin.url", s.home, "remote.origin.uploadpack", c+" uploadpack")
		},
		"lazily, by another transport": func(dir string) {
			promisor(dir)
			s.set(dir, "remote.origin.url", "ext::"+c+" ext", "protocol.ext.allow", "always", "remote.origin.vcs", "ext")
		},
		"filters": func(dir string) {
			s.set(dir, "filter.evil.clean", c+" clean", "filter.evil.smudge", c+" smudge", "filter.a=b.clean", c+" a=b", "filter.a=b.process", c+" process", "filter.a=b.required", "true")
		},
		"settings that name programs": func(dir string) {
			s.set(dir, "core.fsmonitor", c+" fsmonitor", "core.hooksPath", ".", "diff.external", c+" external", "diff.evil.textconv", c+" textconv", "diff.evil.command", c+" command",
				"merge.evil.driver", c+" merge", "gpg.program", c+" gpg", "log.showSignature", "true", "commit.gpgSign", "true", "core.pager", c+" pager", "pager.log", c+" pager", "core.editor", c+" editor",
				"core.askPass", c+" askpass", "core.alternateRefsCommand", c+" refs", "trailer.x.command", c+" trailer", "alias.status", "!"+c+" alias", "sequence.editor", c+" editor",
				"interactive.diffFilter", c+" filter", "core.sshCommand", c+" ssh", "credential.helper", c+" helper", "uploadpack.packObjectsHook", c+" pack", "tar.tgz.command", c+" tar")
			s.set(dir, "remote.origin.url", "ssh://hut.skerry.example/x", "url.ext::"+c+" .insteadOf", "ssh://")
			for _, name := range []string{"post-index-change", "pre-commit", "post-checkout", "reference-transaction", "pre-push", "fsmonitor-watchman"} {
				require.NoError(s.t, os.WriteFile(filepath.Join(s.home, dir, name), []byte("#!/bin/sh\nexec '"+c+"' "+name+"\n"), 0o755))
			}
		},
		"hooks": func(dir string) {
			for _, name := range []string{"post-index-change", "pre-commit", "post-checkout", "post-merge", "reference-transaction", "pre-push", "fsmonitor-watchman", "pre-auto-gc"} {
				require.NoError(s.t, os.WriteFile(filepath.Join(s.home, dir, ".git/hooks", name), []byte("#!/bin/sh\nexec '"+c+"' "+name+"\n"), 0o755))
			}
		},
		"included settings": func(dir string) {
			s.write(dir, map[string]string{".git/more": "[core]\n\tfsmonitor = " + c + " included\n[filter \"evil\"]\n\tclean = " + c + " included\n", ".git/still": "[filter \"evil\"]\n\tsmudge = " + c + " still\n\tclean = " + c + " still\n"})
			s.set(dir, "include.path", "more", "includeIf.onbranch:**.path", "still")
		},
		"settings of the work tree": func(dir string) {
			s.set(dir, "core.repositoryFormatVersion", "1", "extensions.worktreeConfig", "true")
			s.git(dir, "config", "--worktree", "filter.evil.clean", c+" worktree")
			s.git(dir, "config", "--worktree", "core.fsmonitor", c+" worktree")
		},
		"a repository inside": func(dir string) {
			s.write(dir+"/inside", map[string]string{"x.txt": "x\n", ".gitattributes": "* filter=in\n", "sub/y.txt": "y\n"})
			s.git(dir+"/inside", "init", "-q", "-b", "main")
			s.set(dir+"/inside", "user.name", "Tern", "user.email", "tern@skerry.example")
			s.git(dir+"/inside", "add", "-A")
			s.git(dir+"/inside", "commit", "-q", "-m", "Inside")
			s.git(dir, "-c", "advice.addEmbeddedRepo=false", "add", "inside")
			s.write(dir, map[string]string{".gitmodules": "[submodule \"inside\"]\n\tpath = inside\n\turl = ./x\n\tignore = none\n"})
			s.git(dir, "add", ".gitmodules")
			s.git(dir, "commit", "-q", "-m", "With one inside")
			s.write(dir, map[string]string{"inside/x.txt": "z\n"})
			s.set(dir+"/inside", "filter.in.clean", c+" inside", "core.fsmonitor", c+" inside", "core.sshCommand", c+" inside")
		},
		"a folder like a bare repository": func(dir string) {
			bare := dir + "/docs"
			s.write(bare, map[string]string{"HEAD": "ref: refs/heads/main\n", "refs/x": "", "objects/x": "", "note.txt": "n\n",
				"config": "[core]\n\trepositoryFormatVersion = 0\n\tbare = false\n\tworktree = ..\n\tfsmonitor = " + c + " bare\n\tsshCommand = " + c + " bare\n[diff]\n\texternal = " + c + " bare\n[alias]\n\tstatus = !" + c + "\n"})
			s.git(dir, "add", "-f", "docs")
			s.git(dir, "commit", "-q", "-m", "With docs")
		},
	}
}

// looks are the commands that only look, as a person gives them in a folder.
var looks = [][]string{{"survey"}, {"survey", "--prove", "--preview"}, {"status"}, {"changes"}, {"changes", "--full"}, {"history"}, {"history", "--full"}, {"history", "--graph"}, {"branch", "list"}, {"tag", "list"}, {"ready"},
	{"ignore", "suggest"}, {"ignore", "explain", "a.txt"}, {"attach", "--preview"}, {"attach", "--preview", "--trust"}, {"attach"}, {"sync", "--preview"}, {"sync"}, {"save", "X", "--preview"}, {"save", "X"}, {"rescue", "list"},
	{"branch", "switch", "other"}, {"branch", "join", "other"}, {"tag", "make", "v1.0.0", "--preview"}, {"project", "trust", "--preview"}, {"project", "find", ".", "--preview"}, {"status", "--all"}, {"detach", "--preview"},
	{"settings", "list"}, {"visit"}, {"repository", "show"}, {"access", "list"}}

// TestLookingAtStrangersRunsNothing looks at hostile folders with every command: nothing of theirs runs,
// which is told by what ran, not by how the command ends.
func TestLookingAtStrangersRunsNothing(t *testing.T) {
	linux(t)
	t.Parallel()
	h := newHost(t)
	for name := range waysIn(strangerOn(newMachine(t))) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := strangerOn(signedIn(t, h))
			s.evil("evil")
			waysIn(s)[name]("evil")
			before := s.git("evil", "rev-parse", "HEAD")
			require.NoError(t, errorOr(os.Remove(s.ran))) // what plain git ran as it was made
			for _, where := range []string{"evil", "evil/src", "evil/docs", "evil/inside"} {
				if _, err := os.Stat(filepath.Join(s.home, where)); err != nil {
					continue
				}
				for _, args := range looks {
					r := s.run(where, "", args...)
					s.clean("%s, in %s: uncinate %v ended with %d: %s", name, where, args, r.code, r.err)
					assert.NotContains(t, r.err, "panic")
				}
			}
			if name == "a repository inside" || name == "a folder like a bare repository" {
				return // there is nothing strange in what is around it, so saving goes on
			}
			assert.Equal(t, before, s.git("evil", "rev-parse", "HEAD"), "it was not asked for, and nobody trusted it")
			require.NoError(t, errorOr(os.Remove(s.ran)))
		})
	}
}

// errorOr passes over a file that was not there.
func errorOr(err error) error {
	if os.IsNotExist(err) {
		return nil
	}
	return err
}

// listener counts connections.
func listener(t *testing.T) (address string, count *atomic.Int32) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, l.Close()) })
	count = &atomic.Int32{}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			count.Add(1)
			_ = c.Close() // whoever came has said enough
		}
	}()
	return l.Addr().String(), count
}

// TestForeignSettingsArePutAside attaches a folder whose configuration would lead the token
// elsewhere: the plan shows it with file and line, it has no effect from then on, and detach
// brings it back. With --trust it counts, until it changes.
func TestForeignSettingsArePutAside(t *testing.T) {
	linux(t)
	t.Parallel()
	h := newHost(t)
	s := strangerOn(signedIn(t, h))
	proxy, met := listener(t)
	s.evil("evil")
	s.write("evil", map[string]string{".git/more": "[credential]\n\thelper = " + s.canary + " helper\n"})
	s.set("evil", "http.proxy", "http://"+proxy, "include.path", "more", "gpg.program", s.canary+" gpg", "core.sshCommand", s.canary+" ssh")
	require.NoError(t, os.WriteFile(filepath.Join(s.home, "evil/.git/hooks/pre-push"), []byte("#!/bin/sh\nexit 0\n"), 0o755))
	was, err := os.ReadFile(filepath.Join(s.home, "evil/.git/config"))
	require.NoError(t, err)

	plan := s.run("evil", "", "attach", "--preview").err + s.run("evil", "", "attach", "--preview").out
	for _, says := range []string{"Put aside from git's configuration here: ", "http.proxy = http://" + proxy + " (.git/config:", "credential.helper = ", "(.git/more:2)", "core.sshcommand = ",
		"Let git run what its configuration here names: gpg.program = ", ".git/hooks/pre-push", "add --trust"} {
		assert.Contains(t, plan, says)
	}
	s.ok("evil", "", "attach", "--yes")
	s.write("evil", map[string]string{"more.txt": "m\n"})
	s.ok("evil", "", "sync", "--save", "--message", "More")
	assert.Zero(t, met.Load(), "nobody went by the proxy")
	s.clean("the helper was told the token")
	assert.NotContains(t, s.git("evil", "config", "--local", "--list"), "http.proxy")

	// What comes later is as strange as at first.
	s.set("evil", "http.proxy", "http://"+proxy)
	for _, args := range [][]string{{"sync"}, {"sync", "--save", "--message", "X"}, {"save", "X"}, {"branch", "switch", "other"}, {"branch", "remove", "other", "--yes"}, {"tag", "make", "v1.0.0", "--yes"}} {
		s.refused(3, []string{"http.proxy = http://" + proxy, "uncinate project trust"}, "evil", "", args...)
	}
	s.ok("evil", "", "status")
	assert.Zero(t, met.Load())
	s.ok("evil", "", "project", "trust", "--yes")
	s.write("evil", map[string]string{"more.txt": "n\n"})
	assert.NotEqual(t, 0, s.run("evil", "", "sync", "--save", "--message", "By the proxy").code)
	assert.NotZero(t, met.Load(), "trusted, it is used: without that, this test could not fail")
	s.set("evil", "http.proxy", "http://"+proxy+"/other")
	s.refused(3, []string{"http.proxy"}, "evil", "", "sync")
	s.git("evil", "config", "--local", "--unset-all", "http.proxy")
	s.ok("evil", "", "sync")

	// Its hook runs, as trusted, and no longer once it changed.
	require.NoError(t, os.WriteFile(filepath.Join(s.home, "evil/.git/hooks/pre-push"), []byte("#!/bin/sh\nexit 1\n"), 0o755))
	s.refused(3, []string{".git/hooks/pre-push"}, "evil", "", "sync")
	require.NoError(t, os.WriteFile(filepath.Join(s.home, "evil/.git/hooks/pre-push"), []byte("#!/bin/sh\nexit 0\n"), 0o755))

	s.ok("evil", "", "detach", "--yes")
	after, err := os.ReadFile(filepath.Join(s.home, "evil/.git/config"))
	require.NoError(t, err)
	for line := range strings.Lines(string(was)) {
		if strings.Contains(line, "=") {
			assert.Contains(t, strings.ToLower(string(after)), strings.ToLower(strings.TrimSpace(line)), "it is back")
		}
	}
}

// TestLinksInGitsFolder meets links and pipes where git and this program write or read.
func TestLinksInGitsFolder(t *testing.T) {
	linux(t)
	t.Parallel()
	h := newHost(t)
	s := strangerOn(signedIn(t, h))
	s.write("", map[string]string{"own/asked": "mine\n", "own/notes.txt": "mine\n", "own/rescue.git/HEAD": "mine\n"})
	kept := tree(t, filepath.Join(s.home, "own"))
	for _, way := range []string{"uncinate", "logs/HEAD", "config", "uncinate/asked", "index", "HEAD", "packed-refs", "info/exclude"} {
		dir := "evil-" + strings.ReplaceAll(way, "/", "-")
		s.project(dir)
		s.git(dir, "init", "-q", "-b", "main")
		s.git(dir, "add", "-A")
		s.git(dir, "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "One")
		path := filepath.Join(s.home, dir, ".git", way)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, errorOr(os.Remove(path)))
		target := filepath.Join(s.home, "own/notes.txt")
		if way == "uncinate" {
			target = filepath.Join(s.home, "own")
		}
		require.NoError(t, os.Symlink(target, path))
		for _, args := range [][]string{{"status"}, {"survey"}, {"changes"}, {"branch", "list"}, {"save", "X"}, {"attach", "--preview"}, {"ignore", "add", "*.bak"}, {"project", "find", "."}} {
			r := s.run(dir, "", args...)
			assert.NotContains(t, r.err, "panic", args)
		}
		r := s.run(dir, "", "attach", "--yes")
		assert.NotEqual(t, 0, r.code, "%s: %s", way, r.out)
		assert.Equal(t, kept, tree(t, filepath.Join(s.home, "own")), way)
	}
	for _, way := range []string{"HEAD", "index", "config", "packed-refs", "uncinate/asked", "info/exclude"} {
		dir := "pipe-" + strings.ReplaceAll(way, "/", "-")
		s.project(dir)
		s.git(dir, "init", "-q", "-b", "main")
		path := filepath.Join(s.home, dir, ".git", way)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, errorOr(os.Remove(path)))
		s.command("", "", "mkfifo", path)
		for _, args := range [][]string{{"status"}, {"survey"}, {"changes"}, {"branch", "list"}, {"attach", "--preview"}, {"project", "find", "."}} {
			r := s.run(dir, "", args...) // one that waits for ever is killed after 90 seconds
			assert.NotEqual(t, -1, r.code, "%s, %v", way, args)
		}
	}
	s.project("elsewhere")
	s.git("elsewhere", "init", "-q", "-b", "main")
	s.set("elsewhere", "core.worktree", s.home)
	for _, args := range [][]string{{"status"}, {"survey"}, {"save", "X"}, {"attach", "--yes"}, {"changes"}} {
		s.refused(4, []string{"takes its files from another folder, " + s.home + " (core.worktree)", "--unset-all core.worktree"}, "elsewhere", "", args...)
	}
	device := "device"
	s.project(device)
	s.git(device, "init", "-q", "-b", "main")
	s.git(device, "add", "-A")
	require.NoError(t, os.Remove(filepath.Join(s.home, device, ".git/index")))
	require.NoError(t, os.Symlink("/dev/zero", filepath.Join(s.home, device, ".git/index")))
	for _, args := range [][]string{{"status"}, {"changes"}, {"save", "X"}, {"save", "X", "--preview"}, {"survey"}} {
		r := s.run(device, "", args...)
		assert.NotEqual(t, -1, r.code, args)
	}
}

// skuaAt is how a description of a host at an address begins.
func skuaAt(base string) string {
	return `language = 1
name = "skua"
base = "` + base + `"
[address]
api = "{+base}/api"
https = "{+base}/{owner}/{name}.git"
[signin]
header = { Authorization = "Bearer {token}" }
git = { user = "{user}", secret = "{token}" }
`
}

// leadsElsewhere is a host whose answers lead to another address, in the way that is set.
func leadsElsewhere(t *testing.T, evil string, mode *atomic.Value) *httptest.Server {
	t.Helper()
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		at, m := "http://"+evil, mode.Load().(string)
		w.Header().Set("Content-Type", "application/json")
		switch {
		case m == "redirect":
			http.Redirect(w, q, at+q.URL.Path, http.StatusFound)
		case m == "redirect for good":
			http.Redirect(w, q, at+q.URL.Path, http.StatusPermanentRedirect)
		case strings.HasSuffix(q.URL.Path, "/meta"):
			fmt.Fprintf(w, `{"issuer":"http://%s","token_endpoint":"%s/token","authorization_endpoint":"%s/auth","device_authorization_endpoint":"%s/device"}`, q.Host, at, at, at)
		case strings.HasSuffix(q.URL.Path, "/me"):
			fmt.Fprint(w, `{"name":"tern"}`)
		case strings.HasSuffix(q.URL.Path, "/list"):
			w.Header().Set("Link", "<"+at+"/list?page=2>; rel=\"next\"")
			fmt.Fprintf(w, `{"items":[{"owner":"tern","name":"gauge","https":"%s/tern/gauge.git"}],"next":"%s/list?page=2"}`, at, at)
		case strings.HasSuffix(q.URL.Path, "/show"):
			fmt.Fprintf(w, `{"id":"1","owner":"tern","name":"gauge","https":"%s/tern/gauge.git","visibility":"private","empty":true}`, at)
		case strings.Contains(q.URL.Path, ".git"):
			if m == "challenge" {
				w.Header().Set("WWW-Authenticate", "Basic realm=\""+at+"\"")
				w.WriteHeader(http.StatusUnauthorized)
				return
			}
			http.Redirect(w, q, at+q.URL.Path+"?"+q.URL.RawQuery, http.StatusFound)
		default:
			w.Header().Set("Location", at+"/elsewhere")
			w.WriteHeader(http.StatusCreated)
			fmt.Fprintf(w, `{"id":"1","owner":"tern","name":"gauge","https":"%s/tern/gauge.git","visibility":"private"}`, at)
		}
	}))
	t.Cleanup(srv.Close)
	return srv
}

// TestTokensStayWithTheirHost holds a token against a host whose every answer points elsewhere:
// redirects, next pages, clone addresses, sign-in pages, metadata and challenges. Nobody else is
// met.
func TestTokensStayWithTheirHost(t *testing.T) {
	linux(t)
	t.Parallel()
	evil, met := listener(t)
	mode := atomic.Value{}
	mode.Store("")
	const token = "canary~5ec3e7000000000000000000000000000000"
	srv := leadsElsewhere(t, evil, &mode)
	m := newMachine(t)
	description := func(more string) string {
		return skuaAt(srv.URL) + `[signin.oauth]
metadata = "{+base}/meta"
client = "uncinate"
ways = ["device", "browser"]
[value.visibility]
private = "private"
[[action.identify.request]]
url = "{+api}/me"
read = { user = "$.name" }
[[action.repository-list.request]]
url = "{+api}/list"
items = "$.items[*]"
page = { by = "next", at = "$.next" }
read = { owner = "$.owner", name = "$.name", https = "$.https" }
[[action.repository-show.request]]
url = "{+api}/show"
read = { id = "$.id", owner = "$.owner", name = "$.name", https = "$.https", visibility = "$.visibility", empty = "$.empty" }
[[action.repository-create.request]]
method = "POST"
url = "{+api}/make"
json = { name = "{name}" }
read = { id = "$.id", owner = "$.owner", name = "$.name", https = "$.https", visibility = "$.visibility" }
` + more
	}
	m.write("", map[string]string{"skua.toml": description("")})
	m.ok("", "", "host", "add", "./skua.toml")
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", token+"\n", "account", "add", "--host", "skua", "--user", "tern")
	m.project("gauge")
	m.write("known", map[string]string{"a.txt": "a\n"})
	m.git("known", "init", "-q", "-b", "main")
	m.git("known", "remote", "add", "origin", srv.URL+"/tern/gauge.git")
	for _, way := range []string{"", "redirect", "redirect for good", "challenge"} {
		mode.Store(way)
		for _, args := range [][]string{{"repository", "list"}, {"repository", "show", "tern/gauge"}, {"token", "test"}, {"attach", "--yes", "gauge"}, {"attach", "--yes", "--to", srv.URL + "/tern/gauge.git", "gauge"},
			{"attach", "--yes", "--to", "tern/gauge", "known"}, {"clone", "tern/gauge", "copy"}, {"clone", srv.URL + "/tern/gauge.git", "copy2"}, {"account", "add", "again", "--host", "skua", "--by", "device"},
			{"account", "add", "again", "--host", "skua", "--by", "browser"}, {"host", "try", "skua"}, {"ready", "gauge"}, {"status", "--all"}, {"token", "renew"}} {
			r := m.run("", "", args...)
			assert.Zero(t, met.Swap(0), "%q: %v led elsewhere: %s%s", way, args, r.out, r.err)
			assert.NotContains(t, r.out+r.err, token)
		}
	}
	mode.Store("")
	tokensStayWithGit(t, evil, met, token, srv, m, description)
}

// tokensStayWithGit asks as git does, and adds descriptions that lead elsewhere.
func tokensStayWithGit(t *testing.T, evil string, met *atomic.Int32, token string, srv *httptest.Server, m *machine, description func(more string) string) {
	t.Helper()
	// Git itself, with the helper that is in the folder, and in an address with dots in it.
	helper := []string{"credential", "--account", "tern", "--for", srv.URL + "/tern/gauge"}
	host := strings.TrimPrefix(srv.URL, "http://")
	for _, path := range []string{"tern/gauge.git/info/lfs/../../other", "tern/gauge.git/info/lfs/%2e%2e/x", "tern/../tern/gauge.git", "other/gauge.git"} {
		r := m.run("", "protocol=http\nhost="+host+"\npath="+path+"\n\n", append(helper, "get")...)
		assert.NotContains(t, r.out, token, path)
	}
	assert.Contains(t, m.run("", "protocol=http\nhost="+host+"\npath=tern/gauge.git/info/lfs\n\n", append(helper, "get")...).out, token)
	r := m.run("", "protocol=http\nhost="+evil+"\npath=tern/gauge\n\n", "credential", "--account", "tern", "--for", "http://"+evil+"/tern/gauge", "get")
	assert.NotContains(t, r.out, token)
	assert.Contains(t, r.err, "goes to "+srv.URL+" alone")

	// A description that leads elsewhere is refused; one that says so openly is shown and asked, and
	// so is one that comes in the place of another that has accounts.
	m.write("", map[string]string{"leads.toml": strings.Replace(description(""), `"{+base}/{owner}`, `"http://`+evil+`/{owner}`, 1)})
	m.refused(2, []string{"line 6", "this leads to http://" + evil + ", which is neither the origin of \"base\" nor named by addresses under [trust]"}, "", "", "host", "add", "./leads.toml", "--as", "other")
	m.write("", map[string]string{"trusts.toml": strings.Replace(description("[trust]\naddresses = [\"http://"+evil+"\"]\n"), `"{+base}/{owner}`, `"http://`+evil+`/{owner}`, 1)})
	m.refused(3, []string{"there is no terminal to ask on"}, "", "", "host", "add", "./trusts.toml", "--as", "other")
	said := m.run("", "", "host", "add", "./trusts.toml", "--preview")
	for _, w := range []string{"Send what its accounts sign in with to http://" + evil + " (git)", "The description of skua comes in the place of the one by which 1 account signs in: tern", "+ https = \"http://" + evil} {
		assert.Contains(t, said.out+said.err, w)
	}
	m.refused(3, nil, "", "", "host", "add", "./trusts.toml")
	assert.Zero(t, met.Load())
}

// mostMemory runs a program, and gives what it printed and the most memory that it held, in KiB (proc(5), VmHWM). What
// wait4(2) tells would count that of the process which started it too.
func mostMemory(c *exec.Cmd) (out string, most int, err error) {
	var printed bytes.Buffer
	c.Stdout, c.Stderr = &printed, &printed
	if err := c.Start(); err != nil {
		return "", 0, err
	}
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	for {
		if status, e := os.ReadFile(fmt.Sprintf("/proc/%d/status", c.Process.Pid)); e == nil {
			if _, after, found := strings.Cut(string(status), "VmHWM:"); found {
				if n, e := strconv.Atoi(strings.Fields(after)[0]); e == nil {
					most = max(most, n)
				}
			}
		}
		select {
		case err := <-ended:
			return printed.String(), most, err
		case <-time.After(2 * time.Millisecond):
		}
	}
}

// TestHostsThatNeverEnd meets a host that stalls git, and one whose list has no end.
func TestHostsThatNeverEnd(t *testing.T) {
	linux(t)
	t.Parallel()
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		switch {
		case strings.HasSuffix(q.URL.Path, "/me"):
			fmt.Fprint(w, `{"name":"tern"}`)
		case strings.HasSuffix(q.URL.Path, "/list"):
			n, _ := strconv.Atoi(q.URL.Query().Get("page"))
			var b strings.Builder
			for i := range 2000 {
				fmt.Fprintf(&b, `%s{"owner":"tern","name":"r%d-%d","about":"%s"}`, text.Either(i > 0, ",", ""), n, i, strings.Repeat("x", 3000))
			}
			fmt.Fprintf(w, `{"items":[%s],"next":"%s/api/list?page=%d"}`, b.String(), "http://"+q.Host, n+1)
		}
	}))
	t.Cleanup(srv.Close)
	m := newMachine(t)
	m.write("", map[string]string{"skua.toml": skuaAt(srv.URL) + `[[action.identify.request]]
url = "{+api}/me"
read = { user = "$.name" }
[[action.repository-list.request]]
url = "{+api}/list"
items = "$.items[*]"
page = { by = "next", at = "$.next" }
read = { owner = "$.owner", name = "$.name" }
`})
	m.ok("", "", "host", "add", "./skua.toml")
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", "canary~5ec3e7000000000000000000000000000000\n", "account", "add", "--host", "skua", "--user", "tern")
	c := exec.Command(program, "repository", "list")
	c.Env = m.env
	out, used, err := mostMemory(c)
	assert.Error(t, err)
	assert.Contains(t, out, "the list of skua is larger than 64 MB, so it is read no further")
	assert.Positive(t, used)
	assert.Less(t, used, 500<<10, "it takes %d KiB", used)

	// A host that gives no answer says nothing of what it holds.
	srv.Close()
	for _, args := range [][]string{{"repository", "list"}, {"repository", "list", "none-such"}, {"repository", "list", "--json"}} {
		r := m.run("", "", args...)
		assert.Equal(t, 6, r.code, r.err)
		assert.NotContains(t, r.out, "No repository")
	}
}

// TestOldVaultIsTold puts an older file of the vault back, and looks at the holder's memory.
func TestOldVaultIsTold(t *testing.T) {
	linux(t)
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	secrets := filepath.Join(m.home, ".uncinate/vault/secrets.age")
	old, err := os.ReadFile(secrets)
	require.NoError(t, err)
	assert.NotContains(t, m.run("", "", "token", "test").err, "older")
	m.ok("", "", "repository", "list")
	kept, err := filepath.Glob(filepath.Join(m.home, ".uncinate/state/answers/tern/*"))
	require.NoError(t, err)
	assert.NotEmpty(t, kept, "what the host told is kept, so this test can fail")
	m.ok("", "", "account", "forget", "tern")
	assert.NoDirExists(t, filepath.Join(m.home, ".uncinate/state/answers/tern"))
	m.ok("", h.token["tern-own"]+"\n", "account", "add", "--host", "gannet", "--user", "tern-own")
	require.NoError(t, os.WriteFile(secrets, old, 0o600))
	assert.Contains(t, m.run("", "", "token", "test").err, "the vault is older than it was: it went through 2 changes, and 4 were made")

	p := newMachine(t)
	p.ok("", "", "host", "add", h.Name, "--at", h.URL)
	p.ok("", h.token["tern"]+"\n", "account", "add", "--host", h.Name, "--user", "tern", "--in-memory")
	t.Cleanup(func() { p.run("", "", "vault", "lock") })
	found := false
	procs, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(t, err)
	for _, path := range procs {
		line, err := os.ReadFile(path)
		if err != nil || !strings.HasPrefix(string(line), program+"\x00vault\x00hold") {
			continue
		}
		if env, err := os.ReadFile(filepath.Join(filepath.Dir(path), "environ")); err == nil && !strings.Contains(string(env), p.home) {
			continue
		}
		found = true
		limits, err := os.ReadFile(filepath.Join(filepath.Dir(path), "limits"))
		require.NoError(t, err)
		assert.Regexp(t, `Max core file size +0 +0`, string(limits))
	}
	assert.True(t, found, "the holder runs")
}

// TestClonesThatAreTakenIn finds clones by plain git: one with a hook is taken in with it, by the
// yes to the plan that names it, and one that leads elsewhere gets no sign-in.
func TestClonesThatAreTakenIn(t *testing.T) {
	linux(t)
	t.Parallel()
	h := newHost(t)
	s := strangerOn(signedIn(t, h))
	s.project("gauge")
	s.ok("gauge", "", "attach", "--yes")
	address := s.git("gauge", "remote", "get-url", "origin")
	proxy, met := listener(t)
	for _, name := range []string{"hooked", "led"} {
		s.command("", "", "cp", "-a", "gauge", name)
		s.git(name, "config", "--local", "--unset-all", "include.path")
		require.NoError(t, os.WriteFile(filepath.Join(s.home, name, ".git/hooks/pre-push"), []byte("#!/bin/sh\nexec '"+s.canary+"' own\n"), 0o755))
	}
	s.set("led", "http.proxy", "http://"+proxy)
	plan := s.run("", "", "project", "find", ".", "--preview")
	assert.Contains(t, plan.out+plan.err, "hooked, a clone of "+address+", with the account tern, and let git run what is in it: .git/hooks/pre-push")
	assert.Regexp(t, `led, a clone of .*, with no sign-in: its own git configuration could lead elsewhere \(\.git/config:\d+, \.git/hooks/pre-push\)`, plan.out+plan.err)
	s.clean("only looked")
	s.ok("", "", "project", "find", ".", "--yes")
	s.write("hooked", map[string]string{"more.txt": "m\n"})
	s.ok("hooked", "", "sync", "--save", "--message", "More")
	ran, err := os.ReadFile(s.ran)
	require.NoError(t, err)
	assert.Contains(t, string(ran), "own")
	require.NoError(t, os.Remove(s.ran))
	s.refused(3, []string{"http.proxy", "uncinate project trust"}, "led", "", "sync")
	s.clean("nobody trusts it")
	assert.Zero(t, met.Load())
}
