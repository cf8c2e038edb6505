package retain

import "time"

// Size is how much was kept on a day.
type Size struct {
	Day      time.Time `db:"day"`
	Versions int64     `db:"versions"`
	Bytes    int64     `db:"bytes"`
}

// Growth is by how many bytes a day what is kept has grown, of sizes by day, oldest first; 0: it
// is not known yet, or it did not grow.
func Growth(sizes []Size) int64 {
	if len(sizes) < 2 {
		return 0
	}
	first, last := sizes[0], sizes[len(sizes)-1]
	days := int64(last.Day.Sub(first.Day).Hours()) / 24
	return max(0, (last.Bytes-first.Bytes)/max(days, 1))
}

// FullIn is in how many days there is no room left; nil: it is not known, or not within ten years.
func FullIn(room, growth int64) *int {
	if growth <= 0 || room/growth > 3650 {
		return nil
	}
	n := int(room / growth)
	return &n
}
