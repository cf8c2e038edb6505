package read_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/push"
	"magpie/internal/read"
	"magpie/internal/scratch"
	"magpie/internal/sim"
	"magpie/internal/sim/tern"
	"magpie/internal/store"
	"magpie/internal/yard"
)

var (
	bg     = context.Background()
	admin  = core.Actor{ID: "a", Name: "admin", Role: core.Admin, Secrets: true}
	reader = core.Actor{ID: "r", Name: "lookout", Role: core.Reader}
)

func TestMain(m *testing.M) { os.Exit(scratch.Main(m)) }

const r1 = "skerrinsay-r1"

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// TestWhatRanThen: a time names the version that ran then, and says how sure
// that is.
func TestWhatRanThen(t *testing.T) {
	y := yard.New(t, 1)
	y.PullAt("09:00")
	y.PullAt("09:40")
	y.Amend("lane quay1", "shut")
	y.PullAt("10:15")
	for _, c := range []struct{ at, ref, sure string }{
		{"2026-11-20T09:30Z", r1 + "@1", "1 was seen both before and after"},
		{"2026-11-20T09:40Z", r1 + "@1", "1 was seen both before and after"},
		{"2026-11-20T10:00Z", r1 + "@1", "1 seen until 2026-11-20 09:40 UTC, 2 from 2026-11-20 10:15 UTC; in between it is not known"},
		{"2026-11-20T10:15Z", r1 + "@2", "2 was seen both before and after"},
		{"2026-11-20", r1 + "@2", "2 seen until 2026-11-20 10:15 UTC; nothing was pulled since"},
		{"2026-11-20T08:59Z", "", "nothing was pulled by then"},
	} {
		side, err := y.Resolve(r1 + "@" + c.at)
		switch {
		case c.ref == "" && (err == nil || !strings.Contains(err.Error(), c.sure) || !errors.Is(err, store.ErrNotFound)):
			t.Errorf("%s: %v", c.at, err)
		case c.ref != "" && (err != nil || side.Ref != c.ref || side.Sure != c.sure):
			t.Errorf("%s: %s, %q, %v", c.at, side.Ref, side.Sure, err)
		}
	}
}

// TestStates walks a device through its states and back.
func TestStates(t *testing.T) {
	y := yard.New(t, 1)
	u := y.Fleet.Unit(r1)
	yes := true
	for _, c := range []struct {
		name    string
		do      func()
		outcome string
		state   string
		unsaved bool
	}{
		{"first pull", func() {}, core.Done, core.InSync, false},
		{"a change not stowed", func() { y.Amend("lane quay1", "shut") }, core.Done, core.Unsaved, true},
		{"stowed", func() { u.Stow() }, core.Done, core.InSync, false},
		{"away", func() { _ = u.SetFaults(tern.Faults{Down: true}) }, core.Failed, core.Unreachable, false},
		{"back, and shortened", func() { _ = u.SetFaults(tern.Faults{Weak: true}) }, core.Failed, core.PullFailing, false},
		{"healthy", func() { _ = u.SetFaults(tern.Faults{}) }, core.Done, core.InSync, false},
		{"another order of typing, which means the same", func() { y.Amend("lane quay1", "cancel shut", "up", "lane quay1", "shut") }, core.Done, core.InSync, false},
		{"off its baseline", func() {
			if _, err := y.Read.SetMark(bg, admin, ref.Version{Device: r1, Part: "running", Which: "latest"}, read.Mark{Baseline: &yes}); err != nil {
				t.Fatal(err)
			}
			y.Amend("lane quay1", "cancel shut")
			u.Stow()
		}, core.Done, core.Drifted, false},
		{"refused", func() { _ = u.SetFaults(tern.Faults{RefuseLogin: true}) }, core.Refused, core.LoginRefused, false},
		{"not even tried", func() { _ = u.SetFaults(tern.Faults{}) }, core.Failed, core.LoginRefused, false},
		{"let in again", func() { y.Tx(func(q *store.Q) error { return q.UnlockLogin(bg, y.Device(r1)) }) }, core.Done, core.Drifted, false},
	} {
		c.do()
		j := y.PullAt("10:00")
		d := y.Device(r1)
		if j.Outcome != c.outcome || d.State != c.state || d.Unsaved != c.unsaved || (d.Trouble == "") != (c.outcome == core.Done) {
			t.Fatalf("%s: the pull is %s (%s), the device %s, unsaved %v, trouble %q", c.name, j.Outcome, j.Summary, d.State, d.Unsaved, d.Trouble)
		}
	}
}

