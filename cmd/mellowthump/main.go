// Command mellowthump is the low-end workbench: serve, demo, password, check, measure, clear, room, body, split, width,
// compare, master, print, propose.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"syscall"

	"mellowthump/app/decode"
)

const usage = `mellowthump: a low-end workbench for beat producers

  mellowthump serve   [--addr 127.0.0.1:8808] [--data DIR]   the application
                      [--bounces SONG=FOLDER]              and the folder that a song is bounced into
  mellowthump demo    [--addr 127.0.0.1:8808]                the same with the demo songs, in a fresh folder
  mellowthump password [--data DIR]                          what is asked for where --addr is open to the network
  mellowthump check   [--data DIR]                           looks through the data: hashes, links, every revision
  mellowthump measure FILE...                                JSON array of figures on standard output
  mellowthump clear   --kick K --bass B [--bpm N] [--leader kick|bass]
                      [--school curve|compressor|band] [--target DB] [--max-depth DB]
                      [--no-lookahead]
                      [--out DUCKED.wav] [--curve CURVE.csv] [--midi GAIN.mid]
                                                             JSON: before, duck, after
  mellowthump room    --kick K --bass B --stem S [--stem S2 ...]
                                                             JSON: what the stems put under kick and bass, what may go unheard
  mellowthump body    FILE --role kick|bass                  JSON: what each hit or note weighs
  mellowthump split   FILE --struck A.wav --sustained B.wav --rest C.wav
                                                             JSON: how loud each is; the three sum to FILE
  mellowthump width   FILE...                                JSON array: correlation, what mono costs, the side's lowest safe corner
  mellowthump compare FILE --reference R [--reference R2 ...]
                                                             JSON: against finished tracks, and what would bring it nearer
  mellowthump master  FILE --out OUT.wav [--lufs N] [--ceiling DBTP] [--school clip|limit|two|none] [--form 16|24|32f]
                                                             JSON: how loud before and after, and what it costs
  mellowthump print   --song ARCHIVE.zip --out DIR [--what premaster,copy,mix,stems,buses,sheet,hits,curves] [--form 16|24|32f|flac] [--names PATTERN]
                                                             JSON: the files that were printed
  mellowthump propose --stems DIR [--bpm N] [--aim apart|clear|heard] [--out ARCHIVE.zip]
                                                             JSON: the run sheet; the archive holds the song with what is proposed
`

// errUsage marks wrong usage: exit status 2.
type errUsage struct{ error }

// commands by name.
var commands = map[string]func(ctx context.Context, args []string, out io.Writer) error{
	"serve": serve, "demo": demoServe, "password": setPassword, "check": check, "measure": measure, "clear": clearPair, "room": roomOf, "body": bodyOf,
	"split": splitFile, "width": widthOf, "compare": compareFile, "master": master, "print": printSong, "propose": propose,
}

func main() {
	decode.Main() // a child that only decodes
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(run(ctx, os.Args[1:], os.Stdout, os.Stderr))
}

// run carries out one command and returns the exit status: 0 done, 2 wrong usage, 1 failed.
func run(ctx context.Context, args []string, stdout, stderr io.Writer) int {
	if len(args) == 0 || args[0] == "help" || args[0] == "-h" || args[0] == "--help" {
		fmt.Fprint(stderr, usage)
		if len(args) == 0 {
			return 2
		}
		return 0
	}
	command := commands[args[0]]
	if command == nil {
		fmt.Fprintf(stderr, "mellowthump: there is no command %q; run mellowthump help\n", args[0])
		return 2
	}
	err := command(ctx, args[1:], stdout)
	var wrong errUsage
	switch {
	case err == nil:
		return 0
	case errors.As(err, &wrong):
		fmt.Fprintln(stderr, "mellowthump:", err)
		return 2
	}
	fmt.Fprintln(stderr, "mellowthump:", err)
	return 1
}
