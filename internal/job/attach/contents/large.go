package contents

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/ignore"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/job/attach/target"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Large files can be kept in a storage of their own: git then carries only pointers to
// them. The program git-lfs does it, by its own published interfaces.

// Attributes is the file that says which files are kept so (gitattributes documentation).
const Attributes = ".gitattributes"

// largeFiles are those of the first commit that go into the storage.
type largeFiles struct {
	rules []kinds.Rule // lines of the attributes file
	Count int
	bytes int64
}

// PlanLarge decides which files go into large-file storage, and says what it costs. theirs
// reports whether the host's side has a file at a path.
func (c *Contents) PlanLarge(ctx context.Context, theirs func(path string) bool) error {
	o := c.Options
	if len(o.Large) == 0 || c.Committed() {
		return nil
	}
	if stands, err := c.largeStands(); err != nil || stands {
		return err
	}
	if c.Folder.Head != "" {
		return fault.New(fault.Usage, "large files go into the storage from a first commit on; commits that hold them already would have to be rewritten").
			Try("see what git-lfs says of that", "git lfs migrate --help")
	}
	if c.Tie.Address.Scheme == "ssh" {
		return fault.New(fault.Decision, "large-file storage is reached over https only").Try("take that way", c.Again("--over", "https", "--large", o.Large[0]))
	}
	if _, err := c.Folder.Repo.Do(ctx, "lfs", "version"); err != nil {
		return fault.New(fault.Failed, "the program git-lfs, which keeps large files, is not installed").Because(err).
			Try("on Debian and its kin", "sudo apt install git-lfs")
	}
	if theirs(Attributes) {
		return fault.New(fault.Decision, "the repository there has a %s of its own; bring that in first, then track the files in it", Attributes).
			Try("without the storage", c.Again(c.ToArgs()...))
	}
	l := &largeFiles{}
	for _, p := range o.Large {
		line, err := c.attributeOf(p)
		if err != nil {
			return err
		}
		l.rules = append(l.rules, kinds.Rule{Pattern: line, Why: "kept in large-file storage"})
	}
	hits := survey.Hits(o.Large)
	for _, f := range c.Travel.Files {
		if f.Type == survey.Regular && hits(f.Path) {
			l.Count++
			l.bytes += f.Size
		}
	}
	if l.Count == 0 {
		return fault.New(fault.Usage, "no file that would go up matches %s", text.Quote(strings.Join(o.Large, " ")))
	}
	c.Large = l
	note := fmt.Sprintf("Large-file storage takes %s, %s. Everybody who clones needs git-lfs to get them.", text.Count(l.Count, "file"), text.Size(l.bytes))
	if c.Login != nil {
		if quota, ok := c.Login.Host.Limits["large_file_quota"].(string); ok {
			note += fmt.Sprintf(" On %s the account has %s for it in all", c.Login.Host.Name, quota)
			if used := login.Used(ctx, c.Desk, c.Login.Host, []*accounts.Account{c.Login.Account}); used != "" {
				note += ", " + used + " of which used"
			}
			note += "."
			if n, ok := text.ParseSize(quota); ok && l.bytes > n {
				return fault.New(fault.Refused, "the large files have %s, and %s gives the account %s for them", text.Size(l.bytes), c.Login.Host.Name, quota)
			}
		}
	}
	c.Notes = append(c.Notes, note)
	return nil
}

// largeStands reports whether all that is asked for is in the attributes file of a
// project that has commits.
func (c *Contents) largeStands() (bool, error) {
	data, err := files.Read(c.At(Attributes), 4<<20)
	if errors.Is(err, fs.ErrNotExist) || c.Folder.Head == "" {
		return false, nil
	}
	for _, p := range c.Options.Large {
		line, wrong := c.attributeOf(p)
		if wrong != nil || !slices.Contains(strings.Split(string(data), "\n"), line) {
			return false, errors.Join(err, wrong)
		}
	}
	return err == nil, err
}

