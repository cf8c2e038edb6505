package tern

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"slices"
	"strings"
	"testing"
	"time"
)

// typed types lines and returns the refusals.
func typed(t *testing.T, m *Machine, lines ...string) (refused []string) {
	t.Helper()
	for _, l := range lines {
		if err := m.Type(l); err != nil {
			refused = append(refused, err.Error())
		}
	}
	return refused
}

func TestMachine(t *testing.T) {
	for _, c := range []struct {
		name    string
		lines   []string
		want    string // what it then shows
		refused string // the one refusal, if there is to be one
	}{
		{"a lane writes its own guard", []string{"lane q"}, "lane q|  guard strict", ""},
		{"the guard can go", []string{"lane q", "cancel guard"}, "lane q", ""},
		{"a default is left out", []string{"lane q", "mtu 1500", "cancel guard"}, "lane q", ""},
		{"settings stand in the device's own order", []string{"lane q", "shut", "mtu 9000", "note \"a  b\""}, "lane q|  note \"a  b\"|  mtu 9000|  guard strict|  shut", ""},
		{"blocks are sorted", []string{"lane b", "up", "lane a"}, "lane a|  guard strict|lane b|  guard strict", ""},
		{"a filter keeps the order it was typed in", []string{"sieve s", "pass udp from any to any", "drop any from any to any", "pass tcp from any to any"},
			"sieve s|  pass udp from any to any|  drop any from any to any|  pass tcp from any to any", ""},
		{"a note is overwritten", []string{"lane q", `note "a"`, `note "b"`}, "lane q|  note \"b\"|  guard strict", ""},
		{"a berth is not", []string{"lane q", "berth 10.0.0.1/24", "berth 10.0.0.2/24"}, "lane q|  berth 10.0.0.1/24|  guard strict", "berth is set to 10.0.0.1/24; cancel it first"},
		{"a filter in use stays", []string{"sieve s", "up", "lane q", "sieve in s", "up", "cancel sieve s"}, "sieve s|lane q|  guard strict|  sieve in s", "sieve s is in use by lane q"},
		{"a roster in use stays", []string{"roster r", "up", "sieve s", "drop any from roster r to any", "up", "cancel roster r"}, "roster r|sieve s|  drop any from roster r to any", "roster r is in use by sieve s"},
		{"a filter must be there to be used", []string{"lane q", "sieve in s"}, "lane q|  guard strict", "no sieve is named s"},
		{"a unit has a name", []string{"name r1", "cancel name"}, "name r1", "a unit cannot be without its name"},
		{"nothing to cancel", []string{"cancel domain"}, "", "there is no domain to cancel"},
		{"an unknown word", []string{"lain q"}, "", `unknown word "lain" here`},
		{"a word in the wrong block", []string{"clock", "berth 10.0.0.1/24"}, "clock", `unknown word "berth" here`},
		{"the clock's correction is its own", []string{"clock", "skew +0.1"}, "clock", "skew is kept by the unit itself"},
		{"a placard is taken as it is", []string{"placard ((", "cancel name", "  up", "))"}, "placard ((|cancel name|  up|))", ""},
		{"a word in the open is sealed", []string{"mast-word open x"}, "mast-word sealed " + Sealed("x"), ""},
		{"an entry twice", []string{"sieve s", "drop any from any to any", "drop any from any to any"}, "sieve s|  drop any from any to any", "that entry is there already"},
		{"up at the top", []string{"up"}, "", "already at the top"},
		{"an address that is none", []string{"clock", "mark ten"}, "clock", `"ten" is no address`},
		{"a number out of range", []string{"lane q", "mtu 99999"}, "lane q|  guard strict", `"99999" is not a number from 576 to 9216`},
	} {
		m := &Machine{}
		refused := typed(t, m, c.lines...)
		if got := strings.Join(m.Lines(), "|"); got != c.want {
			t.Errorf("%s: it shows %q, not %q", c.name, got, c.want)
		}
		if got := strings.Join(refused, "; "); got != c.refused {
			t.Errorf("%s: refused %q, not %q", c.name, got, c.refused)
		}
	}
}

