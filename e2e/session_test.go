package e2e

import (
	"net/http"
	"strings"
	"testing"

	"magpie/client"
)

// TestSessions: who is signed in is seen, one's own by everybody and all by an admin; one
// that is ended is so at once; nobody ends another's but an admin.
func TestSessions(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	op := w.addUser("okonkwo", "operator")
	one, two, other := newBrowser(t, w.url), newBrowser(t, w.url), newBrowser(t, w.url)
	one.signIn("admin", w.firstPassword())
	two.signIn("admin", w.firstPassword())
	other.signIn("okonkwo", "words for okonkwo")
	all := must(w.admin.Sessions(ctx(t)))(t)
	if len(all) != 3 || all[0].User != "okonkwo" || !strings.HasPrefix(all[0].From, "127.") {
		t.Fatalf("%+v", all)
	}
	if own := must(op.Sessions(ctx(t)))(t); len(own) != 1 || own[0].User != "okonkwo" {
		t.Errorf("an operator sees %+v", own)
	}
	if err := op.EndSession(ctx(t), all[1].ID); statusOf(err) != http.StatusNotFound {
		t.Errorf("an operator ends an admin's session: %v", err)
	}
	if err := op.EndSessions(ctx(t), "admin"); statusOf(err) != http.StatusForbidden {
		t.Errorf("an operator ends an admin's sessions: %v", err)
	}
	if err := w.admin.EndSessions(ctx(t), "okonkwoo"); statusOf(err) != http.StatusNotFound {
		t.Errorf("nobody's sessions: %v", err)
	}
	// In the browser: one's others.
	one.open("/settings?tab=tokens")
	one.see("Browsers that are signed in")
	one.see("this one")
	one.click("End my other 1")
	eventually(t, "the other is ended", func() bool { return len(must(w.admin.Sessions(ctx(t)))(t)) == 2 })
	two.allows("401")
	two.open("/")
	two.see("Keeps the configurations of your network")
	// On the command line: all of a user.
	if out, said, status := w.cli("session", "end", "--user", "okonkwo"); status != 0 {
		t.Errorf("status %d\n%s%s", status, out, said)
	}
	other.allows("401")
	other.open("/jobs")
	other.see("Keeps the configurations of your network")
	if left := must(w.admin.Sessions(ctx(t)))(t); len(left) != 1 || left[0].User != "admin" {
		t.Errorf("%+v", left)
	}
	page := must(w.admin.Audit(ctx(t), client.AuditFilter{About: "okonkwo"}, 0, 5))(t)
	if len(page.Items) == 0 || page.Items[0].Action != "sessions ended" {
		t.Errorf("%+v", page.Items)
	}
}
