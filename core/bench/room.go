package bench

import (
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

// KickHz is the kick's fundamental, Hz; 0 where it has none, or where there is no kick.
func (b *Bench) KickHz() (float64, error) {
	if b.Song.TriggerStem() == nil {
		return 0, nil
	}
	return b.Renderer.KickHz(b.Song)
}
