package screen

import (
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// tradeWords are words that people in the trade type as commands and that are none of ours: what
// each is for, and the commands that do it. Every line works as it is.
var tradeWords = []struct {
	words []string
	aim   string
	lines []string
	takes string // the command that takes the arguments that were typed; "" where there is none
}{
	{[]string{"push", "send", "upload"}, "to send your commits", []string{"uncinate sync"}, ""},
	{[]string{"pull", "receive", "update", "download"}, "to receive what is new", []string{"uncinate sync --in"}, ""},
	{[]string{"fetch", "refresh"}, "to see what is new on the host", []string{"uncinate status"}, ""},
	{[]string{"publish", "init", "create", "new", "import", "start"}, "to publish a project", []string{"uncinate attach --preview"}, ""},
	{[]string{"commit", "add", "stage", "checkin", "ci"}, "to commit what changed", []string{"uncinate save --preview", `uncinate save --message "What was done"`}, "save"},
	{[]string{"log", "blame", "reflog", "show"}, "to see the commits", []string{"uncinate history"}, ""},
	{[]string{"diff", "compare", "patch"}, "to see what changed", []string{"uncinate changes"}, "changes"},
	{[]string{"revert", "uncommit", "rollback", "back"}, "to take the last commit back, or one that you name", []string{"uncinate undo commit --preview", "uncinate history"}, "undo commit"},
	{[]string{"discard", "reset", "clean"}, "to take back what is not saved", []string{"uncinate undo changes --preview"}, "undo changes"},
	{[]string{"restore", "recover"}, "to have a file as it was, or what was kept before it was overwritten", []string{"uncinate help undo file", "uncinate rescue list"}, "undo file"},
	{[]string{"invite", "people", "collaborator", "collaborators", "members", "share", "permissions"}, "to see who may open the repository, and to let somebody in",
		[]string{"uncinate access list", "uncinate help access grant"}, "access grant"},
	{[]string{"merge"}, "to merge a branch into the current one", []string{"uncinate branch list", "uncinate help branch join"}, "branch join"},
	{[]string{"switch", "checkout", "co"}, "to switch to another branch", []string{"uncinate branch list", "uncinate help branch switch"}, "branch switch"},
	{[]string{"stash", "shelve"}, "to set work aside: put it on a branch of its own", []string{"uncinate help branch make"}, ""},
	{[]string{"login", "signin", "auth", "logon", "connect"}, "to see your accounts, or to add one", []string{"uncinate account list", "uncinate help account add"}, ""},
	{[]string{"logout", "signout"}, "to see your accounts, and how to forget one", []string{"uncinate account list", "uncinate help account forget"}, ""},
	{[]string{"whoami", "user", "users", "me", "profile"}, "to see who you are on each host", []string{"uncinate account list"}, ""},
	{[]string{"config", "configure", "set", "preferences", "options", "setup"}, "to see and change what is remembered", []string{"uncinate settings list"}, ""},
	{[]string{"remote", "remotes", "origin", "where"}, "to see where a project is attached", []string{"uncinate status --offline", "uncinate project list"}, ""},
	{[]string{"fork", "mirror"}, "to bring a repository here, and attach it elsewhere", []string{"uncinate help clone", "uncinate help attach"}, ""},
	{[]string{"lock", "unlock", "reserve", "claims"}, "to say that you work on a file; or, for the vault, to lock it", []string{"uncinate claim list", "uncinate help claim", "uncinate help vault"}, ""},
	{[]string{"conflict", "conflicts", "resolve", "mergetool", "clash", "clashes"}, "to see and decide what both sides changed", []string{"uncinate settle"}, ""},
	{[]string{"rebase"}, "to put your commits on top of the host's", []string{"uncinate sync --by replay"}, ""},
	{[]string{"review", "pr", "mr", "offers", "pull-request", "merge-request", "propose"}, "to see what is offered to be merged, and to offer your branch", []string{"uncinate offer list", "uncinate help offer create"}, ""},
	{[]string{"release", "version-tag", "bump"}, "to see the versions, and how to tag one", []string{"uncinate tag list", "uncinate help tag make"}, ""},
	{[]string{"open", "browse", "web", "url", "page"}, "to open the repository's page", []string{"uncinate visit --print"}, ""},
	{[]string{"repo", "repos", "repositories"}, "to see the repositories on your hosts", []string{"uncinate repository list"}, ""},
	{[]string{"ls", "list", "projects", "board"}, "to see the attached projects", []string{"uncinate project list", "uncinate status --all"}, ""},
	{[]string{"rm", "remove", "delete", "forget", "unlink", "disconnect"}, "to untie a project, or to see how repositories are deleted", []string{"uncinate detach --preview", "uncinate help repository delete"}, ""},
	{[]string{"ssh", "keygen", "ssh-key", "keys"}, "to see your SSH keys", []string{"uncinate key list"}, ""},
	{[]string{"password", "passwords", "tokens", "secret", "secrets"}, "to see your tokens and where secrets are kept", []string{"uncinate token list", "uncinate vault show"}, ""},
	{[]string{"backup", "backups", "snapshots"}, "to see the copies kept before anything was overwritten", []string{"uncinate rescue list"}, ""},
	{[]string{"doctor", "diagnose", "check", "test"}, "to see whether you can work", []string{"uncinate ready"}, ""},
	{[]string{"scan", "audit"}, "to see what would go up, and what must not", []string{"uncinate survey"}, ""},
	{[]string{"demo", "try", "tutorial"}, "to see the whole job on practice hosts", []string{"uncinate tour"}, ""},
}

// tradeWord answers a word that is not a command of ours by those that do it; nil where we know none.
// What was typed behind it is offered with the command that takes it.
func tradeWord(typed []string) error {
	for _, t := range tradeWords {
		if !slices.Contains(t.words, strings.ToLower(typed[0])) {
			continue
		}
		f := fault.New(fault.Usage, "there is no command %s here", typed[0])
		if len(typed) > 1 && t.takes != "" {
			words := append([]string{"uncinate"}, strings.Fields(t.takes)...)
			return f.Try(t.aim, text.Command(append(words, typed[1:]...)...)).Try("or see how it is used", "uncinate help "+t.takes)
		}
		for i, line := range t.lines {
			f.Try(text.Either(i == 0, t.aim, ""), line)
		}
		return f
	}
	return nil
}
