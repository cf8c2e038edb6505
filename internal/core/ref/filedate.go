package ref

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// DateOrders are the orders in which a day, a month and a year are written in numbers.
var DateOrders = []string{"day-first", "month-first", "year-first"}

// AmbiguousDate is returned for a date that means several days, and nobody said which.
type AmbiguousDate struct {
	Written string // as it stands there
	Means   []time.Time
}

func (e *AmbiguousDate) Error() string {
	var days []string
	for _, at := range e.Means {
		days = append(days, at.Format("2 January 2006"))
	}
	return fmt.Sprintf("%s may be %s", e.Written, strings.Join(days, " or "))
}

// dateForm is one way of writing a date: its groups are y (four digits), m, mon (a name), d, or
// a, b and c, three numbers in an order that somebody has to know.
type dateForm struct {
	re    *regexp.Regexp
	dotty bool // written with dots: the day stands first
	short bool // its year has two digits
}

// forms are the forms of dates in names, the surest first.
var forms = sync.OnceValue(func() []dateForm {
	month := `(?P<mon>jan(?:uary)?|feb(?:ruary)?|mar(?:ch)?|apr(?:il)?|may|june?|july?|aug(?:ust)?|sept?(?:ember)?|oct(?:ober)?|nov(?:ember)?|dec(?:ember)?)`
	sep, year := `[-_. /]`, `(?P<y>20\d\d)`
	var out []dateForm
	for _, p := range []string{
		year + `(?P<m>\d\d)(?P<d>\d\d)`,
		year + sep + `?(?P<m>\d{1,2})` + sep + `(?P<d>\d{1,2})`,
		`(?P<d>\d{1,2})(?:st|nd|rd|th)?` + sep + `?` + month + `[-_. /,]*` + year,
		month + sep + `?(?P<d>\d{1,2})(?:st|nd|rd|th)?[-_. /,]+` + year,
		year + sep + `?` + month + sep + `?(?P<d>\d{1,2})`,
		year + `-?W(?P<w>\d\d)-?(?P<d>[1-7])`,
		`(?P<a>\d{1,2})\.(?P<b>\d{1,2})\.(?P<c>20\d\d)`,
		`(?P<a>\d{1,2})[-_ /](?P<b>\d{1,2})[-_ /](?P<c>20\d\d)`,
		`(?P<a>\d\d)(?P<b>\d\d)(?P<c>20\d\d)`,
		`(?P<unix>1[5-9]\d{8})(?:\d{3})?`,
		`(?P<a>\d\d)\.(?P<b>\d\d)\.(?P<c>\d\d)`,
		`(?P<a>\d\d)[-_ /](?P<b>\d\d)[-_ /](?P<c>\d\d)`,
	} {
		before := `[^0-9]`
		if strings.HasPrefix(p, month) {
			before = `[^0-9a-z]`
		}
		out = append(out, dateForm{regexp.MustCompile(`(?i)(?:^|` + before + `)(?P<date>` + p + `)`),
			strings.Contains(p, `\.(?P<b>`), strings.HasSuffix(p, `(?P<c>\d\d)`)})
	}
	return out
})

// What goes on as a number, and what makes three short numbers part of a longer row.
var (
	goesOn = once(`^\d`)
	longer = once(`^[-_.:]\d`)
	before = once(`\d[-_.:]$`)
)

// clock is the time of day behind a date.
var clock = once(`(?i)^(?:[-_ T,.]*?|[-_ ]at[-_ ])(?P<h>\d{1,2})(?:[-_:.h]?(?P<min>[0-5]\d))(?:[-_:.m]?(?P<s>[0-5]\d))?(?:\.\d+)?s? ?(?P<half>[ap]m)?(?P<off>Z|\+\d\d:?\d\d)?(?:\D|$)`)

