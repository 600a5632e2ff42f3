// Package levels does the arithmetic of gain from clip to master: what every step measures, who
// uses the headroom, and which trims bring it to where it should be.
package levels

import (
	"context"
	"fmt"
	"math"
	"runtime"
	"slices"

	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Row is a stem of the ledger.
type Row struct {
	Stem   *session.Stem
	Levels mix.StemLevels
	Window *session.Window // of its peak at the end of its own chain, dBFS; nil where its role has none
	Group  bool            // it is one of several that are judged together
}

// Peak is the stem's peak at the end of its own chain.
func (r Row) Peak() meter.Figure { return r.Levels.Steps[session.TrackStep].Peak }

// Outside returns how far a peak lies over (positive) or under a window, dB; 0 within it.
func Outside(peak meter.Figure, w *session.Window) float64 {
	if w == nil || !peak.Valid() {
		return 0
	}
	return float64(peak) - w.Clamp(float64(peak))
}

// Group is the stems of one role that are judged by their sum: the layers of a kick, the basses.
type Group struct {
	Role   session.Role
	Stems  []*session.Stem
	Level  mix.Level
	Window *session.Window
}

// Bus is a bus of the ledger.
type Bus struct {
	Bus     *session.Bus
	In, Out mix.Level // before and behind its fader
}

// Ledger is what every step measures over a window.
type Ledger struct {
	Song   *session.Song
	Rows   []Row
	Groups []Group // of kick and bass, where such stems are
	Buses  []Bus   // those that anything goes through
	Master Bus     // its Bus is nil
}

// Measure measures a song at every step over a window, each in a real render.
func Measure(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) (*Ledger, error) {
	l := &Ledger{Song: song, Rows: make([]Row, len(song.Stems))}
	g, inner := group.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i := range song.Stems {
		st := &song.Stems[i]
		l.Rows[i].Stem = st
		g.Go(func() (err error) {
			if l.Rows[i].Levels, err = r.StemLevels(inner, song, st, w); err != nil {
				err = fmt.Errorf("measuring %s: %w", st.Name, err)
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	for _, role := range []session.Role{session.Kick, session.Bass} {
		if stems := song.ByRole(role); len(stems) > 0 {
			l.Groups = append(l.Groups, Group{Role: role, Stems: stems})
		}
	}
	buses := make([]Bus, len(song.Buses))
	g, inner = group.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i := range l.Groups {
		g.Go(func() (err error) {
			l.Groups[i].Level, err = l.together(inner, r, l.Groups[i].Stems, w)
			return err
		})
	}
	for i := range song.Buses {
		g.Go(func() error {
			in, err := r.GroupLevel(inner, song, song.Buses[i].ID, w)
			buses[i] = Bus{&song.Buses[i], in, in.Turned(song.Buses[i].Fader)}
			return err
		})
	}
	g.Go(func() error {
		in, err := r.GroupLevel(inner, song, "", w)
		l.Master = Bus{nil, in, in.Turned(song.Master.Fader)}
		return err
	})
	if err := g.Wait(); err != nil {
		return nil, err
	}
	for _, b := range buses {
		if b.In.Peak.Valid() {
			l.Buses = append(l.Buses, b)
		}
	}
	l.windows()
	return l, nil
}

// together measures the stems of a group at the end of their chains; one alone is known.
func (l *Ledger) together(ctx context.Context, r *mix.Renderer, stems []*session.Stem, w mix.Window) (mix.Level, error) {
	if len(stems) == 1 {
		return l.Row(stems[0].ID).Levels.Steps[session.TrackStep], nil
	}
	return r.TogetherLevel(ctx, l.Song, stems, w)
}

// windows gives every row and group its window: the anchored ones by the anchor, the bass's by
// the kick as it measures.
func (l *Ledger) windows() {
	anchor := l.Song.LevelRules().Kick
	kick := meter.Figure(anchor)
	if g := l.Group(session.Kick); g != nil && g.Level.Peak.Valid() {
		kick = g.Level.Peak
	}
	window := func(role session.Role) *session.Window {
		at := anchor
		if role == session.Bass {
			at = float64(kick)
		}
		if w, ok := l.Song.Window(role, at); ok {
			return &w
		}
		return nil
	}
	for i := range l.Groups {
		l.Groups[i].Window = window(l.Groups[i].Role)
	}
	for i := range l.Rows {
		row := &l.Rows[i]
		g := l.Group(row.Stem.Role)
		if row.Group = g != nil && len(g.Stems) > 1; !row.Group {
			row.Window = window(row.Stem.Role)
		}
	}
}

// Row returns the row of a stem.
func (l *Ledger) Row(id string) *Row {
	for i := range l.Rows {
		if l.Rows[i].Stem.ID == id {
			return &l.Rows[i]
		}
	}
	return nil
}

// Group returns the group of a role, nil where there is none.
func (l *Ledger) Group(role session.Role) *Group {
	for i := range l.Groups {
		if l.Groups[i].Role == role {
			return &l.Groups[i]
		}
	}
	return nil
}

// Furthest is how far the part, the bus or the premaster that lies furthest outside of where it should does so, dB; 0 where all lie within.
func (l *Ledger) Furthest(without ...string) float64 {
	_, db := l.FurthestOff(without...)
	return db
}

// tailLeast is the peak, dBFS, under which there is no more of a part than what rings on, as in a section in which it rests: that has
// no distance to its window.
const tailLeast = -90.0

// FurthestOff is Furthest with the name of what does so; empty where all lie within.
func (l *Ledger) FurthestOff(without ...string) (name string, db float64) {
	further := func(what string, by float64) {
		if by > db {
			name, db = what, by
		}
	}
	rules := l.Song.LevelRules()
	off := func(d float64, stems ...*session.Stem) float64 {
		if d < 0 && stems[0].Role != session.Kick && ducks(stems...) {
			return 0
		}
		return math.Abs(d)
	}
	for _, row := range l.Rows {
		if !row.Stem.Mute && !row.Group && !slices.Contains(without, row.Stem.ID) && float64(row.Peak()) > tailLeast {
			further(row.Stem.Name, off(Outside(row.Peak(), row.Window), row.Stem))
		}
	}
	for _, g := range l.Groups {
		if slices.ContainsFunc(g.Stems, func(st *session.Stem) bool { return slices.Contains(without, st.ID) }) {
			continue
		}
		further(g.Stems[0].Name, off(Outside(g.Level.Peak, g.Window), g.Stems...))
	}
	for _, b := range l.Buses {
		further(b.Bus.Name, float64(b.Out.Peak)-rules.Bus)
	}
	further("premaster", float64(l.Master.Out.Peak)-rules.Limit)
	return name, db
}

// Order is an order in which stems join the running sum.
type Order string

// The orders.
const (
	ByRole   Order = "role" // kick, bass, snare, hats, percussion, melodies, textures, effects
	AsListed Order = "list"
	Loudest  Order = "loudest" // by peak
	Quietest Order = "quietest"
)

// Orders lists the orders with the words for them.
var Orders = []struct {
	Order Order
	Label string
}{{ByRole, "kick first"}, {AsListed, "as listed"}, {Loudest, "loudest first"}, {Quietest, "quietest first"}}

// Joined is the master after one more part has joined.
type Joined struct {
	Name  string
	Role  session.Role
	Level mix.Level
}

// joinedSingly is how many stems join one at a time; more join by their roles.
const joinedSingly = 16

// RunningSum measures the master as the stems join it one at a time, in an order; where there are
// more than 16, all of a role join at once.
func RunningSum(ctx context.Context, r *mix.Renderer, l *Ledger, order Order, w mix.Window) ([]Joined, error) {
	rows := sorted(l.Rows, order)
	var groups [][]*session.Stem
	var out []Joined
	for _, row := range rows {
		st := row.Stem
		if len(rows) > joinedSingly {
			at := -1
			for i := range out {
				if out[i].Role == st.Role {
					at = i
				}
			}
			if at >= 0 {
				groups[at] = append(groups[at], st)
				continue
			}
		}
		name := st.Name
		if len(rows) > joinedSingly {
			name = Label(st.Role)
		}
		groups = append(groups, []*session.Stem{st})
		out = append(out, Joined{Name: name, Role: st.Role})
	}
	levels, err := r.RunningSum(ctx, l.Song, groups, w)
	if err != nil {
		return nil, err
	}
	for i := range out {
		out[i].Level = levels[i]
	}
	return out, nil
}

// Label is the word for a role.
func Label(role session.Role) string {
	for _, k := range session.Roles {
		if k.Role == role {
			return k.Label
		}
	}
	return string(role)
}
