package e2e

import (
	"slices"
	"strings"
	"testing"

	"magpie/client"
)

// TestRoleForSome: an operator for some devices pulls, previews, pushes, decides and marks these
// and no others; whatever is about more than a device is refused, every operation of the
// description by default; beyond they look, and see no secrets. A token can be for some devices
// as well.
func TestRoleForSome(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	mine, other := r1, w.fleet.places[1].Name
	for name, site := range map[string]string{mine: "skerrinsay", other: "callowmere"} {
		must(w.admin.EditDevice(ctx(t), name, client.NewDevice{Site: &site}))(t)
		w.pull(name)
		w.fleet.amend(name, "mwilks", "lane quay1", `note "changed"`)
		w.fleet.stow(name)
		w.pull(name)
	}
	scope := []string{"site=skerrinsay"}
	for what, n := range map[string]client.NewUser{
		"a reader": {Name: "x", Role: "reader", Password: "long enough words", Scope: &scope}, "an admin": {Name: "x", Role: "admin", Password: "long enough words", Scope: &scope},
		"nobody's devices": {Name: "x", Role: "operator", Password: "long enough words", Scope: &[]string{"site=nowhere"}}, "no selector": {Name: "x", Role: "operator", Password: "long enough words", Scope: &[]string{"colour=blue"}},
	} {
		if _, err := w.admin.AddUser(ctx(t), n); statusOf(err) != 400 {
			t.Errorf("%s for some devices: %v", what, err)
		}
	}
	yes := true
	must(w.admin.AddUser(ctx(t), client.NewUser{Name: "okonkwo", Role: "operator", Password: "words for okonkwo", Lasting: true, Scope: &scope, Secrets: &yes}))(t)
	user := w.as("okonkwo", "words for okonkwo")
	w.addUser("whole", "operator")
	whole := w.as("whole", "words for whole")
	made := must(whole.AddToken(ctx(t), client.NewToken{Name: "skerrinsay", Scope: scope, Password: "words for whole"}))(t)
	token := &client.Client{URL: w.url, Token: made.Token, HTTP: whole.HTTP}
	if me := must(user.Me(ctx(t)))(t); me.Role != "operator" || !slices.Equal(me.Scope, scope) || me.Secrets {
		t.Errorf("%+v", me)
	}
	if _, err := token.AddToken(ctx(t), client.NewToken{Name: "all", Scope: []string{"all"}, Password: "words for whole"}); statusOf(err) != 400 {
		t.Errorf("by a token for some devices one makes a token for all: %v", err)
	}
	others := w.preview(client.NewPreview{Ref: other + "@1"})
	everybodys := w.end(must(w.admin.NewRestorePreview(ctx(t), client.NewRestorePreview{Selector: []string{"all"}, Which: "1"}))(t).ID)
	for who, c := range map[string]*client.Client{"a user": user, "a token": token} {
		key := func(s string) string { return who + s }
		refused := func(what string, err error) {
			t.Helper()
			if statusOf(err) != 403 || !strings.Contains(err.Error(), "site=skerrinsay") {
				t.Errorf("%s: %s: %v", who, what, err)
			}
		}
		must(c.Devices(ctx(t), nil))(t)
		if text := must(c.Text(ctx(t), mine+"@1"))(t).Text; !strings.Contains(text, "‹secret") {
			t.Errorf("%s sees secrets", who)
		}
		_, err := c.Pull(ctx(t), []string{other}, key("other"))
		refused("pulling another's", err)
		_, err = c.Pull(ctx(t), []string{"all"}, key("all"))
		refused("pulling all", err)
		_, err = c.NewPreview(ctx(t), client.NewPreview{Ref: other + "@1"})
		refused("previewing another's", err)
		_, err = c.NewPreview(ctx(t), client.NewPreview{Ref: mine + "@1", To: other})
		refused("previewing onto another's", err)
		_, err = c.Push(ctx(t), client.NewPush{Preview: others.ID, Hash: others.Hash}, key("p3"))
		refused("pushing another's preview", err)
		for _, n := range []client.NewCheck{{Selector: []string{"all"}, Checks: []string{"state lanes"}}, {Selector: []string{other}, Checks: []string{"state lanes"}}} {
			_, err = c.Check(ctx(t), n, "")
			refused("checking "+strings.Join(append(n.Selector, n.Checks...), " "), err)
		}
		_, err = c.SetMark(ctx(t), other+"@1", client.Mark{Pin: &yes})
		refused("marking another's", err)
		if _, err := c.Text(ctx(t), other+"@live"); statusOf(err) != 403 {
			t.Errorf("%s: looking at another's live: %v", who, err)
		}
		for _, op := range w.operations() {
			if op.role != "operator" && op.role != "admin" || slices.Contains([]string{"/pulls", "/previews", "/pushes", "/checks", "/restore-previews", "/restores", "/snapshots", "/version", "/change-triggers", "/devices/{name}/retry-login"}, op.path) || strings.HasPrefix(op.path, "/jobs/{id}/") {
				continue
			}
			if got, said := w.call(op.method, nowhere(op.path), c.Token, []byte(`{}`)); got != 403 {
				t.Errorf("%s: %s %s: %d %s", who, op.method, op.path, got, said)
			}
		}
		// A restore, or a snapshot, of theirs is theirs; of others', or of all, it is not.
		for _, sel := range [][]string{{"all"}, {other}, {mine, other}} {
			_, err = c.NewRestorePreview(ctx(t), client.NewRestorePreview{Selector: sel, Which: "1"})
			refused("a restore of "+strings.Join(sel, " "), err)
			_, err = c.AddSnapshot(ctx(t), client.NewSnapshot{Name: "beyond", Selector: sel})
			refused("a snapshot of "+strings.Join(sel, " "), err)
		}
		_, err = c.NewRestore(ctx(t), client.NewRestore{RestorePreview: everybodys.ID, Within: "2m"}, key("r"))
		refused("a restore of everybody's", err)
		_, err = c.Cancel(ctx(t), everybodys.ID)
		refused("cancelling everybody's", err)
		must(c.AddSnapshot(ctx(t), client.NewSnapshot{Name: "ours-" + strings.ReplaceAll(who, " ", "-"), Selector: []string{mine}}))(t)
		// What is theirs.
		if j := w.end(must(c.Pull(ctx(t), []string{mine}, key("mine")))(t)[0].ID); j.Outcome != "done" {
			t.Errorf("%s: %s", who, j.Summary)
		}
		must(c.SetMark(ctx(t), mine+"@1", client.Mark{Pin: &yes}))(t)
	}
	w.fleet.amend(mine, "mwilks", "lane quay1", `note "by hand"`)
	w.pull(mine)
	looked := w.end(must(user.NewRestorePreview(ctx(t), client.NewRestorePreview{Selector: []string{mine}, Snapshot: "ours-a-user"}))(t).ID)
	restore := must(user.NewRestore(ctx(t), client.NewRestore{RestorePreview: looked.ID, Within: "2m"}, ""))(t)
	eventually(t, "the restore waits", func() bool {
		j := must(w.admin.Job(ctx(t), restore.ID))(t)
		return j.State == "ended" && j.Restore.Rows[0].Outcome == "waiting"
	})
	must(user.Say(ctx(t), restore.ID, "confirm", ""))(t)
	eventually(t, "it is kept", func() bool {
		return must(w.admin.Job(ctx(t), must(w.admin.Job(ctx(t), restore.ID))(t).Restore.Rows[0].Job))(t).Outcome == "verified"
	})
	if strings.Contains(w.fleet.running(mine), "by hand") {
		t.Error("the restore by their operator did not come through")
	}
	p := w.preview(client.NewPreview{Ref: mine + "@1"})
	push := w.end(must(user.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, "mine"))(t).ID)
	if push.Outcome != "verified" {
		t.Errorf("the push ended %s: %s", push.Outcome, push.Summary)
	}
	// A job that waits for a word, of another's device and of theirs.
	waits := w.parked(w.within("2m", other+"@1").ID)
	for word := range map[string]bool{"confirm": true, "undo": true} {
		if got, said := w.call("POST", "/jobs/"+waits.ID+"/"+word, user.Token, []byte(`{}`)); got != 403 {
			t.Errorf("%s to another's: %d %s", word, got, said)
		}
	}
	if got, said := w.call("POST", "/jobs/"+waits.ID+"/cancel", user.Token, nil); got != 403 {
		t.Errorf("cancelling another's: %d %s", got, said)
	}
	// The scope goes with the devices: one that moves there is theirs at once.
	site := "skerrinsay"
	must(w.admin.EditDevice(ctx(t), other, client.NewDevice{Site: &site}))(t)
	if got, said := w.call("POST", "/jobs/"+waits.ID+"/confirm", user.Token, []byte(`{}`)); got != 200 {
		t.Errorf("confirming theirs: %d %s", got, said)
	}
	w.end(waits.ID)
}
