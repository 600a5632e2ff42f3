package pocket

import (
	"context"
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

const rate = 44100

var ctx = context.Background()

// hit writes a decaying sweep that settles on hz.
func hit(x []float32, at int, hz, amp float64) {
	for i := range rate * 2 / 5 {
		t := float64(i) / rate
		if at+i < len(x) {
			x[at+i] += float32(amp * math.Sin(2*math.Pi*(hz*t+1.2*(1-math.Exp(-t/0.01)))) * math.Exp(-t/0.08))
		}
	}
}

// song makes a song of a kick on 52 Hz, twice a second, and a bass that is given.
func song(bass audio.Buffer, layers ...audio.Buffer) (*mix.Renderer, session.Song, mix.Window) {
	kick := audio.New(rate, 1, 4*rate)
	for at := rate / 4; at+rate/2 <= len(kick.Ch[0]); at += rate / 2 {
		hit(kick.Ch[0], at, 52, 0.7)
	}
	lib := &mix.Memory{}
	lib.Put("kick", kick)
	lib.Put("bass", bass)
	s := session.New("Pocket", 120)
	s.Rate = rate
	s.Stems = []session.Stem{{ID: "k", Name: "Kick", Role: session.Kick, Audio: "kick"}, {ID: "b", Name: "808", Role: session.Bass, Audio: "bass"}}
	for i, l := range layers {
		name := string(rune('x' + i))
		lib.Put(name, l)
		s.Stems = append(s.Stems, session.Stem{ID: name, Name: name, Role: session.Kick, Audio: name})
	}
	s.Settle()
	return mix.New(lib, 1<<28), s, mix.Window{To: 4 * rate}
}

func sine(hz, amp float64) audio.Buffer {
	b := audio.New(rate, 1, 4*rate)
	for i := range b.Ch[0] {
		b.Ch[0][i] = float32(amp * math.Sin(2*math.Pi*hz*float64(i)/rate))
	}
	return b
}

// shifted is the kick's own sound, moved by ms and scaled.
func shifted(ms, gain float64) audio.Buffer {
	b := audio.New(rate, 1, 4*rate)
	for at := rate / 4; at+rate/2 <= len(b.Ch[0]); at += rate / 2 {
		hit(b.Ch[0], at+int(math.Round(ms*rate/1000)), 52, gain)
	}
	return b
}

// A bass that is the kick itself, earlier by a known time, agrees fully (+3.01 dB) when it is moved
// back by that time; one that is upside down, when it is turned over.
func TestFindNudge(t *testing.T) {
	for _, c := range []struct {
		ms, gain float64
		want     Place
	}{{-4.3, 0.7, Place{4.3, false}}, {3.1, 0.7, Place{-3.1, false}}, {-2, -0.7, Place{2, true}}, {0, 0.7, Place{0, false}}} {
		r, s, w := song(shifted(c.ms, c.gain))
		p, err := r.Pair(ctx, &s, w)
		if err != nil {
			t.Fatal(err)
		}
		n, err := FindNudge(p.Meter, p.Bass)
		if err != nil {
			t.Fatal(err)
		}
		if math.Abs(n.Best.MS-c.want.MS) > 0.1 || n.Best.Flip != c.want.Flip || math.Abs(float64(n.BestSum)-3.01) > 0.1 {
			t.Errorf("%+v: best %+v with %.2f dB", c, n.Best, float64(n.BestSum))
		}
		// the figures of the pair itself say the same of where it stands
		f, err := r.Figures(ctx, p)
		if err != nil || math.Abs(float64(n.Now-f.PhaseSumMedian)) > 0.05 {
			t.Errorf("%+v: the curve says %.2f dB at 0, the pair %.2f, %v", c, float64(n.Now), float64(f.PhaseSumMedian), err)
		}
		if want := c.ms != 0 || c.gain < 0; n.Advised() != want && c.want.MS != 0 {
			t.Errorf("%+v: advised %v: now %.2f, best %.2f, %d hurt", c, n.Advised(), float64(n.Now), float64(n.BestSum), n.Hurt)
		}
		// carried out as moves, it measures as it was promised
		s.Stem("b").SetMove(move.Move{ID: "nudge", Params: &move.Nudge{MS: n.Best.MS}})
		if n.Best.Flip {
			s.Stem("b").SetMove(move.Move{ID: "flip", Params: &move.Polarity{}})
		}
		if p, err = r.Pair(ctx, &s, w); err == nil {
			f, err = r.Figures(ctx, p)
		}
		if err != nil || math.Abs(float64(f.PhaseSumMedian-n.BestSum)) > 0.1 {
			t.Errorf("%+v: promised %.2f dB, rendered %.2f, %v", c, float64(n.BestSum), float64(f.PhaseSumMedian), err)
		}
	}
}

// A nudge that helps half the hits and hurts half is not advised.
func TestNudgeThatHurtsIsNotAdvised(t *testing.T) {
	n := &Nudge{Now: 0, BestSum: 1.6, Helped: 8, Hurt: 6, Of: 14}
	if n.Advised() {
		t.Error("advised")
	}
	n.Hurt = 2
	if !n.Advised() {
		t.Error("not advised where few are hurt")
	}
	n.BestSum = 0.5
	if n.Advised() {
		t.Error("advised for half a dB")
	}
}

// Layers of a kick: one that is upside down is found, one that agrees is not.
func TestLayers(t *testing.T) {
	r, s, w := song(sine(43.65, 0.1), shifted(0, -0.4), shifted(0, 0.4))
	layers, err := Layers(context.Background(), r, &s, w)
	if err != nil || len(layers) != 2 {
		t.Fatalf("%+v, %v", layers, err)
	}
	// amplitudes 0.7 and 0.4: 10 log10((0.7-0.4)^2 / (0.7^2+0.4^2)) and with +
	for i, want := range []float64{10 * math.Log10(0.09/0.65), 10 * math.Log10(1.21/0.65)} {
		if math.Abs(float64(layers[i].Sum)-want) > 0.1 || layers[i].Cancels() != (i == 0) {
			t.Errorf("layer %d: %.2f dB, want %.2f; cancels %v", i, float64(layers[i].Sum), want, layers[i].Cancels())
		}
	}
}

// Where the kick stands among its options the figures are the song's own; the options lie a
// semitone apart; notes that clash are named.
func TestKickOptions(t *testing.T) {
	r, s, w := song(sine(65.4, 0.2))
	line := []meter.BassNote{{Start: 0, End: 4, Hz: 65.4, Note: "C2"}}
	options, err := KickOptions(ctx, r, &s, w, line)
	if err != nil || len(options) != 11 {
		t.Fatalf("%d, %v", len(options), err)
	}
	p, _ := r.Pair(ctx, &s, w)
	f, _ := r.Figures(ctx, p)
	if now := options[5]; now.Semitones != 0 || now.Clearance != f.ClearanceMedian {
		t.Errorf("now %+v, the pair says %.2f", now, float64(f.ClearanceMedian))
	}
	for i, o := range options {
		if want := p.Meter.HomeHz * math.Pow(2, float64(i-5)/12); math.Abs(o.Hz-want) > 0.01 {
			t.Errorf("%+d semitones is %.2f Hz, want %.2f", o.Semitones, o.Hz, want)
		}
		if clash := len(o.Clash) == 1 && o.Clash[0] == "C2"; clash != (float64(o.Clearance) < 8-shown) {
			t.Errorf("%+d: clearance %.1f, clash %v", o.Semitones, float64(o.Clearance), o.Clash)
		}
	}
	if s.TriggerStem().Move(KickTune) != nil {
		t.Error("asking changes the song")
	}
	// near the end of what can be tuned there are fewer
	high := TunedKick(&s, 1000)
	if o, err := KickOptions(ctx, r, &high, w, line); err != nil || len(o) != 8 || o[7].Semitones != 2 {
		t.Errorf("ten semitones up: %d options, %v", len(o), err)
	}
	// five semitones down the kick's octave ends at 55 Hz, well under the bass
	if !(options[0].Clearance > options[5].Clearance+4) {
		t.Errorf("five semitones down: %.1f against %.1f dB", float64(options[0].Clearance), float64(options[5].Clearance))
	}
}

// Notes by their time, with the hits that fall on each.
func TestNotes(t *testing.T) {
	line := []meter.BassNote{
		{Start: 0, End: 1, Hz: 44, Note: "F1", Cents: 14},
		{Start: 1, End: 1.5, Hz: 39, Note: "Eb1", Cents: 5},
		{Start: 2, End: 4, Hz: 44.1, Note: "F1", Cents: 18},
	}
	hits := []meter.Hit{{At: 0, Clearance: 2}, {At: 0.99, Clearance: 9}, {At: 1.6, Clearance: 30}, {At: 2, Clearance: 4}}
	n := Notes(line, hits, 0, 3)
	if len(n) != 2 || n[0].Note != "F1" || n[1].Note != "Eb1" {
		t.Fatalf("%+v", n)
	}
	if math.Abs(n[0].Share-0.8) > 1e-9 || math.Abs(n[0].Cents-16) > 1e-9 || n[0].Hits != 2 || n[0].Clearance != 3 {
		t.Errorf("%+v", n[0])
	}
	if n[1].Hits != 1 || n[1].Clearance != 9 { // a hit just before its note falls on it
		t.Errorf("%+v", n[1])
	}
	m := Detune(line, -16, false).Params.(*move.Tune)
	if m.Cents != -16 || len(m.Notes) != 3 || m.Notes[2].Cents != 0 {
		t.Errorf("%+v", m)
	}
	m = Detune(line, 0, true).Params.(*move.Tune)
	if m.Cents != 0 || m.Notes[0].Cents != -14 || m.Notes[1].Cents != -5 {
		t.Errorf("%+v", m)
	}
}

// Two levels of notes, 6 dB apart, spread by 6 dB (closed form).
func TestLevelSteps(t *testing.T) {
	env := make([]float32, 4000)
	var line []meter.BassNote
	for k := range 8 {
		line = append(line, meter.BassNote{Start: 10 + 0.5*float64(k), End: 10.5 + 0.5*float64(k)})
		for i := range 500 {
			env[k*500+i] = float32(0.5 / (1 + float64(k%2)))
		}
	}
	spread, n := LevelSteps(line, env, 10)
	if n != 8 || math.Abs(float64(spread)-20*math.Log10(2)) > 0.01 {
		t.Errorf("%.2f dB over %d notes", float64(spread), n)
	}
}

// Where the bass leads it is judged in its own octave from 60 ms on: two tones of known levels there
// give their distance.
func TestMeasureLead(t *testing.T) {
	// the kick is a steady tone between the hits, too
	lib := &mix.Memory{}
	kick := sine(60, 0.1)
	for at := rate / 4; at < 4*rate; at += rate / 2 {
		for i := range 400 {
			kick.Ch[0][at+i] += float32(0.8 * math.Sin(2*math.Pi*1000*float64(i)/rate) * math.Exp(-float64(i)/60))
		}
	}
	lib.Put("kick", kick)
	hits := []int{}
	for at := rate / 4; at < 4*rate; at += rate / 2 {
		hits = append(hits, at)
	}
	m, err := meter.NewHitMeter(kick.Ch[0], rate, hits, 60, meter.Range{To: 4 * rate})
	if err != nil {
		t.Fatal(err)
	}
	bass := sine(55, 0.4)
	line := []meter.BassNote{{Start: 0, End: 3, Hz: 55, Note: "A1"}}
	lead, err := m.MeasureLead(meter.Held(bass.Ch[0]), line, m.Measure(bass.Ch[0]))
	if err != nil {
		t.Fatal(err)
	}
	if want := 20 * math.Log10(4); math.Abs(float64(lead.Median)-want) > 0.3 {
		t.Errorf("%.2f dB, want %.2f", float64(lead.Median), want)
	}
	if lead.Clearance[len(lead.Clearance)-1].Valid() {
		t.Error("a hit without a note is judged")
	}
	if lead.Under(6) != 0 || lead.Under(20) != 6 {
		t.Errorf("%d under 6, %d under 20", lead.Under(6), lead.Under(20))
	}
}

// What is proposed does what it says when it is applied, and can be taken out again.
func TestProposals(t *testing.T) {
	r, s, w := song(sine(50, 0.3))
	ps, err := Proposals(ctx, r, &s, w, nil)
	if err != nil || len(ps) < 2 {
		t.Fatalf("%d, %v", len(ps), err)
	}
	for _, p := range ps {
		c := With(&s, p.Stem.ID, p.Move, true)
		q, err := r.Pair(ctx, &c, w)
		if err != nil {
			t.Fatal(err)
		}
		f, _ := r.Figures(ctx, q)
		if f.ClearanceMedian != p.After.ClearanceMedian {
			t.Errorf("%s promises %.2f, is %.2f", p.ID, float64(p.After.ClearanceMedian), float64(f.ClearanceMedian))
		}
		again, err := Proposals(ctx, r, &c, w, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range again {
			if a.ID == p.ID && (!a.On || a.Before.ClearanceMedian != p.Before.ClearanceMedian || a.After.ClearanceMedian != p.After.ClearanceMedian) {
				t.Errorf("%s, once in: %+v", p.ID, a)
			}
		}
	}
	if dip := ps[len(ps)-1]; dip.ID != BassDip || !(dip.After.ClearanceMedian > dip.Before.ClearanceMedian+2) {
		t.Errorf("%s: %.1f to %.1f dB", dip.ID, float64(dip.Before.ClearanceMedian), float64(dip.After.ClearanceMedian))
	}
	s.Leader = session.BassLeads
	ps, err = Proposals(ctx, r, &s, w, &meter.Pitch{Hz: 50})
	if err != nil || ps[len(ps)-1].ID != KickDip {
		t.Errorf("where the bass leads, %v", err)
	}
}

// A known delay inserted into a noise-burst kick's own sound is found within 0.05 ms, and so is a flipped
// polarity.
func TestFindNudgeOnNoiseBursts(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for _, c := range []struct {
		frames int
		sign   float32
	}{{137, 1}, {-211, 1}, {64, -1}, {401, -1}} {
		burst := make([]float32, 6000)
		for i := range burst {
			burst[i] = float32(0.4 * r.NormFloat64() * math.Exp(-float64(i)/1800))
		}
		kick, bass := make([]float32, 4*rate), make([]float32, 4*rate)
		var hits []int
		for at := rate / 4; at+rate/2 <= len(kick); at += rate / 2 {
			hits = append(hits, at)
			for i, v := range burst {
				kick[at+i] += v
				bass[at+i+c.frames] += c.sign * v
			}
		}
		m, err := meter.NewHitMeter(kick, rate, hits, 60, meter.Range{To: len(kick)})
		if err != nil {
			t.Fatal(err)
		}
		n, err := FindNudge(m, meter.Held(bass))
		if err != nil {
			t.Fatal(err)
		}
		want := -1000 * float64(c.frames) / rate
		if math.Abs(n.Best.MS-want) > 0.05 || n.Best.Flip != (c.sign < 0) {
			t.Errorf("%d frames, sign %g: found %.3f ms, flip %v; want %.3f", c.frames, c.sign, n.Best.MS, n.Best.Flip, want)
		}
	}
}

// A line detuned by -17 cents is measured again within 2 cents of it, by the same reading that found it
// out of tune; each note by its own error likewise.
func TestDetuneMeasuresAgain(t *testing.T) {
	b := audio.New(rate, 1, 4*rate)
	phase := 0.0
	notes := []float64{43.65, 51.91, 38.89, 43.65}
	for i := range b.Ch[0] {
		k := i / rate
		since := float64(i%rate) / rate
		if i%rate == 0 {
			phase = 0
		}
		phase += 2 * math.Pi * notes[k] * math.Pow(2, 17.0/1200) / rate
		env := math.Min(1, since/0.004) * math.Min(1, (1-since)/0.02) * (0.3 + 0.7*math.Exp(-since/0.3))
		b.Ch[0][i] = float32(0.5 * env * (math.Sin(phase) + 0.3*math.Sin(2*phase)))
	}
	r, s, w := song(b)
	low, fs := meter.Low(b.Ch[0], rate)
	line := meter.BassLine(low, fs)
	if len(line) != 4 || math.Abs(line[0].Cents-17) > 2 {
		t.Fatalf("as it came: %+v", line)
	}
	for name, m := range map[string]move.Move{"all": Detune(line, -17, false), "each": Detune(line, 0, true)} {
		c := With(&s, "b", m, true)
		out, _, err := r.Stem(context.Background(), &c, c.Stem("b"), w)
		if err != nil {
			t.Fatal(err)
		}
		low, fs := meter.Low(out.Mono(), rate)
		again := meter.BassLine(low, fs)
		if len(again) != 4 {
			t.Errorf("%s: %d notes come of 4", name, len(again))
		}
		for i, n := range again {
			if math.Abs(n.Cents) > 2 || math.Abs(n.Start-line[i].Start) > 0.03 {
				t.Errorf("%s: note %d is %.2f cents off at %.3f s", name, i+1, n.Cents, n.Start)
			}
		}
	}
}
