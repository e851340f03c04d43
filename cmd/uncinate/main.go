// Uncinate hooks local projects to hosted repositories and keeps both in step.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"uncinate/descriptions"
	"uncinate/internal/screen"
	"uncinate/internal/screen/rehearse"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	e := screen.NewEnv(descriptions.Files)
	code := screen.Main(ctx, e, append(screen.Commands(), rehearse.Commands()...), os.Args[1:])
	stop()
	os.Exit(code)
}
