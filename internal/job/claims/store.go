package claims

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"uncinate/internal/core/claiming"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// The claims are received into a store of our own beside git's, and sent from there.

const (
	here = "refs/claims/there" // what the host was seen to have
	next = "refs/claims/next"  // what is sent
	file = "claims.json"       // the document, in each commit
)

// store gives the repository, made if it is not there, or not as ours are; what a run of git that was
// killed left locked in it is free again. Callers hold the claims.
func (b *Book) store() (*git.Repo, error) {
	s := project.Store(b.folder.Repo.Git, filepath.Join(b.common, "uncinate", "claims.git"))
	config, err := git.ReadConfig(filepath.Join(s.Dir, "config"))
	if err == nil && project.LooksThrough(b.desk, config) && files.KindOf(filepath.Join(s.Dir, "objects")) == files.Folder && files.KindOf(filepath.Join(s.Dir, "HEAD")) == files.Regular {
		var err error
		for _, left := range []string{"shallow.lock", "packed-refs.lock", here + ".lock", next + ".lock"} {
			err = errors.Join(err, files.Remove(filepath.Join(s.Dir, filepath.FromSlash(left))))
		}
		return s, err
	}
	if err := files.RemoveAll(s.Dir); err != nil {
		return nil, err
	}
	if err := project.MakeStore(s.Dir, max(40, len(b.folder.Head)), ""); err != nil {
		return nil, fault.New(fault.Failed, "the place for claims cannot be made: %s", files.Plain(err)).Because(err)
	}
	return s, nil
}

// receive reads the claims that the host has in a ref, at a commit.
func (b *Book) receive(ctx context.Context, h *project.Tie, ref, id string) error {
	s, err := b.store()
	if err != nil {
		return err
	}
	if err := h.WriteInclude(ctx); err != nil {
		return err
	}
	_, err = s.Works().Run(ctx, git.Cmd{Config: h.Config(), Stall: git.Stall, Args: []string{"fetch", "-q", "--depth=1", "--no-tags", "--no-write-fetch-head", "--no-auto-maintenance", "--recurse-submodules=no", "--refmap=", "--", h.Address.String(), "+" + ref + ":" + here}})
	if err != nil {
		return git.Fault(err, "the claims cannot be received from %s", h.Address.String())
	}
	refs, err := git.ReadRefs(s.Dir)
	if err != nil {
		return err
	}
	if refs[here] != "" {
		id = refs[here] // it may have moved since it was asked
	}
	all, err := b.read(ctx, s, id)
	if err != nil {
		return fault.New(fault.Refused, "what %s has as claims, in %s, cannot be read: %s", h.Address.String(), ref, text.Excerpt(err.Error(), 200)).
			Try("see who wrote it", text.Command("git", "-C", b.folder.Path, "ls-remote", h.Remote, ref))
	}
	b.Ref, b.Commit, b.Claims, b.Gone = ref, id, all, false
	return nil
}

// read reads the document of a commit.
func (b *Book) read(ctx context.Context, s *git.Repo, id string) ([]claiming.Claim, error) {
	entry, err := s.Do(ctx, "ls-tree", "-l", id, "--", file)
	if err != nil {
		return nil, err
	}
	var mode, kind, blob string
	var size int64
	if _, err := fmt.Sscan(entry, &mode, &kind, &blob, &size); err != nil || kind != "blob" {
		return nil, errors.New("it holds no " + file)
	}
	if size > claiming.MostBytes {
		return nil, fmt.Errorf("%s has %d bytes, and at most %d are read", file, size, claiming.MostBytes)
	}
	said, err := s.Run(ctx, git.Cmd{Dir: s.Dir, Args: []string{"cat-file", "blob", blob}})
	if err != nil {
		return nil, err
	}
	return claiming.Read(said)
}

// commit makes a commit of claims on top of the one that was read.
func (b *Book) commit(ctx context.Context, all []claiming.Claim, name, says string) (string, error) {
	s, err := b.store()
	if err != nil {
		return "", err
	}
	data, err := claiming.Write(all)
	if err != nil {
		return "", err
	}
	if len(data) > claiming.MostBytes || len(all) > claiming.MostClaims {
		return "", fault.New(fault.Refused, "there are more claims than one repository can hold").Try("see them", "uncinate claim list")
	}
	now, _ := b.now()
	var in strings.Builder
	fmt.Fprintf(&in, "commit %s\ncommitter %s <%s> %d +0000\ndata %d\n%s\n", next, git.PersonName(name), git.PersonName(b.Me), now.Unix(), len(says), says)
	if b.Commit != "" && b.Ref != "" && !b.Gone {
		fmt.Fprintf(&in, "from %s\n", b.Commit)
	}
	fmt.Fprintf(&in, "M 100644 inline %s\ndata %d\n%s\ndone\n", file, len(data), data)
	if err := files.Remove(filepath.Join(s.Dir, filepath.FromSlash(next))); err != nil {
		return "", err
	}
	if _, err := s.Run(ctx, git.Cmd{Dir: s.Dir, In: strings.NewReader(in.String()), Config: []git.Set{{Key: "fastimport.unpackLimit", Value: "100"}}, Args: []string{"fast-import", "--quiet", "--force", "--done"}}); err != nil {
		return "", git.Fault(err, "the claim cannot be written")
	}
	refs, err := git.ReadRefs(s.Dir)
	if err != nil || refs[next] == "" {
		return "", errors.Join(err, fault.New(fault.Failed, "the claim cannot be written: git made no commit"))
	}
	return refs[next], nil
}

// send sends a commit to a ref of the host, if it is still where it was read. What git says of it is
// not gone by: the host is asked what it has.
func (b *Book) send(ctx context.Context, h *project.Tie, ref, commit, was string) error {
	s, err := b.store()
	if err != nil {
		return err
	}
	if err := h.WriteInclude(ctx); err != nil {
		return err
	}
	_, err = s.Works().Run(ctx, git.Cmd{Config: h.Config(), Stall: git.Stall, Args: []string{"push", "-q", "--porcelain", "--force-with-lease=" + ref + ":" + was, "--", h.Address.String(), commit + ":" + ref}})
	return err
}
