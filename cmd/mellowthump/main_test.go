package main

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/demo"
	"mellowthump/internal/outside"
)

// command runs the program's main in this process.
func command(args ...string) (status int, stdout, stderr string) {
	var out, err bytes.Buffer
	status = run(context.Background(), args, &out, &err)
	return status, out.String(), err.String()
}

// ferry writes kick and 808 of the demo song to files, as a producer would bounce them.
var ferry = sync.OnceValue(func() map[string]audio.Buffer {
	out := map[string]audio.Buffer{}
	for _, s := range demo.SlowFerry().Stems {
		out[s.ID] = s.Sound
	}
	return out
})

type clearJSON struct {
	Kick struct {
		FundamentalHz float64 `json:"fundamental_hz"`
		Note          string  `json:"note"`
	}
	Before, After struct {
		Hits              []map[string]any
		ClearanceMedianDB float64 `json:"clearance_median_db"`
		ClearanceP10DB    float64 `json:"clearance_p10_db"`
		OverlapMedianPct  float64 `json:"overlap_median_pct"`
		SumPeakDBFS       float64 `json:"sum_peak_dbfs"`
	}
	Duck struct {
		Needed        bool
		School        string
		Params        []map[string]any
		DepthDB       float64 `json:"depth_db"`
		BassLossLU    float64 `json:"bass_loss_lu"`
		BassLossLowDB float64 `json:"bass_loss_low_db"`
		Freed         float64 `json:"freed_headroom_db"`
		Back          bool    `json:"back_before_next_hit"`
		Reason        string
	}
}

func clearJSONOf(t *testing.T, args ...string) clearJSON {
	t.Helper()
	status, out, errs := command(append([]string{"clear"}, args...)...)
	if status != 0 {
		t.Fatalf("clear %v: %d %s", args, status, errs)
	}
	var c clearJSON
	if err := json.Unmarshal([]byte(out), &c); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return c
}

// A bass over full scale is written as float and said so, never clipped; one whose channels are opposite cancels in mono,
// and that is what is said.
func TestClearSaysWhatIsSo(t *testing.T) {
	outside.Slow(t)
	kick := outside.WriteWAV(t, "kick.wav", ferry()["kick-low"], wav.Int24)
	hot := ferry()["808"]
	loud := audio.New(hot.Rate, 1, hot.Frames())
	for i, v := range hot.Ch[0] {
		loud.Ch[0][i] = 4 * v
	}
	out := filepath.Join(t.TempDir(), "ducked.wav")
	status, said, errs := command("clear", "--kick", kick, "--bass", outside.WriteWAV(t, "hot.wav", loud, wav.Float32), "--out", out)
	if status != 0 || !strings.Contains(said, "32-bit float") {
		t.Fatalf("%d %s %.300s", status, errs, said)
	}
	if text := outside.Run(t, "ffprobe", "-v", "error", "-show_entries", "stream=sample_fmt", "-of", "csv=p=0", out); !strings.Contains(text, "flt") {
		t.Errorf("written as %s", text)
	}
	opposite := audio.New(hot.Rate, 2, hot.Frames())
	for i, v := range hot.Ch[0] {
		opposite.Ch[0][i], opposite.Ch[1][i] = v, -v
	}
	c := clearJSONOf(t, "--kick", kick, "--bass", outside.WriteWAV(t, "opposite.wav", opposite, wav.Float32))
	if c.Duck.Needed || !strings.Contains(c.Duck.Reason, "cancels in mono") {
		t.Errorf("%+v", c.Duck)
	}
}

