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
	kickHz map[string]float64
}

// Put adds a sound.
func (m *Memory) Put(name string, b audio.Buffer) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.sounds == nil {
		m.sounds = map[string]audio.Buffer{}
		m.onsets = map[string][]meter.Onset{}
		m.kickHz = map[string]float64{}
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

func (m *Memory) measure(name string) ([]meter.Onset, float64, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if o, ok := m.onsets[name]; ok {
		return o, m.kickHz[name], nil
	}
	b, ok := m.sounds[name]
	if !ok {
		return nil, 0, fmt.Errorf("no sound named %q", name)
	}
	mono := b.Mono()
	hits := meter.NewOnsetMeter(b.Rate)
	hits.Add(mono)
	o := hits.Onsets(mono)
	low, fs := meter.Low(mono, b.Rate)
	m.onsets[name] = o
	if p := meter.KickPitch(low, fs, meter.Sure(o, meter.QuietHits)); p != nil {
		m.kickHz[name] = p.Hz
	}
	return o, m.kickHz[name], nil
}

// Onsets returns the hits of a sound, doubtful ones too.
func (m *Memory) Onsets(name string) ([]meter.Onset, error) {
	o, _, err := m.measure(name)
	return o, err
}

// KickHz returns the pitch a sound settles on as a kick, 0 where there is none.
func (m *Memory) KickHz(name string) (float64, error) {
	_, hz, err := m.measure(name)
	return hz, err
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
