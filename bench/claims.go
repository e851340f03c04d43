package main

import (
	"errors"
	"fmt"
	"path/filepath"
)

// ofClaims is how many claims a repository has.
const ofClaims = 1000

// claims lists the claims of a repository, new ones each time, against git ls-remote and one git fetch of
// the ref in which they are.
func (b *bench) claims(pairs int) error {
	dir, other, hand := filepath.Join(b.top, "claimed"), filepath.Join(b.top, "claimer"), filepath.Join(b.top, "claimed-by-hand")
	for _, c := range [][]string{{b.top, "git", "init", "-q", dir}, {dir, "git", "-c", "user.name=Tern", "-c", "user.email=tern@saltmarsh.example", "commit", "-q", "--allow-empty", "-m", "First"},
		{dir, b.program, "attach", "--yes", "--name", "claimed"}, {b.top, b.program, "clone", "tern/claimed", other}, {b.top, b.program, "clone", "tern/claimed", hand}} {
		if err := b.command(c[0], "", c[1], c[2:]...); err != nil {
			return err
		}
	}
	words := []string{"claim", "create", "--reason", "Drawn again for the new mast"}
	for i := range ofClaims {
		words = append(words, fmt.Sprintf("part%03d/drawing%05d.dwg", i/20, i))
	}
	if err := b.command(other, "", b.program, words...); err != nil {
		return err
	}
	ours := func(int) error { return b.command(dir, "", b.program, "claim", "list") }
	byHand := func(int) error {
		return errors.Join(b.command(hand, "", "git", "ls-remote", "-q", "origin"), b.command(hand, "", "git", "fetch", "-q", "origin", "+refs/uncinate/claims:refs/uncinate/claims"))
	}
	if err := compare("claim list, 1,000 claims, one of them new", "1.5", pairs, func(i int) error {
		return b.command(other, "", b.program, "claim", "create", fmt.Sprintf("another-%d.dwg", i))
	}, ours, byHand); err != nil {
		return err
	}
	return compare("claim list, 1,000 claims, nothing new", "1.5", pairs, func(int) error { return nil }, ours, byHand)
}
