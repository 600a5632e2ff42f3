package e2e

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/proto"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/figure"
	"mellowthump/core/midi"
	"mellowthump/internal/outside"
)

// A new song, its tempo, four files of which two are broken; the figures on the page are the
// core's own; roles are corrected; a reload shows the same.
func TestIntake(t *testing.T) {
	t.Parallel()
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
	loop := filepath.Join(t.TempDir(), "loop 3.flac")
	outside.Run(t, "ffmpeg", "-v", "error", "-i", write(t, "loop 3.wav", bass, wav.Int24), loop)
	p.choose(write(t, "Kick.wav", kick, wav.Int24), text, cut, loop)
	p.until("the good ones", "document.querySelectorAll('.stems tbody tr[data-name]').length === 2")
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
			".peak": figure.Signed(float64(facts.SamplePeak), 1), ".rms": figure.Signed(float64(facts.RMS), 1), ".lufs": figure.Signed(float64(facts.Integrated),
				1), ".length": "0:07.0",
		} {
			if got := p.text(row + cell); got != want {
				t.Errorf("%s %s reads %q, the core has %q", st.Name, cell, got, want)
			}
		}
		if math.Abs(facts.DurationS-7) > 1e-9 {
			t.Errorf("%s is %g s long", st.Name, facts.DurationS)
		}
	}
	// the name "loop 3" tells nothing, its sound does; one click corrects, another puts it right
	bassID := p.js("[...document.querySelectorAll('.stems tbody tr[data-name]')].find(r => r.dataset.name === 'loop 3').id.slice(5)")
	if got := p.js("(s => s.value + ': ' + s.title)(document.querySelector('#role-" + bassID + "'))"); !strings.HasPrefix(
		got,
		"bass: it plays low notes, most on F1",
	) {
		t.Errorf("loop 3 is taken as %q", got)
	}
	p.edited("a wrong role", func() { p.choice("#role-"+bassID, "melodic") })
	if got := p.text("#missing"); got == "(no #missing)" {
		t.Error("nobody asks which stem is the bass")
	}
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
	if got := p.js("document.querySelector('#set-bpm').value + ' ' + document.querySelectorAll('.stems tbody tr[data-name]').length"); got != "120 2" {
		t.Errorf("after a reload: %s", got)
	}
	p.clean()
}

// A folder of loops in several formats: roles by sound, tempo and root proposed, a twin
// found; several roles at once; a new version beside the old figures, and undone.
func TestLoops(t *testing.T) {
	t.Parallel()
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Loops", "100")
	kick, bass := fight()
	flipped := audio.New(rate, 1, bass.Frames())
	for i, v := range bass.Ch[0] {
		flipped.Ch[0][i] = -v
	}
	dir := t.TempDir()
	kickFile := write(t, "loop 1.wav", kick, wav.Int24)
	for name, in := range map[string]string{"loop 1.flac": kickFile, "loop 2.aiff": write(t, "loop 2.wav", bass, wav.Int24), "loop 3.wav": write(t, "loop 3.wav",
		flipped, wav.Int24)} {
		outside.Run(
			t,
			"ffmpeg",
			"-v",
			"error",
			"-i",
			in,
			"-c:a",
			map[string]string{".flac": "flac", ".aiff": "pcm_s24be", ".wav": "pcm_s24le"}[filepath.Ext(name)],
			filepath.Join(dir, name),
		)
	}
	p.choose(filepath.Join(dir, "loop 1.flac"))
	p.until("the kick", "document.querySelectorAll('.stems tbody tr[data-name]').length === 1 && !document.querySelector('#imports progress')")
	p.choose(filepath.Join(dir, "loop 2.aiff"))
	p.until("the bass", "document.querySelectorAll('.stems tbody tr[data-name]').length === 2 && !document.querySelector('#imports progress')")
	p.choose(filepath.Join(dir, "loop 3.wav"))
	p.until(
		"it sounds like the bass, so it is asked",
		"document.querySelector('#brought-says')?.textContent === '1 new version' && document.querySelector('#brought tr[data-file=\"loop "+
			"3.wav\"]').textContent.includes('sounds like it')",
	)
	p.js("document.querySelector('#brought select').value = 'new'")
	p.click("#brought-take")
	p.until("its twin", "document.querySelectorAll('.stems tbody tr[data-name]').length === 3 && !document.querySelector('#imports progress')")
	for _, want := range []string{"loop 2 upside down", "mono in two channels"} {
		if p.js("document.querySelector('.stems').textContent.includes('"+want+"')") != "true" {
			t.Errorf("no word of %q", want)
		}
	}
	if got := p.js("[...document.querySelectorAll('.stems select')].map(s => s.value).join(' ')"); got != "kick bass bass" {
		t.Errorf("roles by sound: %s", got)
	}
	if got := p.js("[...document.querySelectorAll('.proposal b')].map(b => b.textContent).join(', ')"); got != "120 bpm, root F" {
		t.Errorf("proposed: %s", got)
	}
	p.edited("the tempo", func() { p.click(".proposal button") })
	if got := p.js("document.querySelector('#set-bpm').value"); got != "120" {
		t.Errorf("the tempo is %s", got)
	}
	// several at once
	p.js("[...document.querySelectorAll('.stems input[name=stem]')].slice(1).forEach(i => i.click())")
	p.edited("two roles", func() { p.choice("#roles-all", "melodic") })
	if got := p.js("[...document.querySelectorAll('.stems select')].map(s => s.value).join(' ')"); got != "kick melodic melodic" {
		t.Errorf("roles: %s", got)
	}
	p.edited("undo", func() { p.click("#undo") })
	// the closer look
	p.click("#stem-s1 .wavebutton")
	p.until("the closer look", "document.querySelector('#more-s1 .plot')")
	// a new bounce of the kick, 6 dB down
	soft := audio.New(rate, 1, kick.Frames())
	for i, v := range kick.Ch[0] {
		soft.Ch[0][i] = v / 2
	}
	was := p.text("#stem-s1 .peak")
	el, err := p.Element("#stem-s1 .replace-file")
	if err != nil {
		t.Fatal(err)
	}
	p.edited("the new version", func() {
		if err := el.SetFiles([]string{write(t, "kick again.wav", soft, wav.Int24)}); err != nil {
			t.Fatal(err)
		}
	})
	if got := p.text("#stem-s1 .was"); got != "was "+was {
		t.Errorf("beside the new figure stands %q, want the old %q", got, was)
	}
	if got := p.js("document.querySelector('#stem-s1').dataset.name"); got != "loop 1" {
		t.Errorf("the new version is named %q", got)
	}
	p.edited("undo", func() { p.click("#undo") })
	if got := p.text("#stem-s1 .peak"); got != was {
		t.Errorf("undone, the peak is %q", got)
	}
	p.clean()
}

