package e2e

import (
	"strings"
	"testing"

	"magpie/client"
)

// TestSheet: what a bootstrap sheet says, typed at a unit fresh from its box, is
// enough for the service to take over; secrets stand on it only if asked for.
func TestSheet(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("plover,dunlin"))
	w.pull(r1)
	first := w.fleet.running(r1)
	hidden := must(w.admin.BootstrapSheet(ctx(t), r1+"@1", false))(t)
	x := must(w.admin.BootstrapSheet(ctx(t), r1+"@1", true))(t)
	if hidden.Hidden == 0 || x.Hidden != 0 || len(x.Lines) > 60 {
		t.Errorf("%d hidden, then %d; %d lines", hidden.Hidden, x.Hidden, len(x.Lines))
	}
	var typed []string
	words, secret := "", ""
	for i, l := range x.Lines {
		words += l.Text + "\n"
		if l.Why == "" {
			typed = append(typed, strings.TrimSpace(l.Text))
		}
		if l.Text != hidden.Lines[i].Text {
			secret = strings.Fields(l.Text)[len(strings.Fields(l.Text))-1]
		}
	}
	for _, h := range hidden.Lines {
		if secret == "" || strings.Contains(h.Text, secret) {
			t.Errorf("%q shows the secret %q", h.Text, secret)
		}
	}
	for _, part := range []string{"aloft\namend\n", "crew magpie\n", "berth 10.", "course 0.0.0.0/0", "ashore\nstow running\n"} {
		if !strings.Contains(words, part) {
			t.Errorf("the sheet lacks %q:\n%s", part, words)
		}
	}
	for _, part := range []string{"crew okonkwo", "flock", "note", "sieve"} {
		if strings.Contains(words, part) {
			t.Errorf("the sheet says more than is needed, %q:\n%s", part, words)
		}
	}

	// A unit that knows nobody; a person types the sheet; the service takes over.
	w.fleet.call("POST", "/devices/"+r1+"/replace", map[string]any{"serial": "TN4-BOX1", "lines": []string{"name tern", "mast-word open box", "crew yard", "  rank master", "  word open box"}}, nil)
	w.fleet.amend(r1, "console", typed...)
	if out, said, status := w.cli("swap", r1, "--yes"); status != 0 || !strings.Contains(w.fleet.running(r1), "crew okonkwo") || strings.Contains(w.fleet.running(r1), "crew yard") || w.fleet.running(r1) != first {
		t.Errorf("status %d\n%s%s\nit runs\n%s", status, out, said, w.fleet.running(r1))
	}

	// The same for a switch; a file for a gateway; nobody without the right sees secrets.
	w.pull(sw1)
	if out, said, status := w.cli("sheet", sw1); status != 0 || !strings.Contains(out, "gate : address is") || !strings.Contains(out, "keep all") || strings.Contains(out, "port 1") {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	w.pull("workshop-g1")
	if out, said, status := w.cli("sheet", "workshop-g1"); status != 0 || !strings.Contains(out, "as a whole") || !strings.Contains(out, "SHA-256") {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	operator := w.addUser("okonkwo", "operator")
	if _, err := operator.BootstrapSheet(ctx(t), r1+"@1", true); !client.IsStatus(err, 403) {
		t.Errorf("secrets for who may not see them: %v", err)
	}
	must(operator.BootstrapSheet(ctx(t), r1+"@1", false))(t)
	if _, err := operator.BootstrapSheet(ctx(t), r1+"@99", false); !client.IsStatus(err, 404) {
		t.Errorf("%v", err)
	}
	if out, _, _ := w.cli("--json", "audit", "list"); !strings.Contains(out, "bootstrap sheet with secrets") {
		t.Error("the audit log does not tell of it")
	}
}
