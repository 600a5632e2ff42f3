package export

import (
	"mellowthump/core/audio/wav"
	"mellowthump/core/body"
)

// Shot is one hit as a WAV, named by its part and its pitch: 24 bits, float where it goes over full scale.
func Shot(part string, s *body.OneShot) File {
	depth := wav.Int24
	if s.Peak > 0 {
		depth = wav.Float32
	}
	return Sound(s.Name(part)+".wav", s.Sound, depth)
}
