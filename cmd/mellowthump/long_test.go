package main

import (
	"context"
	"fmt"
	"html"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/internal/outside"
)

const (
	longWord    = "MELLOWTHUMP_MINUTES" // how long the stems of TestLongSong are
	stemsWord   = "MELLOWTHUMP_STEMS"   // how many they are
	longMinutes = 7                     // from six on, sounds are not held in memory
	mostMemory  = 1500                  // MB
	mostOfSeven = 600                   // MB, where the collector works hard; a channel of seven minutes is 80
)

// A long song: the whole of Duck over two stems takes memory that hardly grows with the song, one piece of work at a time,
// says how far it is, and ends when its page is left. By default the stems are seven minutes, in stereo at 48 kHz.
func TestLongSong(t *testing.T) {
	outside.Slow(t)
	number := func(word string, usual int) int {
		if n, err := strconv.Atoi(os.Getenv(word)); err == nil {
			return n
		}
		return usual
	}
	minutes, stems := number(longWord, longMinutes), number(stemsWord, 2)
	most := mostMemory
	if os.Getenv(longWord) == "" { // the collector works hard, so that what is held shows
		t.Setenv("GOMEMLIMIT", "400MiB")
		most = mostOfSeven
	}
	k := &killing{t: t}
	child := k.serve(t.TempDir())
	res, err := http.PostForm(k.url+"/songs", url.Values{"name": {"Long"}, "bpm": {"142"}})
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	k.song = regexp.MustCompile(`/songs/(\w+)`).FindStringSubmatch(res.Request.URL.Path)[1]
	began := time.Now()
	names := []string{"kick-low", "808"}
	for name := range ferry() {
		if !slices.Contains([]string{"kick-low", "kick-top", "808"}, name) {
			names = append(names, name)
		}
	}
	slices.Sort(names[2:])
	for i := range stems {
		name, n := names[min(i, 1)], 0
		if i > 1 { // all others are of the rest
			name, n = names[2+(i-2)%(len(names)-2)], (i-2)/(len(names)-2)
		}
		path := longStem(t, name, n, minutes)
		k.uploadFile(path)
		if err := os.Remove(path); err != nil {
			t.Fatal(err)
		}
	}
	k.settled(k.song)
	t.Logf("%d stems of %d min came in within %.1f s; peak %d MB", stems, minutes, time.Since(began).Seconds(), memory(t, child, "VmHWM"))

	whole := func(path string) string {
		t.Helper()
		began := time.Now()
		page, ok := k.request(t.Context(), "GET", "/songs/"+k.song+path, "", nil)
		if !ok {
			t.Errorf("%s: %s", path, page)
		}
		t.Logf("%s: %.2f s; peak %d MB, now %d", path, time.Since(began).Seconds(), memory(t, child, "VmHWM"), memory(t, child, "VmRSS"))
		return page
	}
	if most == mostOfSeven && !k.posted(t.Context(), "/duck/targets", url.Values{"clearance": {"5"}, "depth": {"12"}}) { // within easy reach
		t.Error("the target was refused")
	}
	for _, page := range []string{"/intake", "/levels", "/pocket", "/duck"} {
		whole(page)
		whole(page) // from known facts
	}
	// the page's parts ask at once, as the browser does
	done := make(chan string, 2)
	for _, path := range []string{"/duck/schools", "/duck/cost"} {
		go func() { done <- whole(path) }()
	}
	said := map[string]bool{}
	for n := 0; n < 2; {
		select {
		case page := <-done:
			if !strings.Contains(page, "<table") && !strings.Contains(page, "<svg") {
				t.Errorf("an answer without figures: %s", page)
			}
			n++
		case <-time.After(50 * time.Millisecond):
			for _, part := range []string{"schools", "cost"} {
				text, _ := k.request(t.Context(), "GET", "/songs/"+k.song+"/working/duck/"+part, "", nil)
				said[regexp.MustCompile(`, \d+ % …| …`).ReplaceAllString(text, "")] = true
			}
		}
	}
	t.Logf("it said %v", said)
	if !said["Waiting for its turn"] || !said["Fitting the drawn curve"] {
		t.Errorf("how far it is was said as %v", said)
	}
	if !k.posted(t.Context(), "/duck/fit", url.Values{"school": {"curve"}}) {
		t.Error("the fit was refused")
	}
	whole("/duck")
	whole("/duck/cost")
	if !k.posted(t.Context(), "/duck/fit", url.Values{"school": {"compressor"}}) {
		t.Error("the fit was refused")
	}
	whole("/duck/cost")
	whole("/levels/whole")
	whole("/levels/sum")
	if peak := memory(t, child, "VmHWM"); peak > most {
		t.Errorf("it took %d MB", peak)
	}

	// whoever leaves the page ends the work
	if !k.posted(t.Context(), "/duck/targets", url.Values{"clearance": {"9.3"}, "depth": {"20"}}) {
		t.Error("the target was refused")
	}
	ctx, leave := context.WithTimeout(t.Context(), 500*time.Millisecond)
	defer leave()
	k.request(ctx, "GET", "/songs/"+k.song+"/duck/cost", "", nil)
	left, was := time.Now(), cpu(t, child)
	for still := 0; still < 2; { // half a second each
		<-time.After(500 * time.Millisecond)
		now := cpu(t, child)
		if still++; now-was > 100*time.Millisecond {
			still = 0
		}
		if was = now; time.Since(left) > 10*time.Second {
			t.Fatal("ten seconds after its page was left the work goes on")
		}
	}
	t.Logf("its page left, the work ended within %.1f s", time.Since(left).Seconds()-1)
	if os.Getenv(longWord) == "" {
		return
	}
	if stems > len(names) { // many: every stage, with all that it asks for by itself
		for _, stage := range []string{"room", "body", "width", "compare", "print", "log"} {
			page := whole("/" + stage)
			for _, part := range regexp.MustCompile(`hx-get="/songs/`+k.song+`(/[^"]+)" hx-trigger="load`).FindAllStringSubmatch(page, -1) {
				whole(html.UnescapeString(part[1]))
			}
		}
	}
	if peak := memory(t, child, "VmHWM"); peak > most {
		t.Errorf("all stages took %d MB", peak)
	}
	<-time.After(70 * time.Second)
	if rest := memory(t, child, "VmRSS"); rest > 500 {
		t.Errorf("a minute later it still takes %d MB", rest)
	} else {
		t.Logf("a minute later: %d MB", rest)
	}
}

