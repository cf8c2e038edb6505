package learn

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"magpie/internal/core/grammar"
)

// habit is how a device of these tests treats a kind of lines, told by their first word.
type habit struct {
	tells    int    // how many words tell its lines apart; 0: all
	over     bool   // a new value takes the old one's place
	once     bool   // a second one of other words is refused while one is there
	sorted   bool   // it keeps them in an order of its own
	removal  int    // how many words a removal has to name; 0: all
	kept     bool   // it cannot be taken away
	with     string // it goes when the line that begins so goes
	alone    bool   // it cannot be taken away by itself
	takes    string // lines at the top that begin so and have its second word go with it
	writes   string // what a new block has in it
	unique   bool   // its second word is in one place only
	lasts    bool   // it stands behind all others of its block
	ticks    bool   // it changes by itself
	refusing bool   // it is never accepted
}

// toy is a device with such habits: blocks are one deep.
type toy struct {
	habits map[string]habit
	top    []*block
	typed  []string
	clock  int
	breaks int // the conversation is lost after so many times; 0: never
}

type block struct {
	line  string
	opens bool
	kids  []*block
}

func toyOf(habits map[string]habit, src string) *toy {
	d := &toy{habits: habits}
	for _, l := range strings.Split(strings.TrimSpace(src), "\n") {
		if in, is := strings.CutPrefix(l, "  "); is {
			up := d.top[len(d.top)-1]
			up.kids = append(up.kids, &block{line: in})
		} else {
			d.top = append(d.top, &block{line: l, opens: strings.HasPrefix(l, "lane ")})
		}
	}
	return d
}

func (d *toy) text() string {
	var b strings.Builder
	for _, t := range d.top {
		b.WriteString(d.shown(t.line) + "\n")
		for _, k := range t.kids {
			b.WriteString("  " + d.shown(k.line) + "\n")
		}
	}
	return b.String()
}

func (d *toy) shown(line string) string {
	if w := strings.Fields(line); d.habits[w[0]].ticks {
		return fmt.Sprintf("%s %d", w[0], d.clock)
	}
	return line
}

func (d *toy) Shows() ([]Entry, error) {
	root, err := (&grammar.Blocks{Indent: 2}).Parse(d.text())
	return Flatten(root), err
}

func (d *toy) Later() ([]Entry, error) {
	d.clock++
	return d.Shows()
}

var errLost = errors.New("the conversation was lost")

func (d *toy) Types(lines []string) (int, string, error) {
	var in *block
	for i, l := range lines {
		d.typed = append(d.typed, l)
		if d.breaks > 0 && len(d.typed) >= d.breaks {
			d.breaks = 0
			return i, "", errLost
		}
		if l == "up" {
			in = nil
			continue
		}
		list := &d.top
		if in != nil {
			list = &in.kids
		}
		if rest, is := strings.CutPrefix(l, "no "); is {
			if err := d.remove(list, rest); err != nil {
				return i, err.Error(), nil
			}
			continue
		}
		b, err := d.add(list, l)
		if err != nil {
			return i, err.Error(), nil
		}
		if b.opens {
			in = b
		}
	}
	return -1, "", nil
}

func (d *toy) identity(line string) string {
	w := strings.Fields(line)
	if n := d.habits[w[0]].tells; n > 0 && n < len(w) {
		w = w[:n]
	}
	return strings.Join(w, " ")
}

func (d *toy) add(list *[]*block, line string) (*block, error) {
	w := strings.Fields(line)
	h := d.habits[w[0]]
	if h.refusing {
		return nil, errors.New("not that")
	}
	if h.unique {
		for _, t := range d.top {
			for _, k := range t.kids {
				if o := strings.Fields(k.line); o[0] == w[0] && o[1] == w[1] && &t.kids != list {
					return nil, errors.New("it is somewhere else")
				}
			}
		}
	}
	for i, b := range *list {
		same := d.identity(b.line) == d.identity(line)
		o := strings.Fields(b.line)
		switch {
		case b.line == line:
			return b, nil
		case same && h.over:
			(*list)[i] = &block{line: line, opens: b.opens, kids: b.kids}
			return (*list)[i], nil
		case same && h.tells > 0:
			return nil, errors.New("there is one already")
		case h.once && o[0] == w[0] && strings.Join(o[2:], " ") == strings.Join(w[2:], " "):
			return nil, errors.New("another says the same")
		}
	}
	b := &block{line: line, opens: w[0] == "lane"}
	if h.writes != "" && b.opens {
		b.kids = append(b.kids, &block{line: h.writes})
	}
	at := len(*list)
	if h.sorted {
		at = slices.IndexFunc(*list, func(o *block) bool { return strings.HasPrefix(o.line, w[0]+" ") && o.line > line })
		if at < 0 {
			at = len(*list)
			for i, o := range *list {
				if strings.HasPrefix(o.line, w[0]+" ") {
					at = i + 1
				}
			}
		}
	}
	for at > 0 && !h.lasts && d.habits[strings.Fields((*list)[at-1].line)[0]].lasts {
		at--
	}
	*list = slices.Insert(*list, at, b)
	return b, nil
}

