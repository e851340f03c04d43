package checks

import (
	"fmt"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/desk/login/logintest"
	"uncinate/internal/practice"
)

// TestEveryFaultOnEveryAction goes through the whole matrix: each practice host, each
// action that it describes, each way to misbehave. What is safe is asked again and goes
// well; what is not fails once, with the right kind; and nothing is made twice.
func TestEveryFaultOnEveryAction(t *testing.T) {
	for _, name := range practice.Hosts {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			cases := 0
			h, signIn, _ := logintest.Practised(t, name)
			desc := signIn("").Host.Description
			for _, action := range desc.Can() {
				act := desc.Actions[action]
				if act.By != "request" {
					continue
				}
				for i, kind := range practice.FaultKinds {
					cases++
					what := fmt.Sprintf("%s %s %s", name, action, kind)
					// Each case has a token, a repository and a key of its own.
					token, err := h.Store.NewToken("tok_", "tern", []string{"self", "look", "work", "launch", "steer", "sink", "lines", "crew", "offers", "bells", "hear", "feed", "dig", "rings", "flock"}, time.Now().Add(time.Hour))
					require.NoError(t, err)
					l := signIn(token)
					repo := fmt.Sprintf("%s-%d", action, i)
					vars := description.Vars{"owner": "tern", "name": repo, "path": "tern/" + repo, "visibility": "private", "description": "Levels", "default_branch": "main",
						"new_owner": "saltmarsh", "person": "knot", "title": repo, "branch": "main", "address": h.URL + "/tern/open.git"}
					line, err := scratchKey()
					require.NoError(t, err)
					vars["key"] = line
					ready(t, h, action, repo, vars)
					if action == "token-end" { // another one than the one that asks
						_, err := h.Store.NewToken("tok_", "tern", nil, time.Now().Add(time.Hour))
						require.NoError(t, err)
						all, err := l.List(t.Context(), "token-list", "list", vars)
						require.NoError(t, err)
						vars["id"] = all[len(all)-1]["id"]
					}
					if action == "offer-accept" {
						shown, err := l.Do(t.Context(), "offer-show", "show", vars)
						require.NoError(t, err)
						vars["version"] = shown["version"]
					}
					if kind, is := strings.CutSuffix(action, "key-remove"); is {
						_, err := l.Do(t.Context(), kind+"key-add", "add", vars)
						require.NoError(t, err)
						keys, err := l.List(t.Context(), kind+"key-list", "list", vars)
						require.NoError(t, err)
						vars["id"] = keys[len(keys)-1]["id"]
					}
					keysBefore := len(h.Store.Keys("tern"))
					spoilt := kind
					if kind == "late" || kind == "delay" {
						spoilt += "=20ms"
					}
					require.NoError(t, h.Faults.Set([]string{spoilt + " times 1"}))
					_, err = l.Do(t.Context(), action, "do it", vars)
					require.NoError(t, h.Faults.Set(nil))

					first := act.Requests[slices.IndexFunc(act.Requests, func(q *description.Request) bool { return q.Wanted(desc, withUser(vars)) })]
					want := fault.Kind(0)
					switch kind {
					case "fail", "garbage":
						want = fault.Unreachable
					case "cut", "lose":
						if !first.Safe() {
							want = fault.Unreachable
						}
					case "end-token", "echo":
						want = fault.HostSaidNo
					}
					if want == 0 {
						assert.NoError(t, err, what)
					} else {
						assert.True(t, fault.Is(err, want), "%s: %v", what, err)
					}
					made := 0
					for _, r := range h.Store.List("tern", repo) {
						if r.Name == repo {
							made++
						}
					}
					assert.LessOrEqual(t, made, 1, what)
					if action == "key-add" {
						assert.LessOrEqual(t, len(h.Store.Keys("tern"))-keysBefore, 1, what)
					}
				}
			}
			assert.Greater(t, cases, 80)
		})
	}
}

