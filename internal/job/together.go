package job

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/git"
)

// Bringing two histories together without the work tree: git merges trees (git-merge-tree
// documentation, --write-tree), and commits are made of them. The trial run writes its
// objects into a folder of its own, so that one that does not come out clean leaves
// nothing behind.

// weaver makes commits out of two histories.
type weaver struct {
	repo  *git.Repo
	env   []string // where objects are written, for a trial
	signs bool
}

// clashes says that the two sides cannot be brought together by themselves.
type clashes struct{ paths []string }

func (c *clashes) Error() string { return "both sides changed " + strings.Join(c.paths, ", ") }

// aside makes a weaver whose objects lie apart; done takes them away.
func (f *folder) aside(ctx context.Context) (w *weaver, done func() error, err error) {
	_, common, err := git.Folders(f.path)
	if err != nil {
		return nil, nil, err
	}
	objects, err := os.MkdirTemp("", "uncinate-trial-")
	if err != nil {
		return nil, nil, err
	}
	w = &weaver{repo: f.repo, env: []string{"GIT_OBJECT_DIRECTORY=" + objects, "GIT_ALTERNATE_OBJECT_DIRECTORIES=" + filepath.Join(common, "objects")}}
	return w, func() error { return os.RemoveAll(objects) }, nil
}

// weaver makes one that writes into the project's own store.
func (f *folder) weaver(ctx context.Context) (*weaver, error) {
	out, err := f.repo.Do(ctx, "config", "--type=bool", "--get", "commit.gpgSign")
	if err != nil && git.Code(err) != 1 {
		return nil, gitFault(err, "git's configuration cannot be read")
	}
	return &weaver{repo: f.repo, signs: out == "true"}, nil
}

func (w *weaver) do(ctx context.Context, in string, env []string, args ...string) (string, error) {
	out, err := w.repo.Run(ctx, git.Cmd{Dir: w.repo.Dir, Config: w.repo.Safe, Args: args, Env: append(slices.Clone(w.env), env...), In: strings.NewReader(in)})
	return strings.TrimRight(string(out), "\n"), err
}

// nobody signs what is only made to be merged.
var nobody = []string{"GIT_AUTHOR_NAME=x", "GIT_AUTHOR_EMAIL=x@localhost", "GIT_AUTHOR_DATE=@0 +0000", "GIT_COMMITTER_NAME=x", "GIT_COMMITTER_EMAIL=x@localhost", "GIT_COMMITTER_DATE=@0 +0000"}

// merge merges two commits' trees; a *clashes error tells what does not merge.
func (w *weaver) merge(ctx context.Context, a, b string) (tree string, err error) {
	out, err := w.do(ctx, "", nil, "merge-tree", "--write-tree", "--allow-unrelated-histories", "--no-messages", "--name-only", "-z", a, b)
	items := strings.Split(out, "\x00")
	switch {
	case err == nil:
		return items[0], nil
	case git.Code(err) != 1 || len(items) < 2:
		return "", gitFault(err, "git cannot try to bring both sides together")
	}
	c := &clashes{}
	for _, p := range items[1:] {
		if p == "" {
			break
		}
		if !slices.Contains(c.paths, p) {
			c.paths = append(c.paths, p)
		}
	}
	return "", c
}

// apply gives the tree that comes of a tree when what a commit changed is done to it: a
// merge of three trees, put as commits whose only parent is the one they have in common.
func (w *weaver) apply(ctx context.Context, onto, parent, commit string) (string, error) {
	if onto == parent {
		return commit, nil
	}
	base, err := w.do(ctx, "", nobody, "commit-tree", parent, "-m", "base")
	if err != nil {
		return "", err
	}
	ours, err := w.do(ctx, "", nobody, "commit-tree", onto, "-p", base, "-m", "ours")
	if err != nil {
		return "", err
	}
	theirs, err := w.do(ctx, "", nobody, "commit-tree", commit, "-p", base, "-m", "theirs")
	if err != nil {
		return "", err
	}
	return w.merge(ctx, ours, theirs)
}

func (w *weaver) tree(ctx context.Context, commit string) (string, error) {
	return w.do(ctx, "", nil, "rev-parse", "--verify", commit+"^{tree}")
}