func (d *toy) remove(list *[]*block, words string) error {
	found := false
	for i := 0; i < len(*list); i++ {
		line := (*list)[i].line
		w := strings.Fields(line)
		h := d.habits[w[0]]
		named := line
		if h.removal > 0 && h.removal < len(w) {
			named = strings.Join(w[:h.removal], " ")
		}
		if named != words || h.kept || h.alone {
			continue
		}
		found = true
		*list = slices.Delete(*list, i, i+1)
		i = -1
		*list = slices.DeleteFunc(*list, func(o *block) bool {
			with := d.habits[strings.Fields(o.line)[0]].with
			return with != "" && strings.HasPrefix(line, with)
		})
		if h.takes != "" {
			d.top = slices.DeleteFunc(d.top, func(o *block) bool { return strings.HasPrefix(o.line, h.takes+" "+w[1]) })
		}
	}
	if !found {
		return errors.New("there is nothing like that")
	}
	return nil
}

// TestTry: each habit of a device is found out, and the device is as it was.
func TestTry(t *testing.T) {
	for name, c := range map[string]struct {
		habits map[string]habit
		runs   string
		others []string
		rule   string // as it is drafted
		unsure string // or what is not known, in its words
	}{
		"a value that overwrites":  {map[string]habit{"mtu": {tells: 1, over: true, removal: 1}}, "mtu 1500", nil, "{path: 'mtu <number...>', overwrites: true}", ""},
		"a value that does not":    {map[string]habit{"mtu": {tells: 1}}, "mtu 1500", nil, "{path: 'mtu <number...>', remove: 'no {line}'}", ""},
		"entries":                  {map[string]habit{"server": {sorted: true}}, "server 10.0.0.1\nserver 10.0.0.2", nil, "{path: 'server {address}'}", ""},
		"entries that stay put":    {map[string]habit{"server": {}}, "server 10.0.0.1\nserver 10.0.0.2", nil, "{path: 'server {address}', sequence: 'server'}", ""},
		"an entry with a value":    {map[string]habit{"route": {tells: 2, over: true, removal: 2, sorted: true}}, "route 10.1.0.0/16 via 10.0.0.1\nroute 10.2.0.0/16 via 10.0.0.1", []string{"route 10.1.0.0/16 via 10.0.0.9"}, "{path: 'route {address} via <address2...>', overwrites: true, remove: 'no route {address}'}", ""},
		"removed by all its words": {map[string]habit{"route": {tells: 2, over: true, sorted: true}}, "route 10.1.0.0/16 via 10.0.0.1\nroute 10.2.0.0/16 via 10.0.0.1", []string{"route 10.1.0.0/16 via 10.0.0.9"}, "{path: 'route {address} via <address2...>', overwrites: true, remove: 'no {line}'}", ""},
		"what is never let go":     {map[string]habit{"name": {tells: 1, over: true, kept: true}}, "name quay1", nil, "{path: 'name <value...>', overwrites: true, permanent: true}", ""},
		"two that say the same":    {map[string]habit{"rung": {tells: 2, over: true, removal: 2, once: true, sorted: true}}, "rung 10 let tcp\nrung 20 let udp", []string{"rung 30 stop all"}, "single_by: [value, value2]", ""},
		"what goes with another":   {map[string]habit{"tint": {alone: true, with: "beacon", tells: 1, over: true}, "beacon": {tells: 1, over: true, removal: 1}}, "beacon 5\ntint 7", nil, "{path: 'tint <number...>', overwrites: true, goes_with: 'beacon <number...>'}", ""},
		"what takes others":        {map[string]habit{"lane": {takes: "watch", sorted: true}, "watch": {tells: 2, over: true, removal: 2, sorted: true}}, "lane 1\n  mtu 1400\nlane 2\n  mtu 1500\nwatch 1 every 5\nwatch 2 every 5", nil, "takes: ['watch {number} every {other1...}']", ""},
		"what a new block has":     {map[string]habit{"lane": {writes: "guard strict", sorted: true}}, "lane 1\n  guard strict\nlane 2\n  guard strict", nil, "{path: 'lane {number}', writes: ['guard strict']}", ""},
		"one place only":           {map[string]habit{"lane": {sorted: true}, "berth": {unique: true}}, "lane 1\n  berth 10.0.0.1\nlane 2\n  mtu 1500", nil, "unique: [address]", ""},
		"the order of a block":     {map[string]habit{"lane": {sorted: true}, "otherwise": {lasts: true, tells: 1, over: true, removal: 1}}, "lane 1\n  when 1\n  also 2\n  when 3\n  otherwise stop\nlane 2\n  otherwise pass", nil, "{path: 'lane {number}', ordered: true, before: '^otherwise '}", ""},
		"what changes by itself":   {map[string]habit{"skew": {ticks: true, tells: 1, over: true}}, "skew 0\nmtu 1500", nil, "{path: 'skew <number...>', volatile: true}", ""},
		"what is never accepted":   {map[string]habit{"odd": {refusing: true, kept: true}}, "odd thing 7", nil, "", "whether a new value overwrites the old one was not seen"},
		"a word at the end":        {map[string]habit{"rank": {tells: 1, over: true, removal: 1}}, "rank full", nil, "", `nothing but "full" was ever seen at its end`},
	} {
		t.Run(name, func(t *testing.T) {
			d := toyOf(c.habits, c.runs)
			before := d.text()
			roots := []*grammar.Node{tree(t, before)}
			for _, o := range c.others {
				roots = append(roots, tree(t, o+"\n"))
			}
			draft := From(roots, words, "")
			how := How{Remove: "no {identity}", Leave: "up", Most: 3000}
			if err := draft.Try(d, how, func(string) {}); err != nil {
				t.Fatalf("%v\nafter %q", err, d.typed)
			}
			d.clock = 0
			if now := d.text(); now != before {
				t.Errorf("it runs\n%s\nand ran\n%s", now, before)
			}
			out := YAML(draft.Rules(how))
			at := strings.Index(out, c.rule)
			if at < 0 || !strings.Contains(out, "# not sure: "+c.unsure) && c.unsure != "" {
				t.Fatalf("%s\n%s is not drafted in\n%s", c.rule, c.unsure, out)
			}
			if c.rule == "" {
				return
			}
			lines := strings.Split(out[:at], "\n")
			if last := lines[len(lines)-2]; strings.Contains(last, "not sure") {
				t.Errorf("it is not sure of it: %s\n%s", last, out)
			}
		})
	}
}

