package e2e

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/sim"
)

// TestScriptedDay: a copy is named on many devices that did not change, before a window, with checks; some are
// changed; the site goes back to the snapshot with checks before and after; and whoever asked for it is told that it
// went well, by the name of the person. One command each.
func TestScriptedDay(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 30)
	hook := newHook(t)
	made := must(w.admin.AddRecipient(ctx(t), client.NewRecipient{Name: "noc", Kind: "webhook", URL: hook.URL + "/tell"}))(t)
	hook.secret = made.Secret
	run := func(args ...string) string {
		t.Helper()
		out, err, status := w.cli(args...)
		if status != 0 {
			t.Fatalf("%v: exit status %d\n%s%s", args, status, out, err)
		}
		return out
	}
	run("pull", "all")
	run("pull", "all", "--name", "before the window", "--note", "new time servers tonight")
	out := run("snapshot", "make", "window", "all", "--check", "state lanes")
	if !strings.Contains(out, "30 good, 0 bad") {
		t.Errorf("%s", out)
	}
	look := regexp.MustCompile(`--again (\S+)`).FindStringSubmatch(out)[1]
	for _, p := range w.fleet.places {
		if v := w.versions(p.Name); len(v) != 1 || v[0].Name != "before the window" {
			t.Fatalf("%s: %+v", p.Name, v)
		}
	}
	run("notification", "add", "went-well", "done", "--to", "noc")
	before := map[string]string{}
	for i, p := range w.fleet.places[:5] {
		before[p.Name] = w.fleet.running(p.Name)
		w.fleet.amend(p.Name, "mwilks", "lane quay1", fmt.Sprintf(`note "moved to berth %d"`, i))
	}
	run("pull", "all")
	out = run("restore", "--snapshot", "window", "--yes", "--check", "state lanes", "--note", "the window is over")
	if !strings.Contains(out, "5 verified, 25 skipped") {
		t.Errorf("%s", out)
	}
	for name, text := range before {
		if w.fleet.running(name) != text {
			t.Errorf("%s runs something else", name)
		}
		if v := w.versions(name); v[0].Reason != "after a push" || v[0].Author == sim.ServiceUser || v[0].Author != v[0].Actor {
			t.Errorf("%s was changed by %s, asked for by %s", name, v[0].Author, v[0].Actor)
		}
	}
	if out := run("check", "--again", look); !strings.Contains(out, "none that was good is bad") {
		t.Errorf("%s", out)
	}
	var said string
	for end := time.Now().Add(time.Minute); time.Now().Before(end) && !strings.Contains(said, "check ended done"); time.Sleep(100 * time.Millisecond) {
		got, _ := hook.seen()
		raw, _ := json.Marshal(got)
		said = string(raw)
	}
	if !strings.Contains(said, "a restore ended done, asked for by admin: 5 verified, 25 skipped") || !strings.Contains(said, "check ended done") {
		t.Errorf("told: %s", said)
	}
}
