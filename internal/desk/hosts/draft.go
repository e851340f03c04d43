package hosts

import (
	"context"
	"errors"
	"io/fs"
	"net/http"
	"net/url"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/draft"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
)

// APIDocument reads a host's OpenAPI document from a file.
func APIDocument(path string) (map[string]any, error) {
	data, err := files.Read(path, draft.Most)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fault.New(fault.Failed, "there is no file %s", text.Visible(path))
	}
	if err != nil {
		return nil, err
	}
	return readAPI(data, path)
}

func readAPI(data []byte, from string) (map[string]any, error) {
	root, err := draft.Read(data)
	if err != nil {
		return nil, fault.New(fault.Failed, "%s can be read neither as JSON nor as YAML: %s", text.Visible(from), text.Excerpt(err.Error(), 160))
	}
	return root, nil
}

// Drafted writes a description from a document. from says where that is from, and seen what the live host told; nil for nothing.
func Drafted(root map[string]any, from string, seen *draft.Seen) (draft.Draft, error) {
	out, why := draft.FromOpenAPI(root, seen)
	if why != "" {
		return out, fault.New(fault.Failed, "%s cannot be used: %s", text.Visible(from), why)
	}
	return out, nil
}

// published are the paths at which hosts have their OpenAPI document.
var published = []string{"/openapi.json", "/openapi.yaml", "/api/openapi.json", "/api/openapi.yaml", "/docs/openapi.json", "/docs/openapi.yaml"}

// AskAddress checks an address at which a host is to be asked: https, or this machine's loopback.
func AskAddress(source string) (*url.URL, error) {
	u, err := url.Parse(source)
	if err != nil || u.Host == "" || u.User != nil || u.Scheme != "https" && u.Scheme != "http" {
		return nil, fault.New(fault.Usage, "%s is not the address of a host", text.Quote(source)).
			Try("give one", text.Command("uncinate", "host", "draft", "--ask", "https://git.example"))
	}
	if !address.Guarded(u.Scheme, u.Host) {
		return nil, fault.New(fault.Refused, "the token would go to %s over plain http, where others can read it", text.Visible(u.Host)).
			Try("ask over https", text.Command("uncinate", "host", "draft", "--ask", "https://"+strings.TrimPrefix(source, "http://")))
	}
	return u, nil
}

// PublishedAPI gets the OpenAPI document that a host publishes: at the address itself, if that has a path, or where hosts have them.
// No secret is sent.
func PublishedAPI(ctx context.Context, d *desk.Desk, at *url.URL) (root map[string]any, from string, err error) {
	paths := published
	if strings.Trim(at.Path, "/") != "" {
		paths = []string{at.Path}
	}
	for _, path := range paths {
		u := &url.URL{Scheme: at.Scheme, Host: at.Host, Path: path}
		answer, err := d.Web.Do(ctx, description.Call{Method: "GET", URL: u.String(), Header: http.Header{"Accept": {"application/json, application/yaml;q=0.9, */*;q=0.1"}}})
		if err != nil {
			return nil, "", err
		}
		if answer.Status != http.StatusOK {
			continue
		}
		root, err := readAPI(answer.Body, u.String())
		if err != nil || root["openapi"] == nil {
			continue // a page for a person
		}
		return root, u.String(), nil
	}
	return nil, "", fault.New(fault.HostSaidNo, "%s publishes no OpenAPI document that was found", at.Host).
		Detail("Looked at: %s", strings.Join(paths, ", ")).
		Try("give the document, if you have it", text.Command("uncinate", "host", "draft", "./openapi.json", "--ask", at.Scheme+"://"+at.Host))
}
