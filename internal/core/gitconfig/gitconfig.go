// Package gitconfig judges what a repository's own configuration may do: each of its keys is
// harmless, or runs a program, or leads traffic or a secret elsewhere, or is not known to be
// harmless. The keys are those of git's own page (git-config documentation, "Variables"), of
// git-lfs's (git-lfs-config documentation) and of no other program: a section that git does not
// know is another program's, and git never reads it.
package gitconfig

import (
	"slices"
	"strings"
)

// Setting is one line of git's configuration.
type Setting struct{ Scope, Origin, Key, Value string }

// True reports whether the value stands for yes; a key alone does (git-config documentation,
// "Values", boolean).
func (s Setting) True() bool {
	return slices.Contains([]string{"true", "yes", "on", "1", ""}, strings.ToLower(s.Value))
}

// Own reports whether the setting is of the repository itself, not of the person or the machine.
func (s Setting) Own() bool { return s.Scope == "local" || s.Scope == "worktree" }

// Split gives a key's section and name, in small letters, and what is between them as it is.
func Split(key string) (section, sub, name string) {
	first, last := strings.IndexByte(key, '.'), strings.LastIndexByte(key, '.')
	if first < 0 {
		return strings.ToLower(key), "", ""
	}
	section, name = strings.ToLower(key[:first]), strings.ToLower(key[last+1:])
	if last > first {
		sub = key[first+1 : last]
	}
	return section, sub, name
}

// Effect is what a setting may do when git works in its repository.
type Effect int

// The effects, the worst last.
const (
	Harmless Effect = iota
	Unknown         // not known to be harmless
	Runs            // runs a program
	Leads           // leads traffic, files or a secret elsewhere
)

// rule says what a key does, and what it is to be for runs in which it is not to do that; with
// no value there, none is known.
type rule struct {
	effect Effect
	says   string
	off    *string
}

func off(s string) *string { return &s }

var elsewhere = rule{effect: Leads, says: "leads what git sends and receives elsewhere"}

// rules are the keys that are not harmless, by section and name; a section alone stands for all
// names that are not in harmless.
var rules = map[string]rule{
	"core.sshcommand":           {Leads, "a program in the place of ssh", nil},
	"core.gitproxy":             {Leads, "a program in between git and the host", nil},
	"core.worktree":             {Leads, "the files are taken from another folder", nil},
	"core.hookspath":            {Runs, "programs that git runs as it works", nil},
	"core.alternaterefscommand": {Runs, "a program that git runs as it receives", nil},
	"core.fsmonitor":            {Runs, "a program that git asks what changed", off("false")},
	"core":                      {effect: Unknown},
	"filter.clean":              {Runs, "a program that every such file passes through", off("")},
	"filter.smudge":             {Runs, "a program that every such file passes through", off("")},
	"filter.process":            {Runs, "a program that every such file passes through", off("")},
	"filter":                    {effect: Unknown},
	"merge":                     {effect: Unknown},
	"trailer":                   {effect: Unknown},
	"merge.driver":              {Runs, "a program that puts two sides of a file together", off("false")},
	"gpg.program":               {Runs, "a program that signs commits", off("false")},
	"gpg.defaultkeycommand":     {Runs, "a program that chooses the key for signing", off("false")},
	"gpg":                       {effect: Unknown},
	"trailer.command":           {Runs, "a program that writes lines into commits", off("")},
	"trailer.cmd":               {Runs, "a program that writes lines into commits", off("")},
	"credential.helper":         {Leads, "a program that is asked for tokens, and told them", nil},
	"credential":                {effect: Unknown},
	"url":                       {Leads, "puts other addresses in the place of those that are said", nil},
	"includeif":                 {Leads, "reads other settings where a condition holds", nil},
	"include":                   {effect: Unknown},
	"http.sslverify":            {Leads, "nobody checks who answers", nil},
	"http.extraheader":          {Leads, "is sent along with every request", nil},
	"http.cookiefile":           {Leads, "is sent along with every request", nil},
	"http":                      elsewhere,
	"remote.pushurl":            {Leads, "work is sent to another address than it comes from", nil},
	"remote.uploadpack":         {Leads, "the program that is run on the other side, or here", nil},
	"remote.receivepack":        {Leads, "the program that is run on the other side, or here", nil},
	"remote.vcs":                {Leads, "a program in the place of git's own transport", nil},
	"remote.proxy":              elsewhere,
	"remote":                    {effect: Unknown},
	"fetch.bundleuri":           {Leads, "commits are received from there first", nil},
	"transfer.bundleuri":        {Leads, "commits are received from there first", nil},
	"bundle":                    {Leads, "commits are received from there first", nil},
	"fetch":                     {effect: Unknown},
	"transfer":                  {effect: Unknown},
	"lfs.path":                  {Runs, "a program that moves large files", nil},
	"lfs.clean":                 {Runs, "a program that large files pass through", nil},
	"lfs.smudge":                {Runs, "a program that large files pass through", nil},
	"lfs":                       {Leads, "large files go elsewhere, or otherwise", nil},
	"imap":                      {effect: Unknown},
}

