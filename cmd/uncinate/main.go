// Uncinate ties local projects to hosted repositories and keeps both in step.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"uncinate/descriptions"
	"uncinate/internal/screen"
	"uncinate/internal/screen/rehearse"
)

func main() {
	debug.SetGCPercent(400) // runs are short: memory is cheaper than looking for what is free
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	signal.Ignore(syscall.SIGPIPE) // a closed output is an error to be met, not a sudden end
	e := screen.NewEnv(descriptions.Files)
	e.Gone = stop
	code := screen.Main(ctx, e, append(screen.Commands(), rehearse.Commands()...), os.Args[1:])
	stop()
	os.Exit(code)
}
