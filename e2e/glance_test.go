package e2e

import (
	"slices"
	"strings"
	"testing"

	"magpie/client"
)

// TestGlance: a scheduled pull looks at a device's cheap signs of change first, and fetches
// nothing where they are what they were; what changed, was not fetched whole for a day, or is
// another unit is fetched.
func TestGlance(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("plover,dunlin"))
	var names []string
	for _, p := range w.fleet.places {
		if p.Family == "tern" || p.Family == "plover" || p.Family == "dunlin" {
			names = append(names, p.Name)
		}
	}
	must(w.admin.AddSchedule(ctx(t), client.NewSchedule{Name: "often", Rule: "every 15m", Zone: "UTC", Selector: []string{"all"}, Note: "to see what is fetched", Deeds: []client.Deed{{Kind: "pull"}}}))(t)
	seen := 0
	pulls := func() map[string]client.Job {
		t.Helper()
		seen++
		w.falls("often")
		eventually(t, "it is done", func() bool {
			r := w.runs("often")
			return len(r) == seen && !slices.ContainsFunc(r, func(i client.AgendaItem) bool { return i.State == "running" || i.State == "queued" })
		})
		out := map[string]client.Job{}
		for _, name := range names {
			out[name] = must(w.admin.Jobs(ctx(t), client.JobFilter{Device: name, Kind: "pull", Limit: 1}))(t).Items[0]
		}
		return out
	}
	newest := func(device string) client.Version {
		part := "running"
		if strings.HasPrefix(device, "workshop") {
			part = "archive"
		}
		return must(w.admin.Versions(ctx(t), device, part, 0, 1))(t)[0]
	}
	bySign := func(j client.Job) bool { return strings.Contains(j.Summary, "unchanged by its sign") }
	for name, j := range pulls() {
		if j.Outcome != "done" || bySign(j) {
			t.Errorf("%s, the first time: %s %s", name, j.Outcome, j.Summary)
		}
	}
	first, read := map[string]client.Version{}, w.fleet.status(r1).Recitals
	for _, name := range names {
		first[name] = newest(name)
	}
	for name, j := range pulls() {
		v := newest(name)
		if j.Outcome != "done" || !bySign(j) || v.Number != 1 || !v.SeenUntil.After(first[name].SeenUntil) || v.Sightings != first[name].Sightings+1 {
			t.Errorf("%s, unchanged: %s %s, seen until %s, was %s", name, j.Outcome, j.Summary, v.SeenUntil, first[name].SeenUntil)
		}
	}
	if n := w.fleet.status(r1).Recitals; n != read {
		t.Errorf("it was read %d times more", n-read)
	}
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "on the quay"`)
	for name, j := range pulls() {
		if j.Outcome != "done" || bySign(j) != (name != r1) {
			t.Errorf("%s, after %s was changed: %s %s", name, r1, j.Outcome, j.Summary)
		}
	}
	if v := newest(r1); v.Number != 2 || v.Author != "mwilks" {
		t.Errorf("what was changed: %+v", v)
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "unsaved" {
		t.Errorf("it is %s", d.State)
	}
	w.sql("UPDATE parts SET fetched_at = fetched_at - INTERVAL 1 DAY")
	for name, j := range pulls() {
		if j.Outcome != "done" || bySign(j) {
			t.Errorf("%s, a day later: %s %s", name, j.Outcome, j.Summary)
		}
	}
	if j := pulls()[r1]; !bySign(j) {
		t.Errorf("unsaved, and as it was: %s %s", j.Outcome, j.Summary)
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "unsaved" {
		t.Errorf("by its sign it became %s", d.State)
	}
	w.fleet.call("POST", "/devices/"+r1+"/replace", map[string]any{"serial": "TN4-OTHER", "lines": w.fleet.status(r1).Running}, nil)
	if j := pulls()[r1]; bySign(j) {
		t.Errorf("other hardware: %s %s", j.Outcome, j.Summary)
	}
	// By hand everything is fetched.
	if j := w.pull(names[1]); bySign(j) {
		t.Errorf("by hand: %s", j.Summary)
	}
}