// replay makes commits anew on top of another, oldest first: who wrote them, when and with
// what text stays. One whose change is there already is left out. It gives the new end.
func (w *weaver) replay(ctx context.Context, commits []string, onto string, tell func(done int)) (end string, made int, err error) {
	end = onto
	top, err := w.tree(ctx, onto)
	if err != nil {
		return "", 0, gitFault(err, "git cannot read the commits there")
	}
	for i, c := range commits {
		tell(i)
		raw, err := w.do(ctx, "", nil, "cat-file", "commit", c)
		if err != nil {
			return "", 0, gitFault(err, "git cannot read commit %.10s", c)
		}
		o, err := w.readCommit(raw)
		if err != nil {
			return "", 0, err
		}
		before, err := w.parentTree(ctx, o)
		if err != nil {
			return "", 0, gitFault(err, "git cannot read the commits here")
		}
		next, err := w.apply(ctx, top, before, o.tree)
		if err != nil {
			return "", 0, err
		}
		if next == top && before != o.tree {
			continue
		}
		if end, err = w.commit(ctx, next, []string{end}, o); err != nil {
			return "", 0, err
		}
		top = next
		made++
	}
	return end, made, nil
}

func (w *weaver) parentTree(ctx context.Context, o *commitRead) (string, error) {
	if o.parent == "" {
		return w.do(ctx, "", nil, "hash-object", "-w", "-t", "tree", "--stdin")
	}
	return w.tree(ctx, o.parent)
}

// commitRead is what is needed of a commit to make it anew.
type commitRead struct {
	tree, parent      string
	name, email, date string
	encoding, text    string
}

// readCommit reads a commit object (git's documentation of the format is in
// git-hash-object's and gitformat-signature's pages).
func (w *weaver) readCommit(raw string) (*commitRead, error) {
	head, body, found := strings.Cut(raw, "\n\n")
	if !found {
		head = raw
	}
	o := &commitRead{text: body}
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

// commit makes a commit of a tree, as another was made.
func (w *weaver) commit(ctx context.Context, tree string, parents []string, as *commitRead) (string, error) {
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
	id, err := w.do(ctx, as.text, env, append(args, "-F", "-")...)
	return id, gitFault(err, "git cannot make the commit anew")
}

// clashed tells which files clash, and who changed them there.
func (s *Sync) clashed(ctx context.Context, c *clashes) error {
	st := s.stand
	f := fault.New(fault.Decision, "both sides changed the same %s on %s: %s only here, %s only there",
		map[bool]string{true: "file", false: "files"}[len(c.paths) == 1], text.Visible(st.Branch), text.Count(s.SentOut, "commit"), text.Count(s.BroughtIn, "commit"))
	var lines []string
	for i, p := range c.paths {
		line := text.Visible(p)
		if i < mostShown {
			log, err := s.folder.repo.Do(ctx, "log", "--no-show-signature", "--no-textconv", "--no-ext-diff", "--date=short", "--format=%an on %ad (%s)", "-1", st.ours+".."+st.theirs, "--", p)
			if err != nil {
				return gitFault(err, "git cannot tell who changed %s", text.Visible(p))
			}
			if log != "" {
				line += ", there by " + text.Excerpt(log, 100)
			}
		}
		lines = append(lines, line)
	}
	firstOf(f, lines)
	f.Detail("It was tried out aside: everything is as it was, here and there.")
	some := c.paths[:min(len(c.paths), 3)]
	if s.joining != "" {
		return f.Try("see what changed there", text.Command(append(s.words("changes", "--branch", s.joining, "--full"), some...)...)).
			Try("decide it with plain git", text.Command("git", "-C", s.folder.path, "merge", s.joining))
	}
	return f.Try("see what changed there", text.Command(append(s.words("changes", "--there", "--full"), some...)...)).
		Try("decide it with plain git, then sync again", text.Command("git", "-C", s.folder.path, "pull", "--rebase"))
}

// words is another command about the same project.
func (s *Sync) words(words ...string) []string {
	words = append([]string{"uncinate"}, words...)
	if g := s.options.Folder; g != "." && g != "" {
		words = append(words, "--folder", g)
	}
	return words
}

// mergeText is what a merge commit says.
func mergeText(branch, address string) string {
	return fmt.Sprintf("Merge branch '%s' of %s\n", branch, address)
}
