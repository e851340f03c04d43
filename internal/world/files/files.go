// Package files knows where the program's own folders are, and writes files so that
// a crash leaves either the old contents or the new.
package files

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/adrg/xdg"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// Home is where the program keeps its things.
type Home struct {
	Top    string // what UNCINATE_HOME says, made absolute; "" where it is not set
	Config string // hosts and accounts: files that a person may read and edit
	State  string // the register, journals, locks and what git includes
	Vault  string // secrets, encrypted
	Run    string // the socket of the process that holds the vault open
}

// KnowHome sets HOME where it is not set, to what the system says is the person's home folder (getpwuid(3)): git, ssh and
// this program then agree on it.
func KnowHome() {
	if os.Getenv("HOME") != "" || runtime.GOOS == "windows" {
		return
	}
	u, err := user.LookupId(strconv.Itoa(os.Getuid()))
	if err != nil || Reached(u.HomeDir) != Folder {
		return // it is said where it is needed
	}
	if os.Setenv("HOME", u.HomeDir) == nil {
		xdg.Reload()
	}
}

// FindHome gives the folders: below $UNCINATE_HOME if it is set, otherwise where the
// XDG base directory specification puts them. Nothing is made yet.
//
// said, if not empty, counts instead of the variable.
func FindHome(said string) (Home, error) {
	top := said
	if top == "" {
		top = os.Getenv("UNCINATE_HOME")
	}
	if top != "" {
		abs, err := filepath.Abs(top)
		if err != nil {
			return Home{}, err
		}
		return Home{Top: abs, Config: filepath.Join(abs, "config"), State: filepath.Join(abs, "state"), Vault: filepath.Join(abs, "vault"), Run: runFolder(filepath.Join(abs, "run"))}, nil
	}
	run := filepath.Join(xdg.StateHome, "uncinate", "run")
	if r := os.Getenv("XDG_RUNTIME_DIR"); filepath.IsAbs(r) {
		run = filepath.Join(r, "uncinate")
	}
	return Home{
		Config: filepath.Join(xdg.ConfigHome, "uncinate"),
		State:  filepath.Join(xdg.StateHome, "uncinate"),
		Vault:  filepath.Join(xdg.DataHome, "uncinate", "vault"),
		Run:    runFolder(run),
	}, nil
}

// runFolder keeps the path short enough for a Unix socket (unix(7): 108 bytes).
func runFolder(path string) string {
	if len(path) <= 90 {
		return path
	}
	return filepath.Join(os.TempDir(), fmt.Sprintf("uncinate-%d-%s", os.Getuid(), Short(path)))
}

// Short is a short stable name for a path.
func Short(path string) string {
	sum := sha256.Sum256([]byte(path))
	return hex.EncodeToString(sum[:8])
}

// Write puts data at path by way of a new file beside it, synced and renamed, so
// that a reader meets the old contents or the new. Missing folders are made 0700.
func Write(path string, data []byte, mode fs.FileMode) error {
	folder := filepath.Dir(path)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return noFolder(folder, err)
	}
	if err := replace(path, data, mode); err != nil {
		return fault.New(fault.Failed, "%s cannot be written: %s", text.Visible(path), Plain(err)).Because(err)
	}
	return nil
}