// TestWhatIsShownCanBeTyped: any configuration, shown and typed into an empty
// unit, is the same configuration.
func TestWhatIsShownCanBeTyped(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	for range 500 {
		lines := Generate(r).Lines()
		m, err := Parse(lines)
		if err != nil {
			t.Fatalf("%v in\n%s", err, strings.Join(lines, "\n"))
		}
		if got := m.Lines(); !slices.Equal(got, lines) {
			t.Fatalf("shown\n%s\nthen\n%s", strings.Join(lines, "\n"), strings.Join(got, "\n"))
		}
	}
}

// terminal is a sign-in at a device, with what was shown so far.
type terminal struct {
	t    *testing.T
	conn net.Conn
	seen strings.Builder
}

func signIn(t *testing.T, d *Device, tty bool) *terminal {
	t.Helper()
	ours, theirs := net.Pipe()
	go func() {
		(&Console{Device: d, User: "okonkwo", From: "127.0.0.9", TTY: tty}).Serve(context.Background(), theirs, "")
		theirs.Close()
	}()
	t.Cleanup(func() { ours.Close() })
	return &terminal{t: t, conn: ours}
}

// until reads until what is shown ends with want, and returns what was shown
// since the last call.
func (m *terminal) until(want string) string {
	m.t.Helper()
	m.seen.Reset()
	_ = m.conn.SetReadDeadline(time.Now().Add(10 * time.Second))
	b := make([]byte, 1)
	for !strings.HasSuffix(m.seen.String(), want) {
		if _, err := m.conn.Read(b); err != nil {
			m.t.Fatalf("%q never came, but %q: %v", want, m.seen.String(), err)
		}
		m.seen.Write(b)
	}
	return m.seen.String()
}

func (m *terminal) say(line string) {
	m.t.Helper()
	// The pipe has no buffer: what is echoed must be read while typing.
	go func() { _, _ = io.WriteString(m.conn, line+"\r") }()
}

func device(t *testing.T) *Device {
	t.Helper()
	d, err := New("r1", "TN4-1", []string{"name r1", "mast-word sealed " + Sealed("mast"), "crew okonkwo", "  rank master", "  word sealed " + Sealed("w"),
		"crew lookout", "  word sealed " + Sealed("l"), "lane q", "  guard strict", "lookout", "  community gulls"}, time.Unix(0, 0))
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func TestConsole(t *testing.T) {
	d := device(t)
	m := signIn(t, d, true)
	m.until("r1 ~ ")
	m.say("recite running")
	if got := m.until("r1 ~ "); strings.Contains(got, "gulls") || !strings.Contains(got, "shortened for rank deck") {
		t.Errorf("on deck everything is shown:\n%s", got)
	}
	m.say("aloft")
	m.until("Mast word: ")
	m.say("wrong")
	if got := m.until("r1 ~ "); !strings.Contains(got, "?! that is not the mast word") || strings.Contains(got, "wrong") {
		t.Errorf("a wrong mast word: %q", got)
	}
	m.say("aloft")
	m.until("Mast word: ")
	m.say("mast")
	m.until("r1 ~~ ")
	m.say("recite running")
	got := m.until("r1 ~~ ")
	if !strings.HasPrefix(got, "recite running\r\n.. running of r1, read ") || !strings.Contains(got, "\r\n.. end of running, 11 lines\r\n") {
		t.Errorf("aloft it recites\n%s", got)
	}
	m.say("amend")
	m.until("r1 chart ~~ ")
	m.say("lane q")
	m.until("r1 chart/lane ~~ ")
	m.say("mtu 90\b000")
	m.until("r1 chart/lane ~~ ")
	m.say("nonsense")
	if got := m.until("r1 chart/lane ~~ "); !strings.Contains(got, `?! unknown word "nonsense" here`) {
		t.Errorf("nonsense is answered %q", got)
	}
	second := signIn(t, d, true)
	second.until("r1 ~ ")
	second.say("aloft")
	second.until("Mast word: ")
	second.say("mast")
	second.until("r1 ~~ ")
	second.say("amend")
	if got := second.until("r1 ~~ "); !strings.Contains(got, "?! the chart is held by okonkwo at seat 1 from 127.0.0.9 since ") {
		t.Errorf("a second amend is answered %q", got)
	}
	m.say("ashore")
	m.until("r1 ~~ ")
	if got := strings.Join(d.Status().Running, "\n"); !strings.Contains(got, "  mtu 9000") {
		t.Errorf("it runs\n%s", got)
	}
	m.say("restart now")
	m.until("(go/stay)? ")
	m.say("stay")
	m.until("r1 ~~ ")
	m.say("restart in 60 minutes")
	m.until("r1 ~~ ")
	m.say("restart cancel")
	if got := m.until("r1 ~~ "); !strings.Contains(got, "The restart is off.") {
		t.Errorf("cancelling is answered %q", got)
	}
	m.say("restart now")
	m.until("(go/stay)? ")
	m.say("go")
	m.until("Restarting.\r\n")
	eventually(t, func() bool {
		return !strings.Contains(strings.Join(d.Status().Running, "\n"), "mtu") && d.Status().Sessions == 0
	})
}

func eventually(t *testing.T, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		if ok() {
			return
		}
	}
	t.Fatal("it never came about")
}

