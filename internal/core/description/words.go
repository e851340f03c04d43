package description

// FieldSays says of each field what it holds and what kind of value that is.
var FieldSays = map[string][2]string{
	"id": {"text", "what the host knows it by, whatever its name"}, "owner": {"text", "whose it is: a person or a group, with slashes where groups are nested"}, "name": {"text", "its name"},
	"description": {"text", "what it is, in the owner's words"}, "visibility": {"word", "who may see it: private, members, public"}, "default_branch": {"text", "the branch that one gets first"},
	"created": {"time", "when it was made"}, "creator": {"text", "who made it"}, "empty": {"true or false", "whether nothing was sent to it yet"}, "page": {"address", "its page, for people"},
	"https": {"address", "its address for git over https"}, "ssh": {"address", "its address for git over SSH"}, "version": {"text", "an entity tag (RFC 9110, 8.8.3), by which a change is bound to what was seen"},
	"archived": {"true or false", "whether it may only be read"}, "head": {"commit", "the newest commit of a branch, or of an offer"}, "user": {"text", "a person's name on the host"}, "full_name": {"text", "a person's name among people"},
	"email": {"text", "a person's address"}, "email_confirmed": {"true or false", "whether the host knows that it is theirs"}, "active": {"true or false", "whether a token is good"}, "scopes": {"list, or one text", "what a token may"},
	"expires": {"time", "when a token ends"}, "kind": {"text", "of an owner: user or group; of a key: its kind"}, "title": {"text", "what a key, a token or an offer is called"}, "key": {"text", "a public key"},
	"used": {"time", "when a key or a token was last used"}, "right": {"word", "what may be done: read, write, admin"}, "number": {"number", "an offer's number"}, "state": {"word", "an offer's: open, accepted, closed"},
	"text": {"text", "an offer's text, a remark, or what a check says"}, "branch": {"text", "a branch"}, "tag": {"text", "a tag, in a list of heads"}, "target": {"text", "the branch into which an offer goes"},
	"secret": {"text", "a token that was made"}, "address": {"address", "what a web hook calls"}, "bytes": {"number", "how much it takes"}, "inherited": {"text", "the group from which a right comes"},
	"rewriting": {"true or false", "whether a protected branch may be rewritten"}, "deleting": {"true or false", "whether it may be deleted"}, "mergers": {"list, or one text", "who alone may merge into it"},
	"from_owner": {"text", "whose repository an offered branch is in"}, "from_name": {"text", "that repository's name"}, "ref": {"text", "a ref that has an offer's commits where no branch does"},
	"merged": {"commit", "what came of an accepted offer"}, "ended_by": {"text", "who accepted or closed an offer"}, "removing": {"true or false", "whether an offer's branch goes with its acceptance"},
	"outcome": {"word", "a check's: passed, failed, running"}, "file": {"text", "the file that a remark is about"},
}

// VariableSays says of each variable what stands for it.
var VariableSays = map[string]string{
	"base": "the host's address", "host": "the same without https://", "api": "where the API's addresses begin", "owner": "whose repository", "name": "the repository's name", "path": "owner/name",
	"user": "the account's name on the host", "token": "what the API is asked with: the token, or a short-lived one", "branch": "a branch", "target": "the branch into which an offer goes", "file": "a file's path",
	"id": "the id of what is meant, as a list told it", "description": "the new description", "visibility": "the host's value for who may see it", "default_branch": "the branch that one gets first",
	"cursor": "where a list goes on", "page": "a page's number", "offset": "how many items come before a page", "size": "how many items a page has", "find": "what is looked for, \"\" for all",
	"title": "what a key, a token or an offer is called", "key": "a public key", "right": "the host's value for a right", "person": "somebody's name on the host", "version": "the entity tag of what was seen",
	"new_name": "the new name", "new_owner": "the new owner", "text": "an offer's text", "address": "what is to be imported, or called", "secret": "a web hook's secret", "kept_token": "the token that is kept",
	"email": "somebody's address", "rewriting": "whether a protected branch may be rewritten", "deleting": "whether it may be deleted", "mergers": "who alone may merge into it", "number": "an offer's number",
	"state": "the host's value for an offer's state", "way": "the host's value for how an offer is accepted", "head": "the commit that was looked at", "from_owner": "whose repository an offered branch is in",
	"from_name": "that repository's name", "removing": "whether an offer's branch goes with it", "object_format": "how objects are named: empty, or sha256",
}
