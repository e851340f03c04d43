// Package fault is the program's one kind of error: a sentence that names the
// true cause, a kind that decides the exit code, and remedies that a person can
// paste. Errors are told apart with errors.As and Kind, never by their text.
package fault

import (
	"context"
	"errors"
	"fmt"
)

// Kind says what sort of failure it was. Its number is the program's exit code.
type Kind int

// The kinds, with the exit codes that scripts may rely on.
const (
	Failed      Kind = 1   // something here did not work
	Usage       Kind = 2   // the command line is wrong
	Decision    Kind = 3   // a decision of the person's is needed; nothing was changed beyond what was said
	Refused     Kind = 4   // refused to protect the person
	HostSaidNo  Kind = 5   // sign-in, right, or name taken
	Unreachable Kind = 6   // the host cannot be reached, or what answers is not it
	Interrupted Kind = 130 // stopped by the person
)

// String gives the kind's word, as it is in JSON documents.
func (k Kind) String() string {
	switch k {
	case Usage:
		return "usage"
	case Decision:
		return "decision"
	case Refused:
		return "refused"
	case HostSaidNo:
		return "host-said-no"
	case Unreachable:
		return "unreachable"
	case Interrupted:
		return "interrupted"
	}
	return "failed"
}

// Remedy is one next thing to do.
type Remedy struct {
	Why     string   // a short clause, may be empty
	Command string   // to be pasted into a shell
	Without []string // options of the command that was typed which this one leaves out on purpose
}

// Fault is an error for a person.
type Fault struct {
	Kind     Kind
	Says     string // the true cause, a sentence without a full stop
	Details  []string
	Remedies []Remedy
	Cause    error // what is underneath; shown only with --verbose
}

// New makes a fault of a kind from a format.
func New(kind Kind, format string, args ...any) *Fault {
	return &Fault{Kind: kind, Says: fmt.Sprintf(format, args...)}
}

// Because records the error underneath.
func (f *Fault) Because(err error) *Fault { f.Cause = err; return f }

// Detail adds a line that belongs to the cause, such as the host's own words.
func (f *Fault) Detail(format string, args ...any) *Fault {
	f.Details = append(f.Details, fmt.Sprintf(format, args...))
	return f
}

// Try adds a remedy: why, and the command to paste.
func (f *Fault) Try(why, command string) *Fault {
	f.Remedies = append(f.Remedies, Remedy{Why: why, Command: command})
	return f
}

// TryWithout is Try for the command that was typed, without some of its options.
func (f *Fault) TryWithout(why, command string, options ...string) *Fault {
	f.Remedies = append(f.Remedies, Remedy{Why: why, Command: command, Without: options})
	return f
}

// Error gives the cause alone.
func (f *Fault) Error() string { return f.Says }

// Unwrap gives the error underneath to errors.Is and errors.As.
func (f *Fault) Unwrap() error { return f.Cause }

// Of finds the fault in a chain of errors; an error that is none becomes one of
// kind Failed, and a cancelled context one of kind Interrupted. Nil stays nil.
func Of(err error) *Fault {
	if err == nil {
		return nil
	}
	var f *Fault
	if errors.As(err, &f) {
		return f
	}
	if errors.Is(err, context.Canceled) {
		return New(Interrupted, "stopped before it was done").Because(err)
	}
	return New(Failed, "%s", err.Error()).Because(err)
}

// Is reports whether err carries a fault of the kind.
func Is(err error, kind Kind) bool { return err != nil && Of(err).Kind == kind }

// ExitCode gives the process's exit code for err; 0 for nil.
func ExitCode(err error) int {
	if err == nil {
		return 0
	}
	return int(Of(err).Kind)
}

// Also adds what the ending of something tells to the error that a function gives:
//
//	defer fault.Also(&err, f.Close)
func Also(err *error, end func() error) {
	if e := end(); e != nil {
		*err = errors.Join(*err, e)
	}
}
