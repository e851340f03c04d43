//go:build linux

package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"

	"uncinate/internal/core/text"
)

// A step of a story is one line of words, quoted as a shell quotes them. The words that
// change files name them from the folder that holds the machines:
//
//	put PATH LINE...            write a text file
//	noise PATH WORD             write a file that is not text
//	mode PATH MODE, touch PATH, gone PATH, folder PATH
//	link PATH TARGET            a symbolic link
//	name OLD NEW, double OLD NEW  rename, and copy with all that is below
//
// The words that run programs end in a machine, a folder in its home, and a command:
//
//	at MACHINE FOLDER COMMAND...
//	cut WHO EVENT MILLISECONDS at ...  kill it, alone or with all its processes, at so many
//	                            changes in the folder (after NAME was made: NAME:EVENT), where it
//	                            opens so many files there (open:EVENT, open:NAME:EVENT), or after
//	                            so long; slow:EVENT lets it take its time; then run it again
//	cut-then WHO EVENT MILLISECONDS COMMAND-LINE at ...  the same, with another command of
//	                            the program in between
//	both COMMAND-LINE at ...    two at once: "MACHINE FOLDER COMMAND..." is the other one
//	writing PATH at ...         a program adds lines to a file meanwhile
//	asked STEP at ...           a person does the step while the command asks, then says yes
//	fault FAULT at ...          the host misbehaves; then run it again
//	room KILOBYTES at ...       so much of the disk is free; then run it again with room
type storyStep struct {
	words []string
	cut   *killed // how a kill came about, once it was played
}

func (s storyStep) String() string { return text.Command(s.words...) }

func parseStep(line string) (storyStep, error) {
	words, err := text.Words(line)
	return storyStep{words: words}, err
}

// order is a run of a program: on which machine, in which folder, which words.
type order struct {
	machine, folder string
	words           []string
}

func (o order) program() bool { return len(o.words) > 0 && o.words[0] == "uncinate" }

// name is what the command is called, with its sub-command.
func (o order) name() string {
	if len(o.words) < 2 {
		return strings.Join(o.words, " ")
	}
	if o.words[0] == "sh" {
		return strings.Join(strings.Fields(o.words[2])[:2], " ")
	}
	families := []string{"branch", "rescue", "undo", "claim", "ignore", "repository", "access", "account", "project", "settings", "tag", "sparse-checkout", "stash", "worktree", "reflog", "update-index"}
	name := o.words[1]
	if len(o.words) > 2 && slices.Contains(families, name) {
		name += " " + o.words[2]
	}
	if !o.program() {
		return "git " + name
	}
	return name
}

func (o order) has(word string) bool { return slices.Contains(o.words, word) }

// orderOf finds the run in a step; false where the step only changes files.
func (s storyStep) order() (order, bool) {
	i := slices.Index(s.words, "at")
	if i < 0 || len(s.words) < i+4 {
		return order{}, false
	}
	return order{s.words[i+1], s.words[i+2], s.words[i+3:]}, true
}

// class is what the step is counted as.
func (s storyStep) class() string {
	if o, runs := s.order(); runs {
		return o.name()
	}
	return "files: " + s.words[0]
}

// trouble is the word of the step that makes its run hard: "at" for none.
func (s storyStep) trouble() string {
	if _, runs := s.order(); !runs {
		return "files"
	}
	if strings.HasPrefix(s.words[0], "cut") {
		return s.words[0] + " " + s.words[1]
	}
	return s.words[0]
}

// ran is what came of a step.
type ran struct {
	runs  []result // each run of the program or of git; the last is the one that counts
	cut   bool     // the first run was killed before it ended
	lines []string // what a program wrote meanwhile
	paths []string // which files of the home were written meanwhile, by the person or the program
	mid   []*look  // between a killed command and the next, for cut-then
	other order    // what ran as well
}

func (r ran) last() result { return r.runs[len(r.runs)-1] }

