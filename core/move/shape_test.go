package move

import (
	"math"
	"testing"
)

// A shape is told by four times; another keeps the depth and the character of what stands between.
func TestShape(t *testing.T) {
	d := duckOf(Point{MS: -10}, Point{MS: -5, DB: -4}, Point{MS: 0, DB: -8}, Point{MS: 40, DB: -8}, Point{MS: 90, DB: -6, Bend: 0.5}, Point{MS: 140})
	s := d.Shape()
	if s.Begins.MS != -10 || s.Down.MS != 0 || s.Back.MS != 40 || s.End.MS != 140 || s.Follow {
		t.Fatalf("%+v", s)
	}
	if same, err := d.Shaped(s); err != nil || len(same.Points) != 6 || same.Points[4] != d.Points[4] || same.Points[1] != d.Points[1] {
		t.Errorf("the same shape: %+v, %v", same, err)
	}
	s.Begins.MS, s.Back.MS, s.End, s.Follow = -4, 60, Time{MS: 260, Note: "1/8"}, true
	c, err := d.Shaped(s)
	if err != nil {
		t.Fatal(err)
	}
	want := []Point{{MS: -4}, {MS: -2, DB: -4}, {MS: 0, DB: -8}, {MS: 60, DB: -8}, {MS: 160, DB: -6, Bend: 0.5}, {MS: 260, Note: "1/8"}}
	for i, p := range c.Points {
		if q := want[i]; math.Abs(p.MS-q.MS) > 1e-9 || p.DB != q.DB || p.Bend != q.Bend || p.Note != q.Note {
			t.Errorf("point %d: %+v, want %+v", i+1, p, q)
		}
	}
	if !c.Follow || c.Shape() != s || d.Points[3].MS != 40 {
		t.Errorf("%+v; the one before is %+v", c, d.Points)
	}
	peak := duckOf(Point{MS: 0}, Point{MS: 10, DB: -6, Bend: -0.4}, Point{MS: 100})
	s = peak.Shape()
	s.Back.MS = 50
	if c, err := peak.Shaped(s); err != nil || len(c.Points) != 4 || c.GainDB(30) != -6 || c.Points[1].Bend != 0 || c.Points[2].Bend != -0.4 || c.Shape() != s {
		t.Errorf("a peak that is held: %+v, %v", c, err)
	}
	for _, bad := range []Shape{
		{Begins: Time{MS: 5}, Down: Time{MS: 5}, Back: Time{MS: 5}, End: Time{MS: 50}},
		{Begins: Time{MS: 0}, Down: Time{MS: 5}, Back: Time{MS: 4}, End: Time{MS: 50}},
		{Begins: Time{MS: 0}, Down: Time{MS: 5}, Back: Time{MS: 40}, End: Time{MS: 40}},
		{Begins: Time{MS: -900}, Down: Time{MS: 5}, Back: Time{MS: 30}, End: Time{MS: 40}},
	} {
		if c, err := d.Shaped(bad); err == nil {
			t.Errorf("%+v gives %+v", bad, c.Points)
		}
	}
	if _, err := duckOf(Point{MS: 0}, Point{MS: 10}).Shaped(s); err == nil {
		t.Error("a flat curve has a shape")
	}
}
