package surveying

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"uncinate/internal/core/survey"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
)

// recalled is what the last survey of a folder told.
type recalled struct {
	Key       string `json:"key"` // of all that it was told from
	Up, Stays survey.Totals
	Kinds     []string
	Folders   []survey.Weight
	Rules     []SuggestedRule
	Findings  []survey.Finding
}

// key stands for all from which a survey tells what it tells: this very program, what is looked for, the rules, and of
// each file its path, size and times. "" where that cannot be told.
func (s *Surveying) key(choice survey.Choice) string {
	size, changed, err := files.Self()
	if err != nil {
		return ""
	}
	h := sha256.New()
	fmt.Fprint(h, size, changed, s.label, s.limits, choice, s.Let, s.Folder.Head == "", s.known)
	for _, l := range s.outer {
		for _, r := range l.Rules {
			fmt.Fprintln(h, l.Base, r.Pattern, r.Negated)
		}
	}
	var line []byte
	for i := range s.all {
		f := &s.all[i]
		line = append(line[:0], f.Path...)
		line = append(line, 0, byte(f.Type), byte(bit(f.Exec)|bit(f.Tracked)<<1|bit(f.Rule != nil)<<2))
		line = binary.LittleEndian.AppendUint64(line, uint64(f.Size))
		line = binary.LittleEndian.AppendUint64(line, uint64(f.ModTime))
		line = binary.LittleEndian.AppendUint64(line, uint64(f.Changed))
		line = append(line, f.Target...)
		h.Write(append(line, 0))
	}
	return hex.EncodeToString(h.Sum(nil))
}

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

// recall fills in what the last survey told, if it was told from the same.
func (s *Surveying) recall(d *desk.Desk, key string, out *Surveyed) bool {
	if key == "" {
		return false
	}
	data, err := files.Read(s.memory(d)+".told", mostRecalled)
	if err != nil {
		return false // it is told anew then
	}
	var r recalled
	if json.Unmarshal(data, &r) != nil || r.Key != key {
		return false
	}
	out.Up, out.Stays, out.Kinds, out.Folders, out.Rules, out.Findings = r.Up, r.Stays, r.Kinds, r.Folders, r.Rules, r.Findings
	return true
}

// mostRecalled is how many bytes of it are kept.
const mostRecalled = 8 << 20

// recollect keeps what a survey told, unless a file was changed so lately that its times may not tell of another change.
func (s *Surveying) recollect(d *desk.Desk, key string, began time.Time, out *Surveyed) error {
	since := began.Add(-2 * time.Second).UnixNano()
	if key == "" || slices.ContainsFunc(s.all, func(f survey.File) bool { return max(f.ModTime, f.Changed) >= since }) ||
		slices.ContainsFunc(out.Findings, func(x survey.Finding) bool { return x.About == "changing" || x.About == "unreadable" }) {
		return nil
	}
	data, err := json.Marshal(recalled{key, out.Up, out.Stays, out.Kinds, out.Folders, out.Rules, out.Findings})
	if err != nil || len(data) > mostRecalled {
		return err
	}
	return files.Dump(s.memory(d)+".told", data)
}