func TestPager(t *testing.T) {
	d := device(t)
	var lines []string
	for i := range 60 {
		lines = append(lines, fmt.Sprintf("course 10.0.%d.0/24 via 10.0.0.1", i))
	}
	if err := d.Amend("yard", lines); err != nil {
		t.Fatal(err)
	}
	m := signIn(t, d, true)
	m.until("r1 ~ ")
	m.say("recite running")
	const more = "((space turns the sheet, q puts it away))"
	if first := m.until(more); strings.Count(first, "\r\n") != 25 {
		t.Errorf("the first sheet has %d lines", strings.Count(first, "\r\n")-1)
	}
	go func() { _, _ = io.WriteString(m.conn, " ") }()
	m.until(more)
	go func() { _, _ = io.WriteString(m.conn, "q") }()
	m.until("r1 ~ ")
}

// TestStateOutlivesARestart of the simulator.
func TestStateOutlivesARestart(t *testing.T) {
	d := device(t)
	d.SetFaults(Faults{RefuseLine: 3})
	if err := d.Amend("mwilks", []string{"lane q", "shut"}); err != nil {
		t.Fatal(err)
	}
	again, err := Restore(d.State())
	if err != nil {
		t.Fatal(err)
	}
	a, b := d.Status(), again.Status()
	if !slices.Equal(a.Running, b.Running) || !slices.Equal(a.Startup, b.Startup) || b.Faults.RefuseLine != 3 || slices.Equal(b.Running, b.Startup) {
		t.Errorf("was %+v, is %+v", a, b)
	}
}

func TestSignInRights(t *testing.T) {
	d := device(t)
	for _, c := range []struct {
		user, word string
		ok         bool
	}{{"okonkwo", "w", true}, {"okonkwo", "x", false}, {"nobody", "", false}, {"lookout", "l", true}} {
		if got := d.CheckWord(c.user, c.word); got != c.ok {
			t.Errorf("%s with %q: %v", c.user, c.word, got)
		}
	}
	if st := d.Status(); st.Logins != 4 || st.Refused != 2 {
		t.Errorf("counted %d sign-ins, %d refused", st.Logins, st.Refused)
	}
	d.SetFaults(Faults{RefuseLogin: true})
	if d.CheckWord("okonkwo", "w") {
		t.Error("a device told to refuse lets in")
	}
}