// The fit reaches its target in 90 % of hits of the demo, measured again from the exported
// file by the command itself; the exported curve is the one that was fitted.
func TestClearOnTheDemo(t *testing.T) {
	outside.Slow(t)
	dir := t.TempDir()
	kick := outside.WriteWAV(t, "kick.wav", ferry()["kick-low"], wav.Int24)
	bass := outside.WriteWAV(t, "808.wav", ferry()["808"], wav.Int24)
	out, curve := filepath.Join(dir, "ducked.wav"), filepath.Join(dir, "curve.csv")
	c := clearJSONOf(t, "--kick", kick, "--bass", bass, "--bpm", "142", "--out", out, "--curve", curve)
	if !c.Duck.Needed || c.Duck.School != "curve" || len(c.Duck.Params) < 3 || !c.Duck.Back || c.Duck.Reason == "" {
		t.Errorf("%+v", c.Duck)
	}
	if c.Before.ClearanceP10DB >= 8 || c.After.ClearanceP10DB < 8 || len(c.After.Hits) != 112 {
		t.Errorf("before %.2f, after %.2f, %d hits", c.Before.ClearanceP10DB, c.After.ClearanceP10DB, len(c.After.Hits))
	}
	if c.Duck.BassLossLU <= 0 || c.Duck.BassLossLowDB <= 0 || c.Duck.Freed <= 0 || c.Duck.DepthDB < -12 || c.Duck.DepthDB >= 0 {
		t.Errorf("%+v", c.Duck)
	}
	if math.Abs(c.Kick.FundamentalHz-48) > 0.5 || c.Kick.Note != "G1" {
		t.Errorf("kick %+v", c.Kick)
	}
	for _, field := range strings.Fields("at_s clearance_db overlap_pct handover_ms phase_sum_db peak_cost_db") {
		if _, ok := c.Before.Hits[0][field]; !ok {
			t.Errorf("hits lack %s", field)
		}
	}
	again := clearJSONOf(t, "--kick", kick, "--bass", out)
	under := 0
	for _, h := range again.Before.Hits {
		if h["clearance_db"].(float64) < 8 {
			under++
		}
	}
	if under > len(again.Before.Hits)/10 || again.Before.ClearanceP10DB < 8 || again.Duck.Needed {
		t.Errorf("measured again: %d of %d under 8 dB, worst tenth %.3f, %+v", under, len(again.Before.Hits), again.Before.ClearanceP10DB, again.Duck)
	}
	f, err := os.Open(curve)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	if err != nil || len(rows) < 50 || rows[0][0] != "ms" {
		t.Fatalf("%d rows, %v", len(rows), err)
	}
	low := 0.0
	for _, r := range rows[1:] {
		var db float64
		fmt.Sscan(r[1], &db)
		low = min(low, db)
	}
	if math.Abs(low-c.Duck.DepthDB) > 1e-3 {
		t.Errorf("the curve goes to %.3f dB, the duck to %.3f", low, c.Duck.DepthDB)
	}
	info, err := os.Stat(out)
	if err != nil || info.Size() < 1000 {
		t.Errorf("%v, %v", info, err)
	}
}

// The keyed schools on the command line: the detector's values in the JSON, the gain as MIDI, and the
// exported bass measured again has what was reported.
func TestClearInOtherSchools(t *testing.T) {
	outside.Slow(t)
	kick, bass := outside.WriteWAV(t, "kick.wav", ferry()["kick-low"], wav.Int24), outside.WriteWAV(t, "808.wav", ferry()["808"], wav.Int24)
	for school, field := range map[string]string{"compressor": "threshold_db", "band": "band"} {
		dir := t.TempDir()
		out, mid := filepath.Join(dir, "ducked.wav"), filepath.Join(dir, "gain.mid")
		status, body, errs := command(
			"clear",
			"--kick",
			kick,
			"--bass",
			bass,
			"--bpm",
			"142",
			"--school",
			school,
			"--target",
			"5",
			"--max-depth",
			"18",
			"--out",
			out,
			"--midi",
			mid,
		)
		if status != 0 {
			t.Fatalf("%s: %d %s", school, status, errs)
		}
		var c struct {
			Duck struct {
				School  string
				Reached bool
				Params  map[string]any
			}
			After struct {
				P10 float64 `json:"clearance_p10_db"`
			}
		}
		if err := json.Unmarshal([]byte(body), &c); err != nil {
			t.Fatal(err, body[strings.Index(body, `"duck"`):strings.Index(body, `"after"`)])
		}
		if c.Duck.School != school || !c.Duck.Reached || c.Duck.Params[field] == nil || c.After.P10 < 5 {
			t.Errorf("%s: %+v", school, c)
		}
		again := clearJSONOf(t, "--kick", kick, "--bass", out, "--target", "5")
		if math.Abs(again.Before.ClearanceP10DB-c.After.P10) > 0.05 {
			t.Errorf("%s: the exported bass has %.2f dB, %.2f was reported", school, again.Before.ClearanceP10DB, c.After.P10)
		}
		if b, err := os.ReadFile(mid); err != nil || !strings.HasPrefix(string(b), "MThd") {
			t.Errorf("%s: no MIDI file, %v", school, err)
		}
	}
}

