package e2e

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/session"
)

// The bounce folder, as a hand uses it: a wrong path is refused beside what was typed, a folder is named, a stem that was set
// softer elsewhere is bounced into it, the page says by itself that it landed, one undo takes it back, and the watching ends.
func TestBounces(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.js("localStorage.setItem('care-read', '1')")
	id := a.song(p)
	dir := t.TempDir()
	song, err := a.store.Load(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	bass := song.ByRole(session.Bass)[0]
	if _, err := a.store.Edit(t.Context(), id, song.Rev, session.Gain{At: session.At{Stem: bass.ID}, Step: session.ClipStep, DB: -3}); err != nil {
		t.Fatal(err)
	}
	p.click("#rail a[href$=print]")
	p.until("the folder's form", "document.querySelector('#bounces-form') && document.querySelector('#who-none') && document.querySelector('#cost-knob')")
	p.fill("#bounces-path", filepath.Join(dir, "none"))
	p.click("#bounces-watch")
	p.until(
		"it is refused",
		"document.querySelector('#bounces-wrong')?.textContent.includes('no such folder') && document.querySelector('#bounces-path').value.endsWith('none')",
	)
	p.fill("#bounces-path", dir)
	p.click("#bounces-watch")
	p.until("it is watched", "document.querySelector('#bounces-none')")

	src, closeFile, err := a.store.Open(bass.Audio)
	if err != nil {
		t.Fatal(err)
	}
	defer closeFile()
	f := src.Format()
	x := audio.New(f.Rate, f.Channels, int(f.Frames))
	if err := src.ReadAt(x, 0); err != nil {
		t.Fatal(err)
	}
	for _, ch := range x.Ch {
		for i := range ch {
			ch[i] *= 0.7079458 // -3 dB
		}
	}
	var out bytes.Buffer
	if err := wav.Write(&out, x, wav.Int24); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, bass.Name+".wav")
	if err := os.WriteFile(path, out.Bytes()[:out.Len()/2], 0o600); err != nil {
		t.Fatal(err)
	}
	p.until("it is being written", "document.querySelector('.bounce-coming')?.textContent.includes('being written')")
	if err := os.WriteFile(path, out.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	p.until("it landed", "document.querySelector('#bounces-table .ok')?.textContent === 'landed'")
	now, err := a.store.Load(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	if st := now.Stem(bass.ID); st.Clip != 0 || st.Audio == bass.Audio {
		t.Errorf("%+v", st)
	}
	p.edited("taken back", func() { p.click("#undo") })
	p.until("it says so", "document.querySelector('#bounces-table')?.textContent.includes('undone')")
	p.click("#bounces-stop")
	p.until("it is watched no more", "document.querySelector('#bounces-form')")
	p.clean("422")
}
