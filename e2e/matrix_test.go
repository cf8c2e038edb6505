package e2e

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/sim"
	"magpie/internal/sim/box"
)

// trial is one push with something going wrong in it.
type trial struct {
	name   string
	faults box.Faults
	// fired tells by what came of the push whether it went wrong at all: a push of one
	// change never comes to a second. nil: nothing is to go wrong.
	fired func(came) bool
	// during is what happens once the device holds a change.
	during func(w *world, device string)
	// helped is how long somebody lets it stay away after a restart.
	helped time.Duration
}

// came is what came of a push.
type came struct {
	end      client.Job
	log      string
	held     bool // the device held a change
	restarts int
}

func refused(c came) bool   { return c.end.Push != nil && c.end.Push.Refused != nil }
func holding(c came) bool   { return c.held }
func restarted(c came) bool { return c.restarts > 0 }
func says(words string) func(came) bool {
	return func(c came) bool { return strings.Contains(c.log, words) || strings.Contains(c.end.Summary, words) }
}

func pause(faults box.Faults, then time.Duration, back box.Faults) func(w *world, device string) {
	return func(w *world, device string) {
		w.fleet.faults(device, faults)
		time.Sleep(then)
		w.fleet.faults(device, back)
	}
}

// newKey has the device show another key from now on, drops the connection, and
// has a person accept the key a while later.
func newKey(w *world, device string) {
	w.fleet.call("POST", "/devices/"+device+"/hostkey", nil, nil)
	w.fleet.faults(device, box.Faults{Down: true})
	w.fleet.faults(device, box.Faults{})
	time.Sleep(3 * time.Second) // the service meets the new key before anybody accepts it
	d := must(w.admin.Device(ctx(w.t), device))(w.t)
	way := must(w.admin.Dialect(ctx(w.t), d.Dialect))(w.t).Ways[0]
	if p := must(w.admin.Probe(ctx(w.t), way.Transport, d.Address, d.Port))(w.t); p.HostKey != "" {
		must(w.admin.EditDevice(ctx(w.t), device, client.NewDevice{HostKey: p.HostKey}))(w.t)
	}
}

var trials = []trial{
	{name: "nothing"},
	{name: "first change refused", faults: box.Faults{RefuseLine: 1}, fired: refused},
	{name: "second change refused", faults: box.Faults{RefuseLine: 2}, fired: refused},
	{name: "first change ignored", faults: box.Faults{IgnoreLine: 1}, fired: func(c came) bool { return c.end.Outcome != "verified" }},
	{name: "cut before the first change", faults: box.Faults{HoldLine: 1}, during: pause(box.Faults{Down: true}, 2*time.Second, box.Faults{}), fired: holding},
	{name: "cut after the first change", faults: box.Faults{HoldLine: 1, HoldApplied: true}, during: pause(box.Faults{Down: true}, 2*time.Second, box.Faults{}), fired: holding},
	{name: "cut at the second change", faults: box.Faults{HoldLine: 2}, during: pause(box.Faults{Down: true}, 2*time.Second, box.Faults{}), fired: holding},
	{name: "held by somebody", faults: box.Faults{HeldBy: "mwilks"}, fired: says("mwilks")},
	{name: "full disk", faults: box.Faults{FullDisk: true}, fired: func(c came) bool { return c.end.Outcome != "verified" }},
	{name: "busy", faults: box.Faults{Busy: 2}, fired: says("busy")},
	{name: "another host key in the middle", faults: box.Faults{HoldLine: 1, HoldApplied: true}, during: newKey, fired: holding},
	{name: "slow restart", faults: box.Faults{SlowRestart: 4000}, fired: restarted},
	{name: "no return by itself", faults: box.Faults{NoReturn: true}, helped: 6 * time.Second, fired: restarted},
}

// TestMatrix pushes to every family by every method with everything going wrong
// that its simulator can do: each push ends in a truthful outcome, and the device
// runs what was asked for or what it ran before. make test walks a selection that
// pairs every family with every third fault; make test-matrix walks all of it.
func TestMatrix(t *testing.T) {
	t.Parallel()
	all := os.Getenv("MAGPIE_MATRIX") == "all"
	var mu sync.Mutex
	n, fired := 0, map[string]int{}
	var which []int
	for i, c := range changes {
		if !strings.Contains(c.part, "+") && (i == 0 || all || c.device != "port-asterly-f1") {
			which = append(which, i)
		}
	}
	alongside(t, which, func(i int) string { return changes[i].device + "/" + changes[i].part }, func(t *testing.T, i int) { // each in a world of its own
		c := changes[i]
		w := newWorld(t, 1, withFamilies(sim.AllFamilies))
		quick := map[string]string{"answer": "3s", "idle": "3s", "connect": "3s"}
		must(w.admin.EditDevice(ctx(t), c.device, client.NewDevice{Timeouts: &quick}))(t)
		w.pull(c.device)
		ref := c.device + "/" + c.part
		asked := w.fleet.running(c.device)
		w.fleet.amend(c.device, "mwilks", strings.Split(c.lines, "\n")...)
		w.fleet.stow(c.device)
		w.pull(c.device)
		before := w.fleet.running(c.device)
		methods := must(w.admin.Dialect(ctx(t), w.fleet.place(c.device).Family))(t).Methods
		for k, tr := range trials {
			for m, method := range methods {
				if !all && ((i+k)%3 != 0 || m != k%len(methods)) {
					continue
				}
				t.Run(fmt.Sprintf("%s/%s", method, tr.name), func(t *testing.T) {
					wrong := w.on(t).tryPush(c.device, ref, method, asked, before, tr)
					mu.Lock()
					defer mu.Unlock()
					if n++; wrong {
						fired[tr.name]++
						t.Log("it went wrong, as it was to")
					} else if tr.fired != nil {
						t.Log("nothing went wrong: this push never comes to that")
					}
				})
			}
		}
	})
	t.Logf("%d pushes; of each kind went wrong: %v", n, fired)
	for _, tr := range trials {
		if tr.fired != nil && fired[tr.name] == 0 {
			t.Errorf("%s: it went wrong nowhere, so nothing is known of it", tr.name)
		}
	}
}

