package session

import (
	"encoding/json"
	"fmt"
	"slices"
)

// Read reads the JSON form, of this format or an older one, brings it up to this one and validates it.
func Read(b []byte) (Song, error) {
	var s Song
	b, err := upgraded(b)
	if err == nil {
		err = json.Unmarshal(b, &s)
	}
	if err != nil {
		return Song{}, fmt.Errorf("reading the session: %w", err)
	}
	return s, s.Validate()
}

// upgrades bring a song from the format of their place, counted from 1, to the next.
var upgrades = []func(map[string]any) error{chainsOnBuses, rulesTogether}

// upgraded returns a song's JSON in this program's format. What is of this format is passed on as it is.
func upgraded(b []byte) ([]byte, error) {
	var head struct {
		Format int `json:"format"`
	}
	if err := json.Unmarshal(b, &head); err != nil {
		return nil, err
	}
	if head.Format == Format {
		return b, nil
	}
	if head.Format < 1 || head.Format > Format {
		return nil, fmt.Errorf("the session is of format %d; this program reads formats 1 to %d", head.Format, Format)
	}
	var song map[string]any
	if err := json.Unmarshal(b, &song); err != nil {
		return nil, err
	}
	for f := head.Format; f < Format; f++ {
		if err := upgrades[f-1](song); err != nil {
			return nil, fmt.Errorf("from format %d: %w", f, err)
		}
		song["format"] = f + 1
	}
	return json.Marshal(song)
}

// chainsOnBuses brings format 1 to 2: the duck of a bus becomes a move of the bus's chain, and triggers no longer name
// stems that are not there.
func chainsOnBuses(song map[string]any) error {
	for _, b := range list(song["buses"]) {
		if duck, ok := b["duck"]; ok && duck != nil {
			b["moves"] = []any{duck}
		}
		delete(b, "duck")
	}
	there := map[any]bool{}
	for _, st := range list(song["stems"]) {
		there[st["id"]] = true
	}
	for _, t := range list(song["triggers"]) {
		if !there[t["stem"]] {
			t["stem"] = ""
		}
		if more, ok := t["stems"].([]any); ok {
			t["stems"] = slices.DeleteFunc(more, func(id any) bool { return !there[id] })
		}
	}
	return nil
}

// rulesTogether brings format 2 to 3: what the stages go by stands together, by stage.
func rulesTogether(song map[string]any) error {
	rules := map[string]any{}
	for was, is := range map[string]string{"levels": "levels", "targets": "duck", "room": "room", "body": "body", "width": "width", "compare": "compare",
		"print": "print"} {
		if v, ok := song[was]; ok {
			rules[is] = v
			delete(song, was)
		}
	}
	song["rules"] = rules
	return nil
}

// list returns the objects of a JSON list; other things in it are left alone.
func list(v any) []map[string]any {
	var out []map[string]any
	all, _ := v.([]any)
	for _, e := range all {
		if m, ok := e.(map[string]any); ok {
			out = append(out, m)
		}
	}
	return out
}