// attributeOf makes a line of the attributes file of a path or pattern.
func (c *Contents) attributeOf(given string) (string, error) {
	p := strings.TrimPrefix(filepath.ToSlash(given), "./")
	if r, ok := ignore.ParseRule(p); !ok || r.Negated || strings.ContainsAny(p, "\n\r\"") {
		return "", fault.New(fault.Usage, "%s is not a path or pattern of files", text.Quote(given))
	}
	if k := files.KindOf(c.At(strings.TrimSuffix(p, "/"))); k != files.None {
		p = "/" + kinds.Escape(strings.TrimSuffix(p, "/"))
		if k == files.Folder {
			p += "/**"
		}
	}
	return strings.ReplaceAll(p, " ", "[[:space:]]") + " filter=lfs diff=lfs merge=lfs -text", nil
}

// StepLarge writes the rules and lets git-lfs set itself up in this repository.
func (c *Contents) StepLarge() desk.Step {
	config := filepath.Join(c.Folder.Path, ".git", "config")
	merged := func() (old, new string, err error) {
		data, err := files.Read(c.At(Attributes), 4<<20)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", "", err
		}
		return string(data), kinds.Merge(string(data), c.Large.rules), nil
	}
	return c.bareLarge().Planned(plan.Here, fmt.Sprintf("Set up large-file storage for %s: %s, %s", strings.Join(c.Options.Large, " "), text.Count(c.Large.Count, "file"), text.Size(c.Large.bytes)),
		func(ctx context.Context) (bool, error) {
			old, new, err := merged()
			if err != nil || old != new {
				return false, err
			}
			_, set, err := c.Folder.Repo.Own("filter.lfs.clean")
			return set, err
		},
		func(ctx context.Context) error {
			if err := c.SetAside(c.At(Attributes), "attributes"); err != nil {
				return err
			}
			if err := c.SetAside(config, "config-large"); err != nil {
				return err
			}
			_, new, err := merged()
			if err != nil {
				return err
			}
			if err := files.WriteBy(c.At(Attributes), c.BesideGit("attributes.new"), []byte(new), 0o644); err != nil {
				return err
			}
			if err := c.Wrote(c.At(Attributes), "attributes"); err != nil {
				return err
			}
			err = c.Folder.TrustOwn(ctx, c.Desk, func() error {
				_, err := c.Folder.Repo.Works().Do(ctx, "lfs", "install", "--local")
				return git.Fault(err, "git-lfs cannot be set up here")
			})
			if err != nil {
				return err
			}
			return c.Wrote(config, "config-large")
		})
}

// undoLarge takes both out again.
func (c *Contents) undoLarge(ctx context.Context) error {
	touched, err := c.Touched(c.At(Attributes), "attributes")
	if err != nil {
		return err
	}
	if !touched {
		if err := c.BringBack(c.At(Attributes), "attributes"); err != nil {
			return err
		}
	}
	if target.FactMadeGit.Of(c.Run) {
		return nil // the whole of .git goes
	}
	if !c.Changed("config-large") {
		return nil
	}
	config := filepath.Join(c.Folder.Path, ".git", "config")
	if touched, err = c.Touched(config, "config-large"); err != nil {
		return err
	}
	if _, err := c.Folder.Repo.Works().Do(ctx, "lfs", "uninstall", "--local"); err != nil {
		return git.Fault(err, "git-lfs cannot be taken out again")
	}
	if touched {
		return c.dropLargeSettings(ctx)
	}
	return c.BringBack(config, "config-large")
}

// dropLargeSettings takes out what git-lfs has written into the configuration by itself
// since, where there was nothing of it before.
func (c *Contents) dropLargeSettings(ctx context.Context) error {
	before, err := files.Read(c.Run.Journal.Aside("config-large"), 512<<20)
	if err != nil || strings.Contains(string(before), "[lfs") {
		return err
	}
	list, err := c.Folder.Repo.Lines(ctx, "config", "--local", "-z", "--name-only", "--list")
	if err != nil {
		return git.Fault(err, "git's configuration cannot be read")
	}
	gone := map[string]bool{}
	for _, key := range list {
		section := key[:max(strings.LastIndexByte(key, '.'), 0)]
		if section != "lfs" && !strings.HasPrefix(section, "lfs.") || gone[section] {
			continue
		}
		gone[section] = true
		if _, err := c.Folder.Repo.Do(ctx, "config", "--local", "--remove-section", section); err != nil {
			return git.Fault(err, "git's configuration cannot be written")
		}
	}
	return nil
}

func (c *Contents) bareLarge() desk.Step {
	return desk.Bare("large", plan.Here, "Take large-file storage out again", c.undoLarge)
}
