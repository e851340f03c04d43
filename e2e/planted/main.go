//go:build planted

// Planted is in for the program in one test: it runs the program and then does one
// thing wrong, as the environment says. The test shows that the random stories find each.
package main

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

func main() {
	kind := os.Getenv("PLANTED")
	switch kind {
	case "hangs":
		time.Sleep(time.Hour)
	case "not in step":
		fmt.Println("In step: nothing new, here or there.")
		return
	case "not one's own":
		if len(os.Args) > 1 && os.Args[1] == "save" {
			must(os.WriteFile("theirs.txt", []byte("theirs\n"), 0o644))
		}
	}
	c := exec.Command(os.Getenv("PLANTED_PROGRAM"), os.Args[1:]...)
	c.Stdin, c.Stdout, c.Stderr = os.Stdin, os.Stdout, os.Stderr
	var ended *exec.ExitError
	if err := c.Run(); err != nil && !errors.As(err, &ended) {
		must(err)
	}
	os.Exit(spoil(kind, c.ProcessState.ExitCode()))
}

// spoil does the wrong thing, and gives the exit code.
func spoil(kind string, code int) int {
	store := ".git/uncinate/rescue.git"
	switch kind {
	case "lost":
		must(os.Remove("tide.log"))
	case "lost commit":
		git("update-ref", "-d", "refs/heads/deck")
		must(os.RemoveAll(".git/logs"))
		git("update-ref", "-d", "refs/remotes/origin/deck")
	case "written line lost":
		must(os.Truncate("tide.log", 0))
	case "rescue copy not whole":
		must(os.WriteFile(filepath.Join(store, "shallow"), []byte(git("--git-dir="+store, "rev-parse", "refs/copies/1^1")), 0o644))
	case "damaged":
		id := strings.TrimSpace(git("rev-parse", "HEAD:README.md"))
		path := filepath.Join(".git/objects", id[:2], id[2:])
		must(os.Chmod(path, 0o644))
		must(os.WriteFile(path, []byte("nothing"), 0o644))
		git("update-ref", "refs/heads/damaged", "HEAD")
	case "shallow":
		must(os.WriteFile(".git/shallow", []byte(git("rev-parse", "HEAD")), 0o644))
	case "refs of ours":
		git("update-ref", "refs/uncinate/kept", "HEAD")
	case "half state":
		must(os.WriteFile(".git/MERGE_HEAD", []byte(git("rev-parse", "HEAD")), 0o644))
	case "half state lock":
		must(os.WriteFile(".git/config.lock", nil, 0o644))
	case "stuck":
		fmt.Fprintln(os.Stderr, "uncinate: it cannot be done.")
		return 1
	case "touched":
		now := time.Now()
		must(os.Chtimes("README.md", now, now))
	case "touched mode":
		must(os.Chmod("README.md", 0o600))
	case "exit code":
		return 77
	case "panic":
		fmt.Fprintln(os.Stderr, "panic: planted\n\ngoroutine 1 [running]:")
		return 2
	case "changed by looking":
		git("update-ref", "refs/heads/looked", "HEAD")
	case "changed though refused":
		must(os.Rename("notes.txt", "tables/notes.txt"))
		return 3
	case "left over":
		must(os.WriteFile("left.tmp", []byte("left\n"), 0o644))
	case "says what is not so":
		fmt.Println("It is kept as rescue copy 0.")
	}
	return code
}

func git(words ...string) string {
	out, err := exec.Command("git", words...).Output()
	if err != nil && !slices.Contains(words, "refs/remotes/origin/deck") {
		must(fmt.Errorf("git %v: %w", words, err))
	}
	return string(out)
}

func must(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "the fault cannot be planted:", err)
		os.Exit(99)
	}
}