// TestSuddenShrink is flagged in the job's log.
func TestSuddenShrink(t *testing.T) {
	y := yard.New(t, 1)
	y.PullAt("09:00")
	y.Amend("lane guest", "cancel sieve in", "up", "lane tills", "cancel sieve in", "up", "lane uplink1", "cancel sieve in", "up",
		"cancel sieve guest-in", "cancel sieve tills-in", "cancel sieve uplink-in", "cancel roster control", "cancel roster tills",
		"cancel lane guest", "cancel lane quay1", "cancel lane quay2", "cancel lane tills", "cancel lane uplink1", "cancel flock 64512", "cancel lookout")
	j := y.PullAt("09:10")
	log, err := y.Read.Store.As(admin).Entries(bg, j.ID, 0, 1000)
	if err != nil {
		t.Fatal(err)
	}
	said := false
	for _, e := range log {
		said = said || e.Kind == "warning" && strings.Contains(e.Text, "shrank from")
	}
	if j.Outcome != core.Done || !said {
		t.Errorf("%s, %+v", j.Outcome, log)
	}
}

// TestRelations: how two texts stand to each other, and what a comparison leaves
// out.
func TestRelations(t *testing.T) {
	y := yard.New(t, 1)
	y.PullAt("09:00")
	y.Amend("lane quay1", "shut")
	y.PullAt("09:10")
	for _, c := range []struct {
		from, to, relation string
		hunks              bool
	}{
		{r1 + "@1", r1 + "@1", dialect.Identical, false},
		{r1 + "@2", r1 + "@live", dialect.Unchanged, false},
		{r1 + "@1", r1 + "@2", dialect.Different, true},
		{r1 + "@1", r1 + "/startup@1", dialect.Unchanged, false},
	} {
		a, err1 := y.Resolve(c.from)
		b, err2 := y.Resolve(c.to)
		if err1 != nil || err2 != nil {
			t.Fatal(err1, err2)
		}
		got, err := y.Read.Compare(bg, reader, a, b, 3, false)
		if err != nil || got.Relation != c.relation || (len(got.Hunks) > 0) != c.hunks {
			t.Errorf("%s to %s: %s with %d hunks, %v\n%s", c.from, c.to, got.Relation, len(got.Hunks), err, got.Unified)
		}
		if strings.Contains(got.Unified, "sealed ") && !strings.Contains(got.Unified, "‹secret ") {
			t.Errorf("a reader is shown\n%s", got.Unified)
		}
	}
}

// TestWhatCannotBeMaskedIsNotShown: of a text that the dialect cannot wholly read, what it
// cannot read is shown only to who may see secrets, and so is what no rule speaks of, for
// that may stand in the wrong block.
func TestWhatCannotBeMaskedIsNotShown(t *testing.T) {
	y := yard.New(t, 1)
	y.Tx(func(q *store.Q) error {
		id, err := q.PutContent(bg, []byte("lane q\n    deep\n  between\nmast-word sealed hush\n"), "", 0)
		if err != nil {
			return err
		}
		p, err := q.Part(bg, y.Device(r1).ID, "running", true)
		if err != nil {
			return err
		}
		return q.AddVersion(bg, p, &core.Version{ContentID: id, PullID: "p", TakenAt: y.Now(), Reason: core.ByHand}, "")
	})
	side, err := y.Resolve(r1 + "@1")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := y.Read.Shown(reader, side); err != nil || strings.Contains(got, "hush") || strings.Contains(got, "deep") || strings.Contains(got, "between") || !strings.Contains(got, "lane q") {
		t.Errorf("a reader is shown %q, %v", got, err)
	}
	if got, err := y.Read.Shown(admin, side); err != nil || !strings.Contains(got, "hush") {
		t.Errorf("an admin is shown %q, %v", got, err)
	}
}

