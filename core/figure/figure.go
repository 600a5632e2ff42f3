package figure

import (
	"fmt"
	"strings"
)

// Figure is one number that the program shows.
type Figure struct {
	Key        string // in code and templates
	Name       string
	Unit       string
	Decimals   int    // that it is shown with
	Definition string // a sentence or two; docs/numbers.md has source and check
}

// All are the figures on screen, in the order of the stages.
var All = []Figure{
	{"peak", "sample peak", "dBFS", 1, "Sample peak: the largest sample, in dB under full scale."},
	{"truepeak", "true peak", "dBTP", 1, "True peak: the largest value between samples too, ITU-R BS.1770-5, in dB true peak."},
	{"rms", "RMS level", "dBFS", 1, "RMS level, plain: a full-scale sine reads −3.01 dBFS."},
	{"lufs", "loudness of a file", "LUFS", 1, "Integrated loudness, ITU-R BS.1770-5, gated. A mono file is measured as one channel."},
	{"pitch", "fundamental", "Hz", 1, "The commonest fundamental by energy, with the nearest note (A4 = 440 Hz) and the distance in cents."},
	{
		"settles",
		"where the kick settles",
		"Hz",
		1,
		"Where the kick settles: after its sweep, where what is left of its spectrum is tallest, median over the hits. One that falls to its end has none.",
	},
	{
		"clearance",
		"clearance",
		"dB",
		1,
		"Kick over bass in the kick's home octave over the hit's window, in dB. Under 0 buried, 0 to 6 fighting, 6 to 12 clear, over 12 apart.",
	},
	{
		"lead",
		"bass over kick",
		"dB",
		1,
		"Bass over kick in the octave of the note that sounds, from 60 ms after each hit to the next, in dB: the mirror of clearance, for where the bass leads.",
	},
	{"p10", "worst tenth", "dB", 1, "The 10th percentile over the hits: nine of ten hits do better."},
	{
		"hitsunder",
		"hits under the target",
		"of all",
		0,
		"Hits of the kick with less clearance than is asked, of all of the stretch. In a section in which the ducks rest nothing is asked.",
	},
	{"overlap", "overlap", "%", 0, "The share of the kick's low end (20 to 150 Hz) that the bass covers over the hit's window."},
	{"handover", "handover", "ms", 0, "The time after the hit from which the bass is at least the kick in 20 to 150 Hz for 20 ms. 0: the kick never leads."},
	{"phase", "phase sum", "dB", 2, "Energy of the pair over the energies of both, 20 to 150 Hz: +3.01 dB adds fully, 0 unrelated, negative cancels."},
	{"cost", "peak cost", "dB", 2, "Peak of kick and bass together minus the larger of their own peaks, in the hit's window."},
	{"sumpeak", "peak of the pair", "dBFS", 1, "Sample peak of kick and bass together over the loop."},
	{
		"loss",
		"loss of the ducked part",
		"LU",
		2,
		"Loudness of the part that makes room (the bass, or the kick where the bass leads) before minus after, K-weighted, over the whole loop, in LU.",
	},
	{"losslow", "its loss in 20 to 150 Hz", "dB", 2, "Energy of the part that makes room in 20 to 150 Hz, before over after, whole loop, in dB."},
	{"depth", "deepest gain", "dB", 1, "The deepest gain: of the curve, or of what the keyed duck does over the loop."},
	{"share", "time under −3 dB", "%", 0, "The share of the loop during which the gain is under −3 dB."},
	{"back", "back before the next hit", "hits", 0, "Hits whose own duck has let go (gain over −0.5 dB) by the time the next one comes."},
	{"slope", "steepest slope", "dB/ms", 2, "The fastest change of the gain. Over 3 dB per ms it may click."},
	{"freed", "freed headroom", "dB", 1, "Peak of kick and bass together before the duck minus after it."},
	{
		"mixfreed",
		"freed in the mix",
		"dB",
		1,
		"Peak of the whole mix over the loop before the ducks minus after them: it may be raised by that. 0 where another part makes the peak.",
	},
	{
		"partfrees",
		"freed by a part",
		"dB",
		1,
		"Peak of the whole mix over the judged stretch without the ducks of this part minus with them. 0 where another part makes the peak.",
	},
	{
		"nudge",
		"phase sum when nudged",
		"dB",
		2,
		"Phase sum of the energies of all hits in 20 to 150 Hz with the bass moved by that much; gain and lose count the hits that come out half a dB " +
			"better or worse.",
	},
	{"noteshare", "time on a note", "%", 0, "Share of the time in which a note of the bass sounds in the loop."},
	{
		"kickcents",
		"kick off the bass’s note",
		"cents",
		0,
		"Where the kick settles against the bass note that most of its hits fall on, or the commonest where few do, in one octave, in cents.",
	},
	{"notecents", "note off pitch", "cents", 0, "The note's settled pitch against equal temperament, A4 = 440 Hz, in cents."},
	{"step", "peak at a step", "dBFS", 1, "Peak of the sample that is largest at this step, measured in a real render, in dB under full scale."},
	{"stepload", "loudness at a step", "LUFS", 1, "Integrated loudness at this step, ITU-R BS.1770-5. A mono part is measured as one channel."},
	{
		"window",
		"window of a peak",
		"dBFS",
		1,
		"Where the peak of such a part usually lies: common practice, no published source. It can be changed under Windows.",
	},
	{
		"sum",
		"running sum",
		"dBFS",
		1,
		"Peak of the master as the parts join it one after another, each a real sum. A bus's fader is a gain; nothing is added up in decibels.",
	},
	{"shares", "share in the peaks", "%", 0, "Energy of each part at the worst sample of each of the loudest stretches of 50 ms, over that of all parts."},
	{
		"landed",
		"what came back",
		"dB",
		1,
		"The gain between the old file and the new: by least squares where both hold the same sound, else by RMS. It landed when it is within 0.3 dB of the plan.",
	},
	{
		"bounced",
		"what a bounce holds",
		"dB, Hz, ms",
		1,
		"What was done between the file that was planned for and the bounce, told from the two alone: a fit of gain, filters, time and polarity to how one " +
			"follows from the other, and the median gain at the hits. Landed: gain within 0.3 dB, time 0.15 ms, a corner a sixth of an octave, a bell 1 dB, " +
			"a duck 1 dB.",
	},
	{
		"cellar",
		"under kick and bass",
		"dB",
		1,
		"Energy of kick and bass together in 20 to 150 Hz (by the lines of a transform) over that " +
			"of everything else, behind the master, over the judged stretch, in dB; of a part, over what " +
			"it brings alone.",
	},
	{"cellarshare", "share of the cellar", "%", 0, "Energy of the part in 20 to 150 Hz over that of all parts but kick and bass."},
	{
		"cellarfreed",
		"freed by a cut",
		"dB",
		1,
		"By how much the energy of all but kick and bass falls in 20 to 150 Hz with the part cut at the corner that goes unheard in the mix, in dB.",
	},
	{"rolltakes", "taken by a roll-off", "dB", 2, "Energy of the role in 20 to 150 Hz before over after, both rendered, over the judged stretch, in dB."},
	{
		"rollfrees",
		"freed by a roll-off",
		"dB",
		1,
		"Peak of the whole mix over the judged stretch before minus after. Under 0 it rises: a filter turns the phase too.",
	},
	{
		"weight",
		"weight",
		"dBFS",
		1,
		"RMS of a hit's first 200 ms, or of a note's 20 to 220 ms, in 20 to 150 Hz (parts other than kick and bass: over the whole spectrum), before any duck; " +
			"the median.",
	},
	{"spread", "spread of the weights", "dB", 1, "10th to 90th percentile of the weights of all hits or notes of the judged stretch."},
	{"attack", "attack", "dB", 1, "Peak of a hit's first 20 ms over the RMS of its 20 to 120 ms; the median."},
	{"steadymost", "most of a gain", "dB", 1, "Own gains: the largest by its size. A compressor: the most that it takes of a hit's weight."},
	{"steadymean", "mean of the gains", "dB", 1, "Own gains: the mean of their sizes. A compressor: the mean that it takes of the hits' weights."},
	{
		"layerband",
		"level of a layer in a band",
		"dBFS",
		1,
		"RMS of the layer in the band (Butterworth, 2nd order to each side) over the first 200 ms of the hits of the judged stretch, behind its chain.",
	},
	{
		"rumble", "rumble", "dB", 1,
		"Energy under a frequency that lies lower than anything that the part plays, over that of all the rest of it; by averaged periodograms.",
	},
	{
		"hidden", "kick hidden", "%", 0,
		"Share of what is heard of the kick alone that the bass hides, in the worst tenth of hits: excitation by ERB filters, frame by frame, " +
			"that stands less than 1 dB out of kick and bass over the bass alone.",
	},
	{
		"pairsum", "sum of a pair", "dB", 1,
		"Energy of two stems together over the sum of their energies, mono, over the loop: 3 dB for the same sound twice, 0 for two that have " +
			"nothing to do with each other, far under 0 where they cancel.",
	},
	{
		"layersum",
		"phase sum of layers",
		"dB",
		1,
		"Energy of the low source and the other layers together over the sum of their energies, in the band, over the first 200 ms of the hits: 0 dB where they " +
			"are unrelated, 3 of two alike, under 0 where they cancel.",
	},
	{
		"stacksum",
		"phase sum of layers",
		"dB",
		1,
		"Energy of all layers of a role together over the sum of their energies, in the band, over the first 200 ms of the hits: 0 dB where they are unrelated, " +
			"3 of two alike, under 0 where they cancel.",
	},
	{"tilt", "tilt", "dB per octave", 1, "Slope of the least-squares line through the third-octave levels over the octaves, 50 Hz to 10 kHz."},
	{
		"deviation",
		"what a song differs by",
		"dB",
		1,
		"Mean size of the differences by third-octave between the song over the judged stretch and what is compared of the finished track, both at one loudness " +
			"(BS.1770), 25 Hz to 16 kHz.",
	},
	{
		"aboutloudness",
		"level of a band about the loudness",
		"dB",
		1,
		"Power of the third-octaves of the band, dBFS, less the loudness of the whole sound, LUFS (BS.1770): of two sounds that are equally loud, how they " +
			"differ there.",
	},
	{
		"freekick",
		"weight of a kick alone",
		"dB",
		1,
		"Level in 20 to 150 Hz over the first 200 ms of a low hit that stands free (18 dB over what is before it, 20 dB down 250 ms later), dBFS, less the " +
			"loudness of all, LUFS; median of up to 16.",
	},
	{
		"devicelost",
		"what a mix loses on a stand-in",
		"dB",
		1,
		"K-weighted energy of all stems in the room over that on the stand-in, without what it is softer and without its ceiling.",
	},
	{
		"hitsunheard",
		"kick hits unheard",
		"of all",
		0,
		"Hits at which the kick stands less than 3 dB over the other stems, the threshold of hearing (ISO 389-7) and the noise beside, in every ERB of the frame " +
			"at the hit.",
	},
	{
		"heardshare",
		"heard on a stand-in",
		"%",
		0,
		"Share of the frames in which a stem sounds (within 60 dB of its loudest) and stands 3 dB over the other stems, the threshold of hearing and the noise " +
			"beside, in some ERB.",
	},
	{
		"middle",
		"middle over the line",
		"dB",
		1,
		"Mean of the third-octaves from 300 Hz to 3 kHz over the straight line of the tilt: over 1.5 dB humped, under −1.5 scooped, else flat.",
	},
	{"setspread", "spread of a set", "as the figure", 1, "Standard deviation of the set, with n − 1."},
	{"percentile", "percentile in a set", "%", 0, "Share of the set that lies under the song, those that are equal counted by half."},
	{
		"printattack",
		"attack of the hits in the mix",
		"dB",
		1,
		"Peak of the mix in 0 to 20 ms after a hit of the kick over its RMS from 20 to 120 ms; median over the hits.",
	},
	{"clipped", "clipped share", "% of the time", 1, "Frames from which the soft clip takes more than 0.01 dB."},
	{"reduction", "most reduction", "dB", 1, "By how much the limiters together turn down at the deepest, their drive left out."},
	{
		"worsttenth",
		"worst tenth of the correlation",
		"−1 to 1",
		2,
		"The correlation of left and right that is reached or passed in nine tenths of the steps of 400 ms: 1 alike, 0 unrelated, under 0 mono takes sound out.",
	},
	{"sideshare", "side about the mid", "dB", 1, "Energy of the side, (L - R) / 2, about that of the mid, (L + R) / 2."},
	{
		"foldloss",
		"fold-down loss",
		"dB",
		1,
		"10 log10((E_L + E_R) / 2 E_M), M half the sum of the channels: 0 dB of a mono sound, 3.01 of two unrelated ones, all of it where they are upside down.",
	},
	{"foldlu", "what mono costs", "LU", 1, "Loudness of the sound over that of its mid on both sides (BS.1770)."},
	{
		"disc",
		"side under 150 Hz",
		"dB",
		1,
		"Energy of the side under 150 Hz about all of the sound. A record cut to disc carries it up and down, so it is kept small there; a plain figure, no " +
			"rule is asked.",
	},
	{
		"lowmono",
		"side under 120 Hz",
		"dB",
		1,
		"Energy of the side in 20 to 120 Hz about the mid there, or about a tenth of all of the mid where that is more; 20 dB under it counts as mono.",
	},
	{"lowside", "low side", "dBFS", 1, "Energy of the side in 20 to 200 Hz as the stem reaches the mix: who is to blame."},
	{
		"sidecorner",
		"lowest corner",
		"Hz",
		0,
		"The lowest corner of a side low cut (24 dB per octave, in eighths of an octave) by which the worst tenth of the correlation reaches what is asked and " +
			"the side lies 20 dB under the mid below 120 Hz.",
	},
	{"steadylost", "what a compressor takes", "dB", 1, "By how much the median weight falls before the bell or the gain after the compressor gives it back."},
	{"headroom", "headroom", "dB", 1, "Distance of the premaster's peak over the loop from full scale, 0 dBFS."},
	{"premaster", "premaster peak", "dBFS", 1, "Sample peak of everything together over the loop."},
	{"loudness", "loudness of the mix", "LUFS", 1, "Integrated loudness of everything together over the loop, ITU-R BS.1770-5."},
	{
		"offwindow",
		"furthest off its window",
		"dB",
		1,
		"How far the part, the bus or the premaster that lies furthest outside of where its peak should lie does so, over the whole song; 0 where all lie within.",
	},
	{"songpeak", "premaster peak of the song", "dBFS", 1, "Sample peak of everything together over the whole song."},
	{
		"overothers",
		"over the others",
		"dB",
		1,
		"By how much a part, while it sounds, lies over the sum of the others in the third-octave in which it does so most; under −20 nobody hears it.",
	},
	{
		"overline",
		"over its own line",
		"dB",
		1,
		"How far the rest of the mix stands over its own straight line from 60 Hz to 6 kHz, by octaves, where it is muddiest in 100 to 300 Hz.",
	},
	{"boxover", "rings out", "dB", 1, "How far a drum rings out of what is beside it in 212 to 500 Hz, in twelfths of an octave."},
	{"ringover", "over its partials", "dB", 1, "By how much a partial that rings stands over the median of the others of its octave; 0 where it no longer rings."},
	{"covered", "covered by one other", "%", 0, "Share of what would be heard of a part if one other were gone, by energy, that is lost to it."},
	{
		"noteheard",
		"notes heard on a stand-in",
		"%",
		0,
		"Share of the notes of the bass in the judged stretch that stand 3 dB over the rest in some ERB on the stand-in, as Body judges them.",
	},
	{
		"equalpeak",
		"loudness at equal peak",
		"LU",
		1,
		"Loudness of everything together over the judged stretch less its sample peak: by how much it is louder than another at the same peak.",
	},
	{"offset", "loudness match", "dB", 1, "What the After side is turned by so that both are equally loud, BS.1770 integrated over the loop."},
}

// Of returns a figure by its key; a key that is none is a mistake in the program.
func Of(key string) Figure {
	for _, f := range All {
		if f.Key == key {
			return f
		}
	}
	panic("figure: no figure is called " + key)
}

// List names several things, "71, 284 or 213"; last is the word before the last of them.
func List(words []string, last string) string {
	if n := len(words); n > 1 {
		return strings.Join(words[:n-1], ", ") + " " + last + " " + words[n-1]
	}
	return strings.Join(words, "")
}

// Count says how many, "1 trim" or "2 trims".
func Count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
