package e2e

import (
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// stranger is a folder from elsewhere on a machine, whose programs note that they ran.
type stranger struct {
	*machine
	canary, ran string
}

func strangerOn(m *machine) *stranger {
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
// elsewhere: the plan shows it with file and line, it is out of force from then on, and detach
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
		for _, args := range looks {
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
