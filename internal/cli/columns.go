package cli

import (
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
)

// column is one of a list's: a field of what goes over the wire.
type column struct {
	key, title string // its JSON key, and what stands above it
	place      int    // from the left; 0: only where it is asked for
	field      []int
	ago        bool // a time is said as how long ago it was
}

// columnsOf are the columns of a type of package client. They are said there, in the tag
// "column": place and title.
func columnsOf(t reflect.Type) (out []column) {
	for _, f := range reflect.VisibleFields(t) {
		said, ok := f.Tag.Lookup("column")
		if !ok {
			continue
		}
		place, title, _ := strings.Cut(said, " ")
		n, err := strconv.Atoi(place)
		if err != nil {
			panic(fmt.Sprintf("%v.%s: column %q begins with no place", t, f.Name, said))
		}
		key, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		out = append(out, column{key, title, n, f.Index, f.Tag.Get("as") == "ago"})
	}
	slices.SortStableFunc(out, func(a, b column) int { return cmp.Compare(a.place, b.place) })
	return out
}

// cells says of what is more than a field's value how it is shown, by the field's JSON key.
type cells[T any] map[string]func(T) cell

// list shows a list: the columns that its type has, or only those with some keys, in
// their order. The first one is strong.
func list[T any](s *screen, all []T, how cells[T], only ...string) {
	head, rows := listed(all, how, only...)
	s.table(head, rows)
}

func listed[T any](all []T, how cells[T], only ...string) (head []string, rows [][]cell) {
	known := columnsOf(reflect.TypeFor[T]())
	var chosen []column
	if only == nil {
		chosen = slices.DeleteFunc(slices.Clone(known), func(c column) bool { return c.place == 0 })
	}
	for _, key := range only {
		i := slices.IndexFunc(known, func(c column) bool { return c.key == key })
		if i < 0 {
			panic(fmt.Sprintf("%v has no column %s", reflect.TypeFor[T](), key))
		}
		chosen = append(chosen, known[i])
	}
	for key := range how {
		if !slices.ContainsFunc(chosen, func(c column) bool { return c.key == key }) {
			panic(fmt.Sprintf("%v shows no column %s", reflect.TypeFor[T](), key))
		}
	}
	zoned := false
	for _, c := range chosen {
		title := c.title
		if t := reflect.TypeFor[T]().FieldByIndex(c.field).Type; !zoned && !c.ago && (t == reflect.TypeFor[time.Time]() || t == reflect.TypeFor[*time.Time]()) {
			title, zoned = title+" ("+zoneName()+")", true
		}
		head = append(head, title)
	}
	for _, one := range all {
		var row []cell
		for i, c := range chosen {
			if show := how[c.key]; show != nil {
				row = append(row, show(one))
				continue
			}
			style := plain
			if i == 0 {
				style = strong
			}
			row = append(row, cell{c.text(reflect.ValueOf(one)), style})
		}
		rows = append(rows, row)
	}
	return head, rows
}

// text is a field's value for people.
func (c column) text(of reflect.Value) string {
	which := c.key == "selector" || c.key == "scope" // they may have thousands of words
	switch v := of.FieldByIndex(c.field).Interface().(type) {
	case string:
		if which {
			return several(strings.Fields(v))
		}
		return v
	case []string:
		if which {
			return several(v)
		}
		return strings.Join(v, ", ")
	case bool:
		return yes(v)
	case time.Time:
		return when(v)
	case *time.Time:
		if c.ago {
			return ago(v)
		}
		return whenp(v)
	default:
		return fmt.Sprint(v)
	}
}
