package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"debug/buildinfo"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"
)

// file is one of an archive.
type file struct {
	name string
	mode fs.FileMode
	data []byte
}

// dist makes archives, a Debian package, and the checksums of all.
func dist(to, version string, when time.Time, targets []target) error {
	if err := os.RemoveAll(to); err != nil {
		return err
	}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return err
	}
	var shared []file
	for _, t := range targets {
		program := filepath.Join(to, "uncinate")
		if _, err := command([]string{"GOOS=" + t.os, "GOARCH=" + t.arch, "CGO_ENABLED=0"}, "go", "build", "-trimpath", "-buildvcs=false",
			"-ldflags", "-s -w -buildid= -X uncinate/internal/screen.Version="+version, "-o", program, "./cmd/uncinate"); err != nil {
			return err
		}
		data, err := os.ReadFile(program)
		if err != nil {
			return err
		}
		if shared == nil {
			if shared, err = beside(version); err != nil {
				return err
			}
		}
		name := fmt.Sprintf("uncinate-%s-%s-%s", version, t.os, t.arch)
		if err := listed(filepath.Join(to, name+".spdx.json"), name, program, when); err != nil {
			return err
		}
		if t.os == "linux" {
			if err := debian(to, version, t.arch, append([]file{{"usr/bin/uncinate", 0o755, data}}, installed(shared)...), when); err != nil {
				return err
			}
		}
		if err := os.Remove(program); err != nil {
			return err
		}
		all := append([]file{{map[bool]string{true: "uncinate.exe", false: "uncinate"}[t.os == "windows"], 0o755, data}}, shared...)
		if t.os == "windows" {
			err = zipped(filepath.Join(to, name+".zip"), name, all, when)
		} else {
			err = tarred(filepath.Join(to, name+".tar.gz"), name, all, when)
		}
		if err != nil {
			return err
		}
	}
	return sums(to)
}

