package e2e

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"magpie/client"
	"magpie/dialects"
)

// TestServersHabits: a NETCONF server with habits of its own is said in data: put back
// exactly, with its own locks, timer and way to startup; and what it says ok to and does
// not do is told at once.
func TestServersHabits(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("gannet"))
	const old, young = "skerrinsay-m1", "innisquill-m1"
	ask := func(name string) string { return strings.Join(w.fleet.status(name).Running, "\n") }
	change := func(name, xml string) {
		w.fleet.amend(name, "mwilks", `<config xmlns:nc="urn:ietf:params:xml:ns:netconf:base:1.0" xmlns:p="urn:brindle:mast"><mast xmlns="urn:brindle:mast">`+xml+`</mast></config>`)
	}
	const alarm = `<alarm><id>surge</id><watches>/p:mast/p:feed[p:place='deck']</watches><over>400</over></alarm>`
	for _, name := range []string{old, young} {
		if j := w.pull(name); j.Outcome != "done" {
			t.Fatalf("%s: %s\n%s", name, j.Summary, w.logText(j.ID))
		}
		change(name, alarm)
		if j := w.pull(name); j.Outcome != "done" || !strings.Contains(must(w.admin.Text(ctx(t), name+"@2"))(t).Text, ":mast/") {
			t.Fatalf("%s: %s", name, j.Summary)
		}
		with := ask(name)
		change(name, `<alarm nc:operation="delete"><id>surge</id></alarm><beat>45</beat>`)
		w.pull(name)
		without := ask(name)
		if j := w.push(name + "@2"); j.Outcome != "verified" || ask(name) != with {
			t.Fatalf("%s: %s: %s\n%s", name, j.Outcome, j.Summary, w.logText(j.ID))
		}
		if st := w.fleet.status(name); strings.Join(st.Startup, "\n") != with {
			t.Errorf("%s: startup was not written", name)
		}
		// In a window, and gone back by itself where nobody confirms.
		p := w.preview(client.NewPreview{Ref: name + "@3"})
		if !strings.Contains(p.Undo, "by the device itself") {
			t.Errorf("%s: %s", name, p.Undo)
		}
		j := w.parked(w.within("2m", name+"@3").ID)
		if ask(name) != without {
			t.Fatalf("%s runs\n%s", name, ask(name))
		}
		must(w.admin.Say(ctx(t), j.ID, "undo", ""))(t)
		if end := w.end(j.ID); end.Outcome != "undone" || ask(name) != with || !strings.Contains(w.logText(j.ID), "the device went back, as it was told to") {
			t.Errorf("%s: %s: %s", name, end.Outcome, end.Summary)
		}
		j = w.parked(w.within("2m", name+"@3").ID)
		must(w.admin.Say(ctx(t), j.ID, "confirm", ""))(t)
		if end := w.end(j.ID); end.Outcome != "verified" || ask(name) != without {
			t.Errorf("%s: %s: %s", name, end.Outcome, end.Summary)
		}
	}
	if p := w.preview(client.NewPreview{Ref: young + "@2"}); !strings.Contains(p.Undo, "it goes back to what ran before") {
		t.Error(p.Undo)
	}

	src, err := dialects.Files.ReadFile("gannet.yaml")
	if err != nil {
		t.Fatal(err)
	}
	// Where the dialect does not know of the habit, the service notices it.
	must(w.admin.LoadDialect(ctx(t), "gannet.yaml", strings.Replace(string(src), "{without: [validate]}", "{without: [confirm]}", 1)))(t)
	before := ask(old)
	if j := w.push(old + "@2"); j.Outcome != "undone" || ask(old) != before || j.Push.Refused == nil || !strings.Contains(j.Push.Refused.Answer, "nothing was committed") ||
		!strings.Contains(j.Push.Refused.Answer, "change.without: [validate]") || !strings.Contains(j.Summary, "refused step 2 of 2, the commit") {
		t.Errorf("%s: %s, %+v", j.Outcome, j.Summary, j.Push.Refused)
	}
	// Where no rule says whether order matters, it does.
	must(w.admin.LoadDialect(ctx(t), "gannet.yaml", strings.NewReplacer(", sequence: clock", "", "order: free", "quotes: '<>'").Replace(string(src))))(t)
	change(young, `<clock nc:operation="remove">10.30.0.5</clock><clock nc:operation="remove">10.30.0.6</clock><clock nc:operation="remove">10.30.0.7</clock><clock nc:operation="remove">10.30.0.8</clock>`)
	change(young, `<clock>10.30.0.5</clock><clock>10.30.0.6</clock>`)
	w.pull(young)
	n := must(w.admin.Device(ctx(t), young))(t).Latest
	change(young, `<clock nc:operation="remove">10.30.0.5</clock>`)
	change(young, `<clock>10.30.0.5</clock>`)
	p := w.preview(client.NewPreview{Ref: young + "@" + fmt.Sprint(n)})
	if len(p.Steps) == 0 || !slices.ContainsFunc(p.Changes, func(d client.Difference) bool { return d.Order && strings.HasPrefix(d.Want, "clock ") }) {
		t.Errorf("%d steps, %+v", len(p.Steps), p.Changes)
	}
	// What merging makes is said before: nothing goes, and what was asked for is there.
	change(old, `<tag>slack water</tag>`+alarm)
	p = w.preview(client.NewPreview{Ref: old + "@3", Method: "merge"})
	if len(p.Remaining) == 0 || !strings.Contains(p.Predicted, "slack water") {
		t.Errorf("%+v", p.Remaining)
	}
	j := w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t).ID)
	if j.Outcome != "differs" || !strings.Contains(j.Summary, "as the preview said") {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
}
