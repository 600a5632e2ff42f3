package main

import (
	"strings"
	"testing"

	"mellowthump/app/store"
	"mellowthump/core/session"
)

// A folder is named to a song on the command line by the song's name; one that is named already stays as it is known; what is wrong
// is a sentence.
func TestBouncesFlag(t *testing.T) {
	st, err := store.Open(t.Context(), t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	id, err := st.CreateSong(t.Context(), session.New("Low Tide", 120), "New song")
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	named := func(texts ...string) error {
		f := flags("serve")
		b := bounceFolders(f)
		var args []string
		for _, text := range texts {
			args = append(args, "--bounces", text)
		}
		if err := parse(f, args); err != nil {
			return err
		}
		return b.name(t.Context())(st)
	}
	if err := named("low tide=" + dir); err != nil {
		t.Fatal(err)
	}
	known := store.Bounce{SongID: id, Name: "a.wav", State: store.BounceTaken}
	if err := st.SetBounce(t.Context(), known); err != nil {
		t.Fatal(err)
	}
	if err := named("Low Tide=" + dir); err != nil {
		t.Fatal(err)
	}
	if all, err := st.Bounces(t.Context(), id); err != nil || len(all) != 1 {
		t.Errorf("what is known of it is forgotten: %v %v", all, err)
	}
	if folder, err := st.BounceFolder(t.Context(), id); err != nil || folder != dir {
		t.Errorf("%q %v", folder, err)
	}
	for text, want := range map[string]string{"Low Tide": "SONG=FOLDER", "=" + dir: "SONG=FOLDER", "High Tide=" + dir: "no song",
		"Low Tide=" + dir + "/none": "no such folder"} {
		if err := named(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
}
