// Package care holds what is known of listening without harm.
package care

import "math"

// The recommended exposure limit of NIOSH, Criteria for a Recommended Standard: Occupational Noise Exposure, DHHS (NIOSH)
// Publication 98-126, 1998, section 1.1.2: 85 dBA over 8 hours, and half the time for each 3 dB more.
const (
	LimitDBA   = 85.0
	LimitHours = 8.0
	ExchangeDB = 3.0
)

// Bounds of a level that is read off a sound level meter, dBA.
const (
	LeastDBA = 40.0
	MostDBA  = 130.0
)

// RestAfter is how long is listened before a rest does good, and RestFor how long that is, minutes; common practice, no published source.
const (
	RestAfter = 50.0
	RestFor   = 10.0
)

// Hours is how long a level may be listened to in a day, by that limit: T = 8 / 2^((L - 85) / 3), which is the formula beneath
// its Table 1-1.
func Hours(dBA float64) float64 { return LimitHours / math.Pow(2, (dBA-LimitDBA)/ExchangeDB) }

// Dose is which share of a day's limit is used up by some hours at a level; 1 is all of it.
func Dose(hours, dBA float64) float64 { return hours / Hours(dBA) }
