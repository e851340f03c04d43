package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// dangerous is the grammar of which configurations are drawn: keys by which git, one of its
// versions or git-lfs runs a program or goes elsewhere; SUB stands for any name between.
var dangerous = []string{"core.fsmonitor", "core.hooksPath", "core.sshCommand", "core.gitProxy", "core.askPass", "core.editor", "core.pager", "core.alternateRefsCommand", "core.worktree", "core.attributesFile",
	"core.excludesFile", "filter.SUB.clean", "filter.SUB.smudge", "filter.SUB.process", "filter.SUB.required", "diff.external", "diff.SUB.command", "diff.SUB.textconv", "diff.SUB.cachetextconv", "merge.SUB.driver",
	"merge.default", "merge.tool", "mergetool.SUB.cmd", "difftool.SUB.cmd", "gpg.program", "gpg.ssh.program", "gpg.ssh.defaultKeyCommand", "gpg.format", "gpg.x509.program", "commit.gpgSign", "log.showSignature", "tag.gpgSign",
	"trailer.SUB.command", "trailer.SUB.cmd", "credential.helper", "credential.SUB.helper", "url.SUB.insteadOf", "url.SUB.pushInsteadOf", "http.proxy", "http.SUB.proxy", "http.sslVerify", "http.cookieFile",
	"http.extraHeader", "http.curloptResolve", "remote.SUB.url", "remote.SUB.pushurl", "remote.SUB.uploadpack", "remote.SUB.receivepack", "remote.SUB.vcs", "remote.SUB.proxy", "remote.SUB.promisor",
	"remote.SUB.partialCloneFilter", "extensions.partialClone", "fetch.bundleURI", "bundle.SUB.uri", "protocol.allow", "protocol.ext.allow", "protocol.file.allow", "uploadpack.packObjectsHook", "receive.procReceiveRefs",
	"submodule.recurse", "submodule.SUB.update", "submodule.SUB.url", "submodule.SUB.ignore", "diff.ignoreSubmodules", "status.submoduleSummary", "fetch.recurseSubmodules", "alias.status", "alias.log", "alias.SUB", "pager.status",
	"pager.log", "sequence.editor", "interactive.diffFilter", "web.browser", "browser.SUB.cmd", "man.SUB.cmd", "help.autocorrect", "instaweb.httpd", "sendemail.smtpServer", "tar.SUB.command", "lfs.customtransfer.SUB.path",
	"lfs.standalonetransferagent", "lfs.url", "lfs.extension.SUB.clean", "maintenance.auto", "gc.auto", "core.untrackedCache", "core.splitIndex", "index.version", "blame.ignoreRevsFile", "mailmap.file", "mailmap.blob", "include.path"}

// typed are the values of keys that take no others: with a bad one git stops before it does
// anything that is worth a look.
var typed = map[string][]string{"true": {"commit.gpgSign", "log.showSignature", "tag.gpgSign", "filter.SUB.required", "diff.SUB.cachetextconv", "remote.SUB.promisor", "submodule.recurse", "status.submoduleSummary",
	"fetch.recurseSubmodules", "maintenance.auto", "core.untrackedCache", "core.splitIndex", "http.sslVerify"}, "2": {"gc.auto", "index.version"}, "ssh": {"gpg.format"}, "always": {"protocol.allow", "protocol.ext.allow", "protocol.file.allow"},
	"..": {"core.worktree"}, "evil": {"merge.default"}, "none": {"submodule.SUB.ignore", "diff.ignoreSubmodules"}, "origin": {"extensions.partialClone"}, "1": {"help.autocorrect"}, "!true": {"submodule.SUB.update"}}

// configuration draws one, as a file's text; set is told each key and value.
func configuration(r *rand.Rand, canary string) string {
	subs := []string{"evil", "a=b", "x y", "origin", "lfs", "*", "ext::" + canary + " ", "https://gannet.example/", "inside", `q\"q`}
	values := []string{canary + " run", "!" + canary + " run", "ext::" + canary + " run", canary, "sh -c '" + canary + "'", "true", "evil", "ssh://hut.skerry.example/x", "..", "always", "http://127.0.0.1:9/", "more"}
	var b strings.Builder
	for range 4 + r.IntN(24) {
		key := dangerous[r.IntN(len(dangerous))]
		first, last := strings.IndexByte(key, '.'), strings.LastIndexByte(key, '.')
		value := values[r.IntN(len(values))]
		for only, keys := range typed {
			if slices.Contains(keys, key) {
				value = only
			}
		}
		if first == last {
			if strings.Contains(key, "SUB") {
				continue
			}
			fmt.Fprintf(&b, "[%s]\n\t%s = \"%s\"\n", key[:first], key[first+1:], value)
			continue
		}
		sub := strings.ReplaceAll(key[first+1:last], "SUB", subs[r.IntN(len(subs))])
		fmt.Fprintf(&b, "[%s \"%s\"]\n\t%s = \"%s\"\n", key[:first], sub, key[last+1:], value)
	}
	return b.String()
}

