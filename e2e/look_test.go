package e2e

import (
	"os"
	"strings"
	"testing"
)

func TestLook(t *testing.T) {
	a := &app{t: t, url: "http://127.0.0.1:8811"}
	p := a.open("/")
	p.js("(document.cookie='theme=" + os.Getenv("THEME") + ";path=/')")
	song := p.js("document.querySelector('.songs a').getAttribute('href')")
	for i, path := range strings.Fields(os.Getenv("LOOK")) {
		p.visit(a.url + strings.TrimSuffix(song, "/intake") + path)
		p.until("settled", "!document.querySelector('.working') && !document.querySelector('.htmx-request')")
		if s := os.Getenv("LOOKJS"); s != "" {
			p.js("(()=>{" + s + "})()")
			p.until("settled", "!document.querySelector('.working') && !document.querySelector('.htmx-request')")
		}
		p.shot("/tmp/look/" + os.Getenv("THEME") + string(rune('a'+i)) + ".png")
	}
	p.clean()
}
