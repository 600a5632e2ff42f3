package mix

import (
	"fmt"
	"sync"

	"mellowthump/core/audio"
	"mellowthump/core/audio/resample"
	"mellowthump/core/meter"
)

// Memory is a Library of sounds held in memory by any name, measured when first asked.
type Memory struct {
	mu     sync.Mutex
	sounds map[string]audio.Buffer
	onsets map[string][]meter.Onset
	kick   map[string]meter.Pitch
}

// Put adds a sound.
func (m *Memory) Put(name string, b audio.Buffer) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.sounds == nil {
		m.sounds = map[string]audio.Buffer{}
		m.onsets = map[string][]meter.Onset{}
		m.kick = map[string]meter.Pitch{}
	}
	m.sounds[name] = b
}

// Open returns the sound of that name.
func (m *Memory) Open(name string) (audio.Source, func() error, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	b, ok := m.sounds[name]
	if !ok {
		return nil, nil, fmt.Errorf("no sound named %q", name)
	}
	return audio.Memory{Buffer: b}, func() error { return nil }, nil
}

func (m *Memory) measure(name string) ([]meter.Onset, meter.Pitch, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if o, ok := m.onsets[name]; ok {
		return o, m.kick[name], nil
	}
	b, ok := m.sounds[name]
	if !ok {
		return nil, meter.Pitch{}, fmt.Errorf("no sound named %q", name)
	}
	mono := b.Mono()
	hits := meter.NewOnsetMeter(b.Rate)
	hits.Add(mono)
	o := hits.Onsets(mono)
	low, fs := meter.Low(mono, b.Rate)
	m.onsets[name] = o
	if p := meter.KickPitch(low, fs, meter.Sure(o, meter.QuietHits)); p != nil {
		m.kick[name] = *p
	}
	return o, m.kick[name], nil
}

// Onsets returns the hits of a sound, doubtful ones too.
func (m *Memory) Onsets(name string) ([]meter.Onset, error) {
	o, _, err := m.measure(name)
	return o, err
}

// KickPitch returns the pitch of a sound as a kick, the zero value where there is none.
func (m *Memory) KickPitch(name string) (meter.Pitch, error) {
	_, p, err := m.measure(name)
	return p, err
}

// Bring reads a sound whole and adds it under a name, at a rate in Hz; 0: at its own. It is resampled where it has another.
func (m *Memory) Bring(name string, src audio.Source, rate int) (audio.Buffer, error) {
	b, err := audio.ReadAll(src)
	if err != nil {
		return b, fmt.Errorf("reading the %s: %w", name, err)
	}
	if rate > 0 && b.Rate != rate {
		at, err := resample.New(audio.Memory{Buffer: b}, rate)
		if err == nil {
			b, err = audio.ReadAll(at)
		}
		if err != nil {
			return b, fmt.Errorf("resampling the %s: %w", name, err)
		}
	}
	m.Put(name, b)
	return b, nil
}
