package move

import (
	"errors"
	"fmt"
)

// Shape is when a curve begins, is down, begins its way back and is back: what stands between moves along, so that a
// curve of many points keeps its character.
type Shape struct {
	Begins, Down, Back, End Time
	Follow                  bool
}

// Time is after a hit, ms; with a note value it is that.
type Time struct {
	MS   float64
	Note string
}

func (p Point) time() Time { return Time{p.MS, p.Note} }

// anchors are the points that a shape is told by; down and back may be one.
func (d *Duck) anchors() [4]int {
	low, last := d.Depth()+DeepNear, len(d.Points)-1
	a := [4]int{0, -1, 0, last}
	for i, p := range d.Points {
		if p.DB <= low {
			a[2] = i
			if a[1] < 0 {
				a[1] = i
			}
		}
	}
	return a
}

// Shape tells the shape of a curve that goes down.
func (d *Duck) Shape() Shape {
	a := d.anchors()
	return Shape{d.Points[a[0]].time(), d.Points[a[1]].time(), d.Points[a[2]].time(), d.Points[a[3]].time(), d.Follow}
}

// Shaped returns a curve of another shape and the same depth; times are worked out. A curve that is deep at one point
// gets a second where it is to be held.
func (d *Duck) Shaped(s Shape) (*Duck, error) {
	if d.Keyed() || d.Depth() > -2*DeepNear {
		return nil, errors.New("it is too shallow to have a shape")
	}
	c := *d
	c.Follow, c.Points = s.Follow, append([]Point(nil), d.Points...)
	a := c.anchors()
	if a[1] == a[2] && s.Back.MS > s.Down.MS {
		at := a[1]
		c.Points = append(c.Points[:at+1], append([]Point{{MS: c.Points[at].MS, DB: c.Points[at].DB}}, c.Points[at+1:]...)...)
		c.Points[at].Bend = 0 // that of the way back is the second's
		c.Points[at+1].Bend = d.Points[at].Bend
		a[2], a[3] = at+1, a[3]+1
	}
	to := [4]Time{s.Begins, s.Down, s.Back, s.End}
	if a[1] == a[2] {
		to[2] = to[1]
	}
	for i := 1; i < 4; i++ {
		if to[i].MS < to[i-1].MS || i != 2 && to[i].MS == to[i-1].MS {
			return nil, fmt.Errorf("%s comes at %.1f ms, but it %s at %.1f", [4]string{"", "being down", "the way back", "the end"}[i], to[i].MS,
				[4]string{"", "begins", "is down", "begins its way back"}[i], to[i-1].MS)
		}
	}
	was := c.Points
	c.Points = append([]Point(nil), was...)
	for k := range 3 {
		from, end := was[a[k]].MS, was[a[k+1]].MS
		for i := a[k]; i <= a[k+1]; i++ {
			if part := 0.0; i > a[k] && end > from {
				part = (was[i].MS - from) / (end - from)
				c.Points[i].MS, c.Points[i].Note = to[k].MS+part*(to[k+1].MS-to[k].MS), ""
			}
		}
	}
	for k, i := range a {
		c.Points[i].MS, c.Points[i].Note = to[k].MS, to[k].Note
	}
	return &c, c.Validate()
}