// play does one step. A step that cannot be done is passed over: a shortened story may
// lack what it needs.
func (w *storyWorld) play(s *storyStep) ran {
	o, runs := s.order()
	if !runs {
		w.change(s.words)
		return ran{}
	}
	m := w.all[o.machine]
	dir := filepath.Join(m.home, o.folder)
	if m == nil || !exists(dir) {
		return ran{}
	}
	run := func() result { return w.exec(dir, m, "", o.words[0], o.words[1:]...) }
	switch s.words[0] {
	case "at":
		return ran{runs: []result{run()}}
	case "cut", "cut-then":
		after, _ := strconv.Atoi(s.words[3])
		k := &killed{all: s.words[1] == "all", after: time.Duration(after) * time.Millisecond}
		if s.words[2] != "0" {
			k.event = s.words[2]
		}
		out := ran{runs: []result{w.execKilled(dir, m, "", k, o.words[0], o.words[1:]...)}, cut: k.when > 0}
		if s.cut = k; s.words[0] == "cut-then" {
			words, err := text.Words(s.words[4])
			if err != nil {
				return out
			}
			out.other = order{o.machine, o.folder, words}
			out.mid = w.lookAt(o.machine)
			out.runs = append(out.runs, w.exec(dir, m, "", words[0], words[1:]...))
		}
		if out.cut || s.words[0] == "cut-then" {
			out.runs = append(out.runs, run())
		}
		return out
	case "both":
		words, err := text.Words(s.words[1])
		if err != nil || len(words) < 3 {
			return ran{}
		}
		out := ran{other: order{words[0], words[1], words[2:]}, runs: make([]result, 2)}
		second := w.all[words[0]]
		if second == nil || !exists(filepath.Join(second.home, words[1])) {
			return ran{}
		}
		var work sync.WaitGroup
		work.Go(func() { out.runs[0] = w.exec(filepath.Join(second.home, words[1]), second, "", words[2], words[3:]...) })
		work.Go(func() { out.runs[1] = run() })
		work.Wait()
		return out
	case "writing":
		return w.writing(s.words[1], run)
	case "asked":
		return w.asked(s.words[1], dir, m, o)
	case "fault":
		return w.faulty(s.words[1], m, run)
	case "room":
		kilobytes, _ := strconv.Atoi(s.words[1])
		return w.fill(int64(kilobytes)<<10, run)
	}
	return ran{}
}

// faulty runs a command while the host misbehaves, then again where it met that.
func (w *storyWorld) faulty(fault string, m *machine, run func() result) ran {
	if err := w.host.Faults.Set([]string{fault}); err != nil {
		return ran{}
	}
	out := ran{runs: []result{run()}}
	met := len(w.host.Faults.Log())
	_ = w.host.Faults.Set(nil) // no fault is always one that can be set
	if w.settle(m); met > 0 {
		out.runs = append(out.runs, run())
	}
	return out
}

// change does a step that only touches files.
func (w *storyWorld) change(words []string) {
	if len(words) < 2 {
		return
	}
	path := filepath.Join(w.homes, words[1])
	if strings.Contains(path, "/.git/") && words[0] != "gone" {
		return
	}
	if !slices.Contains([]string{"mode", "touch", "gone"}, words[0]) {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return // a file is where a folder would be
		}
	}
	var err error
	switch words[0] {
	case "put", "noise":
		data := strings.Join(words[2:], "\n") + "\n"
		if words[0] == "noise" {
			data = "\x89\x00\x01" + strings.Repeat(data, 40)
		}
		if info, e := os.Lstat(path); e == nil && !info.Mode().IsRegular() && !info.IsDir() {
			err = os.Remove(path)
		}
		if err == nil {
			err = os.WriteFile(path, []byte(data), 0o644)
		}
	case "mode":
		mode, _ := strconv.ParseUint(words[2], 8, 32)
		err = os.Chmod(path, os.FileMode(mode))
	case "touch":
		now := time.Now()
		err = os.Chtimes(path, now, now)
	case "gone":
		err = os.RemoveAll(path)
	case "folder":
		err = os.MkdirAll(path, 0o755)
	case "link":
		if err = os.Remove(path); err == nil || os.IsNotExist(err) {
			err = os.Symlink(words[2], path)
		}
	case "name":
		to := filepath.Join(w.homes, words[2])
		if err = os.MkdirAll(filepath.Dir(to), 0o755); err == nil && !exists(to) {
			err = os.Rename(path, to)
		}
	case "double":
		if to := filepath.Join(w.homes, words[2]); !exists(to) {
			err = copyTree(path, to)
		}
	}
	_ = err // a shortened story may lack what the step needs
}

