package e2e

import (
	"strings"
	"testing"

	"mellowthump/app/gate"
)

// Open to a network, the door asks for the password: a wrong one says so and leads nowhere, the right one to what was asked
// for; leaving asks for it again.
func TestDoor(t *testing.T) {
	t.Parallel()
	hash, err := gate.Hash("wide quiet river")
	if err != nil {
		t.Fatal(err)
	}
	a := &app{t: t, dir: t.TempDir(), addr: "127.0.0.1:0", gate: gate.New(hash)}
	a.up()
	t.Cleanup(a.down)
	p := a.open("/")
	p.until("the door", "document.activeElement?.id === 'password'")
	p.typed("#password", "a guess at it")
	p.until("the refusal", "document.querySelector('#door-wrong')")
	if said := p.text("#door-wrong"); !strings.Contains(said, "That is not the password.") {
		t.Errorf("it says %q", said)
	}
	p.typed("#password", "wide quiet river")
	p.until("the songs", "document.querySelector('#new-song')")
	p.newSong("Inside", "120")
	p.visit(a.url + "/")
	p.click("#leave")
	p.until("the door again", "document.querySelector('#password')")
	p.clean("401")
}
