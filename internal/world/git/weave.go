package git

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
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

	// Decide gives the tree that comes of a commit that is made again and clashes, where that
	// was decided; nil where nothing was.
	Decide func(ctx context.Context, c *Clashes) (tree string, err error)
}

// Clashes says that the two sides cannot be brought together by themselves.
type Clashes struct {
	Paths              []string
	Base, Mine, Theirs string // the commits that met; Base where they were put on one
	Met                *Met
}

// Error names the first of the files.
func (c *Clashes) Error() string { return "both sides changed " + strings.Join(c.Paths, ", ") }

// Borrowing is the environment by which git reads folders of objects too (git documentation,
// GIT_ALTERNATE_OBJECT_DIRECTORIES; a path in quotes may hold what parts two).
func Borrowing(folders ...string) string {
	for i, dir := range folders {
		if strings.ContainsRune(dir, filepath.ListSeparator) || strings.HasPrefix(dir, `"`) {
			folders[i] = strconv.Quote(dir)
		}
	}
	return "GIT_ALTERNATE_OBJECT_DIRECTORIES=" + strings.Join(folders, string(filepath.ListSeparator))
}

// Aside makes a weaver whose objects are apart; done takes them away. more are further folders of
// objects that it may read.
func (r *Repo) Aside(ctx context.Context, more ...string) (w *Weaver, done func() error, err error) {
	_, common, err := Folders(r.Dir)
	if err != nil {
		return nil, nil, err
	}
	objects, err := os.MkdirTemp("", "uncinate-trial-")
	if err != nil {
		return nil, nil, files.NoTemporary(err)
	}
	from := slices.DeleteFunc(append([]string{filepath.Join(common, "objects")}, more...), func(dir string) bool { return dir == "" })
	w = &Weaver{Repo: r, env: []string{"GIT_OBJECT_DIRECTORY=" + objects, Borrowing(from...)}}
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

// TreeWith makes a tree as a repository's own does, in the scratch store.
func (w *Weaver) TreeWith(ctx context.Context, index, tree, entries string) (string, error) {
	return w.Repo.treeWith(ctx, index, tree, entries, w.env)
}

// Hash keeps contents as a file of a path would be kept, with the conversions that hold for it
// (git-hash-object documentation, --path), and gives their id.
func (w *Weaver) Hash(ctx context.Context, contents io.Reader, path string) (string, error) {
	out, err := w.Repo.Run(ctx, Cmd{Dir: w.Repo.Dir, Env: w.env, In: contents, Args: []string{"hash-object", "-w", "--stdin", "--path=" + path}})
	return strings.TrimSpace(string(out)), err
}

// Do runs git in the scratch store, and gives what it printed without its last line break.
func (w *Weaver) Do(ctx context.Context, in string, env []string, args ...string) (string, error) {
	out, err := w.Repo.Run(ctx, Cmd{Dir: w.Repo.Dir, Args: args, Env: append(slices.Clone(w.env), env...), In: strings.NewReader(in)})
	return strings.TrimRight(string(out), "\n"), err
}

// nobody signs what is only made to be merged.
var nobody = []string{"GIT_AUTHOR_NAME=x", "GIT_AUTHOR_EMAIL=x@localhost", "GIT_AUTHOR_DATE=@0 +0000", "GIT_COMMITTER_NAME=x", "GIT_COMMITTER_EMAIL=x@localhost", "GIT_COMMITTER_DATE=@0 +0000"}

// merging is how git merges for us, whatever a configuration says: what comes of it, and what it
// tells of clashes, must not depend on the machine (git-config documentation, merge.*).
var merging = []Set{{"merge.renames", "true"}, {"merge.renameLimit", "7000"}, {"merge.directoryRenames", "false"}, {"merge.conflictStyle", "merge"}}

// Met is what comes of two commits that meet. Where they clash, the tree holds texts with marks,
// and files under names that git made up; told are the paths that clash with one another.
type Met struct {
	Tree string
	Told [][]string
}

// Meet merges two commits' trees aside (git-merge-tree documentation, "OUTPUT FORMAT"). Where the
// repository's attributes name programs that merge, those run, as with plain git.
func (w *Weaver) Meet(ctx context.Context, mine, theirs string) (*Met, error) {
	raw, err := w.Repo.Run(ctx, Cmd{Dir: w.Repo.Dir, Env: w.env, Config: merging, Args: []string{"merge-tree", "--write-tree", "--allow-unrelated-histories", "--messages", "-z", mine, theirs}})
	if err != nil && Code(err) != 1 {
		return nil, Fault(err, "git cannot try to bring both sides together")
	}
	items := strings.Split(string(raw), "\x00")
	met := &Met{Tree: items[0]}
	clean := err == nil // git says so, too, of some files in which it leaves marks: the messages tell
	i := 1
	for ; i < len(items) && items[i] != ""; i++ { // mode, object and stage, then the path
		_, path, found := strings.Cut(items[i], "\t")
		if !found {
			return nil, unclear(items[i])
		}
		met.Told = append(met.Told, []string{path})
	}
	for i++; i < len(items); { // how many paths, the paths, what sort of message, its words
		n, err := strconv.Atoi(items[i])
		if err != nil {
			break // words without paths, which end it
		}
		if n < 0 || i+n+2 >= len(items) {
			return nil, unclear(items[i])
		}
		if n > 0 && strings.HasPrefix(items[i+n+1], "CONFLICT") {
			met.Told = append(met.Told, items[i+1:i+1+n])
		}
		i += n + 3
	}
	if len(met.Told) == 0 && !clean {
		return nil, unclear(text.Excerpt(string(raw), 80))
	}
	return met, nil
}

func unclear(says string) error {
	return fault.New(fault.Failed, "git tells of a clash in a way that is not understood: %s", text.Quote(says))
}

// Merge merges two commits' trees; a *Clashes error tells what does not merge.
func (w *Weaver) Merge(ctx context.Context, mine, theirs string) (tree string, err error) {
	met, err := w.Meet(ctx, mine, theirs)
	if err != nil {
		return "", err
	}
	if len(met.Told) == 0 {
		return met.Tree, nil
	}
	c := &Clashes{Mine: mine, Theirs: theirs, Met: met}
	for _, paths := range met.Told {
		if !slices.Contains(c.Paths, paths[0]) {
			c.Paths = append(c.Paths, paths[0])
		}
	}
	return "", c
}

// Renames lists what was renamed between two commits or trees: from and to (git-diff-tree
// documentation, "--name-status" with -z).
func (w *Weaver) Renames(ctx context.Context, before, after string) ([][2]string, error) {
	out, err := w.Do(ctx, "", nil, "diff-tree", "-r", "-z", "-M", "-l7000", "--diff-filter=R", "--name-status", before, after)
	if err != nil {
		return nil, Fault(err, "git cannot tell what was renamed")
	}
	items := SplitNUL([]byte(out))
	var all [][2]string
	for i := 0; i+2 < len(items); i += 3 {
		all = append(all, [2]string{items[i+1], items[i+2]})
	}
	return all, nil
}

// Based puts two commits' or trees' contents on top of a third's, so that they meet as if they
// had gone out from that one: commits for this alone, whose only parent is the one they have in
// common.
func (w *Weaver) Based(ctx context.Context, base, mine, theirs string) (from, a, b string, err error) {
	put := func(of string, parents ...string) string {
		if err != nil {
			return ""
		}
		var id string
		id, err = w.Do(ctx, "", nobody, append([]string{"commit-tree", of + "^{tree}", "-m", "for a merge"}, parents...)...)
		return id
	}
	from = put(base)
	a, b = put(mine, "-p", from), put(theirs, "-p", from)
	return from, a, b, Fault(err, "git cannot try to bring both sides together")
}

// apply gives the tree that comes of a tree when what a commit changed is done to it.
func (w *Weaver) apply(ctx context.Context, onto, parent, commit string) (string, error) {
	if onto == parent {
		return commit, nil
	}
	base, mine, theirs, err := w.Based(ctx, parent, commit, onto)
	if err != nil {
		return "", err
	}
	tree, err := w.Merge(ctx, mine, theirs)
	var c *Clashes
	if w.Decide != nil && errors.As(err, &c) {
		c.Base = base
		return w.Decide(ctx, c)
	}
	return tree, err
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

// Nobody is the environment in which commits are made that are only compared.
func Nobody() []string { return slices.Clone(nobody) }