// With the bass turned down 30 dB no duck is needed; with a 1 dB cap it cannot and says why.
func TestClearSaysWhenNotAndWhyNot(t *testing.T) {
	outside.Slow(t)
	kick := outside.WriteWAV(t, "kick.wav", ferry()["kick-low"], wav.Int24)
	soft := audio.New(44100, 1, ferry()["808"].Frames())
	for i, v := range ferry()["808"].Ch[0] {
		soft.Ch[0][i] = v * float32(math.Pow(10, -30.0/20))
	}
	c := clearJSONOf(t, "--kick", kick, "--bass", outside.WriteWAV(t, "soft.wav", soft, wav.Float32))
	if c.Duck.Needed || c.Duck.DepthDB != 0 || len(c.Duck.Params) != 0 || !strings.Contains(c.Duck.Reason, "No duck needed") {
		t.Errorf("%+v", c.Duck)
	}
	bass := outside.WriteWAV(t, "808.wav", ferry()["808"], wav.Int24)
	c = clearJSONOf(t, "--kick", kick, "--bass", bass, "--max-depth", "1")
	if !c.Duck.Needed || c.After.ClearanceP10DB >= 8 || !strings.Contains(c.Duck.Reason, "cannot be reached") ||
		!strings.Contains(c.Duck.Reason, "cap of 1.0 dB") {
		t.Errorf("%+v", c.Duck)
	}
}

// Compressed files at another rate do as well as WAV files at the same.
func TestClearOtherFormats(t *testing.T) {
	outside.Slow(t)
	kick := outside.WriteWAV(t, "kick.wav", ferry()["kick-low"], wav.Int24)
	bass := outside.WriteWAV(t, "808.wav", ferry()["808"], wav.Int24)
	same := clearJSONOf(t, "--kick", kick, "--bass", bass)
	flac := filepath.Join(t.TempDir(), "808.flac")
	outside.Run(t, "ffmpeg", "-v", "error", "-i", bass, "-ar", "48000", flac)
	aiff := filepath.Join(t.TempDir(), "kick.aiff")
	outside.Run(t, "ffmpeg", "-v", "error", "-i", kick, "-c:a", "pcm_s24be", aiff)
	other := clearJSONOf(t, "--kick", aiff, "--bass", flac)
	if d := math.Abs(same.Before.ClearanceMedianDB - other.Before.ClearanceMedianDB); d > 0.05 || len(other.After.Hits) != len(same.After.Hits) {
		t.Errorf("the median clearance differs by %.3f dB; %d hits, %d hits", d, len(same.After.Hits), len(other.After.Hits))
	}
	status, out, errs := command("measure", flac, aiff)
	if status != 0 || !strings.Contains(out, `"format": "flac"`) || !strings.Contains(out, `"format": "aiff"`) {
		t.Errorf("measure: %d %s", status, errs)
	}
}

// Sound that is none is refused with its place, and nothing is written.
func TestClearRefusesNoSound(t *testing.T) {
	outside.Slow(t)
	kick := outside.WriteWAV(t, "kick.wav", ferry()["kick-low"], wav.Int24)
	out := filepath.Join(t.TempDir(), "out.wav")
	for _, v := range []float64{math.NaN(), math.Inf(1), 2e4} {
		bad := outside.Sine(44100, 1, 50, 0.5, 2, 0)
		bad.Ch[0][11025] = float32(v)
		status, said, errs := command("clear", "--kick", kick, "--bass", outside.WriteWAV(t, "bad.wav", bad, wav.Float32), "--out", out)
		if status == 0 || said != "" || !strings.Contains(errs, "the bass") || !strings.Contains(errs, "0.250 s") {
			t.Errorf("%g: %d %q %q", v, status, said, errs)
		}
	}
	if _, err := os.Stat(out); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("something was written: %v", err)
	}
}

