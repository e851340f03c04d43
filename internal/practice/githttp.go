package practice

import (
	"bufio"
	"io"
	"net/http"
	"net/textproto"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
)

// coreOf is where git's own programs are (git documentation, --exec-path).
var coreOf = sync.OnceValue(func() string {
	out, err := exec.Command("git", "--exec-path").Output()
	if err != nil {
		return "" // git itself finds them
	}
	return strings.TrimSpace(string(out))
})

// serveGit hands a request to git's own http-backend (git-http-backend documentation)
// as CGI (RFC 3875). rest is what follows the repository in the path. The body is
// handed on as it comes, so that a large push is never held in memory.
func serveGit(w http.ResponseWriter, q *http.Request, dir, rest, user, guards string) {
	c := gitCommand(q.Context(), "http-backend")
	if core := coreOf(); core != "" { // one process less
		c.Path = filepath.Join(core, "git-http-backend")
		c.Args = []string{c.Path}
	}
	c.Env = append(c.Env, "GIT_HTTP_EXPORT_ALL=1",
		"GIT_PROJECT_ROOT="+dir, "PATH_INFO="+rest, "REMOTE_USER="+user, "REMOTE_ADDR=127.0.0.1",
		"REQUEST_METHOD="+q.Method, "QUERY_STRING="+q.URL.RawQuery, "CONTENT_TYPE="+q.Header.Get("Content-Type"),
		"HTTP_CONTENT_ENCODING="+q.Header.Get("Content-Encoding"), "GIT_PROTOCOL="+q.Header.Get("Git-Protocol"), "GUARDS="+guards)
	if q.ContentLength >= 0 {
		c.Env = append(c.Env, "CONTENT_LENGTH="+strconv.FormatInt(q.ContentLength, 10))
	}
	c.Stdin = q.Body
	out, err := c.StdoutPipe()
	if err == nil {
		err = c.Start()
	}
	if err != nil {
		http.Error(w, "git cannot be started", http.StatusInternalServerError)
		return
	}
	in := bufio.NewReader(out)
	header, err := textproto.NewReader(in).ReadMIMEHeader()
	if err != nil {
		http.Error(w, "git did not answer", http.StatusInternalServerError)
	} else {
		code := http.StatusOK
		for name, values := range header {
			if name == "Status" {
				if n, err := strconv.Atoi(strings.Fields(values[0] + " 500")[0]); err == nil {
					code = n
				}
				continue
			}
			w.Header()[name] = values
		}
		w.WriteHeader(code)
		// A caller that goes away ends the copy, and the context ends git.
		_, _ = io.Copy(w, in)
	}
	// git's own end says no more than what it answered.
	_ = c.Wait()
}
