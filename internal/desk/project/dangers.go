package project

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/gitconfig"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// A folder from elsewhere brings git's configuration along, and with it programs that git runs
// and ways by which a token can be led elsewhere. That a person attached it says nothing of what
// is in there. So trust is of contents: what was read, shown and agreed to is known by its
// digest, and anything that was changed since is as strange as at first.

// Danger is something of a repository's own that could run a program or lead elsewhere.
type Danger struct {
	Where string `json:"where" says:"the file, from the folder, and the line"`
	What  string `json:"what" says:"the setting, or the hook's name"`
	Value string `json:"value,omitempty"`
	Says  string `json:"says" says:"what it does"`
	Leads bool   `json:"leads" says:"it leads traffic, files or a secret elsewhere, beyond running a program"`

	digest  string
	setting gitconfig.Setting
	off     *string
}

// Hook reports whether it is a hook.
func (x Danger) Hook() bool { return x.setting.Key == "" }

// Sentence shows it.
func (x Danger) Sentence() string {
	if x.Hook() {
		return fmt.Sprintf("%s: %s", text.Visible(x.Where), x.Says)
	}
	return fmt.Sprintf("%s: %s = %s: %s", text.Visible(x.Where), text.Visible(x.What), text.Excerpt(x.Value, 80), x.Says)
}

// hookNames are the hooks that git may run as this program works (githooks documentation).
var hookNames = []string{"applypatch-msg", "commit-msg", "fsmonitor-watchman", "post-checkout", "post-commit", "post-index-change", "post-merge", "post-rewrite",
	"pre-auto-gc", "pre-commit", "pre-merge-commit", "pre-push", "pre-rebase", "prepare-commit-msg", "push-to-checkout", "reference-transaction", "sendemail-validate"}

// mostHook is how much of a hook, or of a program that a setting names, is read, in bytes.
const mostHook = 64 << 20

func trustFile(d *desk.Desk, folder string) string {
	return filepath.Join(d.Home.State, "trusted", files.Short(folder)+".json")
}

// trusted gives the digests of what is trusted in a folder.
func trusted(d *desk.Desk, folder string) ([]string, error) {
	var all []string
	_, err := files.ReadJSON(trustFile(d, folder), &all)
	return all, err
}

// ReadSettings reads the configuration that holds in the folder, and judges its own part.
func (f *Folder) ReadSettings(ctx context.Context, d *desk.Desk) (err error) {
	if f.Settings, err = f.Repo.Settings(ctx); err != nil {
		return git.Fault(err, "git's configuration cannot be read")
	}
	return f.judge(d)
}

// judge reads what the folder's own configuration and hooks could do, puts what is not trusted
// out of effect for runs that look, and keeps it in Dangers. The settings must have been read.
func (f *Folder) judge(d *desk.Desk) error {
	all, err := f.dangers(d)
	if err != nil {
		return err
	}
	known, err := trusted(d, f.Path)
	if err != nil {
		return err
	}
	f.Dangers, f.Repo.Safe, f.mergers = nil, nil, nil
	for _, s := range f.Settings {
		x, is := merger(f, s)
		if is && !slices.Contains(known, x.digest) {
			f.mergers = append(f.mergers, x)
			f.Repo.Safe = append(f.Repo.Safe, git.Set{Key: s.Key, Value: "false"}) // what both sides changed clashes then
		}
	}
	for _, x := range all {
		if slices.Contains(known, x.digest) {
			continue
		}
		f.Dangers = append(f.Dangers, x)
		if x.off != nil {
			f.Repo.Safe = append(f.Repo.Safe, git.Set{Key: x.setting.Key, Value: *x.off})
			if section, sub, _ := gitconfig.Split(x.setting.Key); section == "filter" {
				f.Repo.Safe = append(f.Repo.Safe, git.Set{Key: "filter." + sub + ".required", Value: "false"})
			}
		}
	}
	return nil
}

// merger tells of a program that merges files, in the person's own configuration: the repository
// says by its attributes for which files it runs (gitattributes documentation, "merge").
func merger(f *Folder, s gitconfig.Setting) (Danger, bool) {
	section, sub, name := gitconfig.Split(s.Key)
	if s.Own() || section != "merge" || sub == "" || name != "driver" {
		return Danger{}, false
	}
	return Danger{Where: f.line(map[string][]gitconfig.Line{}, s), What: s.Key, Value: gitconfig.Shown(s.Value), Says: gitconfig.Judge(s).Says, setting: s, digest: digest("merge driver", s.Key, s.Value)}, true
}