// harmless are names of the sections above that do nothing of that kind.
var harmless = map[string][]string{
	"core": {"repositoryformatversion", "filemode", "bare", "logallrefupdates", "ignorecase", "precomposeunicode", "symlinks", "autocrlf", "eol",
		"safecrlf", "checkroundtripencoding", "quotepath", "whitespace", "abbrev", "compression", "loosecompression", "bigfilethreshold", "sparsecheckout",
		"sparsecheckoutcone", "preloadindex", "untrackedcache", "trustctime", "checkstat", "commentchar", "commentstring", "fsync", "fsyncmethod",
		"fsyncobjectfiles", "sharedrepository", "longpaths", "splitindex", "commitgraph", "multipackindex", "packedgitwindowsize", "packedgitlimit",
		"deltabasecachelimit", "hidedotfiles", "excludesfile", "attributesfile", "editor", "pager", "askpass", "createobject", "usereplacerefs", "notesref",
		"restrictinheritedhandles", "unsetenvvars", "warnambiguousrefs", "fscache", "packedrefstimeout", "filesreflocktimeout", "maxtreedepth"},
	"filter":     {"required"},
	"gpg":        {"format", "mintrustlevel", "allowedsignersfile", "revocationfile"},
	"credential": {"usehttppath", "username", "interactive", "protectprotocol", "sanitizeprompt"},
	"include":    {"path"},
	"http": {"postbuffer", "lowspeedlimit", "lowspeedtime", "version", "maxrequests", "minsessions", "useragent", "sslversion", "noepsv", "emptyauth",
		"proactiveauth", "keepaliveidle", "keepaliveinterval", "keepalivecount"},
	"remote": {"url", "fetch", "push", "tagopt", "prune", "prunetags", "skipdefaultupdate", "skipfetchall", "mirror", "promisor", "partialclonefilter",
		"followremotehead", "serveroption", "proxyauthmethod"},
	"fetch": {"prune", "prunetags", "recursesubmodules", "fsckobjects", "unpacklimit", "output", "negotiationalgorithm", "showforcedupdates", "parallel",
		"writecommitgraph", "all", "bundlecreationtoken"},
	"transfer": {"fsckobjects", "unpacklimit", "hiderefs", "advertisesid", "advertiseobjectinfo", "credentialsinurl"},
	"merge": {"ff", "conflictstyle", "renames", "renamelimit", "log", "stat", "summary", "verbosity", "renormalize", "directoryrenames", "autostash", "branchdesc",
		"suppressdest", "defaulttoupstream", "verifysignatures", "default", "name", "recursive", "tool", "guitool"},
	"lfs": {"repositoryformatversion", "locksverify", "lockignoredfiles", "concurrenttransfers", "basictransfersonly", "fetchinclude", "fetchexclude", "fetchrecentrefsdays",
		"fetchrecentcommitsdays", "fetchrecentremoterefs", "fetchrecentalways", "pruneoffsetdays", "activitytimeout", "dialtimeout", "tlstimeout", "keepalive",
		"skipdownloaderrors", "setlockablereadonly", "allowincompletepush", "pruneverifyremotealways", "access"},
	"trailer": {"separators", "where", "ifexists", "ifmissing", "key"},
}

// large are the values that git-lfs gives to its own filter (git-lfs-install documentation).
var large = map[string]string{"clean": "git-lfs clean -- %f", "smudge": "git-lfs smudge -- %f", "process": "git-lfs filter-process"}

// Finding is a setting that may do something.
type Finding struct {
	Setting
	Effect Effect
	Says   string  // what it is, such as "a program in the place of ssh"
	Off    *string // its value for runs in which it is to do nothing; nil where there is none
}

// Judge tells what a setting may do.
func Judge(s Setting) Finding {
	section, sub, name := Split(s.Key)
	f := Finding{Setting: s}
	r, known := rules[section+"."+name]
	if !known {
		if slices.Contains(harmless[section], name) {
			return f
		}
		if r, known = rules[section]; !known {
			return f // a section of git's of which no key does anything as this program runs git, or another program's
		}
		if r.effect == Unknown && r.says == "" {
			r.says = "not known to be harmless"
		}
	}
	switch {
	case section == "credential" && name == "helper" && s.Value == "", // an empty one takes others away
		section == "core" && name == "fsmonitor" && (s.True() || slices.Contains([]string{"false", "no", "off", "0"}, strings.ToLower(s.Value))),
		section == "filter" && sub == "lfs" && large[name] == s.Value,
		section == "http" && name == "sslverify" && s.True(),
		section == "merge" && sub == "" && name != "driver":
		return f
	}
	f.Effect, f.Says, f.Off = r.effect, r.says, r.off
	return f
}
