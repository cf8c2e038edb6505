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

// timesInNames are the forms in which people write times into names, the surest first; what
// stands between the numbers does not matter.
var timesInNames = sync.OnceValue(func() []*regexp.Regexp {
	day := `(?P<year>20\d\d)[-_.]?(?P<month>0[1-9]|1[0-2])[-_.]?(?P<day>0[1-9]|[12]\d|3[01])`
	reverse := `(?P<day>0[1-9]|[12]\d|3[01])[-_.](?P<month>0[1-9]|1[0-2])[-_.](?P<year>20\d\d)`
	clock := `[-_ T]+(?P<hour>[01]\d|2[0-3])[-_:.h]?(?P<minute>[0-5]\d)(?:[-_:.m]?(?P<second>[0-5]\d))?(?P<zulu>Z)?`
	var out []*regexp.Regexp
	for _, p := range []string{day + clock, reverse + clock, day, reverse} {
		out = append(out, regexp.MustCompile(`(?:^|\D)`+p+`(?:\D|$)`))
	}
	return out
})

// TimeInName finds a time in a file's name: year first, or day first with a dash, dot or
// underscore between. One without a zone is meant in zone; a day alone is its noon.
func TimeInName(name string, zone *time.Location) (time.Time, bool) {
	for _, re := range timesInNames() {
		m := re.FindStringSubmatch(name)
		if m == nil {
			continue
		}
		get := func(part, otherwise string) string {
			if i := re.SubexpIndex(part); i >= 0 && m[i] != "" {
				return m[i]
			}
			return otherwise
		}
		in := zone
		if get("zulu", "") != "" {
			in = time.UTC
		}
		at, err := time.ParseInLocation("2006-01-02 15:04:05", get("year", "")+"-"+get("month", "")+"-"+get("day", "")+" "+get("hour", "12")+":"+get("minute", "00")+":"+get("second", "00"), in)
		if err == nil {
			return at, true
		}
	}
	return time.Time{}, false
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
