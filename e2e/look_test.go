package e2e

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"

	"magpie/client"
	"magpie/internal/sim/box"
)

// TestChecksByThemselves: what is checked without a push is kept, made again and compared; what cannot be made is
// said before anything is asked; and whoever may not, has nothing asked.
func TestChecksByThemselves(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	other := w.fleet.places[1].Name
	w.pull("all")
	run := func(status int, args ...string) string {
		t.Helper()
		out, err, got := w.cli(args...)
		if got != status {
			t.Errorf("%v: exit status %d, not %d\n%s%s", args, got, status, out, err)
		}
		return out + err
	}
	says := func(out string, all ...string) {
		t.Helper()
		for _, part := range all {
			if !regexp.MustCompile(part).MatchString(out) {
				t.Errorf("it does not say %q:\n%s", part, out)
			}
		}
	}
	out := run(0, "check", "all")
	says(out, "device "+r1+" +good", "device "+other+" +good", "2 good, 0 bad, 0 not known", "magpie check --again ")
	job := regexp.MustCompile(`--again (\S+)`).FindStringSubmatch(out)[1]
	w.fleet.faults(other, box.Faults{Down: true})
	says(run(1, "check", "--again", job), "device "+r1+" +good +good", "device "+other+" +good +bad", "1 that was good is bad")
	says(run(1, "check", other), "0 good, 1 bad")
	w.fleet.faults(other, box.Faults{})
	says(run(0, "check", "--again", job), "none that was good is bad")
	says(run(0, "check", r1, "--check", "state lanes", "--check", "device "+other), r1+" +state lanes +good", "2 good")
	if end := must(client.CheckEndOf(must(w.admin.Job(ctx(t), job))(t)))(t); len(end.Rows) != 2 || end.Rows[0].After == nil {
		t.Errorf("%+v", end)
	}

	says(run(2, "check"), "name devices")
	says(run(2, "check", "nobody"), "nobody")
	says(run(2, "check", r1, "--check", "children"), "no device hangs on this one")
	says(run(2, "check", "--check", "state lanes"), "is about a device, and none is named")
	says(run(2, "check", "--check", "tcp nowhere"), "has no port")
	says(run(2, "check", r1, "--again", job), "give one of them")
	says(run(2, "check", "--again", "0000"), "0000")
	if _, err := w.admin.Repeat(ctx(t), job, client.NewRun{}, "x"); err == nil {
		t.Error("a check is repeated without saying with what it is compared")
	}

	// An operator of one device alone.
	pete := w.addUser("pete", "operator")
	scope := []string{r1}
	must(w.admin.EditUser(ctx(t), "pete", client.NewUser{Scope: &scope}))(t)
	for _, n := range []client.NewCheck{{Selector: []string{other}}, {Checks: []string{"from " + other + " ping 10.0.0.1"}}, {Checks: []string{"tcp 127.0.0.1:22"}}} {
		if _, err := pete.Check(ctx(t), n, fmt.Sprint(n)); err == nil {
			t.Errorf("%+v was made for somebody who may not", n)
		}
	}
	must(pete.Check(ctx(t), client.NewCheck{Selector: []string{r1}}, "theirs"))(t)

	says(run(0, "snapshot", "make", "before-window", "all", "--check", "device "+r1), "1 good", "--again")
}

// TestRestoreWithChecks: each push of a restore makes the checks before and after it, and the first after which one
// that was good is bad stops the rest; the preview shows each device's own lines.
func TestRestoreWithChecks(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	other := w.fleet.places[1].Name
	w.pull("all")
	for _, d := range []string{r1, other} {
		w.fleet.amend(d, "mwilks", "lane quay1", `note "meddled with"`)
	}
	w.pull("all")
	var asked atomic.Int64
	s := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) {
		if asked.Add(1) > 1 {
			rw.WriteHeader(http.StatusServiceUnavailable)
		}
	}))
	defer s.Close()
	out, errs, status := w.cli("restore", "all", "--to", "first", "--preview", "--lines")
	for _, d := range []string{r1, other} {
		if !strings.Contains(out, d+", to run "+d+"@1:\n") {
			t.Errorf("%s's lines are not there", d)
		}
	}
	if status != 0 || strings.Count(out, "   1  ") < 2 {
		t.Errorf("%d %s%s", status, out, errs)
	}
	if _, errs, status := w.cli("restore", "all", "--to", "first", "--yes", "--check", "children"); status != 2 || !strings.Contains(errs, "no device hangs on") {
		t.Errorf("%d %s", status, errs)
	}
	out, errs, status = w.cli("restore", "all", "--to", "first", "--yes", "--check", "http "+s.URL)
	if status != 1 || !strings.Contains(out, "1 not begun; stopped after 1 push that did not end well") || !strings.Contains(out, "was good and is bad") {
		t.Errorf("%d %s%s", status, out, errs)
	}
	if out, _, status = w.cli("restore", "all", "--to", "first", "--yes", "--check", "device "+r1); status != 0 || !strings.Contains(out, "1 verified, 1 skipped") {
		t.Errorf("%d %s", status, out)
	}
}
