package desk

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// Machine is this machine's name, as keys carry it.
func (d *Desk) Machine() (string, error) {
	s, err := d.Settings()
	if err != nil {
		return "", err
	}
	name := s.Machine
	if name == "" {
		if name, err = os.Hostname(); err != nil {
			name = ""
		}
		name, _, _ = strings.Cut(name, ".")
	}
	if sshkey.CheckMachine(name) != nil {
		return "", fault.New(fault.Decision, "this machine's own name, %s, cannot be used in a key", text.Quote(name)).
			Try("give it one", "uncinate settings set machine NAME")
	}
	return name, nil
}

// NameMachine sets this machine's name.
func (d *Desk) NameMachine(ctx context.Context, name string) error {
	if err := sshkey.CheckMachine(name); err != nil {
		return err
	}
	return d.Change(ctx, func(s *Settings) { s.Machine = name })
}

// State is how one line of ready stands.
type State string

// The states, in words.
const (
	Good     State = "good"
	Kept     State = "kept" // of a token: it is in the vault, and its host was not asked
	Doubtful State = "doubtful"
	Bad      State = "bad"
)

// Line is one thing that was looked at.
type Line struct {
	About    string   `json:"about"` // "machine", "account NAME" or "project"
	What     string   `json:"what"`
	State    State    `json:"state"`
	Says     string   `json:"says"`
	Remedies []string `json:"remedies,omitempty"` // commands to paste
	Details  []string `json:"details,omitempty"`
}

// Settings are the few choices that hold for this machine.
type Settings struct {
	Git        string `json:"git,omitempty"`         // path of the git program; "" for the one on the PATH
	Machine    string `json:"machine,omitempty"`     // this machine's name in its keys; "" for the name it has on the network
	RescueDays int    `json:"rescue_days,omitempty"` // how long rescue copies are kept; 0 for the usual time
	Foresee    int    `json:"foresee,omitempty"`     // megabytes that are brought at most to foresee clashes; 0 for the usual, less for none
	Flat       bool   `json:"flat,omitempty"`        // clones are side by side, not in one folder per owner
}

// keptDays is how many days a rescue copy is kept unless a setting says otherwise.
const keptDays = 90

// Kept is how many days new rescue copies are kept.
func (s Settings) Kept() int {
	if s.RescueDays > 0 {
		return s.RescueDays
	}
	return keptDays
}

func (d *Desk) settingsFile() string { return filepath.Join(d.Home.Config, "settings.json") }

// Settings reads this machine's settings.
func (d *Desk) Settings() (Settings, error) {
	var s Settings
	_, err := files.ReadJSON(d.settingsFile(), &s)
	return s, err
}

// UseGit sets which git program is used, once it has shown that it is one; "" goes
// back to the one on the PATH.
func (d *Desk) UseGit(ctx context.Context, path string) error {
	if path != "" {
		abs, err := filepath.Abs(path)
		if err != nil {
			return err
		}
		if _, err := d.findGit(ctx, abs); err != nil {
			return err
		}
		path = abs
	}
	d.git = nil
	return d.Change(ctx, func(s *Settings) { s.Git = path })
}

// Change changes this machine's settings.
func (d *Desk) Change(ctx context.Context, set func(*Settings)) error {
	return Alter(ctx, d, d.settingsFile(), func(s Settings) (Settings, error) {
		set(&s)
		return s, nil
	})
}

// LineOf makes a line of what went wrong; what only waits for a decision is doubtful.
func LineOf(about, what string, err error) Line {
	f := fault.Of(err)
	l := Line{About: about, What: what, State: Bad, Says: f.Says, Details: f.Details}
	if f.Kind == fault.Decision {
		l.State = Doubtful
	}
	for _, r := range f.Remedies {
		l.Remedies = append(l.Remedies, r.Command)
	}
	return l
}

// Commands are a fault's remedies, each as one line to paste.
func Commands(f *fault.Fault) []string { return LineOf("", "", f).Remedies }