// TestOntoAnotherDevice: a version of one device put on another warns; one of
// another dialect is refused.
func TestOntoAnotherDevice(t *testing.T) {
	y := yard.New(t, 2)
	y.PullAt("09:00")
	y.Read.Start()
	defer y.Read.Stop(time.Second)
	v, err := y.Read.Version(bg, admin, ref.Version{Device: r1, Part: "running", Which: "latest"})
	if err != nil {
		t.Fatal(err)
	}
	preview := func() (core.Job, push.Preview) {
		t.Helper()
		j, err := y.Pushes.RequestPreview(bg, admin, y.Device("innisquill-r1"), v, push.PreviewRequest{Method: "replace"}, store.Key{})
		if err != nil {
			t.Fatal(err)
		}
		for end := time.Now().Add(20 * time.Second); j.State != core.Ended && time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
			if j, err = y.Read.Store.As(admin).Job(bg, j.ID); err != nil {
				t.Fatal(err)
			}
		}
		named := map[string]string{}
		var p push.Preview
		if err := y.Read.Store.As(admin).OpenResult(j, &named); err == nil && named["preview"] != "" {
			if p, _, err = y.Pushes.Preview(bg, admin, named["preview"]); err != nil {
				t.Fatal(err)
			}
		}
		return j, p
	}
	j, p := preview()
	if j.Outcome != core.Done || len(p.Steps) == 0 || !strings.Contains(strings.Join(p.Warnings, "\n"), "was taken from skerrinsay-r1") {
		t.Errorf("%s (%s): %q", j.Outcome, j.Summary, p.Notes)
	}
	d := y.Device("innisquill-r1")
	d.Dialect = "other"
	y.Tx(func(q *store.Q) error { return q.EditDevice(bg, d) })
	if j, _ := preview(); j.Outcome != core.Refused || !strings.Contains(j.Summary, "another dialect") {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
}

