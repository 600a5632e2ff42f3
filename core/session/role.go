package session

// Role is what a stem does in the beat.
type Role string

// The roles, in the order in which stems are listed.
const (
	Kick    Role = "kick"
	Bass    Role = "bass"
	Snare   Role = "snare"
	Hats    Role = "hats"
	Perc    Role = "perc"
	Drums   Role = "drums" // several kinds of hits in one file
	Melodic Role = "melodic"
	Voice   Role = "voice"
	Texture Role = "texture"
	Effects Role = "effects"
	Other   Role = "other"
)

// Roles lists the roles in order with the words for them.
var Roles = []struct {
	Role  Role
	Label string
}{
	{Kick, "Kick"}, {Bass, "808 / bass"}, {Snare, "Snare, clap"}, {Hats, "Hats"}, {Perc, "Percussion"}, {Drums, "Drums in one"},
	{Melodic, "Melodic"}, {Voice, "Voice"}, {Texture, "Texture"}, {Effects, "Effects"}, {Other, "Not said"},
}

// Valid reports whether the role is known.
func (r Role) Valid() bool {
	for _, k := range Roles {
		if k.Role == r {
			return true
		}
	}
	return false
}

// Struck reports whether the role is one of drums.
func (r Role) Struck() bool {
	return r == Kick || r == Snare || r == Hats || r == Perc || r == Drums
}

// Order is the role's place in the order in which parts are listed.
func (r Role) Order() int {
	for i, o := range Roles {
		if o.Role == r {
			return i
		}
	}
	return len(Roles)
}