// longStem writes a part of the demo song, over and over, in stereo at 48 kHz with 24 bits; copies differ in level.
func longStem(t *testing.T, name string, n, minutes int) string {
	t.Helper()
	const rate = 48000
	part := ferry()[name]
	if n > 0 {
		name = fmt.Sprintf("%s %d", name, n+1)
	}
	path := filepath.Join(t.TempDir(), name+".wav")
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	frames := minutes * 60 * rate
	w, err := wav.NewWriter(f, rate, 2, frames, wav.Int24)
	if err != nil {
		t.Fatal(err)
	}
	block := audio.New(rate, 2, part.Frames())
	for c := range block.Ch {
		for i, v := range part.Ch[min(c, len(part.Ch)-1)] {
			block.Ch[c][i] = v / float32(n+1)
		}
	}
	for at := 0; at < frames; at += block.Frames() {
		if err := w.Write(block.Slice(0, min(block.Frames(), frames-at))); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return path
}

// uploadFile sends a file from the disk.
func (k *killing) uploadFile(path string) {
	k.t.Helper()
	in, err := os.Open(path)
	if err != nil {
		k.t.Fatal(err)
	}
	defer in.Close()
	body, w := io.Pipe()
	m := multipart.NewWriter(w)
	go func() {
		part, err := m.CreateFormFile("files", filepath.Base(path))
		if err == nil {
			_, err = io.Copy(part, in)
		}
		m.Close()
		w.CloseWithError(err)
	}()
	res, err := http.Post(k.url+"/songs/"+k.song+"/stems", m.FormDataContentType(), body)
	if err != nil {
		k.t.Fatal(err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		k.t.Fatalf("uploading %s: %s", path, res.Status)
	}
}

// memory is a figure of a process's memory, MB.
func memory(t *testing.T, child *exec.Cmd, what string) int {
	t.Helper()
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", child.Process.Pid))
	if err != nil {
		t.Fatal(err)
	}
	m := regexp.MustCompile(what + `:\s+(\d+) kB`).FindSubmatch(b)
	if m == nil {
		t.Fatalf("no %s in %s", what, b)
	}
	n, _ := strconv.Atoi(string(m[1]))
	return n / 1024
}

// cpu is the processor time that a process has had.
func cpu(t *testing.T, child *exec.Cmd) time.Duration {
	t.Helper()
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", child.Process.Pid))
	if err != nil {
		t.Fatal(err)
	}
	f := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
	user, _ := strconv.Atoi(f[11])
	system, _ := strconv.Atoi(f[12])
	return time.Duration(user+system) * 10 * time.Millisecond // ticks of 100 Hz
}
