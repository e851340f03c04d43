// Command release makes what is handed out: archives for each system, a Debian package, checksums and lists of what is
// linked in. The same commit gives the same bytes, whenever and wherever it is made with the same Go.
//
//	go run ./release licences                  gathers the licences of what is linked in
//	go run ./release faults                    writes the page of all errors
//	go run ./release dist -to build/dist       makes the archives and the package
package main

import (
	"bytes"
	"cmp"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// target is a system that the program is built for.
type target struct{ os, arch string }

var targets = []target{{"linux", "amd64"}, {"linux", "arm64"}, {"darwin", "amd64"}, {"darwin", "arm64"}, {"windows", "amd64"}, {"windows", "arm64"}}

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	o := flag.NewFlagSet("release", flag.ContinueOnError)
	to := o.String("to", "build/dist", "the folder for what is made")
	only := o.String("only", "", "one system alone, such as linux/amd64")
	version := o.String("version", "", "the version (default: what git says of the commit)")
	if len(args) == 0 {
		return errors.New("say licences, faults or dist")
	}
	if err := o.Parse(args[1:]); err != nil {
		return err
	}
	switch args[0] {
	case "licences":
		return gather("internal/screen/licences.txt")
	case "faults":
		return faultsPage("docs/when-something-goes-wrong.md")
	case "dist":
		v, err := versioned(*version)
		if err != nil {
			return err
		}
		when, err := committed()
		if err != nil {
			return err
		}
		chosen := slices.DeleteFunc(slices.Clone(targets), func(t target) bool { return *only != "" && t.os+"/"+t.arch != *only })
		if len(chosen) == 0 {
			return fmt.Errorf("%s is none of the systems that it is made for", *only)
		}
		return dist(*to, v, when, chosen)
	}
	return fmt.Errorf("there is no %q; say licences, faults or dist", args[0])
}

// command runs a program and gives what it printed.
func command(env []string, name string, args ...string) ([]byte, error) {
	c := exec.Command(name, args...)
	c.Env = append(os.Environ(), env...)
	var said bytes.Buffer
	c.Stderr = &said
	out, err := c.Output()
	if err != nil {
		return nil, fmt.Errorf("%s %s: %w\n%s", name, strings.Join(args, " "), err, said.Bytes())
	}
	return out, nil
}

// versioned is the version: as given, as the newest tag says (git-describe(1)), or 0.0.0 with the commit where none does.
func versioned(given string) (string, error) {
	if given != "" {
		return given, nil
	}
	if out, err := command(nil, "git", "describe", "--tags", "--match", "v[0-9]*", "--dirty"); err == nil {
		return strings.TrimPrefix(strings.TrimSpace(string(out)), "v"), nil
	}
	out, err := command(nil, "git", "describe", "--always", "--dirty", "--exclude", "*")
	return "0.0.0+" + strings.ReplaceAll(strings.TrimSpace(string(out)), "-", "."), err
}

// committed is when the commit was made, which is the time of all that is in the archives.
func committed() (time.Time, error) {
	out, err := command(nil, "git", "log", "-1", "--format=%ct")
	if err != nil {
		return time.Time{}, err
	}
	n, err := strconv.ParseInt(strings.TrimSpace(string(out)), 10, 64)
	return time.Unix(n, 0).UTC(), err
}

// module is one that is linked in.
type module struct{ Path, Version, Dir string }

// modules are those that are linked into the program on any of the targets, and Go's own library.
func modules() ([]module, error) {
	var all []module
	for _, t := range targets {
		out, err := command([]string{"GOOS=" + t.os, "GOARCH=" + t.arch, "CGO_ENABLED=0"}, "go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}}\t{{.Version}}\t{{.Dir}}{{end}}{{end}}", "./cmd/uncinate")
		if err != nil {
			return nil, err
		}
		for line := range strings.Lines(string(out)) {
			part := strings.Split(strings.TrimSpace(line), "\t")
			if len(part) == 3 && !slices.Contains(all, module{part[0], part[1], part[2]}) {
				all = append(all, module{part[0], part[1], part[2]})
			}
		}
	}
	slices.SortFunc(all, func(a, b module) int { return cmp.Compare(a.Path, b.Path) })
	root, err := command(nil, "go", "env", "GOROOT")
	if err != nil {
		return nil, err
	}
	return append([]module{{"Go and its library", "", strings.TrimSpace(string(root))}}, all...), nil
}

// gather writes the licences of what is linked in, and notices beside them, into one file.
func gather(into string) error {
	all, err := modules()
	if err != nil {
		return err
	}
	var b strings.Builder
	for _, m := range all {
		found := false
		for _, name := range []string{"LICENSE", "LICENSE.txt", "LICENSE.md", "COPYING", "NOTICE", "PATENTS"} {
			data, err := os.ReadFile(filepath.Join(m.Dir, name))
			if errors.Is(err, os.ErrNotExist) {
				continue
			}
			if err != nil {
				return err
			}
			if found = true; name != "LICENSE" {
				fmt.Fprintf(&b, "\n---- %s: %s\n\n", m.Path, name)
			} else {
				fmt.Fprintf(&b, "\n==== %s\n\n", m.Path)
			}
			for line := range strings.Lines(strings.TrimSpace(string(data))) {
				b.WriteString(strings.TrimRight(line, " \t\r\n") + "\n")
			}
		}
		if !found {
			return fmt.Errorf("%s has no licence file in %s", m.Path, m.Dir)
		}
	}
	return os.WriteFile(into, []byte(strings.TrimLeft(b.String(), "\n")), 0o644)
}
