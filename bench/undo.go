package main

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// ofChanges is how many files are changed and go back.
const ofChanges = 10_000

// undo takes back the changes of 10,000 files, of which a rescue copy is kept, against git checkout.
func (b *bench) undo(pairs int) error {
	dir, hand := filepath.Join(b.top, "undo"), filepath.Join(b.top, "undo-by-hand")
	write := func(top, says string) error {
		for i := range ofChanges {
			path := filepath.Join(top, fmt.Sprintf("part%03d/reading%05d.txt", i/100, i))
			if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(strings.Repeat(fmt.Sprintln(says, i), 40)), 0o644)); err != nil {
				return err
			}
		}
		return nil
	}
	for _, d := range []string{dir, hand} {
		if err := write(d, "level"); err != nil {
			return err
		}
		for _, c := range [][]string{{"init", "-q"}, {"add", "-A"}, {"-c", "user.name=Tern", "-c", "user.email=tern@saltmarsh.example", "commit", "-q", "-m", "Readings"}} {
			if err := b.command(d, "", "git", c...); err != nil {
				return err
			}
		}
	}
	return compare("undo changes of 10,000 files", "1.6", pairs, func(i int) error {
		return errors.Join(write(dir, fmt.Sprint("level changed ", i)), write(hand, fmt.Sprint("level changed ", i)))
	}, func(int) error { return b.command(dir, "", b.program, "undo", "changes", "--yes", "--quiet") },
		func(int) error { return b.command(hand, "", "git", "checkout", "--", ".") })
}
