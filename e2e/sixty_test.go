package e2e

import (
	"fmt"
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/session"
)

// Sixty stems, two basses among them, and all of them bounced anew: proposed, taken as one step, given back by one undo.
// One duck works on both basses, and every stage answers.
func TestSixtyStems(t *testing.T) {
	t.Parallel()
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Many Hands", "120")
	kick, bass := fight()
	frames := kick.Frames()
	parts := func(gain float32) []string {
		high := audio.New(bass.Rate, 1, frames)
		for i := range high.Ch[0] {
			high.Ch[0][i] = gain * bass.Ch[0][i] * 0.5
		}
		low := audio.New(bass.Rate, 1, frames)
		for i := range low.Ch[0] {
			low.Ch[0][i] = gain * bass.Ch[0][i]
		}
		paths := []string{write(t, "Kick.wav", kick, wav.Int24), write(t, "Sub.wav", low, wav.Int24), write(t, "808 high.wav", high, wav.Int24)}
		for k := len(paths); k < 60; k++ {
			x := audio.New(kick.Rate, 1, frames)
			for i := range x.Ch[0] {
				x.Ch[0][i] = gain * float32(0.01*math.Sin(2*math.Pi*(300+37*float64(k))*float64(i)/float64(kick.Rate))*(1+math.Sin(float64(i*k)/40000)))
			}
			paths = append(paths, write(t, fmt.Sprintf("Layer %02d.wav", k), x, wav.Int16))
		}
		return paths
	}
	p.choose(parts(1)...)
	p.until("all sixty", "document.querySelectorAll('.stems tbody tr[data-name]').length === 60 && !document.querySelector('#imports progress')")
	song := a.song(p)
	load := func() *session.Song {
		s, err := a.store.Load(t.Context(), song)
		if err != nil {
			t.Fatal(err)
		}
		return &s.Song
	}
	for _, st := range load().Stems {
		if st.Name == "808 high" && st.Role != session.Bass {
			p.edited("its role", func() { p.choice("#role-"+st.ID, string(session.Bass)) })
		}
	}
	p.visit(a.url + "/songs/" + song + "/duck")
	p.edited("the fit", func() { p.click("#fit") })
	both := load().ByRole(session.Bass)
	if len(both) != 2 {
		t.Fatalf("%d basses", len(both))
	}
	for _, st := range both {
		if m, d := st.DuckMove(); d == nil || m.Off {
			t.Errorf("%s does not duck", st.Name)
		}
	}
	was := map[string]string{}
	for _, st := range load().Stems {
		was[st.ID] = st.Audio
	}
	p.visit(a.url + "/songs/" + song + "/intake")
	p.choose(parts(0.9)...)
	p.until("what came back", "document.querySelector('#brought-says')?.textContent.startsWith('59 new versions')") // the kick is the same file
	p.edited("all of them", func() { p.click("#brought-take") })
	changed := 0
	for _, st := range load().Stems {
		if st.Audio != was[st.ID] {
			changed++
		}
	}
	if changed != 59 || len(load().Stems) != 60 {
		t.Errorf("%d of %d stems have new files", changed, len(load().Stems))
	}
	p.edited("undone", p.undo)
	for _, st := range load().Stems {
		if st.Audio != was[st.ID] {
			t.Errorf("%s has still its new file", st.Name)
		}
	}
	for _, stage := range []string{"levels", "pocket", "duck", "log"} {
		p.visit(a.url + "/songs/" + song + "/" + stage)
		p.until(stage, "document.querySelector('#sheet h1')")
	}
	p.clean()
}