// ready makes what an action is about.
func ready(t *testing.T, h *practice.Running, action, repo string, vars description.Vars) {
	t.Helper()
	switch action {
	case "repository-create":
		return
	case "repository-import":
		_, err := h.Store.Find("tern", "tern", "open")
		if err != nil {
			_, err = h.Store.Create(t.Context(), "tern", practice.Repo{Owner: "tern", Name: "open", Visibility: "public"})
		}
		require.NoError(t, err)
		return
	}
	owner := "tern"
	if action == "invitation-accept" || action == "invitation-decline" { // to tern
		owner = "knot"
	}
	_, err := h.Store.Create(t.Context(), owner, practice.Repo{Owner: owner, Name: repo, Visibility: "private"})
	require.NoError(t, err)
	switch action {
	case "people-grant", "people-withdraw":
		vars["right"] = "write"
		err = h.Store.SetRight(t.Context(), "tern", "tern", repo, "knot", practice.Read, 0)
	case "invitation-send":
		vars["right"] = "read"
	case "invitation-withdraw", "invitation-accept", "invitation-decline":
		var i *practice.Invite
		if i, err = h.Store.Invite(owner, owner, repo, map[string]string{"tern": "knot", "knot": "tern"}[owner], "", practice.Read, 0); err == nil {
			vars["id"] = i.ID
		}
	case "repository-reopen":
		_, err = h.Store.Change(t.Context(), "tern", "tern", repo, 0, func(r *practice.Repo) error { r.Archived = true; return nil })
	case "repository-copy":
		vars["new_owner"], vars["new_name"] = "tern", repo+"-copy"
	case "offer-make", "offer-show", "offer-accept", "offer-close", "offer-remark-list", "offer-check-list":
		for name, v := range (description.Vars{"branch": "neap", "target": "main", "from_owner": "tern", "from_name": repo, "number": "1", "way": "merge", "head": twoBranches(t, h, repo)}) {
			vars[name] = v
		}
		if action != "offer-make" {
			_, err = h.Store.MakeOffer("tern", "tern", repo, "tern", repo, practice.Offer{Branch: "neap", Target: "main", Title: "Neap"})
		}
	case "hook-add", "hook-list", "hook-remove":
		vars["address"], vars["secret"] = "http://127.0.0.1:9/"+repo, "a secret that signs"
		if action == "hook-remove" {
			var b practice.Bell
			b, err = h.Store.HangBell("tern", "tern", repo, practice.Bell{To: "http://127.0.0.1:9/" + repo, Secret: "a secret that signs"})
			vars["id"] = b.ID
		}
	case "branch-unprotect":
		err = h.Store.Guard(t.Context(), "tern", "tern", repo, "main", &practice.Guard{})
	}
	require.NoError(t, err)
}

// twoBranches gives a repository the branches main and neap, and the commit of the latter.
func twoBranches(t *testing.T, h *practice.Running, repo string) (head string) {
	t.Helper()
	r, err := h.Store.Find("tern", "tern", repo)
	require.NoError(t, err)
	git := func(args ...string) string {
		out, err := exec.Command("git", append([]string{"-C", h.Store.GitDir(r.ID), "-c", "user.name=Tern", "-c", "user.email=tern@gannet.example"}, args...)...).Output()
		require.NoError(t, err, args)
		return strings.TrimSpace(string(out))
	}
	tree := git("hash-object", "-t", "tree", "-w", "/dev/null")
	main := git("commit-tree", tree, "-m", "Begin")
	head = git("commit-tree", tree, "-p", main, "-m", "Neap")
	git("update-ref", "refs/heads/main", main)
	git("update-ref", "refs/heads/neap", head)
	return head
}

func withUser(vars description.Vars) description.Vars {
	all := description.Vars{"user": "tern"}
	for k, v := range vars {
		all[k] = v
	}
	return all
}
