package print

import (
	"mellowthump/core/session"
	"mellowthump/core/stage"
)

// Stage is the stage Print.
var Stage = stage.Stage{
	Key: stage.Print, Name: "Print", Question: "How loud, what does it cost, what goes out?",
	Help: []string{
		"What goes out: the premaster untouched, or a copy to be heard, by one of four schools of the last stage. The curve says what each dB of loudness costs.",
		"First: leave it at nothing, unless somebody is to hear it now.",
	},
	Judge:  stage.OfLoop(FindingsOn),
	Before: session.Song.Unprinted, BeforeName: "the premaster",
	Later: true,
}
