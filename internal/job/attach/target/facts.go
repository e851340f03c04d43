package target

import "uncinate/internal/desk"

// What the steps of an attach note in its journal.
var (
	FactMadeGit    = desk.NewFact[bool]("made-git")      // .git is this attach's
	factAside      = desk.NewFact[bool]("aside")         // about a file that a step changes: its old form is kept; false where there was none
	factWrote      = desk.NewFact[string]("wrote")       // about a file: what it was once the step was done, in short
	factSet        = desk.NewFact[*string]("set")        // about a key of git's configuration: what it was; nil for not set
	FactCommit     = desk.NewFact[string]("commit")      // the first commit
	FactBranch     = desk.NewFact[string]("branch")      // where it is
	factWhen       = desk.NewFact[string]("when")        // commits are made, as git writes it
	factNonce      = desk.NewFact[string]("nonce")       // by which the repository that is made is known again
	FactID         = desk.NewFact[string]("id")          // of the repository that was made, as the host has it
	FactAddress    = desk.NewFact[string]("address")     // that the remote gets
	FactNewRemote  = desk.NewFact[bool]("new-remote")    // there was no such remote before
	FactVacant     = desk.NewFact[bool]("vacant")        // the hosted repository was empty before
	FactSent       = desk.NewFact[string]("sent")        // about a branch on the host: the commit that it got
	FactThere      = desk.NewFact[string]("there")       // about a branch on the host: the commit that was there before
	FactByPush     = desk.NewFact[bool]("by-push")       // the push that makes the repository was begun
	factDefaultWas = desk.NewFact[string]("default-was") // the hosted repository's default branch before
	FactFormer     = desk.NewFact[string]("former")      // what the old remote is called from now on
	FactBrought    = desk.NewFact[[]string]("brought")   // tags that came in to be moved, each as its id and name
)