// What is no regular file is written through or refused, never replaced; a link stays a link.
func TestWriteFile(t *testing.T) {
	dir := t.TempDir()
	write := func(w io.Writer) error {
		_, err := io.WriteString(w, "sound")
		return err
	}
	if err := writeFile(dir, write); err == nil || !strings.Contains(err.Error(), "folder") {
		t.Errorf("a folder: %v", err)
	}
	if err := writeFile(os.DevNull, write); err != nil {
		t.Errorf("a device: %v", err)
	}
	if st, err := os.Stat(os.DevNull); err != nil || st.Mode().IsRegular() {
		t.Errorf("the device is now %v, %v", st.Mode(), err)
	}
	pipe := filepath.Join(dir, "pipe")
	outside.Run(t, "mkfifo", pipe)
	got := make(chan string)
	go func() {
		b, _ := os.ReadFile(pipe)
		got <- string(b)
	}()
	if err := writeFile(pipe, write); err != nil {
		t.Errorf("a pipe: %v", err)
	}
	if text := <-got; text != "sound" {
		t.Errorf("through the pipe came %q", text)
	}
	target, link := filepath.Join(dir, "a.wav"), filepath.Join(dir, "b.wav")
	if err := errors.Join(os.WriteFile(target, []byte("old"), 0o600), os.Symlink(target, link)); err != nil {
		t.Fatal(err)
	}
	if err := writeFile(link, write); err != nil {
		t.Error(err)
	}
	if b, _ := os.ReadFile(target); string(b) != "sound" {
		t.Errorf("what the link points at holds %q", b)
	}
	if st, _ := os.Lstat(link); st.Mode()&os.ModeSymlink == 0 {
		t.Errorf("the link is now %v", st.Mode())
	}
}

func TestMeasure(t *testing.T) {
	tone := outside.WriteWAV(t, "tone.wav", outside.Sine(48000, 1, 997, 1, 3, 0), wav.Float32)
	silence := outside.WriteWAV(t, "silence.wav", audio.New(44100, 2, 44100), wav.Int24)
	status, out, errs := command("measure", tone, silence)
	if status != 0 {
		t.Fatal(status, errs)
	}
	var got []map[string]any
	if err := json.Unmarshal([]byte(out), &got); err != nil {
		t.Fatal(err)
	}
	if l := got[0]["loudness_integrated_lufs"].(float64); math.Abs(l+3.01) > 0.03 { // BS.1770's 997 Hz case
		t.Errorf("%g LUFS", l)
	}
	if got[0]["true_peak_dbtp"] == nil || got[0]["correlation"] != nil || got[0]["bit_depth"] != 32.0 || got[0]["file"] != tone {
		t.Errorf("%v", got[0])
	}
	if got[1]["loudness_integrated_lufs"] != nil || got[1]["fundamental"] != nil || got[1]["onsets_s"] == nil {
		t.Errorf("%v", got[1])
	}
	if regexp.MustCompile(`NaN|Inf`).MatchString(out) {
		t.Error("the JSON holds no number")
	}
	kick := outside.WriteWAV(t, "bounce 3.wav", ferry()["kick-low"].Slice(0, 8*44100), wav.Int24)
	if _, out, _ = command("measure", kick); json.Unmarshal([]byte(out), &got) != nil {
		t.Fatal(out)
	}
	settles, _ := got[0]["kick"].(map[string]any)
	sure, _ := got[0]["role_confidence"].(float64)
	if got[0]["role"] != "kick" || sure < 0.8 || got[0]["role_reason"] == "" || settles["note"] != "G1" || settles["settled"] != true {
		t.Errorf("%v %v %v %v", got[0]["role"], got[0]["role_confidence"], got[0]["role_reason"], settles)
	}
}

