package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// inStep brings a project into step with which it is already, against git fetch in a clone of it: one with very many files,
// and one with as many as are looked at.
func (b *bench) inStep(pairs int) error {
	for _, n := range []int{50_000, 20_000} {
		name := fmt.Sprint("step", n)
		dir, hand := filepath.Join(b.top, name), filepath.Join(b.top, name+"-by-hand")
		for i := range n {
			path := filepath.Join(dir, fmt.Sprintf("part%03d/reading%05d.txt", i/100, i))
			if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(strings.Repeat(fmt.Sprintln("level", i), 10)), 0o644)); err != nil {
				return err
			}
		}
		for _, c := range [][]string{{dir, b.program, "attach", "--yes", "--name", name}, {b.top, b.program, "clone", "tern/" + name, hand}} {
			if err := b.command(c[0], "", c[1], c[2:]...); err != nil {
				return err
			}
		}
		err := compare(fmt.Sprintf("sync of one project of %d,000 files, nothing new", n/1000), "1.3", pairs*3, func(int) error { return nil },
			func(int) error { return b.command(dir, "", b.program, "sync") }, func(int) error { return b.command(hand, "", "git", "fetch", "-q") })
		if err != nil {
			return err
		}
	}
	return nil
}
