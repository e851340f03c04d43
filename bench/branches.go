package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// What the work tree and the branches are measured with.
const (
	broughtIn = 10_000 // files that change
	branches  = 500
	commits   = 20_000
)

// switches brings changed files in, against git read-tree -m -u, which does it without a look at
// what is in the way, and lists many branches, against reading the same history once.
func (b *bench) switches(pairs int) error {
	dir := filepath.Join(b.top, "switches")
	git := func(args ...string) error { return b.command(dir, "", "git", args...) }
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for n, name := range []string{"one", "two"} {
		for i := range broughtIn {
			path := filepath.Join(dir, fmt.Sprintf("part%03d/reading%05d.txt", i/100, i))
			if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
				return err
			}
			if err := os.WriteFile(path, []byte(strings.Repeat(fmt.Sprintln(name, i), 30)), 0o644); err != nil {
				return err
			}
		}
		words := [][]string{{"add", "-A"}, {"-c", "user.name=T", "-c", "user.email=t@skerry.example", "commit", "-q", "-m", name}, {"branch", name}}
		if n == 0 {
			words = append([][]string{{"init", "-q", "-b", "main"}}, words...)
		}
		for _, w := range words {
			if err := git(w...); err != nil {
				return err
			}
		}
	}
	return compare("receive 10,000 changed files", "1.6", pairs, func(int) error {
		if err := git("switch", "-q", "two"); err != nil {
			return err
		}
		return git("update-index", "-q", "--refresh")
	}, func(int) error {
		if err := b.command(dir, "", b.program, "branch", "switch", "one"); err != nil {
			return err
		}
		return b.command(dir, "", b.program, "branch", "switch", "two")
	}, func(int) error {
		if err := git("read-tree", "-m", "-u", "two", "one"); err != nil {
			return err
		}
		return git("read-tree", "-m", "-u", "one", "two")
	})
}

// listed lists many branches of a long history.
func (b *bench) listed(pairs int) error {
	dir := filepath.Join(b.top, "listed")
	if err := b.command(b.top, "", "git", "init", "-q", "-b", "main", dir); err != nil {
		return err
	}
	var in strings.Builder
	for i := range commits {
		fmt.Fprintf(&in, "commit refs/heads/main\nmark :%d\ncommitter T <t@skerry.example> %d +0000\ndata 1\nx\n", i+1, 1_700_000_000+i)
	}
	for i := range branches {
		fmt.Fprintf(&in, "commit refs/heads/part%03d\ncommitter T <t@skerry.example> %d +0000\ndata 1\ny\nfrom :%d\n", i, 1_800_000_000+i, 1+i*(commits/branches))
	}
	if err := b.command(dir, in.String(), "git", "fast-import", "--quiet"); err != nil {
		return err
	}
	return compare("list 500 branches over 20,000 commits", "2", pairs, func(int) error { return nil }, func(int) error {
		return b.command(dir, "", b.program, "branch", "list")
	}, func(int) error {
		for _, w := range [][]string{{"for-each-ref", "--format=%(refname) %(objectname) %(authorname) %(committerdate:unix)"}, {"rev-list", "--parents", "--all"}} {
			c := exec.Command("git", w...)
			c.Dir, c.Env = dir, b.env
			if _, err := c.Output(); err != nil {
				return err
			}
		}
		return nil
	})
}
