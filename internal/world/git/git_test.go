package git

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/gitconfig"
)

func TestParseProgress(t *testing.T) {
	for line, want := range map[string]Progress{
		"Writing objects:  45% (900/2000), 1.20 MiB | 3.10 MiB/s": {"Writing objects", 900, 2000, 45, "1.20 MiB", "3.10 MiB/s"},
		"remote: Compressing objects: 100% (7/7), done.":          {"Compressing objects", 7, 7, 100, "", ""},
		"Receiving objects:   0% (1/3000)":                        {"Receiving objects", 1, 3000, 0, "", ""},
	} {
		p, ok := ParseProgress(line)
		assert.True(t, ok)
		assert.Equal(t, want, p)
	}
	for _, line := range []string{"Everything up-to-date", "Writing objects: 999% (1/1)", "remote: hello 50% (1/2)", ""} {
		_, ok := ParseProgress(line)
		assert.False(t, ok, line)
	}
}

// TestLookingRunsNothing puts a command behind every setting that git runs by
// itself and looks at the repository.
func TestLookingRunsNothing(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	t.Setenv("GIT_CONFIG_GLOBAL", os.DevNull)
	t.Setenv("GIT_CONFIG_NOSYSTEM", "1")
	g, err := Find(ctx, "", slog.New(slog.NewTextHandler(io.Discard, nil)))
	require.NoError(t, err)
	r := g.In(dir)
	do := func(args ...string) {
		_, err := r.Do(ctx, args...)
		require.NoError(t, err, args)
	}
	do("init", "-q")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.txt"), []byte("a\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".gitattributes"), []byte("*.txt filter=evil diff=evil\n"), 0o644))
	do("add", "-A")
	do("-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", "One")
	canary := filepath.Join(dir, "canary")
	evil := "touch '" + canary + "'; cat"
	for _, key := range []string{"filter.evil.clean", "filter.evil.process", "core.fsmonitor", "diff.evil.textconv", "diff.evil.command", "diff.external"} {
		do("config", key, evil)
	}
	do("config", "filter.evil.required", "true")
	hooks := filepath.Join(dir, ".git/hooks")
	require.NoError(t, os.MkdirAll(hooks, 0o755))
	for _, h := range []string{"post-index-change", "fsmonitor-watchman"} {
		require.NoError(t, os.WriteFile(filepath.Join(hooks, h), []byte("#!/bin/sh\n"+evil+"\n"), 0o755))
	}
	look := func() {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "a.txt"), []byte("b\n"), 0o644)) // of the same size, so that git must look inside
		for _, args := range [][]string{{"status", "--porcelain=v2", "-z"}, {"ls-files", "-z", "-o", "--exclude-standard"}, {"diff-index", "--name-only", "HEAD"}} {
			_, err := r.Do(ctx, args...)
			require.NoError(t, err)
		}
	}
	settings, err := r.Settings(ctx)
	require.NoError(t, err)
	for _, s := range settings {
		if x := gitconfig.Judge(s); x.Off != nil {
			r.Safe = append(r.Safe, Set{s.Key, *x.Off})
		}
	}
	r.Safe = append(r.Safe, Set{"filter.evil.required", "false"})
	look()
	assert.NoFileExists(t, canary)
	r.Safe = nil
	_, _ = r.Works().Do(ctx, "diff")
	assert.FileExists(t, canary, "without the overrides it would have run, so the test can fail")
}

func TestEnvironmentIsOurs(t *testing.T) {
	t.Setenv("GIT_DIR", "/nowhere")
	t.Setenv("GIT_TRACE_CURL", "1")
	t.Setenv("GIT_AUTHOR_NAME", "Someone")
	t.Setenv("SSH_ASKPASS", "/bin/x")
	env := environment(Cmd{Config: []Set{{"a.b=c.d", "e=f"}}}, true, true)
	for _, kv := range env {
		for _, bad := range []string{"GIT_DIR=", "GIT_TRACE", "GIT_AUTHOR", "SSH_ASKPASS"} {
			assert.NotContains(t, kv, bad)
		}
	}
	assert.Contains(t, env, "GIT_TERMINAL_PROMPT=0")
	assert.Contains(t, env, fmt.Sprintf("GIT_CONFIG_KEY_%d=a.b=c.d", len(quiet)))
	assert.Contains(t, env, fmt.Sprintf("GIT_CONFIG_VALUE_%d=e=f", len(quiet)))
	assert.Contains(t, env, "GIT_ALLOW_PROTOCOL="+transports)
	assert.Contains(t, environment(Cmd{}, false, false), "GIT_ALLOW_PROTOCOL=none")
	assert.Contains(t, environment(Cmd{}, false, false), "GIT_CONFIG_VALUE_"+strconv.Itoa(len(quiet))+"="+os.DevNull)
}