// TestDrawnConfigurationsRunNothing looks at repositories with configurations that are drawn from
// a grammar of dangerous keys. Nothing of them runs; with UNCINATE_SOAK it is held by the system's
// own account of it that there is no child but git, and no connection.
func TestDrawnConfigurationsRunNothing(t *testing.T) {
	linux(t)
	t.Parallel()
	_, err := exec.LookPath("strace")
	require.NoError(t, err, "strace is needed: apt-get install strace")
	seed, times := uint64(20261127), 4
	soak := os.Getenv("UNCINATE_SOAK") != ""
	if soak {
		seed, times = uint64(time.Now().UnixNano()), 150
	}
	t.Logf("seed %d", seed)
	s := strangerOn(newMachine(t))
	for n := range times {
		r := rand.New(rand.NewPCG(seed, uint64(n)))
		dir := "evil" + strconv.Itoa(n)
		s.evil(dir)
		s.write(dir+"/inside", map[string]string{"x.txt": "x\n"})
		s.git(dir+"/inside", "init", "-q", "-b", "main")
		s.git(dir+"/inside", "-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "--allow-empty", "-m", "In")
		s.git(dir, "-c", "advice.addEmbeddedRepo=false", "add", "inside")
		s.git(dir, "commit", "-q", "-m", "Inside")
		if r.IntN(2) == 0 {
			s.drop(dir, "HEAD:a.txt")
		}
		head := "[core]\n\trepositoryFormatVersion = 1\n\tbare = false\n"
		text := head + configuration(r, s.canary)
		if r.IntN(3) == 0 {
			text += "[extensions]\n\tworktreeConfig = true\n"
			s.write(dir, map[string]string{".git/config.worktree": configuration(r, s.canary)})
		}
		if r.IntN(2) == 0 {
			text += "[includeIf \"onbranch:main\"]\n\tpath = more\n"
		}
		s.write(dir, map[string]string{".git/config": text, ".git/more": configuration(r, s.canary), "inside/.git/config": head + configuration(r, s.canary), "docs/HEAD": "ref: refs/heads/main\n",
			"docs/refs/x": "", "docs/objects/x": "", "docs/config": head + "\tworktree = ..\n" + configuration(r, s.canary), ".gitmodules": "[submodule \"inside\"]\n\tpath = inside\n\turl = ./x\n"})
		for _, hook := range []string{"post-index-change", "reference-transaction", "fsmonitor-watchman", "post-checkout"} {
			require.NoError(t, os.WriteFile(filepath.Join(s.home, dir, ".git/hooks", hook), []byte("#!/bin/sh\nexec '"+s.canary+"' "+hook+"\n"), 0o755))
		}
		require.NoError(t, errorOr(os.Remove(s.ran)))
		for _, where := range []string{dir, dir + "/docs", dir + "/inside"} {
			for _, args := range looks {
				about := []any{"%s of seed %d, %d: uncinate %v\n%s", where, seed, n, args, text}
				if !soak {
					s.run(where, "", args...)
					s.clean(about...)
					continue
				}
				trace := filepath.Join(s.home, "trace")
				s.command(where, "", "strace", append([]string{"-f", "-qq", "-e", "trace=execve,connect", "-o", trace, program}, args...)...)
				s.clean(about...)
				told, err := os.ReadFile(trace)
				require.NoError(t, err)
				onlyGit(t, string(told), about...)
			}
		}
	}
}

var (
	executed  = regexp.MustCompile(`execve\("([^"]*)".* = 0$`)
	connected = regexp.MustCompile(`connect\(.*AF_INET6?`)
)

// onlyGit reads what strace told: which programs were run, and what was connected to.
func onlyGit(t *testing.T, told string, about ...any) {
	t.Helper()
	for line := range strings.Lines(told) {
		line = strings.TrimSpace(line)
		if m := executed.FindStringSubmatch(line); m != nil && m[1] != program {
			name := filepath.Base(m[1])
			assert.True(t, name == "git" || strings.HasPrefix(name, "git-") || name == "ssh" && strings.Contains(line, `"-V"`) || name == "ssh-keygen" || name == "ssh-add", "it ran %s: %v", line, about)
		}
		assert.NotRegexp(t, connected, line, about...)
	}
}