// beside are the files that go with the program: readme, licences, manual pages, completions, guides.
func beside(version string) ([]file, error) {
	folder, err := os.MkdirTemp("", "uncinate-release-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	own := filepath.Join(folder, "uncinate") // what this machine can run
	if _, err := command([]string{"CGO_ENABLED=0"}, "go", "build", "-trimpath", "-ldflags", "-X uncinate/internal/screen.Version="+version, "-o", own, "./cmd/uncinate"); err != nil {
		return nil, err
	}
	if _, err := command(nil, own, "help", "--man", filepath.Join(folder, "man1")); err != nil {
		return nil, err
	}
	var out []file
	pages, err := filepath.Glob(filepath.Join(folder, "man1", "*.1"))
	if err != nil {
		return nil, err
	}
	guides, err := filepath.Glob("docs/*.md")
	if err != nil {
		return nil, err
	}
	for _, path := range slices.Concat(pages, guides, []string{"README.md", "CHANGELOG.md", "LICENSE", "SECURITY.md"}) {
		data, err := os.ReadFile(path)
		if err != nil {
			return nil, err
		}
		name := path
		if filepath.IsAbs(path) {
			name = "man/man1/" + filepath.Base(path)
		}
		out = append(out, file{name, 0o644, data})
	}
	for _, c := range []struct{ shell, name string }{{"bash", "uncinate"}, {"zsh", "_uncinate"}, {"fish", "uncinate.fish"}} {
		data, err := command(nil, own, "completion", c.shell)
		if err != nil {
			return nil, err
		}
		out = append(out, file{"completion/" + c.shell + "/" + c.name, 0o644, data})
	}
	licences, err := os.ReadFile("internal/screen/licences.txt")
	return append(out, file{"LICENCES-of-what-is-linked-in.txt", 0o644, licences}), err
}

// folders says where files of an archive go on a system (Filesystem Hierarchy Standard 3.0).
var folders = []struct{ begins, to string }{{"man/", "usr/share/man/"}, {"completion/bash/", "usr/share/bash-completion/completions/"},
	{"completion/zsh/", "usr/share/zsh/site-functions/"}, {"completion/fish/", "usr/share/fish/vendor_completions.d/"}, {"docs/", "usr/share/doc/uncinate/"}, {"", "usr/share/doc/uncinate/"}}

// installed are the files where a system has them.
func installed(shared []file) []file {
	var out []file
	for _, f := range shared {
		for _, x := range folders {
			if rest, is := strings.CutPrefix(f.name, x.begins); is {
				f.name = x.to + rest
				break
			}
		}
		if strings.HasSuffix(f.name, ".1") {
			f.name, f.data = f.name+".gz", compressed(f.data, time.Time{})
		}
		out = append(out, f)
	}
	return out
}

// compressed is gzip (RFC 1952) without a name; a zero time is left out.
func compressed(data []byte, when time.Time) []byte {
	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err == nil {
		z.ModTime = when
		if _, err = z.Write(data); err == nil {
			err = z.Close()
		}
	}
	if err != nil {
		panic(err) // memory takes all
	}
	return b.Bytes()
}

// tarred writes a tar archive (POSIX.1-2017, pax) of files of one owner and one time.
func tarred(path, top string, all []file, when time.Time) error {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, f := range all {
		if err := w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: top + "/" + f.name, Mode: int64(f.mode), Size: int64(len(f.data)), ModTime: when, Format: tar.FormatPAX}); err != nil {
			return err
		}
		if _, err := w.Write(f.data); err != nil {
			return err
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	return os.WriteFile(path, compressed(b.Bytes(), when), 0o644)
}

func zipped(path, top string, all []file, when time.Time) error {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range all {
		h := &zip.FileHeader{Name: top + "/" + f.name, Method: zip.Deflate, Modified: when}
		h.SetMode(f.mode)
		to, err := w.CreateHeader(h)
		if err == nil {
			_, err = to.Write(f.data)
		}
		if err != nil {
			return err
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	return os.WriteFile(path, b.Bytes(), 0o644)
}

// sums writes SHA256SUMS of all in a folder, as sha256sum(1) reads it.
func sums(folder string) error {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return err
	}
	var b strings.Builder
	for _, e := range entries {
		data, err := os.ReadFile(filepath.Join(folder, e.Name()))
		if err != nil {
			return err
		}
		fmt.Fprintf(&b, "%x  %s\n", sha256.Sum256(data), e.Name())
	}
	return os.WriteFile(filepath.Join(folder, "SHA256SUMS"), []byte(b.String()), 0o644)
}

// listed writes what is linked into a program, as it says of itself (go version -m), in SPDX 2.3.
func listed(path, name, program string, when time.Time) error {
	info, err := buildinfo.ReadFile(program)
	if err != nil {
		return err
	}
	odd := regexp.MustCompile(`[^A-Za-z0-9.-]`)
	type reference struct {
		Category string `json:"referenceCategory"`
		Type     string `json:"referenceType"`
		Locator  string `json:"referenceLocator"`
	}
	type part struct {
		ID       string      `json:"SPDXID"`
		Name     string      `json:"name"`
		Version  string      `json:"versionInfo,omitempty"`
		Download string      `json:"downloadLocation"`
		Files    bool        `json:"filesAnalyzed"`
		Refs     []reference `json:"externalRefs,omitempty"`
	}
	type relation struct {
		From string `json:"spdxElementId"`
		How  string `json:"relationshipType"`
		To   string `json:"relatedSpdxElement"`
	}
	parts := []part{{ID: "SPDXRef-uncinate", Name: "uncinate", Version: name, Download: "NOASSERTION"}, {ID: "SPDXRef-go", Name: "go", Version: info.GoVersion, Download: "NOASSERTION"}}
	relations := []relation{{"SPDXRef-DOCUMENT", "DESCRIBES", "SPDXRef-uncinate"}, {"SPDXRef-uncinate", "STATIC_LINK", "SPDXRef-go"}}
	for _, m := range info.Deps {
		id := "SPDXRef-" + odd.ReplaceAllString(m.Path, "-")
		parts = append(parts, part{ID: id, Name: m.Path, Version: m.Version, Download: "NOASSERTION", Refs: []reference{{"PACKAGE-MANAGER", "purl", "pkg:golang/" + m.Path + "@" + m.Version}}})
		relations = append(relations, relation{"SPDXRef-uncinate", "STATIC_LINK", id})
	}
	doc := map[string]any{"spdxVersion": "SPDX-2.3", "dataLicense": "CC0-1.0", "SPDXID": "SPDXRef-DOCUMENT", "name": name, "documentNamespace": "https://uncinate.invalid/spdx/" + name,
		"creationInfo": map[string]any{"created": when.Format(time.RFC3339), "creators": []string{"Tool: uncinate-release"}}, "packages": parts, "relationships": relations}
	data, err := json.MarshalIndent(doc, "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(path, append(data, '\n'), 0o644)
}

// debian makes a package by dpkg-deb(1) with fixed times and owners.
func debian(to, version, arch string, all []file, when time.Time) error {
	top, err := os.MkdirTemp("", "uncinate-deb-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(top)
	size := 0
	for _, f := range all {
		size += len(f.data)
	}
	control := fmt.Sprintf("Package: uncinate\nVersion: %s\nArchitecture: %s\nMaintainer: Uncinate <maintainers@uncinate.invalid>\nSection: vcs\nPriority: optional\nDepends: git (>= 1:2.39)\nRecommends: openssh-client\nSuggests: git-lfs\nInstalled-Size: %d\n"+
		"Description: attach local projects to hosted repositories\n It creates the repository, keeps tokens in a vault and one SSH key for each\n account and machine, publishes the first history, brings projects onto other\n machines and keeps them in step.\n", debianVersion(version), arch, (size+1023)/1024)
	copyright, err := os.ReadFile("LICENSE")
	if err != nil {
		return err
	}
	for _, f := range append(all, file{"DEBIAN/control", 0o644, []byte(control)}, file{"usr/share/doc/uncinate/copyright", 0o644, copyright}) {
		path := filepath.Join(top, f.name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(path, f.data, f.mode); err != nil {
			return err
		}
		if err := os.Chmod(path, f.mode); err != nil {
			return err
		}
	}
	err = filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
		if err == nil && e.IsDir() {
			err = os.Chmod(path, 0o755)
		}
		if err == nil {
			err = os.Chtimes(path, when, when)
		}
		return err
	})
	if err != nil {
		return err
	}
	_, err = command([]string{fmt.Sprintf("SOURCE_DATE_EPOCH=%d", when.Unix())}, "dpkg-deb", "--root-owner-group", "-Zxz", "-z1", "--build", top, filepath.Join(to, fmt.Sprintf("uncinate_%s_%s.deb", debianVersion(version), arch)))
	return err
}

// debianVersion makes a version fit for a package: a number first, and no dash (deb-version(7)).
func debianVersion(v string) string { return strings.ReplaceAll(v, "-", "+") }