// TestTryLimits: no more is typed than was allowed, nothing more is begun when it is to
// stop, and what was begun can be undone in another conversation.
func TestTryLimits(t *testing.T) {
	habits := map[string]habit{"mtu": {tells: 1, over: true, removal: 1}, "server": {}, "lane": {sorted: true}}
	const runs = "mtu 1500\nserver 10.0.0.1\nserver 10.0.0.2\nserver 10.0.0.3\nlane 1\n  note x\nlane 2\n  note y"
	how := How{Remove: "no {identity}", Leave: "up", Most: 3000}
	whole := toyOf(habits, runs)
	draft := From([]*grammar.Node{tree(t, whole.text())}, words, "")
	if err := draft.Try(whole, how, func(string) {}); err != nil {
		t.Fatal(err)
	}
	for most := range len(whole.typed) {
		for _, lost := range []bool{false, true} {
			d := toyOf(habits, runs)
			before := d.text()
			how := how
			if how.Most = max(most, 1); lost {
				how.Most, d.breaks = 3000, most+1
			}
			draft := From([]*grammar.Node{tree(t, before)}, words, "")
			err := draft.Try(d, how, func(string) {})
			if lost && !errors.Is(err, errLost) || !lost && (!errors.Is(err, ErrTooMuch) || len(d.typed) > how.Most) {
				t.Fatalf("%d lines, %v after %d", most, err, len(d.typed))
			}
			how.Most = 3000
			if err := draft.Undo(d, how, func(string) {}); err != nil || d.text() != before {
				t.Fatalf("broken off after %d lines, it cannot be put right: %v\n%s\nafter %q", most, err, d.text(), d.typed)
			}
		}
	}
	stops := 0
	how.Stop = func() bool { stops++; return stops > 2 }
	d := toyOf(habits, runs)
	before := d.text()
	if err := From([]*grammar.Node{tree(t, before)}, words, "").Try(d, how, func(string) {}); !errors.Is(err, ErrStopped) || d.text() != before {
		t.Errorf("%v\n%s", err, d.text())
	}
}

// TestSpared: the account that signs in, the name in the prompt and what holds either are
// never touched.
func TestSpared(t *testing.T) {
	habits := map[string]habit{"name": {tells: 1, over: true, removal: 1}, "keeper": {tells: 2, over: true, removal: 2, sorted: true}, "lane": {sorted: true}}
	d := toyOf(habits, "name quay\nkeeper magpie 1\nkeeper okonkwo 2\nlane 1\n  by magpie\nlane 2\n  by okonkwo")
	before := d.text()
	draft := From([]*grammar.Node{tree(t, before), tree(t, "name kiosk\n")}, words, "")
	draft.Host = "quay"
	if err := draft.Try(d, How{Remove: "no {identity}", Leave: "up", Most: 3000, Spare: []string{"magpie"}}, func(string) {}); err != nil {
		t.Fatal(err)
	}
	for _, l := range d.typed {
		for _, never := range []string{"name ", "no name", "keeper magpie", "no keeper magpie", "no lane 1", "by magpie"} {
			if strings.HasPrefix(l, never) && l != "no lane 11" {
				t.Errorf("%q was typed", l)
			}
		}
	}
	if d.text() != before {
		t.Error(d.text())
	}
	out := YAML(draft.Rules(How{Remove: "no {identity}"}))
	if !strings.Contains(out, "# not sure: it is the name in the prompt, which is not touched") || !strings.Contains(out, "hostname: value") {
		t.Error(out)
	}
}
