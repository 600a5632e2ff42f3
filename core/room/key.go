package room

import (
	"context"
	"fmt"
	"math"
	"strings"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Schools of rolling off kick and bass from below; common practice, no published source.
const (
	FixedSchool       = "fixed"       // at 25 Hz
	KeySchool         = "key"         // an octave under the root
	FundamentalSchool = "fundamental" // just under the fundamental
)

const (
	fixedCorner = 25.0
	keyLeast    = 20.0 // Hz: where an octave under the root falls under it, the octave above is taken
	justUnder   = 0.97 // half a semitone
	kickUnder   = 0.55 // of a kick's fundamental
	noteTaken   = 1.0  // dB at its fundamental, from which a cut takes a note
	subLowest   = 12   // MIDI key numbers: C0; roots are counted from C1 on
)

// RootHz is the lowest useful root of a key as it is written ("F minor", "C#"), in the octave from C1 on, Hz; 0 where it
// names no note.
func RootHz(key string) float64 {
	name, _, _ := strings.Cut(strings.TrimSpace(key), " ")
	if name == "" {
		return 0
	}
	step, ok := map[byte]int{'C': 0, 'D': 2, 'E': 4, 'F': 5, 'G': 7, 'A': 9, 'B': 11}[name[0]&^0x20]
	if !ok {
		return 0
	}
	for _, r := range strings.TrimSuffix(name[1:], "m") {
		switch r {
		case '#', '♯':
			step++
		case 'b', '♭':
			step--
		default:
			return 0
		}
	}
	return meter.NoteHz(subLowest + 12 + (step+12)%12)
}

// KeyCorner is the corner at the key: just under an octave under the root, or the octave above where that is under 20 Hz.
func KeyCorner(rootHz float64) float64 {
	hz := rootHz / 2
	if hz < keyLeast {
		hz *= 2
	}
	return math.Round(hz*justUnder*10) / 10
}

// Roll is one school's roll-off of one role, and what it comes to; it is rendered.
type Roll struct {
	Role   session.Role
	School string
	Hz     float64
	Takes  meter.Figure // dB of the role in 20 to 150 Hz
	LU     meter.Figure // of the role's loudness
	Frees  meter.Figure // by how much the peak of the mix falls, dB
	Note   string       // the first note that it takes by over 1 dB at its fundamental; empty: none
	At     float64      // s, when
	Notes  int          // how many
	On     bool         // it is so now
}

// Label names a school.
func (r Roll) Label() string {
	return map[string]string{FixedSchool: "fixed", KeySchool: "at the key", FundamentalSchool: "under the fundamental"}[r.School]
}

// Taken says which note it takes; empty where it takes none.
func (r Roll) Taken(position func(float64) string) string {
	switch r.Notes {
	case 0:
		return ""
	case 1:
		return fmt.Sprintf("takes %s at %s", r.Note, position(r.At))
	}
	return fmt.Sprintf("takes %s at %s, %d notes", r.Note, position(r.At), r.Notes)
}

// Edit rolls all stems of the role off.
func (r Roll) Edit(song *session.Song) session.Together {
	e := session.Together{Said: fmt.Sprintf("Roll the %s off under %s Hz", r.Role, figure.Short(r.Hz))}
	for _, st := range song.ByRole(r.Role) {
		e.Edits = append(e.Edits, session.CutRoom{Stem: st.ID, ID: session.RoomLow, Hz: r.Hz, Why: "rolled off " + r.Label()})
	}
	return e
}

// corners are the schools' corners of a role, 0 where one has none.
func corners(song *session.Song, role session.Role, kickHz float64, line []meter.BassNote) map[string]float64 {
	out := map[string]float64{FixedSchool: fixedCorner}
	if hz := RootHz(song.Key); hz > 0 {
		out[KeySchool] = KeyCorner(hz)
	}
	switch {
	case role == session.Kick && kickHz > 0:
		out[FundamentalSchool] = math.Round(kickHz*kickUnder*10) / 10
	case role == session.Bass && len(line) > 0:
		low := math.Inf(1)
		for _, n := range line {
			low = math.Min(low, n.Hz)
		}
		out[FundamentalSchool] = math.Round(low*justUnder*10) / 10
	}
	return out
}

// Rolls renders every school of kick and bass over a window. line is the bass's; kickHz the kick's fundamental, 0 where
// it is not known.
func Rolls(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, kickHz float64, line []meter.BassNote) ([]Roll, error) {
	mix.Doing(ctx, "Rolling kick and bass off")
	plain := song.Uncut()
	all, err := r.Loudness(ctx, &plain, mix.SoloAll, w)
	if err != nil {
		return nil, err
	}
	var out []Roll
	for role, solo := range map[session.Role]mix.Solo{session.Kick: mix.SoloKick, session.Bass: mix.SoloBass} {
		if len(song.ByRole(role)) == 0 {
			continue
		}
		own, err := r.Loudness(ctx, &plain, solo, w)
		if err != nil {
			return nil, err
		}
		low, err := lowOf(ctx, r, &plain, solo, w)
		if err != nil {
			return nil, err
		}
		at := corners(song, role, kickHz, line)
		for _, school := range []string{FixedSchool, KeySchool, FundamentalSchool} {
			k := Roll{Role: role, School: school, Hz: at[school], Takes: meter.None}
			if k.Hz == 0 {
				continue
			}
			cut := plain.Clone()
			if _, err := k.Edit(&cut).Apply(&cut); err != nil {
				return nil, err
			}
			l, err := r.Loudness(ctx, &cut, solo, w)
			if err != nil {
				return nil, err
			}
			e, err := lowOf(ctx, r, &cut, solo, w)
			if err != nil {
				return nil, err
			}
			mixed, err := r.Loudness(ctx, &cut, mix.SoloAll, w)
			if err != nil {
				return nil, err
			}
			k.LU, k.Frees = own.Integrated-l.Integrated, all.Peak-mixed.Peak
			if low > 0 && e > 0 {
				k.Takes = meter.Figure(dsp.PowerDB(low / e))
			}
			k.takes(song, role, line)
			k.On = true
			for _, st := range song.ByRole(role) {
				k.On = k.On && st.RoomCut(session.RoomLow) == k.Hz
			}
			out = append(out, k)
		}
	}
	return inOrder(out), nil
}

// inOrder puts the kick's before the bass's.
func inOrder(all []Roll) []Roll {
	var kick, bass []Roll
	for _, r := range all {
		if r.Role == session.Kick {
			kick = append(kick, r)
		} else {
			bass = append(bass, r)
		}
	}
	return append(kick, bass...)
}

// takes finds the played notes whose fundamental the cut lowers by more than 1 dB.
func (r *Roll) takes(song *session.Song, role session.Role, line []meter.BassNote) {
	if role != session.Bass {
		return
	}
	s, err := Low.cut(r.Hz, song.RoomRules().Slope).Sections(float64(song.Rate))
	if err != nil {
		return
	}
	for _, n := range line {
		h := dsp.Response(s, n.Hz, float64(song.Rate))
		if -dsp.PowerDB(real(h)*real(h)+imag(h)*imag(h)) <= noteTaken {
			continue
		}
		if r.Notes++; r.Notes == 1 {
			r.Note, r.At = n.Note, n.Start
		}
	}
}

// lowOf is the energy of a solo in 20 to 150 Hz.
func lowOf(ctx context.Context, r *mix.Renderer, song *session.Song, solo mix.Solo, w mix.Window) (float64, error) {
	in, lead := wide(song, w)
	x, key, err := r.Solo(ctx, song, solo, in)
	if err != nil {
		return 0, err
	}
	return mix.Cached(ctx, r.Cache, mix.Key("low energy", key, lead), func() (float64, int, error) { return lowEnergy(x, lead), 8, nil })
}
