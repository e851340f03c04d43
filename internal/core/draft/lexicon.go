package draft

import (
	"maps"
	"slices"
	"strings"
	"sync"

	"uncinate/internal/core/text"
)

// want is what an action's operation should be like.
type want struct {
	action, methods string
	about           string // what it is about, phrases with commas between
	verbs           string // what it does; with a star before the first, one of them must be there
	not             string // what it is not about
	gives           byte   // r a repository, R a list of them, o an offer, O a list of them, L another list, x one thing, 0 it does not matter
	of              int    // 1 of one repository, -1 of none, 0 either
	item            int    // 1 of one part, that an id names, -1 of none, 0 either
}

const offers = "merge request,pull request,change request,offer,proposal"

var wanted = []want{
	{"identify", "GET", "who,whoami,self,me,whose,current user,your account,profile", "", "token list,key", 'x', -1, -1},
	{"repository-list", "GET", "repository", "list,search,all,find", "", 'R', -1, -1},
	{"repository-show", "GET", "repository", "show,get,read,one", "", 'r', 1, -1},
	{"repository-create", "POST PUT", "repository", "create,new,add,make", "import,copy,fork,hook,key", 'r', -1, -1},
	{"repository-change", "PATCH PUT POST", "repository", "change,update,edit,set,write back,modify", "archive,transfer,move,hook,key", 'r', 1, -1},
	{"repository-transfer", "POST PUT", "repository", "*transfer,move,hand over", "", 'r', 1, -1},
	{"repository-delete", "DELETE POST", "repository", "*delete,remove,drop,strike", "hook,key,access,protect,invitation,word", 0, 1, -1},
	{"repository-archive", "POST PUT PATCH", "repository", "*archive", "", 'r', 1, -1},
	{"repository-copy", "POST", "repository", "*copy,fork,duplicate", "", 'r', 1, -1},
	{"repository-import", "POST", "repository", "*import,mirror", "", 'r', -1, -1},
	{"owner-list", "GET", "owner,group,organisation,organization,team,namespace,collection,workspace", "list,may", "member,access", 'L', -1, -1},
	{"key-list", "GET", "ssh key,public key,key", "list,all", "deploy,signing,host own,known over", 'L', -1, -1},
	{"key-add", "POST", "ssh key,public key,key", "add,new,create", "deploy,signing", 0, -1, -1},
	{"key-remove", "DELETE POST", "ssh key,public key,key", "*remove,delete,drop,strike", "deploy,signing", 0, -1, 1},
	{"signing-key-list", "GET", "signing key", "list,all", "", 'L', -1, -1},
	{"signing-key-add", "POST", "signing key", "add,new,create", "", 0, -1, -1},
	{"signing-key-remove", "DELETE POST", "signing key", "*remove,delete,drop", "", 0, -1, 1},
	{"deploy-key-list", "GET", "deploy key", "list,all", "", 'L', 1, -1},
	{"deploy-key-add", "POST", "deploy key", "add,new,create", "", 0, 1, -1},
	{"deploy-key-remove", "DELETE POST", "deploy key", "*remove,delete,drop", "", 0, 1, 1},
	{"host-key-list", "GET", "host key,host own,known over ssh", "list,all", "", 'L', -1, -1},
	{"token-renew", "POST PUT", "token", "*renew,rotate,refresh,in the place of", "", 'x', -1, -1},
	{"token-revoke", "POST DELETE", "token", "*revoke,force,invalidate", "", 0, -1, -1},
	{"token-list", "GET", "token", "list,all", "", 'L', -1, -1},
	{"token-end", "DELETE", "token", "*end,remove,delete", "force", 0, -1, 1},
	{"people-list", "GET", "people,member,collaborator,person,access", "list,all", "invitation", 'L', 1, -1},
	{"people-grant", "PUT POST PATCH", "people,member,collaborator,person,access", "*give,grant,add,change,let,set", "invitation,invite", 0, 1, 0},
	{"people-withdraw", "DELETE POST", "people,member,collaborator,person,access", "*withdraw,remove,dismiss,away,revoke", "invitation", 0, 1, 0},
	{"people-search", "GET", "people,person,user,account", "*search,find,look", "access", 'L', -1, -1},
	{"invitation-list", "GET", "invitation", "list", "", 'L', -1, -1},
	{"invitation-sent", "GET", "invitation", "list", "", 'L', 1, -1},
	{"invitation-send", "POST PUT", "invitation,invite", "*invite,send", "", 0, 1, -1},
	{"invitation-withdraw", "DELETE", "invitation", "take,remove,withdraw,cancel", "", 0, 1, 1},
	{"invitation-accept", "POST PUT", "invitation", "*accept", "", 0, -1, 1},
	{"protection-list", "GET", "protected branch,protection,protect", "list", "", 'L', 1, -1},
	{"branch-protect", "PUT POST", "protect,protection", "*protect,add", "", 0, 1, 0},
	{"branch-unprotect", "DELETE", "protect,protection", "end,remove,unprotect", "", 0, 1, 0},
	{"head-list", "GET", "head,branch and tag,tip", "list,all", "", 'L', -1, -1},
	{"storage-used", "GET", "storage,quota", "how much,use,used", "", 'x', -1, -1},
	{"hook-list", "GET", "hook,web hook,webhook", "list", "", 'L', 1, -1},
	{"hook-add", "POST", "hook,web hook,webhook,call an address", "add,call,create,new", "", 0, 1, -1},
	{"hook-remove", "DELETE", "hook,web hook,webhook", "take,remove,delete", "", 0, 1, 1},
	{"offer-list", "GET", offers, "list", "said,comment", 'O', 1, -1},
	{"offer-all-list", "GET", offers, "list", "said,comment", 'O', -1, -1},
	{"offer-show", "GET", offers, "show,get,read", "", 'o', 1, 1},
	{"offer-make", "POST", offers, "*offer,create,open,new,propose", "accept,close", 'o', 1, -1},
	{"offer-accept", "POST PUT PATCH", offers, "*accept,merge", "", 0, 1, 1},
	{"offer-close", "POST PUT PATCH DELETE", offers, "*close,decline,reject,withdraw", "accept", 0, 1, 1},
	{"offer-remark-list", "GET", offers, "*said,comment,remark,note,discussion", "", 'L', 1, 1},
	{"offer-check-list", "GET", "check,status,pipeline,build", "*check,status", "", 'L', 1, 1},
}

