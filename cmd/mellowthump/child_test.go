package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"
	"testing"

	"mellowthump/app/decode"
)

// The test program decodes in children of its own, as the program does, and serves in one to be killed.
func TestMain(m *testing.M) {
	decode.Main()
	if dir := os.Getenv(serveIn); dir != "" {
		ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
		code := run(ctx, []string{"serve", "--addr", "127.0.0.1:0", "--data", dir}, os.Stdout, os.Stderr)
		stop()
		os.Exit(code)
	}
	os.Exit(m.Run())
}
