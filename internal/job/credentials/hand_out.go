package credentials

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/world/files"
)

// HandOut gives an account's token itself, once it was noted that it was handed out.
func HandOut(ctx context.Context, d *desk.Desk, name, how string) (string, error) {
	a, err := accounts.Named(d, name)
	if err != nil {
		return "", err
	}
	token, err := accounts.Token(ctx, d, a, true)
	if err != nil {
		return "", err
	}
	if err := files.MakeFolder(d.Home.State, 0o700); err != nil {
		return "", fault.New(fault.Failed, "the folder %s cannot be made", text.Visible(d.Home.State)).Because(err)
	}
	if err := files.Append(handedOut(d), fmt.Sprintf("%s account %s by %s", d.Now().UTC().Format(time.RFC3339), a.Name, how)); err != nil {
		return "", fault.New(fault.Failed, "it cannot be noted that the token is handed out, so it is not").Because(err)
	}
	return token, nil
}

func handedOut(d *desk.Desk) string { return filepath.Join(d.Home.State, "handed-out.log") }
