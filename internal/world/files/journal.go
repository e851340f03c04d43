package files

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
)

// Journal is a journal file: one line appended and synced for each record.
type Journal struct{ path string }

// JournalAt gives the journal of a job on a folder, below the state folder.
func (h Home) JournalAt(job, subject string) *Journal {
	return &Journal{path: filepath.Join(h.State, "journal", job+"-"+Short(subject)+".journal")}
}

// Path is where the journal is.
func (j *Journal) Path() string { return j.path }

// Read gives what the journal says; false when there is none.
func (j *Journal) Read() (plan.State, bool, error) {
	data, err := Read(j.path, plan.Most)
	if errors.Is(err, fs.ErrNotExist) {
		return plan.State{}, false, nil
	}
	if err != nil {
		return plan.State{}, false, err
	}
	s, err := plan.Read(data)
	if err != nil {
		return s, false, j.Unusable(err)
	}
	return s, true, nil
}

// Unusable is the fault of a journal from which nothing can go on.
func (j *Journal) Unusable(why error) error {
	return fault.New(fault.Failed, "the journal of unfinished work cannot be used: %s", fault.Of(why).Says).Because(why).
		Detail("It is at %s", text.Visible(j.path)).
		Try("keep it aside, then look at the folder and the host before going on", text.Command("mv", "--", j.path, j.path+".aside"))
}

// Start writes the first line of a new journal. What a finished one left put aside
// when it was killed is cleared first.
func (j *Journal) Start(head plan.Head) error {
	if err := j.clear(); err != nil {
		return err
	}
	line, err := plan.Line(head)
	if err != nil {
		return err
	}
	return Write(j.path, line, 0o600)
}

// Add appends a record and syncs it to the disk.
func (j *Journal) Add(r plan.Record) error {
	line, err := plan.Line(r)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(j.path, os.O_APPEND|os.O_WRONLY, 0)
	if err == nil {
		_, err = f.Write(line)
		if e := f.Sync(); err == nil {
			err = e
		}
		if e := f.Close(); err == nil {
			err = e
		}
	}
	if err != nil {
		return fault.New(fault.Failed, "the journal %s cannot be written: %s", text.Visible(j.path), Plain(err)).Because(err)
	}
	return nil
}

// Aside is where the old form of something is while the work is unfinished.
func (j *Journal) Aside(name string) string { return j.path + "." + name }

// Close removes the journal, and then what was put aside with it: the work is done,
// or put back.
func (j *Journal) Close() error {
	if err := os.Remove(j.path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fault.New(fault.Failed, "the journal %s cannot be removed: %s", text.Visible(j.path), Plain(err)).Because(err)
	}
	return j.clear()
}

// clear removes what was put aside.
func (j *Journal) clear() error {
	kept, err := j.asides()
	if err != nil {
		return err
	}
	for _, path := range kept {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fault.New(fault.Failed, "%s cannot be removed: %s", text.Visible(path), Plain(err)).Because(err)
		}
	}
	return nil
}

// asides are the paths of all that was put aside.
func (j *Journal) asides() ([]string, error) {
	names, err := Names(filepath.Dir(j.path))
	var out []string
	for _, name := range names {
		if path := filepath.Join(filepath.Dir(j.path), name); strings.HasPrefix(path, j.path+".") {
			out = append(out, path)
		}
	}
	return out, err
}

// Sweep removes what finished work on a subject left put aside: it was killed after
// its journal was gone, and nothing can need it. The subject's lock must be held. Where
// a journal waits for its folder, which may be this one, moved, nothing is removed.
func (h Home) Sweep(subject string) error {
	names, err := Names(filepath.Join(h.State, "journal"))
	if err != nil {
		return err
	}
	for _, name := range names {
		if strings.HasPrefix(name, ".") && strings.Contains(name, "-"+Short(subject)+".journal") { // one that was being begun
			if err := Remove(filepath.Join(h.State, "journal", name)); err != nil {
				return err
			}
			continue
		}
		of, _, aside := strings.Cut(name, ".journal.")
		if !aside || !strings.HasSuffix(of, "-"+Short(subject)) {
			continue
		}
		j := &Journal{path: filepath.Join(h.State, "journal", of+".journal")}
		if _, err := os.Lstat(j.path); !errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if waiting, err := h.Orphans(strings.TrimSuffix(of, "-"+Short(subject))); err != nil || len(waiting) > 0 {
			return err
		}
		if err := j.clear(); err != nil {
			return err
		}
	}
	return nil
}

// Orphan is a journal whose subject is no longer there.
type Orphan struct {
	State   plan.State
	journal *Journal
}

// Orphans lists the journals of a job whose subject is no longer there. Damaged
// ones are passed over: they are met when their own folder is worked on.
func (h Home) Orphans(job string) ([]Orphan, error) {
	names, err := Names(filepath.Join(h.State, "journal"))
	if err != nil {
		return nil, err
	}
	var out []Orphan
	for _, name := range names {
		if !strings.HasPrefix(name, job+"-") || !strings.HasSuffix(name, ".journal") {
			continue
		}
		j := &Journal{path: filepath.Join(h.State, "journal", name)}
		s, found, err := j.Read()
		if err != nil || !found {
			continue
		}
		if _, err := os.Lstat(s.Head.Subject); errors.Is(err, fs.ErrNotExist) {
			out = append(out, Orphan{State: s, journal: j})
		}
	}
	return out, nil
}

// Unfinished lists the subjects of a job's journals: what it began on them is not finished.
func (h Home) Unfinished(job string) ([]string, error) {
	names, err := Names(filepath.Join(h.State, "journal"))
	var out []string
	for _, name := range names {
		if strings.HasPrefix(name, job+"-") && strings.HasSuffix(name, ".journal") {
			s, found, read := (&Journal{path: filepath.Join(h.State, "journal", name)}).Read()
			if err = errors.Join(err, read); found && read == nil {
				out = append(out, s.Head.Subject)
			}
		}
	}
	return out, err
}

// Adopt makes an orphan the journal of another subject, with what was put aside.
func (h Home) Adopt(o Orphan, to string) error {
	target := h.JournalAt(o.State.Head.Job, to)
	kept, err := o.journal.asides()
	if err != nil {
		return err
	}
	for _, path := range append(kept, o.journal.path) { // the journal itself last
		if err := os.Rename(path, target.path+path[len(o.journal.path):]); err != nil {
			return fault.New(fault.Failed, "the journal %s cannot be moved: %s", text.Visible(path), Plain(err)).Because(err)
		}
	}
	return nil
}