// An import under way shows its progress and can be cancelled; nothing of it stays. One that
// a stop of the program breaks off is taken up again.
func TestCancelAndResume(t *testing.T) { // beside others it would go by how fast they are
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
	if p.js("document.querySelectorAll('main#sheet').length") != "1" {
		t.Error("cancelling took the sheet away: nothing else on the page works")
	}
	if left, _ := os.ReadDir(filepath.Join(a.dir, "incoming")); len(left) != 0 {
		t.Errorf("%d cancelled uploads are left", len(left))
	}
	p.choose(path)
	p.until("progress", "document.querySelector('#imports progress')?.value > 5")
	a.down()
	a.up()
	p.visit(a.url + "/songs/" + a.song(p) + "/intake")
	p.until("the stem", "document.querySelectorAll('.stems tbody tr[data-name]').length === 1 && !document.querySelector('#imports progress')")
	p.clean("ERR_CONNECTION", "Failed to load", "htmx:sendError", "htmx:afterRequest", "The error") // while the program was away
}

// A bass that ends early, a silent stem and a kick with no hits are said; the rest goes on.
func TestOddStems(t *testing.T) {
	t.Parallel()
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Odd", "120")
	kick, bass := fight()
	p.choose(
		write(t, "Kick.wav", kick, wav.Int24),
		write(t, "Bass.wav", bass.Slice(0, 4*rate), wav.Int24),
		write(t, "Pad.wav", audio.New(rate, 2, rate), wav.Int24),
	)
	p.until("three stems", "document.querySelectorAll('.stems tbody tr[data-name]').length === 3")
	for _, want := range []string{"ends 3.00 s before the kick", "silent from start to end"} {
		if p.js("document.querySelector('.stems').textContent.includes('"+want+"')") != "true" {
			t.Errorf("no word of %q", want)
		}
	}
	p.click("#rail a[href$=pocket]")
	p.until("the Pocket", "document.querySelector('#pocket-figures')")
	p.clean()
}

// A folder with stems, one of them deeper in, and a MIDI file for one of them, dropped by mouse.
func TestDropFolder(t *testing.T) {
	t.Parallel()
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Folder", "120")
	kick, bass := fight()
	dir := filepath.Join(t.TempDir(), "bounces")
	if err := os.MkdirAll(filepath.Join(dir, "low"), 0o700); err != nil {
		t.Fatal(err)
	}
	move := func(from, to string) {
		t.Helper()
		if err := os.Rename(from, to); err != nil {
			t.Fatal(err)
		}
	}
	move(write(t, "Kick.wav", kick, wav.Int24), filepath.Join(dir, "Kick.wav"))
	move(write(t, "Sub.wav", bass, wav.Int24), filepath.Join(dir, "low", "Sub.wav"))
	var notes []midi.Note
	for h := range 13 { // 0.25 s before the kick's hits
		notes = append(notes, midi.Note{Start: 0.5 * float64(h), End: 0.5*float64(h) + 0.1, Key: 36})
	}
	var mid bytes.Buffer
	if err := midi.Write(&mid, notes, 120); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "Kick.mid"), mid.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	var x, y float64
	fmt.Sscan(p.js("(r => `${r.x + r.width / 2} ${r.y + r.height / 2}`)(document.querySelector('#drop').getBoundingClientRect())"), &x, &y)
	for _, step := range []proto.InputDispatchDragEventType{proto.InputDispatchDragEventTypeDragEnter, proto.InputDispatchDragEventTypeDragOver,
		proto.InputDispatchDragEventTypeDrop} {
		err := proto.InputDispatchDragEvent{
			Type: step,
			X:    x,
			Y:    y,
			Data: &proto.InputDragData{Items: []*proto.InputDragDataItem{}, Files: []string{dir}, DragOperationsMask: 1},
		}.Call(
			p,
		)
		if err != nil {
			t.Fatal(err)
		}
	}
	p.until("both stems and the notes", "document.querySelectorAll('.stems tbody tr[data-name]').length === 2 && document.querySelector('.midi')")
	if got := p.text(".midi"); !strings.HasPrefix(got, "13 MIDI notes, moved by 250 ms") && !strings.HasPrefix(got, "13 MIDI notes, moved by 251 ms") {
		t.Errorf("the notes read %q", got)
	}
	p.clean()
}
