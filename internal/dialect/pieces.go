package dialect

import (
	"fmt"
	"regexp"
	"strconv"
)

// A file that is no text and larger than is held in memory is worked with by a text that stands for
// it: how large it is, and a keyed hash of it without what changes by itself. Two that agree in that
// are unchanged, and whatever compares contents compares these.

var inPieces = regexp.MustCompile(`^\x00(in pieces, [0-9a-f]+) of (\d+) bytes\x00$`)

// StandIn is the text that stands for a large file.
func StandIn(size int64, settled []byte) string {
	return fmt.Sprintf("\x00in pieces, %x of %d bytes\x00", settled, size)
}

// InPieces tells whether a content is a text that stands for a large file.
func InPieces(src string) bool { return len(src) < 200 && inPieces.MatchString(src) }

// Size is how many bytes a content has, or what it stands for.
func Size(src string) int64 {
	if InPieces(src) {
		n, _ := strconv.ParseInt(inPieces.FindStringSubmatch(src)[2], 10, 64)
		return n
	}
	return int64(len(src))
}
