package git

import (
	"context"
	"fmt"
	"strconv"
	"strings"
)

// Entry is one file that is not as in the last commit.
type Entry struct {
	Kind      string // new, changed, deleted, renamed or clashing
	Path      string // from the top, with slashes
	From      string // the path it had before, for a renamed one
	XY        string // what happened in the index and in the work tree, as git tells it; "??" for an untracked one
	Staged    string // how it is in the index: its mode and id, as git-update-index takes them; "" for an untracked one
	Last      string // how it is in the last commit, under From for a renamed one; "" where it is not, and for a clashing one
	Submodule bool
	Inner     bool // of a submodule: only what is in it differs, not its commit
}

// Untracked reports whether git does not know the file yet.
func (e Entry) Untracked() bool { return e.XY == "??" }

// Status is where a work tree stands.
type Status struct {
	Commit   string // "" before the first one
	Branch   string // "" where none is checked out
	Upstream string // such as "origin/main"; "" for none
	Ahead    int
	Behind   int
	Stashes  int
	Entries  []Entry
	Ignored  []string // where they were asked for: files, and folders with a repository of their own, which end with a slash
}

// Counts gives how many files there are of each kind.
func (s *Status) Counts() map[string]int {
	out := map[string]int{}
	for _, e := range s.Entries {
		out[e.Kind]++
	}
	return out
}

// Status asks where the work tree stands, by one run of git; with ignored, for the ignored
// files too.
func (r *Repo) Status(ctx context.Context, ignored bool) (*Status, error) {
	args := []string{"status", "--porcelain=v2", "--branch", "--show-stash", "-z", "--ignore-submodules=dirty", "--untracked-files=all"}
	if ignored {
		args = append(args, "--ignored=traditional")
	}
	items, err := r.Lines(ctx, args...)
	if err != nil {
		return nil, err
	}
	return ParseStatus(items)
}

// ParseStatus reads the items of git-status documentation, "Porcelain Format Version 2".
func ParseStatus(items []string) (*Status, error) {
	s := &Status{}
	for i := 0; i < len(items); i++ {
		item := items[i]
		odd := fmt.Errorf("git status says %q", item)
		switch kind, rest, _ := strings.Cut(item, " "); kind {
		case "#":
			key, value, _ := strings.Cut(rest, " ")
			switch key {
			case "branch.oid":
				if IsID(value) {
					s.Commit = value
				}
			case "branch.head":
				if value != "(detached)" {
					s.Branch = value
				}
			case "branch.upstream":
				s.Upstream = value
			case "branch.ab":
				if _, err := fmt.Sscanf(value, "+%d -%d", &s.Ahead, &s.Behind); err != nil {
					return nil, odd
				}
			case "stash":
				s.Stashes, _ = strconv.Atoi(value)
			}
		case "?":
			s.Entries = append(s.Entries, Entry{Kind: "new", Path: rest, XY: "??"})
		case "!":
			s.Ignored = append(s.Ignored, rest)
		case "1", "2", "u":
			n := map[string]int{"1": 8, "2": 9, "u": 10}[kind]
			fields := strings.SplitN(item, " ", n+1)
			if len(fields) != n+1 || len(fields[1]) != 2 {
				return nil, odd
			}
			e := Entry{Kind: "changed", Path: fields[n], XY: fields[1], Staged: fields[4] + " " + fields[7], Submodule: strings.HasPrefix(fields[2], "S")}
			if kind != "u" && fields[3] != "000000" {
				e.Last = fields[3] + " " + fields[6]
			}
			e.Inner = e.Submodule && e.XY == ".M" && strings.HasPrefix(fields[2], "S.")
			switch {
			case kind == "u":
				e.Kind = "clashing"
			case kind == "2":
				if i++; i == len(items) {
					return nil, odd
				}
				e.Kind, e.From = "renamed", items[i]
			case strings.Contains(e.XY, "D"):
				e.Kind = "deleted"
			case strings.Contains(e.XY, "A"):
				e.Kind = "new"
			}
			s.Entries = append(s.Entries, e)
		}
	}
	return s, nil
}
