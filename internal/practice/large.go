package practice

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
)

// Large-file storage by the batch API that is published with git-lfs (docs/api/batch.md
// and docs/api/basic-transfers.md there): the basic transfer alone, no locks. The
// objects are in the repository's own folder, so that they go with it.

// largeMost is the largest object that is taken, in bytes.
const largeMost = 4 << 30

// largeMedia is the media type of the API.
const largeMedia = "application/vnd.git-lfs+json"

type largeObject struct {
	OID  string `json:"oid"`
	Size int64  `json:"size"`
}

type largeAction struct {
	Href   string            `json:"href"`
	Header map[string]string `json:"header,omitempty"`
}

type largeAnswer struct {
	largeObject
	Authenticated bool                   `json:"authenticated,omitempty"`
	Actions       map[string]largeAction `json:"actions,omitempty"`
	Error         *largeError            `json:"error,omitempty"`
}

type largeError struct {
	Code    int    `json:"code"`
	Message string `json:"message"`
}

// large serves the storage of a repository. rest begins with /info/lfs/; writes says that
// the caller may send to the repository.
func (e *engine) large(w http.ResponseWriter, q *http.Request, dir, rest string, writes bool) {
	say := func(status int, v any) {
		w.Header().Set("Content-Type", largeMedia)
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(v) // a caller that goes away hears nothing more
	}
	refuse := func(status int, words string) { say(status, map[string]string{"message": words}) }
	what := strings.TrimPrefix(rest, "/info/lfs/objects/")
	switch {
	case what == "batch" && q.Method == http.MethodPost:
		var asked struct {
			Operation string        `json:"operation"`
			Objects   []largeObject `json:"objects"`
		}
		if err := json.NewDecoder(io.LimitReader(q.Body, 16<<20)).Decode(&asked); err != nil {
			refuse(http.StatusUnprocessableEntity, "the request cannot be read")
			return
		}
		if asked.Operation == "upload" && !writes {
			refuse(http.StatusForbidden, "you may only read this repository")
			return
		}
		say(http.StatusOK, map[string]any{"transfer": "basic", "hash_algo": "sha256", "objects": largeBatch(q, dir, asked.Operation, asked.Objects)})
	case oidOf(what) != "" && q.Method == http.MethodGet:
		f, err := os.Open(largeFile(dir, what))
		if err != nil {
			refuse(http.StatusNotFound, "there is no such object")
			return
		}
		defer f.Close()
		_, _ = io.Copy(w, f)
	case oidOf(what) != "" && q.Method == http.MethodPut:
		if !writes {
			refuse(http.StatusForbidden, "you may only read this repository")
			return
		}
		if err := takeLarge(dir, what, q.Body); err != nil {
			refuse(http.StatusUnprocessableEntity, err.Error())
			return
		}
		w.WriteHeader(http.StatusOK)
	default:
		refuse(http.StatusNotFound, "this host has no such part of the storage")
	}
}

func largeBatch(q *http.Request, dir, operation string, objects []largeObject) []largeAnswer {
	out := []largeAnswer{}
	for _, o := range objects {
		a := largeAnswer{largeObject: o, Authenticated: true}
		_, err := os.Stat(largeFile(dir, o.OID))
		here := err == nil
		batch := "http://" + q.Host + q.URL.Path
		act := largeAction{Href: strings.TrimSuffix(batch, "batch") + o.OID, Header: map[string]string{"Authorization": q.Header.Get("Authorization")}}
		switch {
		case oidOf(o.OID) == "" || o.Size < 0 || o.Size > largeMost:
			a.Error = &largeError{http.StatusUnprocessableEntity, "no such object can be"}
		case operation == "upload" && !here:
			a.Actions = map[string]largeAction{"upload": act}
		case operation == "download" && here:
			a.Actions = map[string]largeAction{"download": act}
		case operation == "download":
			a.Error = &largeError{http.StatusNotFound, "there is no such object"}
		}
		out = append(out, a)
	}
	return out
}

func largeFile(dir, oid string) string { return filepath.Join(dir, "large", oidOf(oid)) }

// oidOf gives an object's name if it is one: a SHA-256 in hexadecimal.
func oidOf(s string) string {
	if len(s) != 64 || strings.Trim(s, "0123456789abcdef") != "" {
		return ""
	}
	return s
}

// takeLarge keeps an object, if it is what its name says.
func takeLarge(dir, oid string, body io.Reader) (err error) {
	if err := os.MkdirAll(filepath.Join(dir, "large"), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Join(dir, "large"), "new-*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(f.Name()))
		}
	}()
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(f, sum), io.LimitReader(body, largeMost))
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	if got := hex.EncodeToString(sum.Sum(nil)); got != oid {
		return fmt.Errorf("the object arrived as %s", got)
	}
	return os.Rename(f.Name(), largeFile(dir, oid))
}
