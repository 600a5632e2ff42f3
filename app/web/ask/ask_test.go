package ask

import (
	"net/url"
	"reflect"
	"testing"

	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// What is written is read as it was.
func TestSides(t *testing.T) {
	for _, s := range []Side{
		{Solo: mix.SoloAll, To: 44100},
		{Rev: 7, Solo: mix.SoloBus("b1"), From: 10, To: 20, Ear: "mono", Down: true, Of: Before{As: OfTrack, Of: "r1"}},
		{Rev: 7, Solo: mix.SoloKick, To: 20, Taken: true, Of: Before{As: OfMove, At: session.At{Bus: "b1"}, Of: "m3"}},
		{Rev: 7, Solo: mix.SoloKick, To: 20, Of: Before{As: OfStage, Of: "room"}},
		{Rev: 7, Solo: mix.SoloKick, To: 20, Try: Try{Stage: "room", What: "dip", Args: []string{"bus:b1", "a&b=c?d", ""}}, Page: url.Values{"scope": {"song"},
			"x": {"a&b", "c"}}},
		{Rev: 7, Solo: mix.SoloKick, To: 20, Of: Before{As: OfTry, Tried: Try{Stage: "log", What: "duck/fit", With: url.Values{"on": {"room/cut",
			"width/wide.pad"}}}}},
	} {
		q, err := url.ParseQuery(s.Query())
		if err != nil {
			t.Fatal(err)
		}
		if is, err := ParseSide(q); err != nil || !reflect.DeepEqual(is, s) {
			t.Errorf("%s is read as %+v (%v)", s.Query(), is, err)
		}
	}
	for _, bad := range []string{"", "rev=1&from=5&to=5", "rev=1&from=-1&to=5", "rev=1&from=0&to=9999999999999", "rev=1&from=0&to=5&solo=cowbell",
		"rev=1&from=0&to=5&ear=fridge",
		"rev=1&from=0&to=5&of=stage", "rev=1&from=0&to=5&of=move:s1", "rev=1&from=0&to=5&of=on:", "rev=1&from=0&to=5&of=now:x", "rev=1&from=0&to=5&of=yesterday",
		"rev=1&from=0&to=5&try=room", "rev=1&from=0&to=5&try=../x", "rev=1&from=0&to=5&try=room/dip:%25zz"} {
		q, err := url.ParseQuery(bad)
		if err != nil {
			t.Fatal(err)
		}
		if s, err := ParseSide(q); err == nil {
			t.Errorf("%q is read as %+v", bad, s)
		}
	}
}

// Whatever is read is written so that it is read the same.
func FuzzSide(f *testing.F) {
	for _, seed := range []string{"rev=1&from=0&to=5", "rev=1&from=0&to=5&of=move:bus:b1/m&try=body/glue:2:bus%253Ab1",
		"rev=1&from=0&to=5&of=on:log/takes:now:1&page=scope%3Dsong", "rev=1&from=0&to=5&try=levels/plan?anchor=kick"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		q, err := url.ParseQuery(text)
		if err != nil {
			return
		}
		s, err := ParseSide(q)
		if err != nil {
			return
		}
		again, err := url.ParseQuery(s.Query())
		if err != nil {
			t.Fatal(err)
		}
		is, err := ParseSide(again)
		if err != nil || is.Query() != s.Query() {
			t.Errorf("%q is written as %q and read as %q (%v)", text, s.Query(), is.Query(), err)
		}
	})
}
