// Package handover reads and writes the note that a project carries for those who clone
// it: what did not travel with it, and how to get it.
package handover

import (
	"fmt"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// File is the note's name, at a project's top.
const File = "uncinate-handover.toml"

// Most is how many bytes of a note are read.
const Most = 64 << 10

// Note says what a clone needs besides what git brings.
type Note struct {
	Make   []Need `toml:"make" json:"make" says:"what can be made again"`
	Supply []Need `toml:"supply" json:"supply" says:"what everybody has to bring"`
}

// Need is one thing that is not there after a clone.
type Need struct {
	What string `toml:"what" json:"what" says:"a path from the project's top"`
	How  string `toml:"how" json:"how" says:"how to get it, or why it is not there"`
}

// Empty reports whether a clone needs nothing more.
func (n Note) Empty() bool { return len(n.Make)+len(n.Supply) == 0 }

// Parse reads a note.
func Parse(data []byte) (Note, error) {
	var n Note
	if len(data) > Most {
		return n, fault.New(fault.Refused, "%s is longer than %s", File, text.Size(Most))
	}
	d := toml.NewDecoder(strings.NewReader(string(data)))
	if err := d.DisallowUnknownFields().Decode(&n); err != nil {
		return Note{}, fault.New(fault.Failed, "%s cannot be read", File).Because(err)
	}
	return n, nil
}

// Format writes a note.
func (n Note) Format() string {
	var b strings.Builder
	b.WriteString("# What a clone of this project needs besides what git brings.\n# Written by: uncinate survey --handover\n")
	for _, part := range []struct {
		name string
		all  []Need
	}{{"make", n.Make}, {"supply", n.Supply}} {
		for _, x := range part.all {
			fmt.Fprintf(&b, "\n[[%s]]\nwhat = %s\nhow  = %s\n", part.name, text.TOML(x.What), text.TOML(x.How))
		}
	}
	return b.String()
}
