package e2e

import (
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/proto"

	"mellowthump/core/audio/wav"
)

// drop lets files fall on an element, as a hand would.
func (p *page) drop(selector string, paths ...string) {
	p.t.Helper()
	files := ""
	for _, path := range paths {
		body, err := os.ReadFile(path)
		if err != nil {
			p.t.Fatal(err)
		}
		files += fmt.Sprintf(`["%s", "%s"],`, path[strings.LastIndex(path, "/")+1:], base64.StdEncoding.EncodeToString(body))
	}
	p.js(fmt.Sprintf(`(() => {
		const holder = new DataTransfer();
		for (const [name, body] of [%s]) holder.items.add(new File([Uint8Array.from(atob(body), (c) => c.charCodeAt(0))], name));
		const e = new DragEvent("drop", { bubbles: true, cancelable: true, dataTransfer: holder });
		document.querySelector(%q).dispatchEvent(e);
	})()`, files, selector))
}

// Files dropped on the list start a song, with the tempo proposed; dropped on a stage they are taken in. In the list songs
// are found, renamed, deleted and taken back.
func TestHome(t *testing.T) {
	t.Parallel()
	a := start(t, t.TempDir())
	p := a.open("/")
	kick, bass := fight()
	kickFile, bassFile := write(t, "Pier Kick.wav", kick, wav.Int24), write(t, "Pier 808.wav", bass, wav.Int24)
	p.drop("#songs", kickFile, bassFile)
	p.until(
		"the song",
		"location.pathname.endsWith('/intake') && document.querySelectorAll('.stems tbody tr[data-name]').length === 2 && "+
			"!document.querySelector('#imports progress')",
	)
	if got := p.js("document.querySelector('#set-name').value"); got != "Pier" {
		t.Errorf("it is called %q", got)
	}
	id := p.js("document.body.dataset.song")
	p.edited("a name", func() { p.typed("#name-s1", "Boom") })
	p.js("document.querySelectorAll('.stems [name=stem]').forEach(b => b.click())")
	p.edited("both muted", func() { p.click("#ticked-mute") })
	if got := p.js("document.querySelectorAll('.stems .name small').length"); got < "2" {
		t.Errorf("%s notes of muted stems", got)
	}
	p.edited("undo", p.undo)

	p.visit(a.url + "/songs/" + id + "/duck")
	hat := write(t, "Hat.wav", bass, wav.Int16)
	p.drop("#sheet", hat)
	p.until(
		"Intake, with what was dropped on Duck",
		"location.pathname.endsWith('/intake') && (document.querySelectorAll('.stems tbody tr[data-name]').length === 3 || document.querySelector('#brought'))",
	)

	p.visit(a.url + "/")
	p.newSong("Second", "")
	p.visit(a.url + "/")
	p.until("two songs", "document.querySelectorAll('#songs li').length === 2")
	p.fill("#song-search", "pie")
	p.until("one is found", "document.querySelectorAll('#songs li').length === 1 && document.querySelector('#songs li b').textContent === 'Pier'")
	p.js("document.querySelector('.songmenu').open = true")
	p.click("#songs form[action$=delete] button")
	p.until("it is gone", "document.querySelector('#gone') && document.querySelectorAll('#songs > .songs li').length === 1")
	p.click("#undelete")
	p.until("it is back", "document.querySelectorAll('#songs > .songs li').length === 2 && !document.querySelector('#gone')")
	p.clean()
}

// A whole folder, dropped: what lies in it and in what it holds is taken in.
func TestFolderDropped(t *testing.T) {
	t.Parallel()
	a := start(t, t.TempDir())
	p := a.open("/")
	kick, bass := fight()
	dir := t.TempDir()
	inner := filepath.Join(dir, "stems", "low")
	if err := os.MkdirAll(inner, 0o755); err != nil {
		t.Fatal(err)
	}
	for from, to := range map[string]string{write(t, "Pier Kick.wav", kick, wav.Int24): filepath.Join(dir, "stems", "Pier Kick.wav"), write(t, "Pier 808.wav",
		bass, wav.Int24): filepath.Join(inner, "Pier 808.wav")} {
		if err := os.Rename(from, to); err != nil {
			t.Fatal(err)
		}
	}
	var x, y float64
	fmt.Sscan(p.js("(r => `${r.x + r.width / 2} ${r.y + 20}`)(document.querySelector('#songs').getBoundingClientRect())"), &x, &y)
	for _, do := range []proto.InputDispatchDragEventType{proto.InputDispatchDragEventTypeDragEnter, proto.InputDispatchDragEventTypeDragOver,
		proto.InputDispatchDragEventTypeDrop} {
		e := proto.InputDispatchDragEvent{
			Type: do,
			X:    x,
			Y:    y,
			Data: &proto.InputDragData{Items: []*proto.InputDragDataItem{}, Files: []string{filepath.Join(dir, "stems")}, DragOperationsMask: 1},
		}
		if err := e.Call(p); err != nil {
			t.Fatal(err)
		}
	}
	p.until(
		"both stems",
		"location.pathname.endsWith('/intake') && document.querySelectorAll('.stems tbody tr[data-name]').length === 2 && "+
			"!document.querySelector('#imports progress')",
	)
	p.clean()
}

// On the first start three sentences say what this is, and the demo song is one click away; it opens on its run sheet. ? says
// what each stage is for, beside the keys.
func TestFirstStart(t *testing.T) {
	t.Parallel()
	a := start(t, t.TempDir())
	p := a.open("/")
	if got := p.js("document.querySelectorAll('#first-start > p').length"); got != "3" {
		t.Errorf("%s sentences", got)
	}
	p.click("#load-demo")
	p.until("the run sheet's first row", "document.querySelector('.run-row')")
	for _, stage := range []string{"Log", "Levels", "Room"} {
		if stage != "Log" {
			p.click("#rail a[href$=" + strings.ToLower(stage) + "]")
			p.until(stage, "document.querySelector('#sheet').getAttribute('aria-label') !== null && document.title.startsWith('"+stage+"')")
		}
		p.js("document.activeElement.blur()")
		p.press('?')
		p.until("the help", "document.querySelector('#keys-dialog').open")
		if got := p.text("#help-body"); !strings.HasPrefix(got, stage+":") || !strings.Contains(got, ".") {
			t.Errorf("on %s: %s", stage, got)
		}
		p.click("#keys-dialog [data-close]")
	}
	p.clean()
}
