package git

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
)

// Bringing two histories together without the work tree: git merges trees (git-merge-tree
// documentation, --write-tree), and commits are made of them. The trial run writes its
// objects into a folder of its own, so that one that does not come out clean leaves
// nothing behind.

// Weaver makes commits out of two histories.
type Weaver struct {
	Repo  *Repo
	env   []string // where objects are written, for a trial
	signs bool
}

// Clashes says that the two sides cannot be brought together by themselves.
type Clashes struct{ Paths []string }

// Error names the first of the files.
func (c *Clashes) Error() string { return "both sides changed " + strings.Join(c.Paths, ", ") }

// Aside makes a weaver whose objects are apart; done takes them away.
func (r *Repo) Aside(ctx context.Context) (w *Weaver, done func() error, err error) {
	_, common, err := Folders(r.Dir)
	if err != nil {
		return nil, nil, err
	}
	objects, err := os.MkdirTemp("", "uncinate-trial-")
	if err != nil {
		return nil, nil, err
	}
	w = &Weaver{Repo: r, env: []string{"GIT_OBJECT_DIRECTORY=" + objects, "GIT_ALTERNATE_OBJECT_DIRECTORIES=" + filepath.Join(common, "objects")}}
	return w, func() error { return os.RemoveAll(objects) }, nil
}

// Weaver makes one that writes into the project's own store.
func (r *Repo) Weaver(ctx context.Context) (*Weaver, error) {
	out, err := r.Do(ctx, "config", "--type=bool", "--get", "commit.gpgSign")
	if err != nil && Code(err) != 1 {
		return nil, Fault(err, "git's configuration cannot be read")
	}
	return &Weaver{Repo: r, signs: out == "true"}, nil
}

// Do runs git in the scratch store, and gives what it printed without its last line break.
func (w *Weaver) Do(ctx context.Context, in string, env []string, args ...string) (string, error) {
	out, err := w.Repo.Run(ctx, Cmd{Dir: w.Repo.Dir, Args: args, Env: append(slices.Clone(w.env), env...), In: strings.NewReader(in)})
	return strings.TrimRight(string(out), "\n"), err
}

// nobody signs what is only made to be merged.
var nobody = []string{"GIT_AUTHOR_NAME=x", "GIT_AUTHOR_EMAIL=x@localhost", "GIT_AUTHOR_DATE=@0 +0000", "GIT_COMMITTER_NAME=x", "GIT_COMMITTER_EMAIL=x@localhost", "GIT_COMMITTER_DATE=@0 +0000"}

// Merge merges two commits' trees; a *Clashes error tells what does not merge.
func (w *Weaver) Merge(ctx context.Context, a, b string) (tree string, err error) {
	out, err := w.Do(ctx, "", nil, "merge-tree", "--write-tree", "--allow-unrelated-histories", "--no-messages", "--name-only", "-z", a, b)
	items := strings.Split(out, "\x00")
	switch {
	case err == nil:
		return items[0], nil
	case Code(err) != 1 || len(items) < 2:
		return "", Fault(err, "git cannot try to bring both sides together")
	}
	c := &Clashes{}
	for _, p := range items[1:] {
		if p == "" {
			break
		}
		if !slices.Contains(c.Paths, p) {
			c.Paths = append(c.Paths, p)
		}
	}
	return "", c
}

// apply gives the tree that comes of a tree when what a commit changed is done to it: a
// merge of three trees, put as commits whose only parent is the one they have in common.
func (w *Weaver) apply(ctx context.Context, onto, parent, commit string) (string, error) {
	if onto == parent {
		return commit, nil
	}
	base, err := w.Do(ctx, "", nobody, "commit-tree", parent, "-m", "base")
	if err != nil {
		return "", err
	}
	ours, err := w.Do(ctx, "", nobody, "commit-tree", onto, "-p", base, "-m", "ours")
	if err != nil {
		return "", err
	}
	theirs, err := w.Do(ctx, "", nobody, "commit-tree", commit, "-p", base, "-m", "theirs")
	if err != nil {
		return "", err
	}
	return w.Merge(ctx, ours, theirs)
}

func (w *Weaver) tree(ctx context.Context, commit string) (string, error) {
	return w.Do(ctx, "", nil, "rev-parse", "--verify", commit+"^{tree}")
}

// Replay makes commits again on top of another, oldest first: who wrote them, when and with
// what text stays. One whose change is there already is left out. It gives the new end.
func (w *Weaver) Replay(ctx context.Context, commits []string, onto string, tell func(done int)) (end string, made int, err error) {
	end = onto
	top, err := w.tree(ctx, onto)
	if err != nil {
		return "", 0, Fault(err, "git cannot read the commits there")
	}
	for i, c := range commits {
		tell(i)
		raw, err := w.Do(ctx, "", nil, "cat-file", "commit", c)
		if err != nil {
			return "", 0, Fault(err, "git cannot read commit %.10s", c)
		}
		o, err := w.readCommit(raw)
		if err != nil {
			return "", 0, err
		}
		before, err := w.parentTree(ctx, o)
		if err != nil {
			return "", 0, Fault(err, "git cannot read the commits here")
		}
		next, err := w.apply(ctx, top, before, o.tree)
		if err != nil {
			return "", 0, err
		}
		if next == top && before != o.tree {
			continue
		}
		if end, err = w.Commit(ctx, next, []string{end}, o); err != nil {
			return "", 0, err
		}
		top = next
		made++
	}
	return end, made, nil
}

func (w *Weaver) parentTree(ctx context.Context, o *CommitRead) (string, error) {
	if o.parent == "" {
		return w.Do(ctx, "", nil, "hash-object", "-w", "-t", "tree", "--stdin")
	}
	return w.tree(ctx, o.parent)
}

// CommitRead is what is needed of a commit to make it again.
type CommitRead struct {
	tree, parent      string
	name, email, date string
	encoding, Text    string
}

// readCommit reads a commit object (git's documentation of the format is in
// git-hash-object's and gitformat-signature's pages).
func (w *Weaver) readCommit(raw string) (*CommitRead, error) {
	head, body, found := strings.Cut(raw, "\n\n")
	if !found {
		head = raw
	}
	o := &CommitRead{Text: body}
	for line := range strings.SplitSeq(head, "\n") {
		key, value, _ := strings.Cut(line, " ")
		switch key {
		case "tree":
			o.tree = value
		case "parent":
			o.parent = value
		case "encoding":
			o.encoding = value
		case "author":
			who, when, found := strings.Cut(value, "> ")
			o.name, o.email, _ = strings.Cut(who, " <")
			if o.date = when; !found {
				return nil, fault.New(fault.Failed, "a commit here cannot be read: it has no author")
			}
		}
	}
	return o, nil
}

// Commit makes a commit of a tree, as another was made.
func (w *Weaver) Commit(ctx context.Context, tree string, parents []string, as *CommitRead) (string, error) {
	args := []string{"commit-tree", tree}
	for _, p := range parents {
		args = append(args, "-p", p)
	}
	if w.signs {
		args = append(args, "-S")
	}
	var env []string
	if as.name != "" || as.email != "" {
		env = []string{"GIT_AUTHOR_NAME=" + as.name, "GIT_AUTHOR_EMAIL=" + as.email, "GIT_AUTHOR_DATE=@" + as.date}
	}
	if as.encoding != "" {
		args = append([]string{"-c", "i18n.commitEncoding=" + as.encoding}, args...)
	}
	id, err := w.Do(ctx, as.Text, env, append(args, "-F", "-")...)
	return id, Fault(err, "git cannot write the commit again")
}
