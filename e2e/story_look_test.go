//go:build linux

package e2e

import (
	"bufio"
	"bytes"
	"compress/zlib"
	"crypto/sha1"
	"encoding/hex"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
)

// objects are all of git's objects that were seen anywhere, by id: what an object holds
// never changes, so each is read once.
type objects struct {
	all map[string]*object
}

type object struct {
	kind string   // commit, tree, blob or tag
	to   []string // what it refers to; for a commit its tree and then its parents
	data []byte   // of a blob that is not large
}

func newObjects() *objects { return &objects{all: map[string]*object{}} }

// mostKeptOfABlob is how much of a file's contents is kept for comparing lines.
const mostKeptOfABlob = 1 << 18

func (o *objects) add(id, kind string, data []byte) {
	x := &object{kind: kind}
	switch kind {
	case "blob":
		if len(data) <= mostKeptOfABlob {
			x.data = data
		}
	case "tree":
		for len(data) > 0 {
			head, rest, found := bytes.Cut(data, []byte{0})
			if !found || len(rest) < 20 {
				break
			}
			if !bytes.HasPrefix(head, []byte("160000 ")) {
				x.to = append(x.to, hex.EncodeToString(rest[:20]))
			}
			data = rest[20:]
		}
	default:
		for line := range bytes.Lines(data) {
			key, value, _ := strings.Cut(strings.TrimSpace(string(line)), " ")
			if key != "tree" && key != "parent" && key != "object" {
				break
			}
			x.to = append(x.to, value)
			if key == "object" {
				break
			}
		}
	}
	o.all[id] = x
}

// loose reads an object that is in a file of its own.
func (o *objects) loose(common, id string) bool {
	f, err := os.Open(filepath.Join(common, "objects", id[:2], id[2:]))
	if err != nil {
		return false
	}
	defer f.Close()
	z, err := zlib.NewReader(bufio.NewReader(f))
	if err != nil {
		return false
	}
	data, err := io.ReadAll(io.LimitReader(z, 64<<20))
	if err != nil {
		return false
	}
	head, body, _ := bytes.Cut(data, []byte{0})
	kind, _, _ := strings.Cut(string(head), " ")
	o.add(id, kind, body)
	return true
}

// packed reads objects from a repository's packs.
func (o *objects) packed(common string, ids []string) {
	c := exec.Command("git", "--git-dir="+common, "-c", "core.bare=true", "cat-file", "--batch")
	c.Stdin = strings.NewReader(strings.Join(ids, "\n") + "\n")
	out, _ := c.Output() // what cannot be read is missing below, and git fsck tells of it
	for len(out) > 0 {
		line, rest, _ := bytes.Cut(out, []byte("\n"))
		fields := strings.Fields(string(line))
		if len(fields) != 3 {
			out = rest
			continue
		}
		size, err := strconv.Atoi(fields[2])
		if err != nil || size+1 > len(rest) {
			return
		}
		o.add(fields[0], fields[1], bytes.Clone(rest[:size]))
		out = rest[size+1:]
	}
}

// below gives all that is reachable from tips in a repository; at the commits in cut the
// history ends. What is not there is left out.
func (o *objects) below(common string, tips []string, cut map[string]bool, seen map[string]bool) {
	next := slices.Clone(tips)
	for len(next) > 0 {
		var unknown []string
		for _, id := range next {
			if o.all[id] == nil && !o.loose(common, id) {
				unknown = append(unknown, id)
			}
		}
		if len(unknown) > 0 {
			o.packed(common, unknown)
		}
		level := next
		next = nil
		for _, id := range level {
			x := o.all[id]
			if seen[id] || x == nil {
				continue
			}
			seen[id] = true
			to := x.to
			if x.kind == "commit" && cut[id] {
				to = to[:1]
			}
			for _, t := range to {
				if !seen[t] {
					next = append(next, t)
				}
			}
		}
	}
}

// lying is a file as it is in a project's folder.
type lying struct {
	id    string // of its contents, as git would call it
	mode  fs.FileMode
	mtime int64
	size  int64
}

type hashed struct {
	stamp string
	id    string
}