func TestOutputIsBounded(t *testing.T) {
	b := &bounded{most: 10}
	_, err := io.Copy(b, strings.NewReader(strings.Repeat("x", 64<<10)))
	assert.Error(t, err)
	assert.True(t, b.over)
	assert.LessOrEqual(t, b.kept.Len(), 10)
}

func TestObjects(t *testing.T) {
	g, err := Find(t.Context(), "", slog.New(slog.NewTextHandler(io.Discard, nil)))
	require.NoError(t, err, "git is needed: apt-get install git")
	dir := t.TempDir()
	repo := g.In(dir)
	_, err = repo.Do(t.Context(), "init", "-q", "--template=")
	require.NoError(t, err)
	var ids []string
	for _, text := range []string{"one\n", "", "two\nlines\n", strings.Repeat("long ", 50_000)} {
		out, err := g.Run(t.Context(), Cmd{Dir: dir, Args: []string{"hash-object", "-w", "--stdin"}, In: strings.NewReader(text)})
		require.NoError(t, err)
		ids = append(ids, strings.TrimSpace(string(out)))
	}
	in := ids[0] + " a name\n" + strings.Repeat("0", 40) + "\n" + ids[1] + "\n" + ids[3] + " long\n" + ids[2] + " with  blanks \n"
	var seen []string
	err = repo.Objects(t.Context(), strings.NewReader(in), func(o Object, contents io.Reader) error {
		data := []byte("unread")
		if o.Name != "long" { // what is left unread is passed over
			if data, err = io.ReadAll(contents); err != nil {
				return err
			}
		}
		seen = append(seen, fmt.Sprintf("%s %d %q %q", o.Type, o.Size, o.Name, data))
		return nil
	})
	require.NoError(t, err)
	assert.Equal(t, []string{
		`blob 4 "a name" "one\n"`,
		`blob 0 "" ""`,
		`blob 250000 "long" "unread"`,
		`blob 10 "with  blanks " "two\nlines\n"`,
	}, seen)
	stop := fmt.Errorf("enough")
	assert.ErrorIs(t, repo.Objects(t.Context(), strings.NewReader(in), func(Object, io.Reader) error { return stop }), stop)
	assert.Error(t, g.In(filepath.Join(dir, "none")).Objects(t.Context(), strings.NewReader(in), func(Object, io.Reader) error { return nil }))
}

// TestStalledRunsEnd ends a run of which nothing is heard any more, and one that only talks.
func TestStalledRunsEnd(t *testing.T) {
	g, err := Find(t.Context(), "", slog.New(slog.NewTextHandler(io.Discard, nil)))
	require.NoError(t, err, "git is needed: apt-get install git")
	began := time.Now()
	_, err = g.Run(t.Context(), Cmd{Dir: t.TempDir(), Config: []Set{{"alias.stall", "!exec sleep 20"}}, Args: []string{"stall"}, Stall: 400 * time.Millisecond})
	var e *Error
	require.ErrorAs(t, err, &e)
	assert.Equal(t, 400*time.Millisecond, e.Stalled)
	assert.Less(t, time.Since(began), 15*time.Second)
	talk := &tail{until: time.Now()}
	_, done := talk.watchFor(time.Hour, func() {})
	talk.until = time.Now().Add(-time.Second)
	talk.heard.Store(0)
	_, err = talk.Write([]byte("remote: busy\n"))
	require.NoError(t, err)
	assert.Zero(t, talk.heard.Load(), "what the host only says counts no longer")
	_, err = talk.Write([]byte("Receiving objects: 1% (1/100)\r"))
	require.NoError(t, err)
	assert.NotZero(t, talk.heard.Load())
	done()
}
