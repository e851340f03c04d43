package git

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/world/files"
)

// Vacant asks an address where no commit is yet what its first branch is to be called, and how its objects are named: git
// says neither but to a clone (git-clone documentation), and the second only in what it writes of its talk (git's page,
// GIT_TRACE_PACKET).
func (g *Git) Vacant(ctx context.Context, apart, address string, config ...Set) (head, format string, err error) {
	dir, err := os.MkdirTemp(apart, "vacant-")
	if err != nil {
		return "", "", err
	}
	defer fault.Also(&err, func() error { return os.RemoveAll(dir) })
	talk := filepath.Join(dir, "talk")
	bare := filepath.Join(dir, "it")
	_, err = g.run(ctx, Cmd{Dir: dir, Env: []string{"GIT_CEILING_DIRECTORIES=" + apart, "GIT_TRACE_PACKET=" + talk}, Config: config, Stall: Stall,
		Args: []string{"clone", "-q", "--bare", "--depth=1", "--no-tags", "--template=", "--", address, bare}}, true, true)
	if err != nil {
		return "", "", err
	}
	if head, err = ReadHead(bare); err != nil {
		return "", "", err
	}
	said, err := files.ReadNamed(talk, 4<<20)
	if err != nil {
		return head, "", err
	}
	if format = "sha1"; strings.Contains(string(said), "object-format=sha256") {
		format = "sha256"
	}
	return head, format, nil
}
