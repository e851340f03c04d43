package vault

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// copyOf is where the copy of one of the vault's files is.
func copyOf(path string) string {
	return filepath.Join(filepath.Dir(path), "copies", filepath.Base(path))
}

// keep writes one of the vault's files, its copy first: at every moment one of the
// two is whole.
func keep(path string, data []byte) error {
	if err := files.Write(copyOf(path), data, 0o600); err != nil {
		return err
	}
	return files.Write(path, data, 0o600)
}

// damaged is the fault about one of the vault's files. It names the copy only if that
// was tried and is good.
func damaged(how, path string, good func(data []byte) error) *fault.Fault {
	f := fault.New(fault.Failed, "the vault's file %s %s", text.Visible(path), how)
	kept := copyOf(path)
	data, err := files.Read(kept, mostSecrets)
	if err == nil {
		err = good(data)
	}
	if err != nil {
		return f.Detail("Its copy is of no use either, so what was in the vault is lost here: new tokens have to be made.").
			Try("put what is left aside, then make a new vault", text.Command("mv", "--", filepath.Dir(path), filepath.Dir(path)+".damaged"))
	}
	when := ""
	if s, err := os.Stat(kept); err == nil {
		when = ", of " + s.ModTime().Local().Format(time.DateTime)
	}
	return f.Detail("The last good copy is %s%s.", text.Visible(kept), when).
		Try("put it back", text.Command("cp", "-p", "--", kept, path))
}

var errNewer = fault.New(fault.Failed, "newer")

// readInfo reads vault.json strictly. Its error is fs.ErrNotExist, errNewer, or damage.
func readInfo(path string) (Info, error) {
	var i Info
	data, err := files.Read(path, 64<<10)
	if err != nil {
		return i, err
	}
	if err := json.Unmarshal(data, &i); err != nil {
		return i, err
	}
	switch {
	case i.Version > 1:
		return i, errNewer
	case i.Version < 1 || i.Recipient == "" || i.Generation < 0:
		return i, errors.New("parts are missing")
	}
	return i, nil
}

// private refuses a file that others may read.
func private(path string) error {
	s, err := os.Stat(path)
	if err != nil || s.Mode().Perm()&0o077 == 0 || !modesCount {
		return nil // a missing file is met when it is read
	}
	return fault.New(fault.Refused, "others may read %s, which opens the vault", text.Visible(path)).
		Try("keep it to yourself", text.Command("chmod", "600", path))
}
