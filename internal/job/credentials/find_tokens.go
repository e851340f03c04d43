package credentials

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"
	"sync"

	"uncinate/internal/core/fault"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/tree"
)

// FoundToken is a place where one of our tokens is in a plain file.
type FoundToken struct {
	Account string `json:"account"`
	File    string `json:"file"`
	Line    int    `json:"line"`
	Form    string `json:"form" says:"plain, or as HTTP Basic"`
}

// mostLooked is the largest file, in bytes, that is looked into.
const mostLooked = 64 << 20

// FindTokens looks for copies of this machine's own tokens in plain files below
// folders. What cannot be read is counted.
func FindTokens(ctx context.Context, d *desk.Desk, folders []string) (found []FoundToken, looked, unread int, err error) {
	needles, err := needlesOf(ctx, d)
	if err != nil {
		return nil, 0, 0, err
	}
	var mu sync.Mutex
	look := func(path string, data []byte) {
		mu.Lock()
		defer mu.Unlock()
		looked++
		for _, n := range needles {
			if i := bytes.Index(data, n.text); i >= 0 {
				found = append(found, FoundToken{n.account, path, 1 + bytes.Count(data[:i], []byte("\n")), n.form})
			}
		}
	}
	for _, folder := range folders {
		top, err := project.FindFolder(d, folder)
		if err != nil {
			return nil, 0, 0, err
		}
		missed, err := tree.ReadAll(ctx, top, d.Home.Vault, mostLooked, look)
		if unread += missed; err != nil {
			return nil, 0, 0, err
		}
	}
	slices.SortFunc(found, func(a, b FoundToken) int {
		return strings.Compare(fmt.Sprintf("%s\x00%08d", a.File, a.Line), fmt.Sprintf("%s\x00%08d", b.File, b.Line))
	})
	return found, looked, unread, nil
}

// needle is what a copy of a token looks like.
type needle struct {
	account, form string
	text          []byte
}

// needlesOf gives the forms in which the tokens of this machine's accounts are looked for.
func needlesOf(ctx context.Context, d *desk.Desk) ([]needle, error) {
	holders, err := accounts.All(d)
	if err != nil {
		return nil, err
	}
	var needles []needle
	for _, a := range holders {
		token, err := accounts.Token(ctx, d, a, true)
		if fault.Is(err, fault.Decision) {
			continue // it has none
		}
		if err != nil {
			return nil, err
		}
		needles = append(needles, needle{a.Name, "plain", []byte(token)})
		if basic := base64.StdEncoding.EncodeToString([]byte(a.User + ":" + token)); len(basic) > 12 {
			needles = append(needles, needle{a.Name, "as HTTP Basic", []byte(strings.TrimRight(basic, "="))})
		}
	}
	if len(needles) == 0 {
		return nil, fault.New(fault.Decision, "this machine has no token whose copies could be looked for").Try("see the accounts", "uncinate account list")
	}
	return needles, nil
}
