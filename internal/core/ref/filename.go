package ref

import (
	"regexp"
	"strings"
	"sync"
	"time"
)

// FileName is how a version is named as a file, so that files sort by device, part and time.
// which is its number as v17, or what else it is.
func FileName(device, part string, at time.Time, which, ending string) string {
	return device + "_" + part + "_" + at.UTC().Format(ownTime) + "_" + which + "." + ending
}

// ownTime is a time in such a name (ISO 8601, basic format).
const ownTime = "20060102T150405Z"

// ownName is how files leave this service: DEVICE_PART_TIME_vNUMBER.
var ownName = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^([^_/]+)_([a-z][a-z0-9-]*)_(\d{8}T\d{6}Z)_v\d+(_masked)?\.[a-z]+$`)
})

// FromName reads device, part and time off the name of a file that left this service; false:
// it is named otherwise.
func FromName(name string) (device, part string, at time.Time, ok bool) {
	m := ownName().FindStringSubmatch(name)
	if m == nil {
		return "", "", at, false
	}
	at, err := time.Parse(ownTime, m[3])
	return m[1], m[2], at, err == nil
}

// macForms are the forms in which MAC addresses (IEEE 802, EUI-48) are written.
var macForms = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)(?:^|[^0-9a-f])((?:[0-9a-f]{2}[:-]){5}[0-9a-f]{2}|(?:[0-9a-f]{4}\.){2}[0-9a-f]{4}|[0-9a-f]{12})(?:[^0-9a-f]|$)`)
})

// MACs are the MAC addresses in a text, each as 12 digits, with blanks between.
func MACs(text string) string {
	var all []string
	for {
		m := macForms().FindStringSubmatchIndex(text)
		if m == nil {
			return strings.Join(all, " ")
		}
		mac := strings.ToLower(strings.NewReplacer(":", "", "-", "", ".", "").Replace(text[m[2]:m[3]]))
		if strings.ContainsAny(mac, "abcdef") || text[m[2]+2] == ':' || text[m[2]+2] == '-' || text[m[2]+4] == '.' { // twelve digits may be anything
			all = append(all, mac)
		}
		text = text[m[3]:]
	}
}

// NamesIn lists those of some names that stand in a text as words of their own: no letter, digit
// or dash goes on beside them. Of two of which one is the beginning of the other, at one place,
// the longer counts.
func NamesIn(text string, names []string) (found []string) {
	lower := strings.ToLower(text)
	inside := func(c byte) bool { return c == '-' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' }
	for _, name := range names {
		n := strings.ToLower(name)
		for from := 0; n != ""; {
			i := strings.Index(lower[from:], n)
			if i < 0 {
				break
			}
			i += from
			end := i + len(n)
			after := end < len(lower) && inside(lower[end]) && !(lower[end] == '-' && end+1 < len(lower) && lower[end+1] >= '0' && lower[end+1] <= '9')
			if (i == 0 || !inside(lower[i-1]) || i > 1 && lower[i-1] == '-' && lower[i-2] >= '0' && lower[i-2] <= '9') && !after {
				found = append(found, name)
				break
			}
			from = i + 1
		}
	}
	return found
}
