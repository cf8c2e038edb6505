package e2e

import (
	"fmt"
	"strings"
	"testing"

	"magpie/client"
)

// TestSearch: lines and blocks of what runs now are found as soon as they were pulled, with the blocks
// around them and the version that brought them in; a secret cannot be found out by searching.
func TestSearch(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2, withFamilies("plover,heron"))
	other := w.fleet.places[1].Name
	const flat, tree = "skerrinsay-sw1", "control-f1"
	for _, name := range []string{r1, other, flat, tree} {
		w.pull(name)
	}
	find := func(c *client.Client, s client.Search) string {
		t.Helper()
		var said []string
		for cursor := ""; ; {
			page := must(c.Find(ctx(t), s, cursor, 3))(t)
			for _, f := range page.Items {
				said = append(said, fmt.Sprintf("%s [%s] %s", f.Ref, f.Path, strings.TrimSpace(f.Text)))
			}
			if cursor = page.Next; cursor == "" {
				return strings.Join(said, "\n")
			}
		}
	}
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "searched for"`)
	if got := find(w.admin, client.Search{Line: "searched for"}); got != "" {
		t.Errorf("it was not pulled yet: %s", got)
	}
	w.pull(r1)
	for _, c := range []struct {
		what string
		s    client.Search
		says string
	}{
		{"a line", client.Search{Line: "searched for"}, r1 + `@2 [lane quay1] note "searched for"`},
		{"of a part that follows", client.Search{Line: "lane quay1", Part: "startup", Selector: []string{other}}, other + "/startup@1 [] lane quay1"},
		{"an expression in blocks", client.Search{Line: `^ *note "s`, In: "^ *lane", Regexp: true}, r1 + `@2 [lane quay1] note "searched for"`},
		{"nothing", client.Search{Line: "searched for", Selector: []string{other}}, ""},
		{"in what lines are about", client.Search{Line: "label", In: "port 1"}, flat + "@1 [port 1] port 1 : label is <gangway one>"},
		{"an entry of a document", client.Search{Line: "hostname", In: "system"}, tree + "@1 [system] <hostname>control-f1</hostname>"},
	} {
		if got := find(w.admin, c.s); got != c.says {
			t.Errorf("%s: %s\nexpected: %s", c.what, got, c.says)
		}
	}
	lack := find(w.admin, client.Search{In: "lane", Lacks: "sieve", Selector: []string{r1}})
	if !strings.Contains(lack, r1+"@2 [] lane quay1") || strings.Contains(lack, "lane guest") {
		t.Errorf("lanes that lack a sieve: %s", lack)
	}
	// As soon as it is gone it is found no more; a device that is removed neither.
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "otherwise"`)
	w.pull(r1)
	if got := find(w.admin, client.Search{Line: "searched for"}); got != "" {
		t.Errorf("it runs no more: %s", got)
	}

	// Where lines came from.
	byLine := map[string]client.Origin{}
	for _, l := range must(w.admin.Origins(ctx(t), r1))(t) {
		byLine[strings.TrimSpace(l.Text)+" in "+l.Path] = l.Origin
	}
	if o := byLine[`note "otherwise" in lane quay1`]; o.Number != 3 || o.Author != "mwilks" || o.First {
		t.Errorf("it came with version %+v", o)
	}
	if o := byLine["name "+r1+" in "]; o.Number != 1 || !o.First {
		t.Errorf("it was there from the beginning: %+v", o)
	}
	if page := must(w.admin.Find(ctx(t), client.Search{Line: `"otherwise"`, Since: true}, "", 9))(t); len(page.Items) != 1 || page.Items[0].Origin == nil || page.Items[0].Origin.Number != 3 {
		t.Errorf("since when: %+v", page.Items)
	}

	// A secret is not found by who may not see it, whatever is guessed of it.
	reader := w.addUser("lindqvist", "reader")
	secret := ""
	for _, l := range w.fleet.status(r1).Running {
		if f := strings.Fields(l); len(f) == 3 && f[0] == "mast-word" {
			secret = f[2]
		}
	}
	if secret == "" {
		t.Fatal("no secret runs there")
	}
	for _, s := range []client.Search{{Line: secret}, {Line: "sealed " + secret[:1]}, {Line: "mast-word sealed [0-9a-f]+$", Regexp: true}, {In: "^mast-word sealed " + secret[:2], Regexp: true}} {
		for who, c := range map[string]*client.Client{"reader": reader, "admin, who did not ask": w.admin} {
			if got := find(c, s); got != "" {
				t.Errorf("%s finds %+v: %s", who, s, got)
			}
		}
	}
	if got := find(reader, client.Search{Line: "mast-word", Selector: []string{r1}}); got != r1+"@3 [] mast-word sealed ‹secret›" {
		t.Errorf("beside a secret: %s", got)
	}
	if _, err := reader.Find(ctx(t), client.Search{Line: secret, Secrets: true}, "", 9); !client.IsStatus(err, 403) {
		t.Errorf("a reader asks for secrets: %v", err)
	}
	if got := find(w.admin, client.Search{Line: secret, Secrets: true, Selector: []string{r1}}); !strings.Contains(got, secret) {
		t.Errorf("who may see them and asks: %s", got)
	}
	seen := false
	for _, e := range must(w.admin.Audit(ctx(t), client.AuditFilter{}, 0, 50))(t).Items {
		seen = seen || e.Action == "secrets shown" && e.Object == "search"
	}
	if !seen {
		t.Error("that secrets were searched is not written down")
	}

	// What hit several alike is one change; what it did where is said.
	for _, name := range []string{r1, other} {
		w.fleet.amend(name, "okonkwo", "clock", "mark 192.0.2.99")
		w.pull(name)
	}
	page := must(reader.Together(ctx(t), []string{"all"}, "", ""))(t)
	if len(page.Items) == 0 || page.Items[0].Devices != 2 || len(page.Items[0].Lines) != 1 || page.Items[0].Lines[0].Path != "clock" || !page.Items[0].Lines[0].Came || strings.Join(page.Items[0].By, " ") != "okonkwo" {
		t.Errorf("%+v", page.Items)
	}

	// What is mistyped is said.
	for _, c := range []struct {
		s    client.Search
		says string
	}{
		{client.Search{}, "say what to look for"},
		{client.Search{Line: "(", Regexp: true}, "missing closing )"},
		{client.Search{Line: ".*", Regexp: true}, "matches every line"},
		{client.Search{Lacks: "sieve"}, "say which blocks"},
		{client.Search{Line: "x", In: "lane", Lacks: "y"}, "not for both"},
		{client.Search{Line: "x", Selector: []string{"skerinsay-r1"}}, "skerinsay-r1"},
	} {
		if _, err := w.admin.Find(ctx(t), c.s, "", 9); !client.IsStatus(err, 400) && !client.IsStatus(err, 404) || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v: %v", c.s, err)
		}
	}
	if out, said, status := w.cli("search", "nowhere at all"); status != 1 || out != "" || !strings.Contains(said, "nothing was found in ") {
		t.Errorf("%d: %s%s", status, out, said)
	}
	if out, _, status := w.cli("search", "--in", "lane", "--lacks", "sieve", r1, "--count"); status != 0 || !strings.Contains(out, r1+"@4") {
		t.Errorf("%d: %s", status, out)
	}
	if out, _, _ := w.cli("show", r1, "otherwise", "--annotate"); !strings.Contains(out, "mwilks") || !strings.Contains(out, `  note "otherwise"`) {
		t.Errorf("%s", out)
	}
	// A device that was renamed is found by its name; one that was taken out is not.
	must(w.admin.EditDevice(ctx(t), other, client.NewDevice{Name: "renamed-r1"}))(t)
	if got := find(w.admin, client.Search{Line: "192.0.2.99"}); !strings.Contains(got, "renamed-r1@") || strings.Contains(got, other+"@") {
		t.Errorf("after it was renamed: %s", got)
	}
	if err := w.admin.RemoveDevice(ctx(t), "renamed-r1"); err != nil {
		t.Fatal(err)
	}
	if got := find(w.admin, client.Search{Line: "192.0.2.99"}); strings.Contains(got, "renamed-r1") || !strings.Contains(got, r1) {
		t.Errorf("after it was taken out: %s", got)
	}
	w.kill()
	w.serve()
	if got := find(w.admin, client.Search{Line: "otherwise"}); !strings.Contains(got, r1+"@4") {
		t.Errorf("after a restart: %s", got)
	}
}

// TestDriftedSince: since which version a device has been off its baseline without a break, and by whom.
func TestDriftedSince(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	must(w.admin.Baselines(ctx(t), client.NewBaselines{Selector: []string{r1}, Which: "1"}))(t)
	since := func() client.Origin {
		t.Helper()
		d := must(w.admin.Drift(ctx(t), []string{r1}, false))(t)
		if len(d) != 1 || d[0].Since == nil {
			return client.Origin{}
		}
		return *d[0].Since
	}
	if o := since(); o.Number != 0 {
		t.Errorf("it is steady, and drifted since %+v", o)
	}
	before := ""
	for _, l := range must(w.admin.Origins(ctx(t), r1))(t) {
		if l.Path == "lane quay1" && strings.Contains(l.Text, "note ") {
			before = strings.TrimSpace(l.Text)
		}
	}
	for n, step := range []struct{ by, note string }{{"mwilks", `note "one"`}, {"okonkwo", `note "two"`}, {"okonkwo", before}, {"bo", `note "three"`}} {
		w.fleet.amend(r1, step.by, "lane quay1", step.note)
		w.pull(r1)
		want := []client.Origin{{Number: 2, Author: "mwilks"}, {Number: 2, Author: "mwilks"}, {}, {Number: 5, Author: "bo"}}[n]
		if o := since(); o.Number != want.Number || o.Author != want.Author || o.First {
			t.Errorf("after step %d: since version %d by %s, expected %d by %s", n+1, o.Number, o.Author, want.Number, want.Author)
		}
	}
	if out, _, status := w.cli("drift", r1); status != 1 || !strings.Contains(out, "(version 5) by bo") {
		t.Errorf("%d: %s", status, out)
	}
}