// look is all that was seen of one project's folder on one machine.
type look struct {
	machine, folder string // folder is the path in the home
	common, own     string // git's folder that all work trees share, and this one's
	files           map[string]lying
	index           map[string]string // path and stage → mode and id
	head            string            // what HEAD says
	refs            map[string]string
	tips            []string // refs, HEADs and what the reflogs name
	rescue          string   // the place of the rescue copies, "" where there is none
	copies          map[string]string
	cut             map[string]bool // where the rescue copies' history ends
	shallow         bool
	merging         []string
	odd             []string // locks and leftovers in git's folder
}

// findProjects gives the folders with a .git in a home.
func findProjects(home string) []string {
	var all []string
	_ = filepath.WalkDir(home, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil // it went meanwhile
		}
		rel, _ := filepath.Rel(home, path)
		switch {
		case e.Name() == ".git" && rel != ".git":
			all = append(all, filepath.Dir(rel))
			if e.IsDir() {
				return fs.SkipDir
			}
		case e.IsDir() && (rel == ".uncinate" || rel == ".ssh" || rel == "templates" || strings.Count(rel, "/") > 3):
			return fs.SkipDir
		}
		return nil
	})
	return all
}

// lookAt looks at all projects of a machine.
func (w *storyWorld) lookAt(name string) []*look {
	var all []*look
	for _, folder := range findProjects(w.all[name].home) {
		if l := w.lookIn(name, folder); l != nil {
			all = append(all, l)
		}
	}
	return all
}

func (w *storyWorld) lookIn(name, folder string) *look {
	top := filepath.Join(w.all[name].home, folder)
	l := &look{machine: name, folder: folder, own: filepath.Join(top, ".git"), refs: map[string]string{}, copies: map[string]string{}}
	if info, err := os.Stat(l.own); err != nil {
		return nil
	} else if !info.IsDir() {
		data, _ := os.ReadFile(l.own)
		l.own = strings.TrimSpace(strings.TrimPrefix(string(data), "gitdir: "))
	}
	l.common = l.own
	if data, err := os.ReadFile(filepath.Join(l.own, "commondir")); err == nil {
		l.common = filepath.Join(l.own, strings.TrimSpace(string(data)))
	}
	l.files = w.filesBelow(top)
	l.index = w.readIndex(top, l.own)
	head, _ := os.ReadFile(filepath.Join(l.own, "HEAD"))
	l.head = strings.TrimSpace(string(head))
	l.refs = readRefs(l.common)
	l.tips = append(slices.Sorted(maps.Values(l.refs)), readLogs(l.common)...)
	if len(l.head) == 40 {
		l.tips = append(l.tips, l.head)
	}
	if store := filepath.Join(l.common, "uncinate/rescue.git"); exists(store) {
		l.rescue, l.copies = store, readRefs(store)
		l.cut = readLines(filepath.Join(store, "shallow"))
	}
	l.shallow = exists(filepath.Join(l.common, "shallow"))
	for _, n := range []string{"MERGE_HEAD", "CHERRY_PICK_HEAD", "REVERT_HEAD", "rebase-merge", "rebase-apply"} {
		if exists(filepath.Join(l.own, n)) {
			l.merging = append(l.merging, n)
		}
	}
	_ = filepath.WalkDir(l.common, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil // it went meanwhile
		}
		if e.IsDir() && e.Name() == "objects" {
			return fs.SkipDir
		}
		if n := e.Name(); strings.HasSuffix(n, ".lock") || strings.HasPrefix(n, "next-index") || strings.HasPrefix(n, "tmp_") || strings.HasPrefix(n, ".tmp") {
			rel, _ := filepath.Rel(l.common, path)
			l.odd = append(l.odd, rel)
		}
		return nil
	})
	return l
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

func readLines(path string) map[string]bool {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil
	}
	all := map[string]bool{}
	for _, line := range strings.Fields(string(data)) {
		all[line] = true
	}
	return all
}

// filesBelow reads all files of a work tree, but not git's own.
func (w *storyWorld) filesBelow(top string) map[string]lying {
	all := map[string]lying{}
	_ = filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil // it went meanwhile
		}
		if e.Name() == ".git" {
			if e.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if e.IsDir() {
			return nil
		}
		info, err := e.Info()
		if err != nil {
			return nil
		}
		rel, _ := filepath.Rel(top, path)
		all[rel] = lying{id: w.hash(path, info), mode: info.Mode(), mtime: info.ModTime().UnixNano(), size: info.Size()}
		return nil
	})
	return all
}