// TestUnchangedPullsLeaveLittle: a pull that nobody asked for by hand and that found
// nothing new leaves its sighting and one line, and no row of its own; one that found
// something leaves its log and its row.
func TestUnchangedPullsLeaveLittle(t *testing.T) {
	y := yard.New(t, 1)
	y.PullAt("09:00")
	db, err := sql.Open("mysql", y.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	count := func(query string) (n int) {
		t.Helper()
		if err := db.QueryRow(query).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	const pulls, lines, bytes = "SELECT COUNT(*) FROM pulls", "SELECT COUNT(*) FROM job_log", "SELECT SUM(LENGTH(sealed)) FROM job_log"
	pull := func(reason string) core.Job {
		t.Helper()
		y.Set(y.Now().Add(time.Hour))
		j, err := y.Visits.PullNow(bg, admin, y.Device(r1), reason)
		if err != nil || j.Outcome != core.Done {
			t.Fatal(j.Outcome, err)
		}
		return j
	}
	rows, log, size := count(pulls), count(lines), count(bytes)
	for range 20 {
		pull("schedule")
	}
	if n := count(pulls); n != rows {
		t.Errorf("20 unchanged pulls left %d rows", n-rows)
	}
	if n, b := count(lines)-log, count(bytes)-size; n != 20 || b > 20*250 {
		t.Errorf("20 unchanged pulls left %d lines of log, %d bytes", n, b)
	}
	side, err := y.Resolve(r1 + "@1")
	if err != nil {
		t.Fatal(err)
	}
	if v, err := y.Read.Store.As(admin).Listed(bg, side.Version.ID); err != nil || len(v) != 1 || v[0].Sightings < 20 || !v[0].SeenUntil.Equal(y.Now()) {
		t.Errorf("seen as %+v, %v", v, err)
	}
	y.Amend("lane quay1", "shut")
	log = count(lines)
	pull("schedule")
	if count(pulls) != rows+1 || count(lines) < log+4 {
		t.Errorf("a pull that found something left %d rows, %d lines", count(pulls)-rows, count(lines)-log)
	}
	log = count(lines)
	pull(core.ByHand)
	if count(lines) < log+4 {
		t.Error("who asks by hand reads what was done")
	}
}

// TestRulesOfOnesOwn: what people say of lines decides on drift beside the baseline, is counted where it hides
// something, and is no part of what becomes a version.
func TestRulesOfOnesOwn(t *testing.T) {
	y := yard.New(t, 2)
	y.Read.Register()
	y.Read.Start()
	defer y.Read.Stop(time.Second)
	y.PullAt("09:00")
	on := true
	if _, err := y.Read.SetMark(bg, admin, ref.Version{Device: r1, Part: "running", Which: "latest"}, read.Mark{Baseline: &on}); err != nil {
		t.Fatal(err)
	}
	set := func(name, kind, path string) {
		t.Helper()
		_, j, err := y.Read.SetRule(bg, admin, store.OwnRule{Name: name, Kind: kind, Path: path, Selector: "dialect=tern"})
		if err != nil {
			t.Fatal(err)
		}
		y.Ended(j)
	}
	drift := func() read.Drift {
		t.Helper()
		d, err := y.Read.Drift(bg, admin, y.Device(r1), "running", false)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	state := func(want string) {
		t.Helper()
		if d := y.Device(r1); d.State != want {
			t.Fatalf("it is %s, want %s", d.State, want)
		}
	}
	noise := func(d read.Drift) int {
		n, _, _ := y.Read.Aside(d)
		return n
	}
	y.Amend("lane guest", "  note \"for the regatta\"")
	y.PullAt("10:00")
	state(core.Drifted)
	set("notes", "ignored", "lane {name} / note <text>")
	state(core.Unsaved) // which is another matter
	if d := drift(); d.State != core.InSync || noise(d) != 1 {
		t.Errorf("with a note as noise it is %s, %d lines left aside", d.State, noise(d))
	}
	c, err := y.Read.Compare(bg, admin, y.Side(r1+"@1"), y.Side(r1+"@latest"), 3, false)
	if err != nil || c.Relation != dialect.Unchanged || c.Noise() != 2 || len(c.By) != 1 || c.By[0].Rule != "notes" || c.Unified != "" {
		t.Errorf("%v: %s, noise %d by %v\n%s", err, c.Relation, c.Noise(), c.By, c.Unified)
	}
	if all, err := y.Read.Compare(bg, admin, y.Side(r1+"@1"), y.Side(r1+"@latest"), 3, true); err != nil || all.Relation != dialect.Different || !strings.Contains(all.Unified, "+  note \"for the regatta\"") {
		t.Errorf("all: %v, %s\n%s", err, all.Relation, all.Unified)
	}
	y.Amend("lane guest", "  note \"and after it\"")
	if y.PullAt("10:30"); y.Device(r1).Latest != 3 {
		t.Error("a note that is noise made no version")
	}
	// Where two devices are compared, what is each one's own is set apart.
	if _, err := y.Read.PullNow(bg, admin, y.Device("innisquill-r1"), core.ByHand); err != nil {
		t.Fatal(err)
	}
	set("berths", "per-device", "lane {name} / berth <address>")
	two, err := y.Read.Compare(bg, admin, y.Side(r1+"@latest"), y.Side("innisquill-r1@latest"), 3, false)
	by := map[string]int{}
	for _, h := range two.By {
		by[h.Rule] = h.Lines
	}
	if err != nil || by["berths"] == 0 || by[rules.DialectSays] != 2 || strings.Contains(two.Unified, "+name ") || strings.Contains(two.Unified, "+  berth ") {
		t.Errorf("two devices: %v, left out %v\n%s", err, by, two.Unified)
	}
	y.Amend("lane quay2", "  cancel berth", "  berth 10.99.0.1/24")
	y.PullAt("10:40")
	if one, err := y.Read.Compare(bg, admin, y.Side(r1+"@3"), y.Side(r1+"@latest"), 3, false); err != nil || !strings.Contains(one.Unified, "10.99.0.1") {
		t.Errorf("of one device they count: %v\n%s", err, one.Unified)
	}
	y.Amend("lane quay2", "  cancel berth", "  berth 10.12.13.1/24")
	y.PullAt("10:50")
	set("strict", "required", "lane {name} / guard loose")
	state(core.Drifted)
	missed := drift().Differences
	if len(missed) == 0 || missed[0].Rule != "strict" || missed[0].Want != "guard loose" || !strings.HasPrefix(missed[0].Block, "lane ") {
		t.Errorf("missed: %+v", missed)
	}
	set("strict", "forbidden", "clock / mark 10.30.0.6")
	if d := drift(); d.State != core.Drifted || len(d.Differences) != 1 || d.Differences[0].Have != "mark 10.30.0.6" || d.Differences[0].Block != "clock" {
		t.Errorf("what must not be there: %s %+v", d.State, d.Differences)
	}
	// A model: its lines, with what is written down of each device.
	j, err := y.Read.RemoveRule(bg, admin, "strict")
	if err != nil {
		t.Fatal(err)
	}
	y.Ended(j)
	model := store.OwnRule{Name: "edge", Kind: "template", Selector: "all", Text: "name {{name}}\nclock\n  mark {{clock}}\n  zone Atlantic/Faroe\nlookout\n  community demo-model-secret\n"}
	if _, j, err = y.Read.SetRule(bg, admin, model); err != nil {
		t.Fatal(err)
	}
	y.Ended(j)
	lacks := func() (out []string) {
		for _, d := range drift().Differences {
			out = append(out, d.Block+": "+d.Want)
		}
		return out
	}
	if got := lacks(); !slices.Equal(got, []string{"clock: mark {{clock}}", "lookout: community demo-model-secret"}) {
		t.Errorf("of the model it lacks %q", got)
	}
	y.Tx(func(q *store.Q) error {
		d, err := q.Device(bg, r1)
		if err == nil {
			d.Fields = core.Spans{"clock": "10.30.0.5"}
			err = q.EditDevice(bg, d)
		}
		return err
	})
	if got := lacks(); !slices.Equal(got, []string{"lookout: community demo-model-secret"}) {
		t.Errorf("with its own value it lacks %q", got)
	}
	if m, err := y.Read.RuleFinds(bg, reader, must(y.Read.Store.As(reader).OwnRule(bg, "edge"))); err != nil || strings.Contains(fmt.Sprint(m), "model-secret") || !slices.Equal(m.Variables, []string{"clock", "name"}) {
		t.Errorf("a reader sees of it %+v, %v", m, err)
	}
	if raw := y.Column("SELECT body FROM own_rules WHERE name = 'edge'"); strings.Contains(raw, "community") {
		t.Error("the model lies open in the database")
	}
	if j, err = y.Read.RemoveRule(bg, admin, "edge"); err != nil {
		t.Fatal(err)
	}
	y.Ended(j)
	set("strict", "forbidden", "clock / mark 10.30.0.6")
	found, err := y.Read.RuleFinds(bg, reader, store.OwnRule{Name: "words", Kind: "ignored", Path: "crew {user} / word {word...}", Selector: "all", Dialect: "tern"})
	if err != nil || found.Lines == 0 || !strings.Contains(found.Items[0].Line, "‹secret") {
		t.Errorf("a reader is shown %+v, %v", found, err)
	}
	if _, err := y.Read.RemoveRule(bg, admin, "stric"); err == nil || !strings.Contains(err.Error(), "strict") {
		t.Errorf("a name mistyped: %v", err)
	}
	if j, err = y.Read.RemoveRule(bg, admin, "strict"); err != nil {
		t.Fatal(err)
	}
	y.Ended(j)
	state(core.Unsaved) // which is another matter
	for _, bad := range []store.OwnRule{
		{Name: "x", Kind: "template", Selector: "all"}, {Name: "x", Kind: "template", Path: "a", Text: "a\n", Selector: "all"}, {Name: "x", Kind: "required", Path: "a", Text: "a\n", Selector: "all"},
		{Name: "x", Kind: "ignored", Path: "a / ", Selector: "all"}, {Name: "x", Kind: "required", Path: "a", Selector: "state=drifted"}, {Name: "x", Kind: "required", Path: "a", Selector: "all", Dialect: "plover"}, {Name: "x", Kind: "may", Path: "a", Selector: "all"},
	} {
		if _, _, err := y.Read.SetRule(bg, admin, bad); !errors.Is(err, read.ErrRule) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
}

// TestAcknowledged: known drift does not count until its time, or until other lines differ.
func TestAcknowledged(t *testing.T) {
	y := yard.New(t, 2)
	y.PullAt("09:00")
	on := true
	if _, err := y.Read.SetMark(bg, admin, ref.Version{Device: r1, Part: "running", Which: "latest"}, read.Mark{Baseline: &on}); err != nil {
		t.Fatal(err)
	}
	until := y.Now().Add(5 * time.Hour)
	say := func(reason string) error {
		return y.Read.Acknowledge(bg, admin, y.Device(r1), "running", reason, until)
	}
	if err := say("for nothing"); !errors.Is(err, read.ErrSteady) {
		t.Errorf("no drift: %v", err)
	}
	state := func(when, want string, known bool) {
		t.Helper()
		d, err := y.Read.Drift(bg, admin, y.Device(r1), "running", false)
		if got := y.Device(r1).State; err != nil || got != want || (d.Known != nil) != known {
			t.Errorf("%s: %s, known %v, %v; want %s, %v", when, got, d.Known, err, want, known)
		}
	}
	y.Amend("lane guest", "  shut")
	y.PullAt("10:00")
	state("shut", core.Drifted, false)
	if err := say("the pontoon is out of the water"); err != nil {
		t.Fatal(err)
	}
	state("acknowledged", core.Unsaved, true)
	y.PullAt("10:10")
	state("pulled again", core.Unsaved, true)
	y.Amend("lane quay1", "  shut")
	y.PullAt("10:20")
	state("another line", core.Drifted, false)
	y.Amend("lane quay1", "  cancel shut")
	y.PullAt("10:30")
	state("only what is known", core.Unsaved, true)
	y.Set(until.Add(-time.Minute))
	if err := y.Read.Lapse(bg); err != nil {
		t.Fatal(err)
	}
	state("a minute before its end", core.Unsaved, true)
	y.Set(until)
	if err := y.Read.Lapse(bg); err != nil {
		t.Fatal(err)
	}
	state("over", core.Drifted, false)
	until = until.Add(time.Hour)
	if err := say("once more"); err != nil {
		t.Fatal(err)
	}
	if err := y.Read.Unacknowledge(bg, admin, y.Device(r1), "running"); err != nil {
		t.Fatal(err)
	}
	state("withdrawn", core.Drifted, false)
	y.Amend("lane guest", "  cancel shut")
	y.PullAt("17:00")
	state("put right", core.InSync, false)
}

// TestHistory: lines are found in all versions with the time for which they were there; what returns is found
// again; secrets are not.
func TestHistory(t *testing.T) {
	y := yard.New(t, 2)
	y.PullAt("09:00")
	y.Amend("lane guest", "  note \"one\"")
	y.PullAt("10:00")
	y.Amend("lane guest", "  note \"two\"")
	y.PullAt("11:00")
	y.Amend("lane guest", "  note \"one\"")
	y.PullAt("12:00")
	find := func(actor core.Actor, r read.SearchRequest) (said []string) {
		t.Helper()
		r.Selector, r.Limit = ref.All(), 1
		for {
			page, err := y.Read.History(bg, actor, r)
			if err != nil {
				t.Fatal(err)
			}
			for _, p := range page.Found {
				line := fmt.Sprintf("%s %s: %d", p.Path, p.Text, p.From.Number)
				if p.Gone != nil {
					line += fmt.Sprintf(" to %d, gone by %s", p.Gone.Number, p.Gone.Author)
				}
				said = append(said, line)
			}
			if r.After = page.Next; r.After == "" {
				return said
			}
		}
	}
	want := []string{`lane guest note "one": 2 to 3, gone by mwilks`, `lane guest note "two": 3 to 4, gone by mwilks`, `lane guest note "one": 4`}
	if got := find(reader, read.SearchRequest{Line: `note "[ot][nw][eo]"`, Regexp: true}); !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	secret := tern.Sealed(sim.ServiceWord)
	if got := find(reader, read.SearchRequest{Line: secret[:6]}); len(got) > 0 {
		t.Errorf("a secret was found: %q", got)
	}
	if got := find(admin, read.SearchRequest{Line: secret[:6], Secrets: true}); len(got) == 0 {
		t.Error("who may see secrets did not find one")
	}
	all, _, err := y.Read.UpToNow(bg, reader, y.Side(r1+"@latest"))
	if err != nil || len(all) != 3 || all[0].Gained != 1 || all[0].Lost != 1 || !all[1].Equal || all[1].Gained != 0 {
		t.Errorf("how far: %+v, %v", all, err)
	}
}
