package e2e

import (
	"strings"
	"testing"

	"magpie/client"
)

// TestKeptByHand: a text file that people keep, which a command checks and another
// loads. Every byte of it is put back; what is loaded has to come of it; a push in a
// window is loaded for a time; a mistake is told with its line before it takes any place.
func TestKeptByHand(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("petrel"))
	const k1 = "workshop-k1"
	file := func() string { return strings.Join(w.fleet.status(k1).Startup, "\n") }
	loaded := func() string { return strings.Join(w.fleet.status(k1).Running, "\n") }
	if j := w.pull(k1); j.Outcome != "done" {
		t.Fatalf("%s\n%s", j.Summary, w.logText(j.ID))
	}
	first, made := file(), loaded()
	// A remark and a setting by hand; nobody loads them.
	w.fleet.amend(k1, "mwilks", strings.Split(strings.Replace(first, "    mtu 1500\n", "    mtu 1400   # until the refit\n", 1), "\n")...)
	w.pull(k1)
	d := must(w.admin.Device(ctx(t), k1))(t)
	if d.State != "unsaved" || d.Apart == nil || *d.Apart != (client.Apart{Word: "not loaded", Part: "loaded", Follows: "file"}) || d.Parts[0] != "file" {
		t.Errorf("%s, %+v, %q", d.State, d.Apart, d.Parts)
	}
	out, _, _ := w.cli("status")
	if !strings.Contains(out, "not loaded") || !strings.Contains(out, "magpie diff "+k1+"/loaded "+k1+"/file") {
		t.Error(out)
	}
	if out, _, status := w.cli("diff", k1+"/loaded", k1+"/file"); status != 1 || !strings.Contains(out, "mtu 1400") {
		t.Errorf("%d: %s", status, out)
	}
	// Loading what is there already is one step.
	p := w.preview(client.NewPreview{Ref: k1 + "/file@latest"})
	if len(p.Steps) != 1 || p.Steps[0].Kind != "live" {
		t.Errorf("%+v", p.Steps)
	}
	if j := w.push(k1 + "/file@latest"); j.Outcome != "verified" || !strings.Contains(loaded(), "mtu 1400") || !strings.Contains(j.Summary, "the device has "+k1+"/file@2") {
		t.Fatalf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	// Back to the byte, loaded for a time, and taken back at once.
	second, p := file(), w.preview(client.NewPreview{Ref: k1 + "/file@1"})
	if !strings.Contains(p.Undo, "it goes back to what ran before") {
		t.Error(p.Undo)
	}
	j := w.parked(w.within("2m", k1+"/file@1").ID)
	if file() != first || loaded() != made {
		t.Fatalf("it has\n%s\nand has loaded\n%s", file(), loaded())
	}
	must(w.admin.Say(ctx(t), j.ID, "undo", ""))(t)
	if j = w.end(j.ID); j.Outcome != "undone" || file() != second || !strings.Contains(loaded(), "mtu 1400") {
		t.Fatalf("%s: %s\n%s\n%s", j.Outcome, j.Summary, file(), loaded())
	}
	// Its own timer goes off when nobody can reach it: the service puts the file right.
	j = w.parked(w.within("2m", k1+"/file@1").ID)
	must(w.admin.Say(ctx(t), j.ID, "confirm", ""))(t)
	if j = w.end(j.ID); j.Outcome != "verified" || file() != first || loaded() != made {
		t.Fatalf("%s: %s", j.Outcome, j.Summary)
	}
	// A remark alone is a change, and is put back.
	w.fleet.amend(k1, "mwilks", strings.Split("# a remark\n"+first, "\n")...)
	if j := w.push(k1 + "/file@1"); j.Outcome != "verified" || file() != first {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	// A mistake in the file.
	text := must(w.admin.Text(ctx(t), k1+"/file@1"))(t).Text
	v := must(w.admin.Edit(ctx(t), client.NewVersion{Ref: k1 + "/file@1", Text: strings.Replace(text, "    mtu 1500\n", "    colour red\n", 1), Override: "to see what is said", Note: "a colour"}))(t)
	j = w.push(v.Ref)
	if j.Outcome != "undone" || file() != first || loaded() != made || j.Push.Refused == nil ||
		!strings.Contains(j.Push.Refused.Answer, `"colour red" is not understood here; line `) || !strings.HasSuffix(j.Push.Refused.Answer, "of what was sent is: colour red") || !strings.Contains(j.Summary, "refused step 1 of 2, the load") {
		t.Errorf("%s: %s, %+v", j.Outcome, j.Summary, j.Push.Refused)
	}
}

// TestEmptiedByHand: a text that is not complete is no version, and does not keep a push from writing it
// anew, once a person says why. Nothing can take such a push back, so no window is offered.
func TestEmptiedByHand(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("petrel"))
	const k1 = "workshop-k1"
	file := func() string { return strings.Join(w.fleet.status(k1).Startup, "\n") }
	w.pull(k1)
	first := file()
	for _, text := range []string{"", "# nothing", "link quay1 {\n    mtu 9000\n"} {
		w.fleet.amend(k1, "mwilks", strings.Split(text, "\n")...)
		if j := w.pull(k1); j.Outcome != "failed" || !strings.Contains(j.Summary, "not complete") {
			t.Fatalf("%q: %s: %s", text, j.Outcome, j.Summary)
		}
		p := w.preview(client.NewPreview{Ref: k1 + "/file@1"})
		if len(p.Warnings) != 1 || !strings.Contains(p.Warnings[0], "is not complete, so it is not kept") || len(p.Steps) == 0 || p.Undo != "" {
			t.Fatalf("%q: %q, %+v, %s", text, p.Warnings, p.Steps, p.Undo)
		}
		ask := client.NewPush{Preview: p.ID, Hash: p.Hash}
		if _, err := w.admin.Push(ctx(t), ask, ""); !client.IsStatus(err, 409) {
			t.Errorf("%q: without a reason: %v", text, err)
		}
		ask.Override, ask.Within = "somebody emptied it", "5m"
		if _, err := w.admin.Push(ctx(t), ask, ""); !client.IsStatus(err, 400) || !strings.Contains(err.Error(), "nothing can take the push back") {
			t.Errorf("%q: in a window: %v", text, err)
		}
		ask.Within = ""
		// Written by somebody since the preview: another text that cannot be read, and one that can.
		for _, other := range []string{"# something else", first} {
			w.fleet.amend(k1, "bo", strings.Split(other, "\n")...)
			if j := w.end(must(w.admin.Push(ctx(t), ask, ""))(t).ID); j.Outcome != "refused" || !strings.Contains(j.Summary, "changed since the preview") {
				t.Errorf("%q: %s: %s", text, j.Outcome, j.Summary)
			}
		}
		w.fleet.amend(k1, "mwilks", strings.Split(text, "\n")...)
		if j := w.end(must(w.admin.Push(ctx(t), ask, ""))(t).ID); j.Outcome != "verified" || file() != first {
			t.Errorf("%q: %s: %s\n%s", text, j.Outcome, j.Summary, w.logText(j.ID))
		}
		if all := must(w.admin.Versions(ctx(t), k1, "file", 0, 10))(t); len(all) != 1 {
			t.Errorf("%q: %d versions", text, len(all))
		}
	}
}