// writing runs a command while a program opens a file by its name, adds a line and closes
// it, over and over.
func (w *storyWorld) writing(path string, run func() result) ran {
	full := filepath.Join(w.homes, path)
	out := ran{paths: []string{path}}
	if real, err := filepath.EvalSymlinks(full); err == nil && real != full { // it is written to by way of a link
		if to, err := filepath.Rel(w.homes, real); err == nil {
			out.paths = append(out.paths, filepath.ToSlash(to))
		}
	}
	stop, ended := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			case <-time.After(150 * time.Microsecond):
			}
			f, err := os.OpenFile(full, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
			if err != nil {
				continue // its folder is not there
			}
			line := fmt.Sprintf("written-%d-%d", time.Now().UnixNano(), n)
			if _, err = f.WriteString(line + "\n"); err == nil {
				out.lines = append(out.lines, line)
			}
			f.Close()
		}
	}()
	out.runs = []result{run()}
	close(stop)
	<-ended
	return out
}

// asks is what a command asks: the question that all plans end in, or how files that both
// sides hold are decided.
var asks = regexp.MustCompile(`Go ahead\?|\(yes or no\)|or (both) \([^)]*\)\?`)

// asked runs a command on a terminal; where it asks, the step is done, and then it is
// told yes, or to keep both.
func (w *storyWorld) asked(step string, dir string, m *machine, o order) ran {
	s, err := parseStep(step)
	if err != nil {
		return ran{}
	}
	name := w.program
	if !o.program() {
		name = o.words[0]
	}
	c := exec.Command(name, o.words[1:]...)
	c.Dir, c.Env = dir, append(slices.Clone(m.env), "TERM=xterm")
	f, err := pty.StartWithSize(c, &pty.Winsize{Rows: 40, Cols: 200})
	if err != nil {
		return ran{}
	}
	defer f.Close()
	var seen bytes.Buffer
	out := ran{}
	stop := time.AfterFunc(w.longest, func() { _ = c.Process.Kill() })
	defer stop.Stop()
	part := make([]byte, 4096)
	for read := 0; ; {
		n, err := f.Read(part)
		seen.Write(part[:n])
		if at := asks.FindSubmatchIndex(seen.Bytes()[read:]); at != nil {
			answer := "yes\n"
			if at[2] >= 0 {
				answer = "both\n"
			}
			read += at[1]
			if len(out.paths) == 0 {
				w.change(s.words)
				if inner, runs := s.order(); runs {
					out.other = inner
					w.exec(filepath.Join(m.home, inner.folder), m, "", inner.words[0], inner.words[1:]...)
				} else {
					out.paths = append(out.paths, s.words[1])
				}
			}
			time.Sleep(50 * time.Millisecond) // the echo is off only after the question is there
			if _, err := f.WriteString(answer); err != nil {
				break
			}
		}
		if err != nil {
			break
		}
	}
	_ = c.Wait() // how it ended is asked of its state
	out.runs = []result{{c.ProcessState.ExitCode(), seen.String(), seen.String()}}
	return out
}

// fill leaves so many bytes of the machines' disk free while a command runs, then runs it
// again with room.
func (w *storyWorld) fill(free int64, run func() result) ran {
	var s unix.Statfs_t
	if err := unix.Statfs(w.homes, &s); err != nil {
		return ran{}
	}
	filler := filepath.Join(w.homes, "filler")
	f, err := os.Create(filler)
	if err != nil {
		return ran{}
	}
	if size := int64(s.Bavail)*s.Bsize - free; size > 0 {
		err = unix.Fallocate(int(f.Fd()), 0, 0, size)
	}
	f.Close()
	out := ran{}
	if err == nil {
		out.runs = append(out.runs, run())
	}
	_ = os.Remove(filler) // the next look at the disk would tell
	if len(out.runs) == 0 || out.last().code != 0 {
		out.runs = append(out.runs, run())
	}
	return out
}