// TimeInName finds a time in a file's name, or in a line: a date in numbers or with the name of
// its month, with a time of day behind it or without, in which case it is that day's noon. A time
// without an offset is meant in zone. order says in which order the numbers of a date stand (one of
// DateOrders; empty: nobody said); a date that means several days then is an AmbiguousDate. Where
// numbers are parted by dots the day stands first.
func TimeInName(name string, zone *time.Location, order string) (at time.Time, found bool, err error) {
	for _, form := range forms() {
		for _, m := range form.re.FindAllStringSubmatchIndex(name, -1) {
			get := func(re *regexp.Regexp, in string, m []int, group string) string {
				if i := re.SubexpIndex(group); i >= 0 && m[2*i] >= 0 {
					return in[m[2*i]:m[2*i+1]]
				}
				return ""
			}
			of := func(group string) string { return get(form.re, name, m, group) }
			date, rest := of("date"), name[m[1]:]
			days := form.days(of, order)
			c := clock().FindStringSubmatchIndex(rest)
			if len(days) == 0 || uneven(date) || c == nil && goesOn().MatchString(rest) ||
				form.short && (c == nil && longer().MatchString(rest) || before().MatchString(name[:m[2]])) {
				continue
			}
			if len(days) > 1 {
				return at, false, &AmbiguousDate{date, days}
			}
			if of("unix") != "" {
				return days[0], true, nil
			}
			hour, minute, second, in := 12, 0, 0, zone
			if c != nil {
				part := func(group string) string { return get(clock(), rest, c, group) }
				h, _ := strconv.Atoi(part("h"))
				switch half := strings.ToLower(part("half")); {
				case half != "" && (h < 1 || h > 12), h > 23:
					h = -1
				case half == "pm" && h < 12:
					h += 12
				case half == "am" && h == 12:
					h = 0
				}
				if h >= 0 && (len(part("h")) == 2 || part("half") != "") {
					hour = h
					minute, _ = strconv.Atoi(part("min"))
					second, _ = strconv.Atoi(part("s"))
					if off := part("off"); off != "" {
						if zoned, err := time.Parse("Z07:00", strings.Replace(off[:min(3, len(off))]+":"+off[max(0, len(off)-2):], "Z:Z", "Z", 1)); err == nil {
							in = zoned.Location()
						}
					}
				}
			}
			d := days[0]
			return time.Date(d.Year(), d.Month(), d.Day(), hour, minute, second, 0, in), true, nil
		}
	}
	return at, false, nil
}

// uneven tells whether a date in numbers is parted by two different marks, so that it is none.
func uneven(date string) bool {
	parted := strings.Map(func(c rune) rune {
		if c >= '0' && c <= '9' {
			return -1
		}
		return c
	}, date)
	return len(parted) == 2 && parted[0] != parted[1] && strings.Trim(parted, "-_. /") == ""
}

// days are the days that a match of the form may mean.
func (f dateForm) days(of func(group string) string, order string) (days []time.Time) {
	number := func(s string) int { n, _ := strconv.Atoi(s); return n }
	add := func(y, m, d int) {
		at := time.Date(y, time.Month(m), d, 0, 0, 0, 0, time.UTC)
		if m >= 1 && m <= 12 && d >= 1 && at.Day() == d && !slices.ContainsFunc(days, at.Equal) {
			days = append(days, at)
		}
	}
	y, d := number(of("y")), number(of("d"))
	switch a, b, c := number(of("a")), number(of("b")), number(of("c")); {
	case of("unix") != "":
		return []time.Time{time.Unix(int64(number(of("unix"))), 0).UTC()}
	case of("w") != "":
		if at := weekday(y, number(of("w")), d); !at.IsZero() {
			return []time.Time{at}
		}
	case of("mon") != "":
		add(y, 1+strings.Index("janfebmaraprmayjunjulaugsepoctnovdec", strings.ToLower(of("mon")[:3]))/3, d)
	case of("a") == "":
		add(y, number(of("m")), d)
	default:
		year := func(n int) int {
			if n < 100 {
				return 2000 + n
			}
			return n
		}
		if order == "day-first" || order == "" || f.dotty && !f.short {
			add(year(c), b, a)
		}
		if order == "month-first" || order == "" && !f.dotty {
			add(year(c), a, b)
		}
		if f.short && (order == "year-first" || order == "" && !f.dotty) {
			add(year(a), b, c)
		}
	}
	return days
}

// weekday is a day of a week of a year (ISO 8601 week date); zero: there is none.
func weekday(year, week, day int) time.Time {
	fourth := time.Date(year, 1, 4, 0, 0, 0, 0, time.UTC) // is always in week 1
	monday := fourth.AddDate(0, 0, -(int(fourth.Weekday())+6)%7)
	at := monday.AddDate(0, 0, 7*(week-1)+day-1)
	if y, w := at.ISOWeek(); y != year || w != week {
		return time.Time{}
	}
	return at
}
