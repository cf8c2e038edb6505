package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"magpie/client"
)

func paper(colour bool) (*app, *bytes.Buffer, *bytes.Buffer) {
	var out, err bytes.Buffer
	s := &screen{colour: colour}
	s.guard(&out, &err)
	return &app{s: s}, &out, &err
}

// TestJSONStaysJSON: what the screen writes out lest it steer a terminal means the same in JSON.
func TestJSONStaysJSON(t *testing.T) {
	for r := rune(0); r < 0x2100; r++ {
		want := "a" + string(r) + "b"
		a, out, _ := paper(false)
		if err := json.NewEncoder(a.s.out).Encode(want); err != nil {
			t.Fatal(err)
		}
		var got string
		if err := json.Unmarshal(out.Bytes(), &got); err != nil || got != want {
			t.Errorf("%U: %s: %q, %v", r, out, got, err)
		}
	}
}

// TestTable: columns stand under each other whatever their letters and colours,
// and empty ones are left out.
func TestTable(t *testing.T) {
	for _, colour := range []bool{false, true} {
		a, out, _ := paper(colour)
		a.s.table([]string{"device", "site", "note"}, [][]cell{{{"a", strong}, {"", plain}, {"x", plain}}, {{"überlang-r1", strong}, {"", plain}, {"y", alarm}}})
		got := out.String()
		if colour {
			for _, code := range []string{"\x1b[1m", "\x1b[2m", "\x1b[35m", "\x1b[0m"} {
				if !strings.Contains(got, code) {
					t.Errorf("no %q in %q", code, got)
				}
				got = strings.ReplaceAll(got, code, "")
			}
		}
		if got != "device       note\na            x\nüberlang-r1  y\n" {
			t.Errorf("colour %v:\n%s", colour, got)
		}
	}
}

// TestNarrowTable: too narrow a terminal folds the widest column between words;
// names and ids stay whole; without a terminal a row is a line.
func TestNarrowTable(t *testing.T) {
	rows := func() [][]cell {
		return [][]cell{{{"06h15ze6e294fn8b", plain}, {"2026-11-20 09:00", plain}, {"the push broke off while sending: of 12 lines, 3 were taken", plain}, {"admin", plain}}, {{"06h15ze6e294fn8c", plain}, {"2026-11-20 09:01", plain}, {"short", plain}, {"admin", plain}}}
	}
	head := []string{"job", "at", "summary", "by"}
	for _, width := range []int{60, 72, 80, 200} {
		a, out, _ := paper(false)
		a.s.width = width
		a.s.table(head, rows())
		for _, l := range strings.Split(out.String(), "\n") {
			if len([]rune(l)) > width {
				t.Errorf("at %d: %q", width, l)
			}
		}
		all := strings.Join(strings.Fields(out.String()), " ")
		for _, whole := range []string{"06h15ze6e294fn8b", "06h15ze6e294fn8c", "taken", "admin"} {
			if !strings.Contains(all, whole) {
				t.Errorf("at %d %q is broken:\n%s", width, whole, out)
			}
		}
		if lines := strings.Count(out.String(), "\n"); width == 200 && lines != 3 || width == 60 && lines < 5 {
			t.Errorf("at %d there are %d lines:\n%s", width, lines, out)
		}
	}
	a, out, _ := paper(false)
	a.s.table(head, rows())
	if strings.Count(out.String(), "\n") != 3 {
		t.Errorf("piped:\n%s", out)
	}
	if got := fold("one  two three", 7); strings.Join(got, "|") != "one two|three" {
		t.Errorf("%q", got)
	}
}

// TestFacts: in a terminal a long value is broken between words, under itself.
func TestFacts(t *testing.T) {
	a, out, _ := paper(false)
	facts := []string{"undo", "in 5m unless it is confirmed", "host name", "quay", "tags", ""}
	a.s.facts(facts...)
	a.s.width = 30
	a.s.facts(facts...)
	want := "undo       in 5m unless it is confirmed\nhost name  quay\n" +
		"undo       in 5m unless it is\n           confirmed\nhost name  quay\n"
	if out.String() != want {
		t.Errorf("got\n%s\nwant\n%s", out, want)
	}
	// Colours are not measured, and never cut.
	c, coloured, _ := paper(true)
	c.s.width = 30
	c.s.facts("state", c.s.paint(alarm, "unreachable"))
	if got := coloured.String(); !strings.Contains(got, "unreachable\x1b[0m\n") || strings.Count(got, "\n") != 1 {
		t.Errorf("%q", got)
	}
}