// HasMergers reports whether there are any.
func (f *Folder) HasMergers() bool { return len(f.mergers) > 0 }

// Mergers are the programs of the person's own configuration that would merge some of these files and
// that were not agreed to in this copy; until then none of them runs.
func (f *Folder) Mergers(ctx context.Context, paths []string) ([]Danger, error) {
	if len(f.mergers) == 0 || len(paths) == 0 {
		return nil, nil
	}
	out, err := f.Repo.Run(ctx, git.Cmd{Args: []string{"check-attr", "-z", "--stdin", "merge"}, In: strings.NewReader(strings.Join(paths, "\x00") + "\x00")})
	if err != nil {
		return nil, git.Fault(err, "git cannot tell how files are merged")
	}
	named := map[string]bool{}
	for i, word := range git.SplitNUL(out) { // path, attribute and value
		if i%3 == 2 {
			named[word] = true
		}
	}
	return slices.DeleteFunc(slices.Clone(f.mergers), func(x Danger) bool {
		_, sub, _ := gitconfig.Split(x.setting.Key)
		return !named[sub]
	}), nil
}

// AskAbout is the fault about programs that nobody has agreed to yet.
func (f *Folder) AskAbout(which []Danger, says string, again string) error {
	out := fault.New(fault.Decision, "%s", says)
	for _, x := range which {
		out.Detail("%s", x.Sentence())
	}
	asked := *f
	asked.Dangers = which
	return &Strange{out.TryWithout("if you know what it does, let it run from now on", again, "preview"), &asked, false}
}

// dangers lists all, trusted or not.
func (f *Folder) dangers(d *desk.Desk) ([]Danger, error) {
	var out []Danger
	texts := map[string][]gitconfig.Line{}
	hooks, where := "", ""
	for _, s := range f.Settings {
		if strings.EqualFold(s.Key, "core.hooksPath") && (s.Own() || !filepath.IsAbs(s.Value) && !strings.HasPrefix(s.Value, "~")) {
			hooks, where = filepath.Join(f.Path, s.Value), s.Value
			if filepath.IsAbs(s.Value) {
				hooks = s.Value
			}
		} else if strings.EqualFold(s.Key, "core.hooksPath") {
			hooks, where = os.DevNull, "" // the person's own, for all of their repositories
		}
		if !s.Own() || isOurs(d, s.Origin) {
			continue
		}
		one := gitconfig.Judge(s)
		if one.Effect == gitconfig.Harmless || f.isItself(s) {
			continue
		}
		x := Danger{Where: f.line(texts, s), What: s.Key, Value: gitconfig.Shown(s.Value), Says: one.Says, Leads: one.Effect == gitconfig.Leads, setting: s, off: one.Off}
		contents, err := f.named(s.Value)
		if err != nil {
			return nil, err
		}
		x.digest = digest("setting", s.Key, s.Value, contents)
		out = append(out, x)
	}
	if hooks == "" {
		_, common, err := git.Folders(f.Path)
		if errors.Is(err, fs.ErrNotExist) {
			return out, nil // there is no repository yet
		}
		if err != nil {
			return nil, err
		}
		hooks, where = filepath.Join(common, "hooks"), ".git/hooks"
	}
	more, err := hooksIn(hooks, where)
	return append(out, more...), err
}

// isItself reports whether a setting says that the files are where they are, as git writes it for submodules
// (git-config documentation, core.worktree).
func (f *Folder) isItself(s git.Setting) bool {
	if !strings.EqualFold(s.Key, "core.worktree") || filepath.IsAbs(s.Value) {
		return false
	}
	own, _, err := git.Folders(f.Path)
	return err == nil && filepath.Join(own, filepath.FromSlash(s.Value)) == f.Path
}

