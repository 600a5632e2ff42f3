package bench

import (
	"mellowthump/core/meter"
	"mellowthump/core/mix"
)

// roomMost is the longest stretch that Room listens to, s: every stem's excitation is held.
const roomMost = 60.0

// RoomWindow is the judged stretch as far as Room listens: its first minute.
func (b *Bench) RoomWindow() mix.Window {
	w := b.Loop
	w.To = min(w.To, w.From+int(roomMost*float64(b.Song.Rate)))
	return w
}

// KickPitch is the kick's pitch; the zero value where it has none, or where there is no kick.
func (b *Bench) KickPitch() (meter.Pitch, error) {
	if b.Song.TriggerStem() == nil {
		return meter.Pitch{}, nil
	}
	return b.Renderer.KickPitch(b.Song)
}

// KickHz is the frequency of KickPitch.
func (b *Bench) KickHz() (float64, error) {
	p, err := b.KickPitch()
	return p.Hz, err
}
