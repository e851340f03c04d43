// Package plan is the computation behind every command that changes something:
// numbered steps, grouped by the place where they act, and the journal from which
// an interrupted command goes on.
package plan

import (
	"bufio"
	"bytes"
	"encoding/json"
	"maps"
	"time"

	"uncinate/internal/core/fault"
)

// Place is where a step acts.
type Place string

// The places, in the words that plans show.
const (
	Here  Place = "here"
	Host  Place = "host"
	Vault Place = "vault"
)

// Item is one step as it is shown and journaled.
type Item struct {
	ID       string `json:"id"`    // stable within one kind of job, such as "first-commit"
	Place    Place  `json:"place"` //
	Sentence string `json:"step"`  // what it will do, in one plain sentence
}

// Mark is what a journal line says about a step.
type Mark string

// The marks.
const (
	Begun  Mark = "begun"  // about to be done
	Done   Mark = "done"   // done
	Undone Mark = "undone" // put back
)

// Version is the version of the journal's form.
const Version = 3

// Head is a journal's first line: whose it is.
type Head struct {
	Version int             `json:"version"`
	Job     string          `json:"job"`
	Subject string          `json:"subject"` // absolute path of the folder
	Started time.Time       `json:"started"`
	Wanted  json.RawMessage `json:"wanted,omitempty"` // what the plan was made from, as one value of the job's
}

// Record is one later line: of a step, or of facts that were learnt between two.
type Record struct {
	Time  time.Time                  `json:"time"`
	Step  string                     `json:"step,omitempty"`
	Mark  Mark                       `json:"mark,omitempty"`
	Facts map[string]json.RawMessage `json:"facts,omitempty"` // what later steps need; never a secret
}

// State is what a journal says, taken together.
type State struct {
	Head  Head
	Marks map[string]Mark
	Order []string // steps that were begun, in order, each once
	Facts map[string]json.RawMessage
}

// Most is the largest journal, in bytes, that is read.
const Most = 4 << 20

// Line gives a head or a record as one line of a journal.
func Line(v any) ([]byte, error) {
	b, err := json.Marshal(v)
	return append(b, '\n'), err
}

// Read takes a whole journal. A last line without its line end was cut off by a
// crash while it was written and is passed over; any other damage is an error.
func Read(data []byte) (State, error) {
	s := State{Marks: map[string]Mark{}, Facts: map[string]json.RawMessage{}}
	if len(data) > Most {
		return s, fault.New(fault.Failed, "the journal is larger than %d bytes, so it is not one of ours", Most)
	}
	if i := bytes.LastIndexByte(data, '\n'); i < 0 {
		data = nil
	} else {
		data = data[:i+1]
	}
	in := bufio.NewScanner(bytes.NewReader(data))
	in.Buffer(make([]byte, 4096), Most)
	if !in.Scan() {
		return s, fault.New(fault.Failed, "the journal holds no line")
	}
	if err := json.Unmarshal(in.Bytes(), &s.Head); err != nil || s.Head.Job == "" {
		return s, fault.New(fault.Failed, "the journal's first line is damaged").Because(err)
	}
	if s.Head.Version != Version {
		return s, fault.New(fault.Failed, "the journal has version %d, and this program knows version %d", s.Head.Version, Version)
	}
	for line := 2; in.Scan(); line++ {
		var r Record
		if err := json.Unmarshal(in.Bytes(), &r); err != nil {
			return s, fault.New(fault.Failed, "line %d of the journal is damaged", line).Because(err)
		}
		maps.Copy(s.Facts, r.Facts)
		if r.Step == "" && r.Mark == "" { // of no step
			continue
		}
		switch r.Mark {
		case Begun, Done, Undone:
		default:
			return s, fault.New(fault.Failed, "line %d of the journal has no mark that is known", line)
		}
		if _, seen := s.Marks[r.Step]; !seen {
			s.Order = append(s.Order, r.Step)
		}
		s.Marks[r.Step] = r.Mark
	}
	return s, in.Err()
}

// ToPutBack gives the steps that were begun or done and not put back, newest first.
func (s State) ToPutBack() []string {
	var ids []string
	for i := len(s.Order) - 1; i >= 0; i-- {
		if s.Marks[s.Order[i]] != Undone {
			ids = append(ids, s.Order[i])
		}
	}
	return ids
}
