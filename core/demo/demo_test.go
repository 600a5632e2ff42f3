package demo

import (
	"context"
	"math"
	"testing"
	"time"

	"mellowthump/core/audio"
	"mellowthump/core/duck"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
)

// The faults that the demo promises (4-interface) are there, measured.
func TestSlowFerryFaults(t *testing.T) {
	song := SlowFerry()
	if len(song.Stems) != 12 {
		t.Fatalf("%d stems, want 12", len(song.Stems))
	}
	by := map[string]Stem{}
	for _, s := range song.Stems {
		by[s.ID] = s
		if p := meter.PeakDB(s.Sound.Ch...); !p.Valid() || p > 0 {
			t.Errorf("%s peaks at %v dBFS", s.Name, p)
		}
	}
	low, fs := meter.Low(by["808"].Sound.Ch[0], ferryRate)
	if p := meter.Fundamental(low, fs); p == nil || p.Note != "F1" || math.Abs(p.Cents-ferrySharp) > 3 {
		t.Errorf("the 808 reads %+v, want F1 +17 cents", p)
	}
	kick := by["kick-low"].Sound.Ch[0]
	hits := meter.Onsets(kick, ferryRate)
	if want := 16 * 7; len(hits) != want {
		t.Errorf("%d kick hits, want %d", len(hits), want)
	}
	low, fs = meter.Low(kick, ferryRate)
	if p := meter.KickPitch(low, fs, hits); p == nil || math.Abs(p.Hz-52) > 1 {
		t.Errorf("the kick settles at %+v, want near 52 Hz", p)
	}
	t.Logf("kick peak %.1f, 808 peak %.1f, texture %.1f", meter.PeakDB(kick), meter.PeakDB(by["808"].Sound.Ch[0]), meter.PeakDB(by["texture"].Sound.Ch...))
	if p := meter.PeakDB(by["texture"].Sound.Ch...); p < -22 {
		t.Errorf("the texture peaks at %.1f dBFS: not too loud", p)
	}
	if len(by["snare"].Locks) == 0 {
		t.Error("no stem is locked")
	}
}

type library map[string]audio.Buffer

func (l library) Open(sha string) (audio.Source, func() error, error) {
	return audio.Memory{Buffer: l[sha]}, func() error { return nil }, nil
}
func (l library) Onsets(sha string) ([]float64, error) {
	return meter.Onsets(l[sha].Mono(), ferryRate), nil
}
func (l library) KickHz(sha string) (float64, error) {
	low, fs := meter.Low(l[sha].Mono(), ferryRate)
	h, _ := l.Onsets(sha)
	return meter.KickPitch(low, fs, h).Hz, nil
}

func TestX(t *testing.T) {
	d := SlowFerry()
	lib := library{}
	song := d.Song
	for _, s := range d.Stems {
		s.Audio = s.ID
		lib[s.ID] = s.Sound
		song.Stems = append(song.Stems, s.Stem)
	}
	r := mix.New(lib, 1<<30)
	n, _ := r.Length(&song)
	p, err := r.Pair(context.Background(), &song, mix.Window{From: 0, To: n})
	if err != nil {
		t.Fatal(err)
	}
	f, _ := r.Figures(p)
	for i, h := range f.Hits[:16] {
		t.Logf("%d %s clr %.2f ov %.0f ho %.1f ps %.2f pc %.2f w %.0f", i, song.Position(h.At), h.Clearance, h.Overlap, h.Handover, h.PhaseSum, h.PeakCost, h.Window)
	}
	t.Logf("%v", f.ClearanceMedian)
	t0 := time.Now()
	fit, err := duck.Fit(p.Meter, p.Mono, duck.Goal{Clearance: 8, MaxDepth: 12})
	t.Logf("%v %+v %v", time.Since(t0), fit, err)
	if fit.Duck != nil {
		t.Logf("%+v", fit.Duck)
	}
	all, _, _ := r.Heard(context.Background(), &song, mix.SoloAll, mix.Window{From: 0, To: n})
	m := meter.NewLevelMeter(ferryRate, 2)
	m.Add(all)
	t.Logf("%+v", m.Levels())
}
