package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// foreseen is how many new commits the host has of a project of how many files.
const (
	newCommits = 50
	ofFiles    = 20_000
)

// foresee looks what others changed on the host, against git fetch and git status, in a project with
// new commits there and one changed file here; and what it costs where nothing is new.
func (b *bench) foresee(pairs int) error {
	dir, hand, other := filepath.Join(b.top, "foresee"), filepath.Join(b.top, "by-hand"), filepath.Join(b.top, "others")
	for i := range ofFiles {
		path := filepath.Join(dir, fmt.Sprintf("part%03d/reading%05d.txt", i/100, i))
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(strings.Repeat(fmt.Sprintln("level", i), 10)), 0o644)); err != nil {
			return err
		}
	}
	for _, c := range [][]string{{dir, b.program, "attach", "--yes", "--name", "foresee"}, {b.top, b.program, "clone", "tern/foresee", hand}, {b.top, b.program, "clone", "tern/foresee", other}} {
		if err := b.command(c[0], "", c[1], c[2:]...); err != nil {
			return err
		}
	}
	for n := range newCommits {
		for i := range 3 {
			path := filepath.Join(other, fmt.Sprintf("part%03d/reading%05d.txt", n, n*100+i))
			if err := os.WriteFile(path, []byte(strings.Repeat(fmt.Sprintln("level", i, n), 10)), 0o644); err != nil {
				return err
			}
		}
		if err := b.command(other, "", "git", "commit", "-q", "-a", "-m", fmt.Sprint("Readings ", n)); err != nil {
			return err
		}
	}
	for _, d := range []string{dir, hand} {
		if err := os.WriteFile(filepath.Join(d, "part001/reading00100.txt"), []byte("here\n"), 0o644); err != nil {
			return err
		}
	}
	ours := func(int) error { return b.command(dir, "", b.program, "status") }
	byHand := func(int) error {
		return errors.Join(b.command(hand, "", "git", "fetch", "-q"), b.command(hand, "", "git", "status", "--porcelain=v2", "--branch"))
	}
	if err := compare("status of 20,000 files, nothing new on the host", "1.5", pairs, func(int) error { return nil }, ours, byHand); err != nil {
		return err
	}
	if err := b.command(other, "", "git", "push", "-q"); err != nil {
		return err
	}
	was, err := exec.Command("git", "-C", hand, "rev-parse", "refs/remotes/origin/main").Output()
	if err != nil {
		return err
	}
	packs := filepath.Join(hand, ".git/objects/pack/*")
	known, err := filepath.Glob(packs)
	if err != nil {
		return err
	}
	return compare("status of 20,000 files, 50 new commits, foreseen", "1.5", pairs, func(int) error { // as before the commits came
		now, err := filepath.Glob(packs)
		err = errors.Join(err, os.RemoveAll(filepath.Join(dir, ".git/uncinate/seen.git")), b.command(hand, "", "git", "update-ref", "refs/remotes/origin/main", strings.TrimSpace(string(was))))
		for _, path := range now {
			if !slices.Contains(known, path) {
				err = errors.Join(err, os.Remove(path))
			}
		}
		return err
	}, ours, byHand)
}