// least is the confidence below which an operation is not taken.
const least = 60

// meant is how a field or a variable of ours shows in an API.
type meant struct {
	kind    string // of its type: text, yes (a boolean), time, count, list, or words of a table of values below; "" for any
	names   string // whole names, the surest first
	says    string // phrases in its description
	concept string // of the host's own noun for it
}

var fields = map[string]meant{
	"id":              {"", "id,oid,no,uuid,uid,ref,key_id,number,identifier", "identifier", ""},
	"owner":           {"text", "owner,namespace,group,collection,of,flag", "owner", "owner"},
	"name":            {"text", "name,label,title,slug,repo,called,repository", "name of the repository", "repository"},
	"path":            {"text", "path,full_name,full_path,full", "owner path and,owner and name", ""},
	"description":     {"text", "description,about,blurb,summary,words,note,text", "what it is for,description", ""},
	"visibility":      {"visibility", "visibility,private,public,closed,open,hidden,reach,seen", "who may see", ""},
	"default_branch":  {"text", "default_branch,main,trunk,main_branch,head,branch,first", "default branch,main branch", ""},
	"created":         {"time", "created,created_at,made,born,added,added_at,since,sent,at,date", "when it was made,when it was added,creat", ""},
	"creator":         {"text", "creator,created_by,made_by,maker,author,by,opened_by", "who made,who opened", "person"},
	"empty":           {"yes", "empty,is_empty", "no commit,without commits", ""},
	"page":            {"text", "page,html_url,web_url,page_url,web", "page for a person,web page", ""},
	"https":           {"text", "https,http,clone_url,http_url,https_url,http_clone", "over http", ""},
	"ssh":             {"text", "ssh,ssh_url,git_ssh", "over ssh", ""},
	"right":           {"right", "right,rights,role,level,permission,you_may,may,access,grade,least", "what you may,what the person may,right that it takes", ""},
	"archived":        {"yes", "archived,is_archived,frozen", "archiv,only be read", ""},
	"bytes":           {"count", "bytes,size,used", "how many bytes,byte", ""},
	"title":           {"text", "title,label,name,subject,display_name", "title", ""},
	"key":             {"text", "key,public_key,public,line,text,pubkey", "public key,public half", ""},
	"used":            {"time", "used,used_at,last_used,last_used_at", "last used", ""},
	"user":            {"text", "login,username,user,user_name,name,member,who", "name of the person,sign in name", "person"},
	"person":          {"text", "person,user,username,login,member,who", "person name", "person"},
	"full_name":       {"text", "full_name,display_name,called,real_name,name", "full name,name in full", ""},
	"email":           {"text", "email,mail,e_mail,mail_address", "mail address", ""},
	"email_confirmed": {"yes", "email_confirmed,mail_confirmed,email_verified,confirmed,verified", "confirmed", ""},
	"kind":            {"text", "kind,type", "person or a group", ""},
	"secret":          {"text", "token,secret,value", "secret,sign", ""},
	"expires":         {"time", "expires,expires_at,ends,ends_at,exp,until,valid_until", "when it ends", ""},
	"number":          {"count", "number,no,iid,index", "number", ""},
	"state":           {"state", "state,status,stands", "whether it is open,how it stands", ""},
	"way":             {"way", "way,how,method,merge_method,strategy", "how it is merged", ""},
	"outcome":         {"outcome", "outcome,state,status,result,conclusion,depth", "what came of it", ""},
	"branch":          {"text", "branch,branch_name,source_branch,from_branch,head,pattern", "branch", "branch"},
	"tag":             {"text", "tag,tag_name", "tag", ""},
	"head":            {"text", "head,tip,commit,sha,at,oid", "commit", ""},
	"target":          {"text", "target,into,toward,towards,base,target_branch,onto", "branch into which,is merged into", ""},
	"from_owner":      {"text", "from_owner,source_owner", "owner of the copy", ""},
	"from_name":       {"text", "from_name,from_repo,source_name", "name of the copy", ""},
	"ref":             {"text", "ref,git_ref", "ref that", ""},
	"merged":          {"text", "merged,merge_commit,merge_commit_sha,merged_as", "commit that came,merge commit,came of it", ""},
	"ended_by":        {"text", "ended_by,merged_by,closed_by", "who ended,who accepted,who decided", ""},
	"removing":        {"yes", "removing,remove_branch,delete_branch,remove_source_branch", "branch is removed,remove the branch,removes the branch,branch goes", ""},
	"text":            {"text", "text,body,about,blurb,description,message,says,comment,note", "what is said,message", ""},
	"file":            {"text", "file,path,file_name", "file", ""},
	"rewriting":       {"yes", "rewriting,rewrite,allow_force,allow_force_push,force", "rewritten,rewrite,force", ""},
	"deleting":        {"yes", "deleting,allow_deletion,allow_delete,deletion", "deleted,be removed", ""},
	"mergers":         {"list", "mergers,people,users,allowed_users", "alone may,who may merge", ""},
	"address":         {"text", "address,url,to,target_url,uri,clone_from,from", "address", ""},
	"inherited":       {"", "inherited,inherited_from,by_group,via,through", "from which,by way of a group,comes from,through which", "owner"},
	"find":            {"text", "find,q,query,search,like,word,term,filter", "search", ""},
	"new_name":        {"text", "rename,new_name,name,title,label,as", "new name", ""},
	"new_owner":       {"text", "new_owner,into,onto,to,owner,target,target_namespace", "new owner,other owner", "owner"},
	"object_format":   {"format", "object_format,hash,hash_algorithm", "hash", ""},
	"active":          {"yes", "active", "", ""},
	"token":           {"text", "token", "", "token"},
}