// FuzzVisible: nothing that steers a terminal comes through, and what is plain
// comes through as it is.
func FuzzVisible(f *testing.F) {
	f.Add("quay\x1b[2J\u202e\xff")
	f.Fuzz(func(t *testing.T, s string) {
		var out bytes.Buffer
		sc := &screen{colour: true}
		sc.guard(&out, &out)
		sc.printf("%s", s)
		if strings.ContainsFunc(out.String(), steers) || !utf8.ValidString(out.String()) {
			t.Errorf("%q comes out as %q", s, out.String())
		}
		if !strings.ContainsFunc(s, steers) && utf8.ValidString(s) && out.String() != s {
			t.Errorf("%q is changed to %q", s, out.String())
		}
	})
}

func TestReferences(t *testing.T) {
	for _, c := range []struct{ raw, like, want string }{
		{"r1", "", "r1@latest"}, {"@live", "r1@1", "r1@live"}, {"@2", "r1/startup@1", "r1/startup@2"}, {"r2@x", "r1@1", "r2@x"},
	} {
		if got, err := reference(c.raw, c.like); err != nil || got != c.want {
			t.Errorf("%s after %s: %s, %v", c.raw, c.like, got, err)
		}
	}
	if _, err := reference("@live", ""); err == nil {
		t.Error("a reference without a device")
	}
	for raw, want := range map[string]string{"r1": "r1@previous r1@latest", "r1@3": "r1@3 r1@latest", "r1@live": "r1@latest r1@live", "r1/startup@x": "r1/startup@x r1/startup@latest"} {
		if from, to, err := pair(raw); err != nil || from+" "+to != want {
			t.Errorf("%s alone is compared as %s %s, %v", raw, from, to, err)
		}
	}
}

// TestMarkedWords: colour marks just the words that differ, and nothing is lost.
func TestMarkedWords(t *testing.T) {
	a, out, errs := paper(true)
	a.showDiff("lines", client.Diff{From: "r1@1", To: "r1@2", Relation: "different", Added: 1, Removed: 1, SetAside: 1, Unified: "--- a\n+++ b\n@@ -1 +1 @@\n-x one\n+x two\n",
		Hunks: []client.Hunk{{From: 1, FromLen: 1, To: 1, ToLen: 1, Block: "lane q", Lines: []client.DiffLine{{Op: "remove", Text: "x one", Marks: [][2]int{{2, 5}}}, {Op: "add", Text: "x two", Marks: [][2]int{{2, 5}}}}}}})
	if got := out.String(); !strings.Contains(got, "\x1b[33;7mone\x1b[0m") || !strings.Contains(got, "\x1b[36;7mtwo\x1b[0m") || !strings.Contains(got, "in lane q") {
		t.Errorf("%q", got)
	}
	if got := errs.String(); !strings.Contains(got, "1 line removed, 1 line added; 1 line that changes by itself not shown") {
		t.Errorf("%q", got)
	}
}

func TestAgo(t *testing.T) {
	for d, want := range map[time.Duration]string{10 * time.Second: "just now", 5 * time.Minute: "5 min ago", 30 * time.Hour: "30 h ago", 80 * time.Hour: "3 days ago"} {
		at := time.Now().Add(-d)
		if got := ago(&at); got != want {
			t.Errorf("%s: %s", d, got)
		}
	}
	if ago(nil) != "never" {
		t.Error("never")
	}
}

// TestNobodyIsAsked where there is no terminal, and secrets come from where they
// may.
func TestNobodyIsAsked(t *testing.T) {
	a, _, _ := paper(false)
	if _, err := a.s.ask(context.Background(), "?"); err != errNobody {
		t.Errorf("%v", err)
	}
	if _, err := a.s.secret(context.Background(), "The word", "MAGPIE_TEST_WORD", ""); err == nil || !strings.Contains(err.Error(), "set MAGPIE_TEST_WORD") {
		t.Errorf("%v", err)
	}
	t.Setenv("MAGPIE_TEST_WORD", "hush")
	if got, err := a.s.secret(context.Background(), "The word", "MAGPIE_TEST_WORD", ""); got != "hush" || err != nil {
		t.Errorf("%q, %v", got, err)
	}
}