// hooksIn lists the hooks of a folder that git would run.
func hooksIn(folder, where string) ([]Danger, error) {
	if folder == os.DevNull {
		return nil, nil
	}
	names, err := files.Names(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fault.New(fault.Failed, "the hooks in %s cannot be looked at", text.Visible(folder)).Because(err)
	}
	var out []Danger
	for _, name := range names {
		if !slices.Contains(hookNames, strings.TrimSuffix(strings.ToLower(name), ".exe")) {
			continue
		}
		path := filepath.Join(folder, name)
		s, err := os.Stat(path)
		if err != nil || runtime.GOOS != "windows" && s.Mode()&0o111 == 0 {
			continue // git runs none of them
		}
		contents, err := fileDigest(path)
		if err != nil {
			return nil, err
		}
		out = append(out, Danger{Where: where + "/" + name, What: name, Says: "a program that git runs as it works", digest: digest("hook", name, contents)})
	}
	return out, nil
}

// named gives the digest of the file of the folder that a setting's value begins with, "" for
// none: a pull may change the program and leave the setting as it is.
func (f *Folder) named(value string) (string, error) {
	for _, word := range strings.Fields(strings.TrimPrefix(value, "!")) {
		word = strings.Trim(word, `"'`)
		path := filepath.Join(f.Path, word)
		if filepath.IsAbs(word) {
			path = word
		}
		if inside, err := filepath.Rel(f.Path, path); err != nil || !filepath.IsLocal(inside) || inside == "." {
			continue
		}
		if s, err := os.Stat(path); err == nil && s.Mode().IsRegular() {
			return fileDigest(path)
		}
	}
	return "", nil
}

// fileDigest is the digest of a file's contents; only of a regular file is it known.
func fileDigest(path string) (string, error) {
	in, err := files.Open(path)
	if err != nil {
		return "", fault.New(fault.Failed, "%s cannot be looked at: %s", text.Visible(path), files.Plain(err)).Because(err)
	}
	defer in.Close()
	sum := sha256.New()
	n, err := io.Copy(sum, io.LimitReader(in, mostHook+1))
	if err == nil && n > mostHook {
		err = fault.New(fault.Refused, "%s is larger than %s, so nobody can say what it does", text.Visible(path), text.Size(mostHook))
	}
	return hex.EncodeToString(sum.Sum(nil)), err
}

func digest(parts ...string) string {
	sum := sha256.New()
	for _, p := range parts {
		fmt.Fprintf(sum, "%d:%s", len(p), p)
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// origin is the path of the file in which a setting stands.
func (f *Folder) origin(s gitconfig.Setting) string {
	path := filepath.FromSlash(s.Origin)
	if !filepath.IsAbs(path) {
		path = filepath.Join(f.Path, path)
	}
	return path
}

// line tells in which file and on which line a setting stands.
func (f *Folder) line(texts map[string][]gitconfig.Line, s gitconfig.Setting) string {
	path := f.origin(s)
	shown := path
	if rel, err := filepath.Rel(f.Path, path); err == nil && filepath.IsLocal(rel) {
		shown = filepath.ToSlash(rel)
	}
	lines, read := texts[path]
	if !read {
		data, err := files.Read(path, 4<<20)
		if err == nil {
			lines = gitconfig.Parse(string(data))
		}
		texts[path] = lines
	}
	for _, l := range lines {
		if strings.EqualFold(l.Key, s.Key) && l.Value == s.Value {
			return fmt.Sprintf("%s:%d", shown, l.At)
		}
	}
	return shown
}

// IsPlain reports whether a repository has neither a configuration that could do something nor a
// hook of its own: then nothing in it has to be shown before it is taken in.
func IsPlain(d *desk.Desk, common string, config map[string][]string) bool {
	hooks, err := hooksIn(filepath.Join(common, "hooks"), ".git/hooks")
	return err == nil && len(hooks) == 0 && LooksThrough(d, config)
}

// LooksThrough reports whether the folder's own configuration, read without a process, holds
// nothing that could do something: no run of git is needed to find that out.
func LooksThrough(d *desk.Desk, config map[string][]string) bool {
	for key, values := range config {
		for _, value := range values {
			if key == "include.path" && !isOurs(d, value) || key == "extensions.worktreeconfig" {
				return false
			}
			if gitconfig.Judge(gitconfig.Setting{Key: key, Value: value}).Effect != gitconfig.Harmless {
				return false
			}
		}
	}
	return true
}