// meanings are the words by which values show what they mean, by table and word of ours.
var meanings = map[string][][2]string{
	"visibility": {{"private", "private,secret,only those,only who,let in,only the owner"}, {"members", "members,internal,team,signed in,of the group"}, {"public", "public,everyone,everybody,anyone,anybody,world,all"}},
	"right":      {{"none", "no access,nothing,none,has no,withdraw"}, {"admin", "admin,administer,maintain,maintainer,manage,everything,settings,anything,all"}, {"write", "write,writer,push,send,develop,developer,contribute"}, {"read", "read,reader,look,pull,view,see,fetch"}},
	"state":      {{"open", "open,opened,wait,waits,pending"}, {"accepted", "accepted,accept,merged"}, {"closed", "closed,close,rejected,declined,withdrawn"}},
	"way":        {{"replay", "rebase,replay,replayed,on top"}, {"one", "squash,one commit,single commit,single"}, {"merge", "merge commit,merge,merged,joins"}},
	"outcome":    {{"passed", "passed,pass,success,successful,green,well"}, {"failed", "failed,fail,failure,error,red"}, {"running", "running,run,pending,not ended,waiting"}},
	"format":     {{"sha1", "sha1"}, {"sha256", "sha256"}},
	"answer":     {{"accept", "accept,join,yes"}, {"decline", "decline,refuse,no"}},
	"job":        {{"failed", "failed,fail,failure,error,went wrong"}, {"done", "done,finished,complete,success,ready"}, {"running", "running,at work,pending,waiting"}},
	"refusal": {{"not-found", "not found,absent,no such,there is none,nothing there"}, {"not-signed-in", "not signed in,sign in,unknown token,nobody know,who are you"}, {"token-ended", "token has ended,token ended,expired"},
		{"scope-missing", "scope"}, {"name-taken", "name is taken,taken,exist already,already exist,in use"}, {"denied", "not allowed,denied,forbidden,may not"}, {"rate-limit", "too many,too often"}, {"changed", "changed meanwhile,was changed"}},
	"place": {{"https", "http,https"}, {"ssh", "ssh"}, {"page", "web,page,html,person"}},
}