// WriteBy is Write by way of a given temporary path, which must be on the same file
// system and is left behind if the process is killed. It is for folders in which no
// stray file of ours may be found; the caller removes it with the next try.
func WriteBy(path, temporary string, data []byte, mode fs.FileMode) error {
	if s, err := os.Stat(path); err == nil {
		mode = s.Mode().Perm()
	}
	if err := Remove(temporary); err != nil { // what a killed run left, or a link that leads elsewhere
		return fault.New(fault.Failed, "%s cannot be written: %s", text.Visible(temporary), Plain(err)).Because(err)
	}
	f, err := os.OpenFile(temporary, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err == nil {
		_, err = f.Write(data)
		err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	}
	if err == nil {
		err = os.Rename(temporary, path)
	}
	if err != nil {
		return fault.New(fault.Failed, "%s cannot be written: %s", text.Visible(path), Plain(err)).Because(err)
	}
	return nil
}

// Read takes a file of at most most bytes. A missing file is fs.ErrNotExist.
func Read(path string, most int64) ([]byte, error) {
	return readBy(Open, path, most)
}

// ReadNamed is Read for a file that the person named just now, which may be a pipe too.
func ReadNamed(path string, most int64) ([]byte, error) { return readBy(os.Open, path, most) }

func readBy(open func(string) (*os.File, error), path string, most int64) ([]byte, error) {
	f, err := open(path)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		return nil, fault.New(fault.Failed, "%s cannot be read: %s", text.Visible(path), Plain(err)).Because(err)
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if err != nil {
		return nil, fault.New(fault.Failed, "%s cannot be read: %s", text.Visible(path), Plain(err)).Because(err)
	}
	if int64(len(data)) > most {
		return nil, fault.New(fault.Failed, "%s is larger than %d bytes, so it is not what it should be", text.Visible(path), most)
	}
	return data, nil
}

// ReadJSON reads a JSON file strictly into v; false when there is none.
func ReadJSON(path string, v any) (bool, error) {
	data, err := Read(path, 16<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	in := json.NewDecoder(bytes.NewReader(data))
	in.DisallowUnknownFields()
	if err := in.Decode(v); err != nil {
		f, how := fault.New(fault.Failed, "%s is damaged", text.Visible(path)).Because(err), "keep the file aside and set this up again"
		if field, unknown := strings.CutPrefix(err.Error(), "json: unknown field "); unknown { // encoding/json has no kind for it
			f = fault.New(fault.Failed, "%s was written by another version of this program: this one does not know %s in it", text.Visible(path), text.Visible(field)).Because(err)
			how = "use that version, or " + how
		}
		return false, f.Try(how, text.Command("mv", "--", path, path+".aside"))
	}
	return true, nil
}

// WriteJSON writes v as indented JSON, mode 0600.
func WriteJSON(path string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return Write(path, append(data, '\n'), 0o600)
}

// WriteUnsynced writes v as JSON, mode 0600, by way of a new file, without waiting for
// the disk: for what can be had again.
func WriteUnsynced(path string, v any) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return Dump(path, data)
}

// Dump writes data as WriteUnsynced does.
func Dump(path string, data []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}

// Plain gives the operating system's reason without the path it repeats.
func Plain(err error) string {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}

// noFolder says why a folder cannot be made. What this program keeps can be in another place.
func noFolder(path string, err error) error {
	f := fault.New(fault.Failed, "the folder %s cannot be made: %s", text.Visible(path), Plain(err)).Because(err)
	ours := slices.Contains(strings.Split(filepath.ToSlash(path), "/"), "uncinate")
	if ours && (errors.Is(err, fs.ErrPermission) || strings.Contains(err.Error(), "read-only")) {
		f.Try("keep what this program remembers in another folder", "export UNCINATE_HOME="+text.Quote(filepath.Join(os.TempDir(), "uncinate-home")))
	}
	return f
}

// Held is a lock that is held.
type Held struct {
	file *os.File
	Died int // the process that held it before and did not give it back; 0 for none
}

// Lock takes a lock file without waiting; nil when another process holds it, with
// the id of that process if it is known, else 0.
func Lock(ctx context.Context, path string) (held *Held, holder int, err error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, 0, noFolder(filepath.Dir(path), err)
	}
	f, taken, err := hold(path)
	if err != nil {
		return nil, 0, fault.New(fault.Failed, "the lock %s cannot be taken: %s", text.Visible(path), Plain(err)).Because(err)
	}
	if !taken {
		// The number is a hint only. It is written right after the lock is taken.
		for range 25 {
			if data, err := Read(whoHolds(path), 32); err == nil {
				if holder, err = strconv.Atoi(strings.TrimSpace(string(data))); err == nil {
					break
				}
			}
			if err := Pause(ctx, 10*time.Millisecond); err != nil {
				return nil, 0, err
			}
		}
		return nil, holder, nil
	}
	before := make([]byte, 32)
	n, _ := f.ReadAt(before, 0) // nothing in it is an error too
	died, _ := strconv.Atoi(strings.TrimSpace(string(before[:n])))
	if err = f.Truncate(0); err == nil {
		_, err = f.WriteAt([]byte(strconv.Itoa(os.Getpid())+"\n"), 0)
	}
	if err != nil {
		return nil, 0, errors.Join(err, letGo(f))
	}
	return &Held{file: f, Died: died}, 0, nil
}

// LockWait is Lock that waits while another process has the lock, so long at most; then held is nil
// too.
func LockWait(ctx context.Context, path string, most time.Duration) (held *Held, holder int, err error) {
	for until := time.Now().Add(most); ; {
		held, holder, err = Lock(ctx, path)
		if err != nil || held != nil || time.Now().After(until) {
			return held, holder, err
		}
		if err := Pause(ctx, 20*time.Millisecond); err != nil {
			return nil, 0, err
		}
	}
}

// Pause waits, unless the context ends first.
func Pause(ctx context.Context, long time.Duration) error {
	timer := time.NewTimer(long)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
		return nil
	}
}

// File is the open file; a child that inherits it keeps the lock.
func (h *Held) File() *os.File { return h.file }

// Release gives the lock back; nil is fine.
func (h *Held) Release() error {
	if h == nil || h.file == nil {
		return nil
	}
	f := h.file
	h.file = nil
	return errors.Join(f.Truncate(0), letGo(f))
}

// IsEmptyFolder reports whether path is a folder with nothing in it.
func IsEmptyFolder(path string) (bool, error) {
	d, err := os.Open(path)
	if err != nil {
		return false, err
	}
	defer d.Close()
	_, err = d.Readdirnames(1)
	if errors.Is(err, io.EOF) {
		return true, nil
	}
	return false, err
}
