package levels

import (
	"net/url"

	"mellowthump/core/levels"
)

// state is what of the page stands in its address.
type state struct {
	Scope  string // "loop" or "song"
	Open   string // the stem, "bus:" and a bus, or "master" whose details are shown
	Order  levels.Order
	Anchor levels.Anchor
	Offset bool // as heard with +6 dB on the master
}

// mixOffset is the gain on the master that some mix into and take off at the end, dB.
const mixOffset = 6.0

// stateOf reads the state from the query of the page.
func stateOf(q url.Values) state {
	st := state{Scope: "loop", Open: q.Get("open"), Order: levels.ByRole, Anchor: anchorOf(q.Get("anchor")), Offset: q.Get("offset") != ""}
	if q.Get("scope") == "song" {
		st.Scope = "song"
	}
	for _, o := range levels.Orders {
		if string(o.Order) == q.Get("order") {
			st.Order = o.Order
		}
	}
	return st
}

// anchorOf reads what a plan begins with: the kick's peak, where nothing else is said.
func anchorOf(text string) levels.Anchor {
	for _, a := range levels.Anchors {
		if string(a.Anchor) == text {
			return a.Anchor
		}
	}
	return levels.KickPeak
}

// With returns the state's query with one value changed; an empty value takes it out.
func (st state) With(key, value string) string {
	q := url.Values{}
	set := func(k, v, plain string) {
		if k == key {
			v = value
		}
		if v != "" && v != plain {
			q.Set(k, v)
		}
	}
	set("scope", st.Scope, "loop")
	set("open", st.Open, "")
	set("order", string(st.Order), string(levels.ByRole))
	set("anchor", string(st.Anchor), string(levels.KickPeak))
	offset := ""
	if st.Offset {
		offset = "on"
	}
	set("offset", offset, "")
	if len(q) == 0 {
		return "?"
	}
	return "?" + q.Encode()
}