func TestUsage(t *testing.T) {
	dir := t.TempDir()
	text := filepath.Join(dir, "text.wav")
	os.WriteFile(text, []byte("words"), 0o600)
	kick := outside.WriteWAV(t, "kick.wav", ferry()["kick-low"].Slice(0, 44100), wav.Int24)
	silent := outside.WriteWAV(t, "silent.wav", audio.New(44100, 1, 44100), wav.Int24)
	for _, c := range []struct {
		args   string
		status int
		say    string
	}{
		{"", 2, "clear"}, {"dance", 2, "no command"}, {"help", 0, "measure"},
		{"measure", 2, "at least one file"}, {"measure " + text, 1, "not a sound file"}, {"measure /nowhere.wav", 1, "no such file"}, {"measure " + dir, 1, "folder"},
		{"clear --kick x", 2, "both"}, {"clear --kick " + kick + " --bass " + text, 1, "not a sound file"}, {"clear --wild", 2, "wild"},
		{"clear --kick " + silent + " --bass " + kick, 1, "silent"}, {"clear --kick a --bass b --target 900", 2, "outside"},
		{"clear --kick a --bass b --leader snare", 2, "neither kick nor bass"}, {"clear --kick a --bass b --leader bass --school band", 2,
			"by a drawn curve"}, {"clear --kick a --bass b --school gate", 2, "none of curve, compressor and band"},
		{"clear --kick a --bass b --bpm 4", 2, "outside"}, {"clear --kick a --bass b c", 2, "--kick and --bass"},
		{"clear --kick " + kick + " --bass " + kick + " --out /nowhere/x.wav", 1, "writing"},
		{"password wide-quiet-river", 2, "never on the command line"}, {"check --data " + filepath.Join(dir, "none"), 1, "no data of this program"}, {"check x", 2,
			"no file names"}, {"serve --addr nonsense", 2, "addr"}, {"serve x", 2, "no file names"}, {"demo x", 2, "no file names"},
	} {
		status, out, errs := command(strings.Fields(c.args)...)
		if status != c.status || !strings.Contains(errs, c.say) {
			t.Errorf("%q: %d %q, want %d and a word of %q", c.args, status, errs, c.status, c.say)
		}
		if c.status == 1 && (strings.Count(errs, "\n") != 1 || out != "") {
			t.Errorf("%q: errors are one line, and nothing else is printed: %q %q", c.args, errs, out)
		}
	}
}

// A password comes on standard input; a start on a network asks for it, or says one of its own.
func TestPassword(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	typed := func(text string) (int, string, string) {
		t.Helper()
		r, w, err := os.Pipe()
		if err != nil {
			t.Fatal(err)
		}
		defer func(was *os.File) { os.Stdin = was; r.Close() }(os.Stdin)
		os.Stdin = r
		io.WriteString(w, text)
		w.Close()
		return command("password", "--data", dir)
	}
	var said bytes.Buffer
	who, err := admit("0.0.0.0", "8808", dir, &said)
	once := regexp.MustCompile(`is (\S{19})  `).FindStringSubmatch(said.String())
	if err != nil || who.Gate == nil || once == nil || !strings.Contains(said.String(), "NOT encrypted") {
		t.Fatalf("%v, %q", err, said.String())
	}
	if _, err := who.Gate.Enter(t.Context(), "192.0.2.1", once[1]); err != nil {
		t.Errorf("the password of this start: %v", err)
	}
	if status, _, errs := typed("short\n"); status != 1 || !strings.Contains(errs, "at least") {
		t.Errorf("%d %q", status, errs)
	}
	if status, out, errs := typed("wide quiet river\n"); status != 0 || !strings.Contains(out, "is set") || strings.Contains(out, "river") {
		t.Errorf("%d %q %q", status, out, errs)
	}
	said.Reset()
	who, err = admit("192.0.2.1", "8808", dir, &said)
	if err != nil || strings.Contains(said.String(), "of this start") {
		t.Fatalf("%v, %q", err, said.String())
	}
	if _, err := who.Gate.Enter(t.Context(), "192.0.2.1", "wide quiet river"); err != nil {
		t.Error(err)
	}
	if who, err = admit("127.0.0.2", "8808", dir, &said); err != nil || who.Gate != nil {
		t.Errorf("this machine is asked: %v", err)
	}
}

// The demo starts on a free port with its song, prints the address, and stops when told.
func TestDemoServes(t *testing.T) {
	outside.Slow(t)
	ctx, stop := context.WithCancel(context.Background())
	r, w := io.Pipe()
	done := make(chan int, 1)
	go func() {
		done <- run(ctx, []string{"demo", "--addr", "127.0.0.1:0"}, w, os.Stderr)
		w.Close()
	}()
	var text strings.Builder
	buf := make([]byte, 1024)
	re := regexp.MustCompile(`http://\S+/`)
	for !re.MatchString(text.String()) {
		n, err := r.Read(buf)
		if err != nil {
			t.Fatal(text.String(), err)
		}
		text.Write(buf[:n])
	}
	go io.Copy(io.Discard, r)
	res, err := http.Get(re.FindString(text.String()))
	if err != nil {
		t.Fatal(err)
	}
	body, _ := io.ReadAll(res.Body)
	res.Body.Close()
	if !strings.Contains(string(body), "Slow Ferry") {
		t.Errorf("%.300s", body)
	}
	stop()
	select {
	case status := <-done:
		if status != 0 {
			t.Errorf("stopped with %d", status)
		}
	case <-time.After(20 * time.Second):
		t.Fatal("it does not stop")
	}
}
