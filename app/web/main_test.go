package web

import (
	"os"
	"testing"

	"mellowthump/app/decode"
)

// The test program decodes in children of its own, as the program does.
func TestMain(m *testing.M) {
	decode.Main()
	code := m.Run()
	took.Remove()
	os.Exit(code)
}