// hash gives a file's contents the name that git would give them, and keeps them.
func (w *storyWorld) hash(path string, info fs.FileInfo) string {
	s := info.Sys().(*syscall.Stat_t)
	stamp := fmt.Sprint(s.Ino, s.Size, s.Mtim, s.Ctim, s.Mode)
	if h := w.hashes[path]; h.stamp == stamp {
		return h.id
	}
	var data []byte
	if info.Mode()&fs.ModeSymlink != 0 {
		target, _ := os.Readlink(path)
		data = []byte(target)
	} else {
		data, _ = os.ReadFile(path)
	}
	sum := sha1.New()
	fmt.Fprintf(sum, "blob %d\x00", len(data))
	sum.Write(data)
	id := hex.EncodeToString(sum.Sum(nil))
	if w.objects.all[id] == nil {
		w.objects.add(id, "blob", data)
	}
	w.hashes[path] = hashed{stamp, id}
	return id
}

// readIndex gives what is staged, as "path stage" → "mode id".
func (w *storyWorld) readIndex(top, own string) map[string]string {
	if all, known := readIndexFile(filepath.Join(own, "index")); known {
		return all
	}
	c := exec.Command("git", "ls-files", "-s", "-z")
	c.Dir = top
	c.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_NOSYSTEM=1", "GIT_OPTIONAL_LOCKS=0")
	out, _ := c.Output() // an index that cannot be read is told of by git fsck
	all := map[string]string{}
	for item := range strings.SplitSeq(string(out), "\x00") {
		about, path, found := strings.Cut(item, "\t")
		fields := strings.Fields(about)
		if found && len(fields) == 3 {
			all[path+" "+fields[2]] = fields[0] + " " + fields[1]
		}
	}
	return all
}

// readLogs gives all commits that the reflogs name, and the HEADs of other work trees.
func readLogs(common string) []string {
	all := map[string]bool{}
	read := func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return nil // it went meanwhile
		}
		data, _ := os.ReadFile(path)
		for line := range strings.Lines(string(data)) {
			if len(line) > 81 {
				all[line[:40]], all[line[41:81]] = true, true
			}
		}
		return nil
	}
	_ = filepath.WalkDir(filepath.Join(common, "logs"), read)
	others, _ := filepath.Glob(filepath.Join(common, "worktrees/*"))
	for _, dir := range others {
		_ = filepath.WalkDir(filepath.Join(dir, "logs"), read)
		if data, err := os.ReadFile(filepath.Join(dir, "HEAD")); err == nil && len(data) >= 40 && !strings.HasPrefix(string(data), "ref") {
			all[string(data[:40])] = true
		}
	}
	delete(all, strings.Repeat("0", 40))
	return slices.Sorted(maps.Keys(all))
}

// lookAtHosts reads what the hosts hold.
func (w *storyWorld) lookAtHosts() map[string]map[string]string {
	all := map[string]map[string]string{}
	for _, pattern := range []string{filepath.Join(w.host.dir, "repos/*.git"), filepath.Join(w.plain.dir, "srv/*/*.git")} {
		found, _ := filepath.Glob(pattern)
		for _, dir := range found {
			all[dir] = readRefs(dir)
		}
	}
	return all
}

// holds gives every object that a machine and the hosts hold: in files, staged, in refs,
// reflogs and rescue copies.
func (w *storyWorld) holds(all []*look, hosts map[string]map[string]string) map[string]bool {
	held := map[string]bool{}
	for _, l := range all {
		for _, f := range l.files {
			held[f.id] = true
		}
		for _, staged := range l.index {
			held[strings.Fields(staged)[1]] = true
		}
		w.objects.below(l.common, l.tips, nil, held)
	}
	for dir, refs := range hosts {
		w.objects.below(dir, slices.Collect(maps.Values(refs)), nil, held)
	}
	for _, l := range all { // last, since what is cut there may go on elsewhere
		if l.rescue != "" {
			w.objects.below(l.rescue, slices.Collect(maps.Values(l.copies)), l.cut, held)
		}
	}
	return held
}
