package shell

// Help is what ? says of a stage: what it is for, what to do first, how its picture is read. A paragraph each.
var help = map[string][]string{
	"intake": {
		"Drop all stems of the beat, bounced from the same start. Each is measured once; what is odd about a file is said under it.",
		"First: look whether the roles are right. Kick and bass decide what all other stages judge. Then the tempo and the first bar.",
	},
	"levels": {
		"Every part at every step, from the source to the premaster, as it measures in a real render. The bracket is where such a part usually peaks; the tick is where it does.",
		"First: the plan. It sets the kick, then all else about it, at the first step that is free. A fader that is automated elsewhere is locked, and trimmed one step earlier.",
	},
	"pocket": {
		"Kick above the line, bass below it, hit by hit; where they collide is hatched. Clearance is kick over bass in the kick’s own octave.",
		"First: pitch and polarity. Then who leads. What is left is the duck’s work.",
	},
	"duck": {
		"The curve is the gain of the bass at each hit. Fit finds the least that reaches the clearance asked in nine hits of ten; the trade-off says what more or less would cost.",
		"First: Fit, then X to hear it before and after, equally loud.",
	},
	"room": {
		"Kick and bass above the line, everything else hanging below it. The grey of each row is what nobody hears missing in the mix.",
		"First: Cut all unheard. Dips for mud and for who covers whom are a matter of taste; hear them.",
	},
	"body": {
		"Every hit and note as a bar: click and tone above the line, or what it weighs. The spread is how far they lie apart.",
		"First: even out what steps. Attack, harmonics and layers come after.",
	},
	"width": {
		"Mid above the line, side below it; hatched is what one speaker would lose.",
		"First: the low end. What lies under 120 Hz is best mono; each part is cut at the lowest corner that makes it so.",
	},
	"compare": {
		"Your song against a finished track, both equally loud, and on stand-ins of small speakers, phones and rooms.",
		"First: bring a track that you know. It is a companion and no rule; the blind tests say whether you hear what you think you hear.",
	},
	"print": {
		"What goes out: the premaster untouched, or a copy to be heard, by one of four schools of the last stage. The curve says what each dB of loudness costs.",
		"First: leave it at nothing, unless somebody is to hear it now.",
	},
	"log": {
		"The run sheet is all open findings in the order of the work. Each was rendered on top of those above it, so what it says it brings is measured. Tick, hear, apply: one step, one undo.",
		"Sections are the song’s parts in time. Each has its own figures, the ducks may rest in one, and with them the run sheet says where a finding holds.",
		"Takes are the song as it was, with its figures; nothing done later overwrites them. Side by side they tell what was changed, and the deck plays one against the other.",
	},
}

// Help is what is said of the stage that is shown.
func (v *View) Help() []string { return help[v.Stage.Key] }
