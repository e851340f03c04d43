package screen

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/term"

	"uncinate/internal/core/fault"
)

// Agree asks whether to go ahead.
func (e *Env) Agree(ctx context.Context, yes bool, again string) error {
	if yes {
		return nil
	}
	if !e.asks {
		return fault.New(fault.Decision, "there is no terminal to ask on; nothing was changed").Try("go ahead without asking", again)
	}
	answer, err := e.ask(ctx, "Go ahead? (yes or no) ")
	if err != nil {
		return err
	}
	if a := strings.ToLower(answer); a == "yes" || a == "y" {
		return nil
	}
	return fault.New(fault.Decision, "stopped; nothing was changed")
}

// agreeTo asks whether to go ahead with a plan: by a yes, or by typing what it is about.
func (e *Env) agreeTo(ctx context.Context, p plans, again string) error {
	if p.typed == "" || p.yes || !e.asks {
		return e.Agree(ctx, p.yes, again)
	}
	answer, err := e.ask(ctx, "Type "+p.typed+" to go ahead: ")
	if err != nil || answer == p.typed {
		return err
	}
	return fault.New(fault.Decision, "that is not its name; nothing was changed")
}

// ask asks for one line. Giving up the wait by Ctrl-C ends it.
func (e *Env) ask(ctx context.Context, question string) (string, error) {
	e.clearBar()
	fmt.Fprint(e.Err, question)
	type result struct {
		line string
		err  error
	}
	got := make(chan result, 1)
	go func() {
		line, err := e.reader.ReadString('\n')
		got <- result{line, err}
	}()
	select {
	case <-ctx.Done():
		fmt.Fprintln(e.Err)
		return "", ctx.Err()
	case r := <-got:
		if r.err != nil && r.line == "" {
			return "", fault.New(fault.Decision, "the answer did not come: standard input ended")
		}
		return strings.TrimSpace(r.line), nil
	}
}

// secret reads a secret without showing it: from the terminal, or one line of
// standard input where that is none.
func (e *Env) secret(question string) (string, error) {
	line, err := "", error(nil)
	if e.asks {
		line, err = e.unseen(question)
	} else if line, err = e.reader.ReadString('\n'); err != nil && line == "" {
		err = fault.New(fault.Usage, "a secret was expected on standard input, and nothing came")
	} else {
		line, err = strings.TrimRight(line, "\r\n"), nil
	}
	e.veil.add(strings.TrimSpace(line))
	return line, err
}

// unseen reads a line from the terminal with the echo off; Ctrl-C puts it on again.
func (e *Env) unseen(question string) (string, error) {
	e.clearBar()
	fmt.Fprint(e.Err, question)
	defer fmt.Fprintln(e.Err)
	fd := int(e.In.Fd())
	before, err := term.GetState(fd)
	if err != nil {
		return "", fault.New(fault.Failed, "the terminal cannot be read").Because(err)
	}
	type result struct {
		line []byte
		err  error
	}
	got := make(chan result, 1)
	go func() {
		line, err := term.ReadPassword(fd)
		got <- result{line, err}
	}()
	select {
	case <-e.ctx.Done():
		return "", errors.Join(e.ctx.Err(), forgetTyped(fd), term.Restore(fd, before))
	case r := <-got:
		if r.err != nil {
			return "", fault.New(fault.Failed, "the terminal cannot be read").Because(r.err)
		}
		return string(r.line), nil
	}
}

// GoOn waits at a terminal until a person goes on, or ends it by a q; elsewhere it goes on at once.
func (e *Env) GoOn(ctx context.Context, question string) (bool, error) {
	if !e.asks {
		return true, nil
	}
	answer, err := e.ask(ctx, "\n"+question)
	return err == nil && !strings.HasPrefix(strings.ToLower(answer), "q"), err
}

// Strong makes words stand out, where that is wanted.
func (e *Env) Strong(s string) string { return e.Out.strong(s) }