// tryPush pushes version 1 to a device that runs version 2, and puts version 2
// back afterwards. It tells whether something went wrong.
func (w *world) tryPush(device, ref, method, asked, before string, tr trial) (fired bool) {
	w.t.Helper()
	// A controller's document names its defaults, which its own may leave out.
	same := func(a, b string) bool {
		return a == b || strings.HasPrefix(device, "control-w") && strings.Contains(a, `"low"`) == strings.Contains(b, `"low"`)
	}
	if now := w.fleet.running(device); !same(now, before) {
		w.t.Fatalf("it does not begin as it should:\n%s", now)
	}
	j := w.end(must(w.admin.NewPreview(ctx(w.t), client.NewPreview{Ref: ref + "@1", Method: method}))(w.t).ID)
	if j.Outcome != "done" {
		w.t.Fatalf("preview: %s: %s", j.Outcome, j.Summary)
	}
	p := must(w.admin.Preview(ctx(w.t), j.Preview))(w.t)
	if len(p.Steps) == 0 {
		return false // by merge there may be nothing to add
	}
	w.fleet.faults(device, tr.faults)
	var c came
	restarts := w.fleet.status(device).Restarts
	push := must(w.admin.Push(ctx(w.t), client.NewPush{Preview: p.ID, Hash: p.Hash, Within: "20s", WhenVerified: true}, ""))(w.t)
	if tr.during != nil {
		// A push of one change never comes to a second.
		for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
			if w.fleet.status(device).Holding {
				c.held = true
				tr.during(w, device)
				break
			}
			if got := must(w.admin.Job(ctx(w.t), push.ID))(w.t); got.State == "ended" || got.Due != nil {
				break
			}
		}
	}
	if tr.helped > 0 {
		for end := time.Now().Add(15 * time.Second); time.Now().Before(end) && must(w.admin.Job(ctx(w.t), push.ID))(w.t).State != "ended"; time.Sleep(100 * time.Millisecond) {
			if w.fleet.status(device).Restarts > restarts {
				time.Sleep(tr.helped)
				break
			}
		}
		w.fleet.faults(device, box.Faults{}) // somebody brings it up
	}
	end := w.end(push.ID)
	c.end, c.log, c.restarts = end, w.logText(push.ID), w.fleet.status(device).Restarts-restarts
	w.fleet.faults(device, box.Faults{})
	now := w.fleet.running(device)
	told := fmt.Sprintf("%s: %s\n%s\nit runs\n%s", end.Outcome, end.Summary, w.logText(push.ID), now)
	switch {
	case (end.Outcome == "verified" || end.Outcome == "unsaved") && !same(now, asked):
		w.t.Errorf("it does not run what was asked for: %s", told)
	case slices.Contains([]string{"undone", "refused", "failed"}, end.Outcome) && !same(now, before):
		w.t.Errorf("it does not run what it ran before: %s", told)
	case end.Outcome == "undone" || end.Outcome == "refused" || end.Outcome == "failed":
		if tr.name == "nothing" && method != "merge" {
			w.t.Errorf("nothing was wrong: %s", told)
		}
	case end.Outcome == "unsaved" && tr.name == "full disk": // it says so
	case end.Outcome != "verified":
		w.t.Errorf("neither what was asked for nor what was there: %s", told)
	}
	if d := must(w.admin.Device(ctx(w.t), device))(w.t); d.State == "pull failing" && end.Outcome != "failed" {
		w.t.Errorf("it is %s: %s", d.State, d.Trouble)
	}
	if jobs := must(w.admin.Jobs(ctx(w.t), client.JobFilter{Device: device, State: "waiting", Limit: 5}))(w.t); len(jobs.Items) > 0 {
		w.t.Errorf("a job still waits: %+v", jobs.Items[0])
	}
	if !same(now, before) {
		if end := w.push(ref + "@2"); end.Outcome != "verified" {
			w.t.Fatalf("bringing it back: %s: %s\n%s", end.Outcome, end.Summary, w.logText(end.ID))
		}
	}
	return tr.fired != nil && tr.fired(c)
}
