package e2e

import (
	"context"
	"math"
	"os"
	"path/filepath"
	"testing"

	"mellowthump/app/web/plot"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
)

// A new song, its tempo, four files of which two are broken; the figures on the page are the
// core's own; roles are corrected; a reload shows the same.
func TestIntake(t *testing.T) {
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Low Tide", "142")
	kick, bass := fight()
	text := filepath.Join(t.TempDir(), "lyrics.wav")
	if err := os.WriteFile(text, []byte("la la la"), 0o600); err != nil {
		t.Fatal(err)
	}
	cut := write(t, "cut short.wav", kick, wav.Int24)
	if err := os.Truncate(cut, 200000); err != nil {
		t.Fatal(err)
	}
	p.choose(write(t, "Kick.wav", kick, wav.Int24), text, cut, write(t, "loop 3.wav", bass, wav.Float32))
	p.until("the good ones", "document.querySelectorAll('.stems tbody tr').length === 2")
	p.until("a word for the bad ones", "document.querySelectorAll('#imports li.failed').length === 2")
	for name, want := range map[string]string{"lyrics.wav": "not a sound file", "cut short.wav": "cut short: the header promises 7.00 s"} {
		if p.js("[...document.querySelectorAll('#imports li')].find(e => e.dataset.name === '"+name+"').textContent.includes('"+want+"')") != "true" {
			t.Errorf("no word of %q beside %s", want, name)
		}
	}
	song, err := a.store.Load(context.Background(), a.song(p))
	if err != nil || song.BPM != 142 {
		t.Fatalf("%+v, %v", song, err)
	}
	for _, st := range song.Stems {
		facts, err := a.store.Facts(context.Background(), st.Audio)
		if err != nil {
			t.Fatal(err)
		}
		row := "#stem-" + st.ID + " "
		for cell, want := range map[string]string{
			".peak": plot.Signed(float64(facts.SamplePeak), 1), ".rms": plot.Signed(float64(facts.RMS), 1), ".lufs": plot.Signed(float64(facts.Integrated), 1), ".length": "0:07.0",
		} {
			if got := p.text(row + cell); got != want {
				t.Errorf("%s %s reads %q, the core has %q", st.Name, cell, got, want)
			}
		}
		if math.Abs(facts.DurationS-7) > 1e-9 {
			t.Errorf("%s is %g s long", st.Name, facts.DurationS)
		}
	}
	// "loop 3" tells nothing: the page asks, one click answers
	if got := p.text("#missing"); got == "(no #missing)" {
		t.Error("nobody asks which stem is the bass")
	}
	bassID := p.js("[...document.querySelectorAll('.stems tbody tr')].find(r => r.dataset.name === 'loop 3').id.slice(5)")
	p.edited("the role", func() { p.choice("#role-"+bassID, "bass") })
	if p.js("document.querySelector('#missing') === null") != "true" {
		t.Error("the page still asks for the bass")
	}
	if got := p.text("#stem-" + bassID + " .pitch"); got != "43.6 Hz F1 0 c" && got != "43.7 Hz F1 0 c" {
		t.Errorf("the bass's pitch reads %q", got)
	}
	p.edited("the tempo", func() {
		p.fill("#set-bpm", "120")
		p.js("document.querySelector('#set-bpm').dispatchEvent(new Event('change', {bubbles: true}))")
	})
	p.visit(p.js("location.href"))
	if got := p.js("document.querySelector('#set-bpm').value + ' ' + document.querySelectorAll('.stems tbody tr').length"); got != "120 2" {
		t.Errorf("after a reload: %s", got)
	}
	p.clean()
}

// An import under way shows its progress and can be cancelled; nothing of it stays. One that
// a stop of the program breaks off is taken up again.
func TestCancelAndResume(t *testing.T) {
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Long", "120")
	long := audio.New(96000, 2, 96000*150)
	for i := range long.Ch[0] {
		long.Ch[0][i] = float32(i%997)/2000 - 0.25
	}
	path := write(t, "long texture.wav", long, wav.Int24)
	p.choose(path)
	p.until("progress", "document.querySelector('#imports progress')?.value > 5")
	p.click("#imports li button")
	p.until("it is gone", "!document.querySelector('#imports li')")
	if p.js("document.querySelector('.stems') === null") != "true" {
		t.Error("a cancelled file became a stem")
	}
	if left, _ := os.ReadDir(filepath.Join(a.dir, "incoming")); len(left) != 0 {
		t.Errorf("%d cancelled uploads are left", len(left))
	}
	p.choose(path)
	p.until("progress", "document.querySelector('#imports progress')?.value > 5")
	a.down()
	a.up()
	p.visit(a.url + "/songs/" + a.song(p) + "/intake")
	p.until("the stem", "document.querySelectorAll('.stems tbody tr').length === 1 && !document.querySelector('#imports progress')")
	p.clean("ERR_CONNECTION", "Failed to load", "htmx:sendError", "The error") // while the program was away
}

// A bass that ends early, a silent stem and a kick with no hits are said; the rest goes on.
func TestOddStems(t *testing.T) {
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Odd", "120")
	kick, bass := fight()
	p.choose(write(t, "Kick.wav", kick, wav.Int24), write(t, "Bass.wav", bass.Slice(0, 4*rate), wav.Int24), write(t, "Pad.wav", audio.New(rate, 2, rate), wav.Int24))
	p.until("three stems", "document.querySelectorAll('.stems tbody tr').length === 3")
	for _, want := range []string{"ends 3.00 s before the kick", "silent from start to end"} {
		if p.js("document.querySelector('.stems').textContent.includes('"+want+"')") != "true" {
			t.Errorf("no word of %q", want)
		}
	}
	p.click("#rail a[href$=pocket]")
	p.until("the Pocket", "document.querySelector('#pocket-figures')")
	p.clean()
}
