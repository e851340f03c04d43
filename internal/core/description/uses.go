package description

import (
	"maps"
	"slices"
	"strings"
)

// ActionUse is what an action is given, and what is read of its answers.
type ActionUse struct {
	Variables []string // besides those that every action has
	Fields    []string
}

// Everywhere are the variables that every action has; PagingVariables those that lists have besides, of their pages.
var (
	Everywhere      = []string{"base", "host", "api", "user", "token", "kept_token"}
	PagingVariables = []string{"cursor", "page", "offset", "size"}
)

const (
	aRepository = "owner name path id version"
	ofOne       = "id owner name description visibility default_branch created creator empty page https ssh version archived right bytes"
	anOffer     = "owner name path number head branch target from_owner from_name version title text"
	ofAnOffer   = "number owner name title text creator created state branch from_owner from_name target head merged ended_by page ref version removing"
)

// uses says of each action what it is given, and what is read. Whoever asks gives no more: see Given.
var uses = map[string][2]string{
	"identify":            {"", "user full_name email email_confirmed active scopes expires"},
	"repository-list":     {"find", ofOne},
	"repository-show":     {"owner name path", ofOne},
	"repository-create":   {"owner name path visibility description default_branch object_format", ofOne},
	"repository-change":   {aRepository + " new_name description visibility default_branch", ofOne},
	"repository-transfer": {aRepository + " new_owner", ofOne},
	"repository-delete":   {aRepository, ""},
	"repository-archive":  {aRepository, ""},
	"repository-reopen":   {aRepository, ""},
	"repository-copy":     {aRepository + " new_owner new_name", ofOne},
	"repository-import":   {"owner name path address visibility description", ofOne},
	"owner-list":          {"", "owner"},
	"key-list":            {"", "id title key created used"},
	"key-add":             {"title key", "id"},
	"key-remove":          {"id", ""},
	"signing-key-list":    {"", "id title key created used"},
	"signing-key-add":     {"title key", "id"},
	"signing-key-remove":  {"id", ""},
	"deploy-key-list":     {aRepository, "id title key right"},
	"deploy-key-add":      {aRepository + " title key right", ""},
	"deploy-key-remove":   {aRepository, ""},
	"host-key-list":       {"", "key"},
	"token-show":          {"", ""},
	"token-renew":         {"", "secret"},
	"token-revoke":        {"", ""},
	"token-list":          {"", "id title"},
	"token-end":           {"id", ""},
	"people-list":         {aRepository, "user full_name right created inherited"},
	"people-grant":        {aRepository + " person right", ""},
	"people-withdraw":     {aRepository + " person", ""},
	"people-search":       {"find", "user"},
	"invitation-list":     {"", "id owner name right creator created"},
	"invitation-accept":   {"id", ""},
	"invitation-decline":  {"id", ""},
	"invitation-send":     {aRepository + " person email right", ""},
	"invitation-sent":     {aRepository, "id user email right created"},
	"invitation-withdraw": {aRepository, ""},
	"protection-list":     {aRepository, "branch right rewriting deleting mergers"},
	"branch-protect":      {aRepository + " branch rewriting deleting mergers right", ""},
	"branch-unprotect":    {aRepository + " branch", ""},
	"offer-make":          {aRepository + " branch target from_owner from_name head title text removing", "number"},
	"offer-list":          {aRepository + " state", ofAnOffer},
	"offer-all-list":      {"state", ofAnOffer},
	"offer-show":          {aRepository + " number", ofAnOffer},
	"offer-accept":        {anOffer + " way removing", ""},
	"offer-close":         {anOffer, ""},
	"offer-remark-list":   {anOffer, "creator created text file"},
	"offer-check-list":    {anOffer, "title outcome text"},
	"head-list":           {"", "owner name branch tag head"},
	"hook-list":           {aRepository, "id address"},
	"hook-add":            {aRepository + " address secret", ""},
	"hook-remove":         {aRepository, ""},
	"storage-used":        {"", "bytes"},
}

// FieldGroups are the fields that several actions have in common, by what they are of.
func FieldGroups() map[string][]string {
	return map[string][]string{"a repository": strings.Fields(ofOne), "an offer": strings.Fields(ofAnOffer)}
}

// UseOf tells what an action is given, and what is read of its answers.
func UseOf(action string) ActionUse {
	u := uses[action]
	return ActionUse{strings.Fields(u[0]), strings.Fields(u[1])}
}

// Given gives, of the variables that an action is asked with, those that it is told to have.
func Given(action string, vars Vars) Vars {
	out := Vars{}
	for _, name := range UseOf(action).Variables {
		if v, has := vars[name]; has {
			out[name] = v
		}
	}
	return out
}

// ungiven finds the variables that a description uses in an action, and that nothing gives it: they would stay empty.
func ungiven(action string, used, kept []string) []string {
	known := slices.Concat(Everywhere, UseOf(action).Variables, kept)
	if lists(action) {
		known = append(known, PagingVariables...)
	}
	out := map[string]bool{}
	for _, name := range used {
		name, _, _ = strings.Cut(name, ".") // one of the fields of a word
		if !slices.Contains(known, name) {
			out[name] = true
		}
	}
	return slices.Sorted(maps.Keys(out))
}
