package levels

import (
	"sort"

	"mellowthump/core/session"
)

// sorted returns the rows that are heard, in an order.
func sorted(rows []Row, order Order) []Row {
	place := map[session.Role]int{}
	for i, k := range session.Roles {
		place[k.Role] = i
	}
	var out []Row
	for _, row := range rows {
		if !row.Stem.Mute && row.Peak().Valid() {
			out = append(out, row)
		}
	}
	sort.SliceStable(out, func(i, j int) bool {
		a, b := out[i], out[j]
		switch order {
		case Loudest:
			return a.Peak() > b.Peak()
		case Quietest:
			return a.Peak() < b.Peak()
		case AsListed:
			return false
		}
		return place[a.Stem.Role] < place[b.Stem.Role]
	})
	return out
}
