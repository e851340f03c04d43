package practice

import (
	"cmp"
	"context"
	"fmt"
	"strings"
)

// weaving makes commits in a hosted repository.
type weaving struct {
	st  *Store
	ctx context.Context
	dir string
	o   *Offer
	by  string // whose acceptance it is
}

// merged is the tree that two commits become.
func (w *weaving) merged(a, b string) (string, error) {
	tree, err := w.st.run(w.ctx, w.dir, "merge-tree", "--write-tree", a, b)
	if err != nil {
		return "", problem("clash", "it clashes with %s", w.o.Target)
	}
	return tree, nil
}

// commit makes a commit; author is a name and an address.
func (w *weaving) commit(tree, says string, author [2]string, parents ...string) (string, error) {
	args := []string{"-C", w.dir, "commit-tree", tree, "-m", says}
	for _, p := range parents {
		args = append(args, "-p", p)
	}
	c := gitCommand(context.WithoutCancel(w.ctx), args...)
	self := w.st.called(w.by)
	when := fmt.Sprintf("@%d +0000", w.st.now().Unix())
	c.Env = append(c.Env, "GIT_AUTHOR_NAME="+author[0], "GIT_AUTHOR_EMAIL="+author[1], "GIT_COMMITTER_NAME="+self[0], "GIT_COMMITTER_EMAIL="+self[1], "GIT_AUTHOR_DATE="+when, "GIT_COMMITTER_DATE="+when)
	out, err := c.Output()
	return strings.TrimSpace(string(out)), err
}

// replay makes each commit behind onto, up to tip, once more on top of it.
func (w *weaving) replay(onto, tip string) (string, error) {
	list, err := w.st.run(w.ctx, w.dir, "log", "--reverse", "--topo-order", "--format=%H %P", onto+".."+tip)
	for line := range strings.SplitSeq(list, "\n") {
		ids := strings.Fields(line)
		if err != nil {
			return "", err
		}
		if len(ids) != 2 {
			return "", wrongIn("how", "invalid", "it holds merges, which cannot be replayed")
		}
		var who, base, here, there, tree string
		if who, err = w.st.run(w.ctx, w.dir, "log", "-1", "--format=%an%x00%ae%x00%B", ids[0]); err != nil {
			return "", err
		}
		x := strings.SplitN(who, "\x00", 3)
		author := [2]string{x[0], x[1]}
		if base, err = w.commit(ids[1]+"^{tree}", "base", author); err == nil { // the two sides meet in what it was made on
			if here, err = w.commit(onto+"^{tree}", "side", author, base); err == nil {
				there, err = w.commit(ids[0]+"^{tree}", "side", author, base)
			}
		}
		if err == nil {
			if tree, err = w.merged(here, there); err == nil {
				onto, err = w.commit(tree, strings.TrimSpace(x[2]), author, onto)
			}
		}
	}
	return onto, err
}

// bringIn makes the commits on the target that come of an acceptance, and gives the last; mu is held.
func (st *Store) bringIn(ctx context.Context, o *Offer, tip, user string, how Accepting) (string, error) {
	dir, target := st.GitDir(o.Repo), "refs/heads/"+o.Target
	was, err := st.run(ctx, dir, "rev-parse", "--verify", "-q", target)
	if err != nil {
		return "", wrongIn("target", "none", "the branch %s is no longer there", o.Target)
	}
	w := &weaving{st, ctx, dir, o, user}
	came, tree := "", ""
	switch how.How {
	case "merge", "":
		if tree, err = w.merged(was, tip); err == nil {
			came, err = w.commit(tree, fmt.Sprintf("Merge offer %d: %s", o.Number, o.Title), st.called(user), was, tip)
		}
	case "one":
		if tree, err = w.merged(was, tip); err == nil {
			came, err = w.commit(tree, cmp.Or(how.Text, strings.TrimSpace(o.Title+"\n\n"+o.Text)), st.called(o.By), was)
		}
	case "replay":
		came, err = w.replay(was, tip)
	default:
		return "", wrongIn("how", "invalid", "there is no way %q", how.How)
	}
	if err == nil {
		_, err = st.run(ctx, dir, "update-ref", target, came, was)
	}
	return came, err
}

// called is a user's name and address for commits.
func (st *Store) called(user string) [2]string {
	if u := st.s.Users[user]; u != nil {
		return [2]string{cmp.Or(u.FullName, user), cmp.Or(u.Email, user+"@host.example")}
	}
	return [2]string{user, user + "@host.example"}
}
