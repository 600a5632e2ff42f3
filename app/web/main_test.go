package web

import (
	"flag"
	"os"
	"testing"

	"mellowthump/app/decode"
)

// meeting are the tests in which goroutines meet, by their names: the race detector runs these (make race).
const meeting = "AtOnce|Beside|Stale|LateRefusals|WorkIsTold|NewestBounce|BouncesComeBack|Silent|Panic|RunSheetRows|Door|Marks|ManySongs|Removals"

// The test program decodes in children of its own, as the program does.
func TestMain(m *testing.M) {
	decode.Main()
	flag.Parse()
	if run := flag.Lookup("test.run"); testing.Short() && run.Value.String() == "" {
		_ = run.Value.Set(meeting)
	}
	code := m.Run()
	took.Remove()
	os.Exit(code)
}