// words gives a text's words in small letters, with a blank before, between and behind, so that a phrase is found in it whole. Names are
// taken apart at capitals, and plurals lose their ending.
func words(s string) string {
	var b strings.Builder
	b.WriteByte(' ')
	var word []byte
	end := func() {
		if len(word) > 0 {
			b.WriteString(stem(string(word)))
			b.WriteByte(' ')
			word = word[:0]
		}
	}
	for i := range len(s) {
		c := s[i]
		switch {
		case 'A' <= c && c <= 'Z':
			if i > 0 && 'a' <= s[i-1] && s[i-1] <= 'z' {
				end()
			}
			word = append(word, c+'a'-'A')
		case 'a' <= c && c <= 'z' || '0' <= c && c <= '9':
			word = append(word, c)
		case c == '\'': // the person's
			end()
		default:
			end()
		}
	}
	end()
	return b.String()
}

// stem takes the ending of a plural away.
func stem(w string) string {
	switch {
	case len(w) > 4 && strings.HasSuffix(w, "ies"):
		return w[:len(w)-3] + "y"
	case len(w) > 4 && (strings.HasSuffix(w, "sses") || strings.HasSuffix(w, "ches") || strings.HasSuffix(w, "shes") || strings.HasSuffix(w, "xes")):
		return w[:len(w)-2]
	case len(w) > 4 && strings.HasSuffix(w, "lves"):
		return w[:len(w)-3] + "f"
	case len(w) > 3 && strings.HasSuffix(w, "s") && !strings.HasSuffix(w, "ss") && !strings.HasSuffix(w, "us"):
		return w[:len(w)-1]
	}
	return w
}

var stemmed sync.Map

// phrases takes a list with commas apart, each like words gives a text.
func phrases(list string) []string {
	if v, ok := stemmed.Load(list); ok {
		return v.([]string)
	}
	var out []string
	for p := range strings.SplitSeq(strings.TrimPrefix(list, "*"), ",") {
		if p != "" {
			out = append(out, words(p))
		}
	}
	stemmed.Store(list, out)
	return out
}

// says reports whether a text, as words gives it, has one of a list's phrases.
func says(said, list string) bool {
	return slices.ContainsFunc(phrases(list), func(p string) bool { return strings.Contains(said, p) })
}

func sortedKeys[T any](m map[string]T) []string { return slices.Sorted(maps.Keys(m)) }

// gitUser is how a document says which user's name git signs in with.
var gitUser = text.Pattern("(?i)git[^.]*user(?:name| name)?[^.]*?[`'\"]([A-Za-z0-9_-]{1,40})[`'\"]")
