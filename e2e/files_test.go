package e2e

import (
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/internal/outside"
	"mellowthump/internal/songs"
)

const rate = 44100

// fight makes a kick and a bass that fight: 12 hits at 120 bpm, six seconds.
func fight() (kick, bass audio.Buffer) {
	kick, bass = audio.New(rate, 1, 7*rate), audio.New(rate, 2, 7*rate)
	for h := range 13 {
		from := int((0.25 + 0.5*float64(h)) * rate)
		for i := range rate * 2 / 5 {
			t := float64(i) / rate
			kick.Ch[0][from+i] += float32(0.7 * math.Sin(2*math.Pi*(52*t+1.5*(1-math.Exp(-t/0.01)))) * math.Exp(-t/0.08))
		}
	}
	for i := range bass.Ch[0] {
		bass.Ch[0][i] = float32(0.22 * math.Sin(2*math.Pi*43.65*float64(i)/rate))
		bass.Ch[1][i] = bass.Ch[0][i]
	}
	return kick, bass
}

// write puts a buffer into a file of exactly that name and returns its path.
func write(t *testing.T, name string, b audio.Buffer, depth wav.Depth) string {
	t.Helper()
	return outside.WriteWAV(t, name, b, depth)
}

// choose puts files into the drop area's field, as the file dialog does.
func (p *page) choose(paths ...string) {
	p.t.Helper()
	el, err := p.Timeout(patience).Element("#files")
	if err != nil {
		p.t.Fatal(err)
	}
	if err := el.SetFiles(paths); err != nil {
		p.t.Fatal(err)
	}
}

// newSong starts a song by the form on the first page.
func (p *page) newSong(name, bpm string) {
	p.t.Helper()
	p.fill("#new-name", name)
	p.fill("#new-bpm", bpm)
	p.click("#new-song")
	p.until("the new song's Intake", "document.querySelector('#drop') && document.readyState === 'complete'") // its scripts, too
}

// fought is a folder with a song of two files that fight, which came in by hand; TestMain removes it.
var fought songs.Folder

// withFight starts the program with a song of two files that fight.
func withFight(t *testing.T) (*app, *page) {
	t.Helper()
	dir, id := fought.Copy(t, func() (dir, id string) {
		a := start(t, t.TempDir())
		p := a.open("/")
		p.newSong("Low Tide", "120")
		kick, bass := fight()
		p.choose(write(t, "Kick.wav", kick, wav.Int24), write(t, "Sub.wav", bass, wav.Float32))
		p.until("both stems", bothStems)
		id = a.song(p)
		p.visit("about:blank")
		a.down()
		return a.dir, id
	})
	a := start(t, dir)
	p := a.open("/songs/" + id + "/intake")
	p.until("both stems", bothStems)
	return a, p
}

const bothStems = "document.querySelectorAll('.stems tbody tr[data-name]').length === 2 && !document.querySelector('#imports progress')"

// song reads the page's song from the store.
func (a *app) song(p *page) string { return p.js("document.body.dataset.song") }
