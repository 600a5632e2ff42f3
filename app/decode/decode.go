// Package decode reads foreign sound files in a child process of this same program, with limits of memory and time: what
// a crafted or damaged file makes a decoder do ends the child, and never the program.
package decode

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"time"

	"mellowthump/core/audio"
	"mellowthump/core/audio/codec"
	"mellowthump/core/audio/wav"
	"mellowthump/core/group"
)

// asked is set in the environment of a child.
const asked = "MELLOWTHUMP_DECODE"

// said is how a child ends that has said on its standard error what is wrong with the file.
const said = 3

// Limits of one child.
const (
	MostMemory = 1 << 30 // bytes of data
	MostCPU    = 20 * 60 // s of processor time
)

// silence is how long nothing may come of a file before its child is ended.
var silence = 30 * time.Second

// ErrSenseless is what is said of a file that ends its decoder, or that nothing comes of.
var ErrSenseless = errors.New("its data makes no sense: reading it asks for more memory or time than a sound can need")

// Main is called first of all by every program that may be started as a child: in a child it decodes and ends.
func Main() {
	if os.Getenv(asked) == "" {
		return
	}
	if err := child(os.Stdin, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(said)
	}
	os.Exit(0)
}

// head is the first line that a child writes.
type head struct {
	Format audio.Format
	Depth  wav.Depth
	Error  string
}

// child decodes a file to WAV: a line of JSON, then the sound.
func child(in *os.File, out io.Writer) error {
	limit()
	st, err := in.Stat()
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(out, 1<<16)
	defer w.Flush()
	line := json.NewEncoder(w)
	src, err := codec.Open(in, st.Size())
	if err == nil {
		err = src.Format().Check()
	}
	if err != nil {
		return line.Encode(head{Error: err.Error()})
	}
	h := head{Format: src.Format(), Depth: wav.Float32}
	if h.Format.Encoding == audio.PCM && h.Format.BitDepth <= 24 {
		h.Depth = wav.Int24
	}
	if err := line.Encode(h); err != nil {
		return err
	}
	return toWAV(w, src, h.Depth)
}

// toWAV writes a source as WAV, block by block.
func toWAV(w io.Writer, src audio.Source, depth wav.Depth) error {
	f := src.Format()
	out, err := wav.NewWriter(w, f.Rate, f.Channels, int(f.Frames), depth)
	if err != nil {
		return err
	}
	buf := audio.New(f.Rate, f.Channels, 1<<15)
	for at := int64(0); at < f.Frames; at += int64(buf.Frames()) {
		b := buf.Slice(0, int(min(int64(buf.Frames()), f.Frames-at)))
		if err := src.ReadAt(b, at); err != nil {
			return err
		}
		if err := out.Write(b); err != nil {
			return err
		}
	}
	return out.Close()
}

// WAV decodes a file of any kind and hands what comes of it, a WAV, to take; it returns the format that the file has. The
// error is a sentence about the file, or take's.
func WAV(ctx context.Context, file *os.File, take func(io.Reader) error) (audio.Format, error) {
	asking := ctx
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	self, err := os.Executable()
	if err != nil {
		return audio.Format{}, err
	}
	cmd := exec.CommandContext(ctx, self)
	cmd.Env = append(os.Environ(), asked+"=1", "GOTRACEBACK=none", "GOMAXPROCS=1")
	cmd.Stdin = file
	var trace bytes.Buffer
	cmd.Stderr = &bounded{&trace, 1 << 12}
	cmd.WaitDelay = time.Second
	pipe, err := cmd.StdoutPipe()
	if err != nil {
		return audio.Format{}, err
	}
	if err := cmd.Start(); err != nil {
		return audio.Format{}, fmt.Errorf("starting the decoder: %w", err)
	}
	watched := &watched{r: pipe, timer: group.After(silence, func() { stop(ErrSenseless) })}
	defer watched.timer.Stop()
	f, err := receive(watched, take)
	if err != nil {
		stop(err)
	}
	ended := cmd.Wait()
	switch {
	case errors.Is(context.Cause(ctx), ErrSenseless):
		return f, ErrSenseless
	case asking.Err() != nil:
		return f, asking.Err()
	case err != nil && !errors.Is(err, errCut):
		return f, err
	case cmd.ProcessState.ExitCode() == said:
		line, _, _ := strings.Cut(strings.TrimSpace(trace.String()), "\n")
		return f, errors.New(line)
	case ended != nil || err != nil:
		return f, ErrSenseless
	}
	return f, nil
}

// errCut means that the child ended before it had said all.
var errCut = errors.New("cut short")

// receive reads what a child writes.
func receive(r io.Reader, take func(io.Reader) error) (audio.Format, error) {
	b := bufio.NewReaderSize(r, 1<<16)
	line, err := b.ReadBytes('\n')
	var h head
	if err != nil || json.Unmarshal(line, &h) != nil {
		return audio.Format{}, errCut
	}
	if h.Error != "" {
		return h.Format, errors.New(h.Error)
	}
	size := len(wav.Header(h.Format.Rate, h.Format.Channels, int(h.Format.Frames), h.Depth))
	data := int(h.Format.Frames) * h.Format.Channels * int(h.Depth) / 8
	want := int64(size + data + data%2)
	counted := &counting{r: b}
	if err := take(counted); err != nil {
		return h.Format, err
	}
	if counted.n != want {
		return h.Format, errCut
	}
	return h.Format, nil
}

// counting counts what is read.
type counting struct {
	r io.Reader
	n int64
}

func (c *counting) Read(b []byte) (int, error) {
	n, err := c.r.Read(b)
	c.n += int64(n)
	return n, err
}

// watched puts the end off as long as something comes.
type watched struct {
	r     io.Reader
	timer *time.Timer
}

func (w *watched) Read(b []byte) (int, error) {
	n, err := w.r.Read(b)
	w.timer.Reset(silence)
	return n, err
}

// bounded keeps the first bytes of what is written.
type bounded struct {
	w    io.Writer
	left int
}

func (b *bounded) Write(p []byte) (int, error) {
	n := len(p)
	p = p[:min(n, b.left)]
	b.left -= len(p)
	if _, err := b.w.Write(p); err != nil {
		return 0, err
	}
	return n, nil
}