// TestPlanTimes: a time of day is the next one, a day and time is the reader's
// own unless it says otherwise, and what is neither is refused.
func TestPlanTimes(t *testing.T) {
	faroe, err := time.LoadLocation("Atlantic/Faroe")
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 7, 1, 21, 30, 0, 0, faroe) // an hour ahead of UTC in summer
	for _, c := range []struct{ in, want string }{
		{"now", "2026-07-01T20:30:00Z"},
		{"22:00", "2026-07-01T21:00:00Z"},
		{"21:30", "2026-07-01T20:30:00Z"},
		{"03:00", "2026-07-02T02:00:00Z"},
		{"2026-12-01T22:00", "2026-12-01T22:00:00Z"},
		{"2026-07-02 22:00", "2026-07-02T21:00:00Z"},
		{"2026-07-02T22:00:30", "2026-07-02T21:00:30Z"},
		{"2026-07-02T22:00:00+09:00", "2026-07-02T13:00:00Z"},
		{"soon", ""}, {"25:00", ""}, {"2026-02-30T10:00", ""}, {"22", ""}, {"", ""},
	} {
		got, err := clockOrTime(c.in, now, faroe)
		if (err != nil) != (c.want == "") || err == nil && got.UTC().Format(time.RFC3339) != c.want {
			t.Errorf("%q: %s, %v; wanted %s", c.in, got.UTC().Format(time.RFC3339), err, c.want)
		}
	}
	t.Setenv("TZ", ":Atlantic/Faroe")
	if z := ianaZone(); z != "Atlantic/Faroe" {
		t.Errorf("the reader's zone is %q", z)
	}
	t.Setenv("TZ", "not a zone")
	if z := ianaZone(); z != "UTC" {
		t.Errorf("a zone that is not known is %q", z)
	}
}

// TestColumns: a list's columns are those that its type names, in their order; a
// choice has its own. A key that is none stops the program.
func TestColumns(t *testing.T) {
	t.Setenv("TZ", "UTC")
	type ship struct {
		Note  string     `json:"note" column:"0 note"`
		Left  *time.Time `json:"left,omitempty" column:"4 left"`
		Name  string     `json:"name" column:"1 ship"`
		Ports []string   `json:"ports" column:"3 calls at"`
		Crew  int        `json:"crew" column:"2 crew"`
		Late  bool       `json:"late" column:"5 late"`
		Seen  *time.Time `json:"seen" column:"6 seen" as:"ago"`
		Other string     `json:"other"`
	}
	at := time.Date(2026, 11, 16, 9, 0, 0, 0, time.UTC)
	all := []ship{{"n", &at, "Brindle", []string{"a", "b"}, 7, true, nil, "x"}}
	flat := func(cells []cell) (out []string) {
		for _, c := range cells {
			out = append(out, c.text)
		}
		return out
	}
	head, rows := listed(all, cells[ship]{"crew": func(s ship) cell { return cell{fmt.Sprintf("%d souls", s.Crew), faint} }})
	if got, want := strings.Join(head, "|"), "ship|crew|calls at|left ("+zoneName()+")|late|seen"; got != want {
		t.Errorf("%s instead of %s", got, want)
	}
	if got, want := strings.Join(flat(rows[0]), "|"), "Brindle|7 souls|a, b|"+when(at)+"|yes|never"; got != want || rows[0][0].style != strong || rows[0][1].style != faint {
		t.Errorf("%s instead of %s", got, want)
	}
	head, rows = listed(all, nil, "note", "name")
	if strings.Join(head, "|") != "note|ship" || strings.Join(flat(rows[0]), "|") != "n|Brindle" || rows[0][0].style != strong {
		t.Error(head, rows)
	}
	for _, slip := range []func(){func() { listed(all, nil, "nam") }, func() { listed(all, cells[ship]{"note": func(ship) cell { return cell{} }}) }} {
		func() {
			defer func() {
				if recover() == nil {
					t.Error("a key that is no column was taken")
				}
			}()
			slip()
		}()
	}
}
