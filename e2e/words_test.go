package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"magpie/client"
)

// TestWords: what happens to a job is said to the job; words of before are no words any more; what is misspelt
// is met with what was meant.
func TestWords(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	w.pull(r1)
	first := w.fleet.running(r1)
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "by hand"`)
	w.pull(r1)
	second := w.fleet.running(r1)

	// Decided by a word to the job, and by none that there is.
	j := w.parked(w.within("5m", r1+"@1").ID)
	if _, said, status := w.cli("job", "confrim", j.ID); status != 2 || !strings.Contains(said, "did you mean confirm?") {
		t.Errorf("misspelt: status %d, %s", status, said)
	}
	if _, said, status := w.cli("job", "approve", j.ID, "--yes"); status != 2 || !strings.Contains(said, "is a push, not a planned push") {
		t.Errorf("another job's word: status %d, %s", status, said)
	}
	if out, _, _ := w.cli("job", "undo", j.ID); !strings.Contains(out, "undone: admin asked to undo it") || w.fleet.running(r1) != second {
		t.Errorf("undone, it says\n%s", out)
	}
	j = w.parked(w.within("5m", r1+"@1").ID)
	if _, said, status := w.cli("job", "confirm", j.ID); status != 0 || w.fleet.running(r1) != first {
		t.Errorf("confirmed: status %d, %s", status, said)
	}
	if out, said, status := w.cli("sheet", r1); status != 0 || !strings.Contains(out, "host-name") && len(out) < 100 {
		t.Errorf("status %d, %s%s", status, out, said)
	}
	for _, old := range [][]string{{"push", r1 + "@1", "--despite", "it is a test", "--yes"}, {"push", "--confirm", j.ID}, {"drill", r1}, {"tell", "list"}, {"origin", r1}, {"notice", r1}} {
		if out, said, status := w.cli(old...); status != 2 {
			t.Errorf("%v: status %d, %s%s", old, status, out, said)
		}
	}
	help, _, _ := w.cli("push", "--help")
	at := -1
	for _, group := range []string{"what", "how", "safety", "when", "where"} {
		now := strings.Index(help, "\n   "+group+"\n")
		if now <= at {
			t.Errorf("the group %s does not stand where it is looked for:\n%s", group, help)
		}
		at = now
	}
	for _, args := range [][]string{{"push", "--help"}, {"--help"}, {"restore", "--help"}} {
		if out, _, _ := w.cli(args...); strings.Contains(out, "despite") || strings.Contains(out, "take-back") || strings.Contains(out, "drill") {
			t.Errorf("%v still tells of older words:\n%s", args, out)
		}
	}
	for _, c := range []struct{ args, says string }{{"pul all", "did you mean pull?"}, {"device lst", "did you mean list?"}, {"pull skerrinsy-r1", "did you mean " + r1}, {"job list --kind pul", "did you mean pull?"}} {
		if _, said, status := w.cli(strings.Fields(c.args)...); status != 2 || !strings.Contains(said, c.says) {
			t.Errorf("%s: status %d, %s", c.args, status, said)
		}
	}

	// A shell is offered what there is.
	for _, c := range []struct{ args, offers string }{{"show skerr", r1}, {"show " + r1 + "@", r1 + "@baseline"}, {"show " + r1 + "@", r1 + "@2"}, {"pull dialect=", "dialect=tern"}, {"job show", j.ID}} {
		if out, _, _ := w.cli(append(strings.Fields(c.args), "--generate-shell-completion")...); !strings.Contains("\n"+out, "\n"+c.offers+"\n") {
			t.Errorf("%s offers\n%s", c.args, out)
		}
	}
}

// TestLists: every list is a page, what a query does not know is refused, older names
// included, and a text that never changes is sent once.
func TestLists(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	w.pull(r1)
	get := func(method, path string, header ...string) (*http.Response, string) {
		t.Helper()
		req := must(http.NewRequest(method, w.url+"/api/v1"+path, nil))(t)
		req.Header.Set("Authorization", "Bearer "+w.admin.Token)
		for i := 0; i < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		res := must(http.DefaultClient.Do(req))(t)
		defer res.Body.Close()
		return res, string(must(io.ReadAll(res.Body))(t))
	}
	for _, path := range []string{"/devices", "/users", "/jobs", "/audit", "/devices/" + r1 + "/versions", "/dialects", "/job-kinds"} {
		var all, some client.Page[map[string]any]
		_, body := get("GET", path)
		if err := json.Unmarshal([]byte(body), &all); err != nil || len(all.Items) == 0 || all.Next != "" {
			t.Errorf("%s: %v, next %q", path, err, all.Next)
		}
		n := 0
		for cursor := ""; ; cursor = "&cursor=" + some.Next {
			some = client.Page[map[string]any]{}
			_, body := get("GET", path+"?limit=1"+cursor)
			if err := json.Unmarshal([]byte(body), &some); err != nil || len(some.Items) > 1 {
				t.Fatalf("%s: %v, %s", path, err, body)
			}
			if n += len(some.Items); some.Next == "" {
				break
			}
		}
		if n < len(all.Items) { // the audit log and the jobs may grow
			t.Errorf("%s has %d, by pages %d", path, len(all.Items), n)
		}
		if res, body := get("GET", path+"?limitt=1"); res.StatusCode != 400 || !strings.Contains(body, "did you mean limit?") {
			t.Errorf("%s with a word it does not know: %d, %s", path, res.StatusCode, body)
		}
		if res, body := get("HEAD", path); res.StatusCode != 200 || body != "" {
			t.Errorf("HEAD %s: %d %q", path, res.StatusCode, body)
		}
	}
	if res, body := get("GET", "/jobs?before="+must(w.admin.Jobs(ctx(t), client.JobFilter{Limit: 1}))(t).Items[0].ID); res.StatusCode != 400 {
		t.Errorf("by the cursor's older name: %d %s", res.StatusCode, body)
	}

	res, whole := get("GET", "/version/text?ref="+r1+"@1")
	tag := res.Header.Get("ETag")
	if tag == "" || !strings.HasPrefix(res.Header.Get("Content-Type"), "text/plain") || whole == "" {
		t.Fatalf("%v", res.Header)
	}
	if res, body := get("GET", "/version/text?ref="+r1+"@1", "If-None-Match", tag); res.StatusCode != 304 || body != "" {
		t.Errorf("who has it already gets %d and %d bytes", res.StatusCode, len(body))
	}
	// Who may not see secrets has another text.
	masked := w.addUser("okonkwo", "operator")
	req := must(http.NewRequest("GET", w.url+"/api/v1/version/text?ref="+r1+"@1", nil))(t)
	req.Header.Set("Authorization", "Bearer "+masked.Token)
	req.Header.Set("If-None-Match", tag)
	if res := must(http.DefaultClient.Do(req))(t); res.StatusCode != 200 {
		t.Errorf("somebody masked gets %d for the tag of the whole text", res.StatusCode)
	}

	// Bodies: a field that there is not is refused.
	for body, want := range map[string]int{
		`{"selector":["` + r1 + `"],"which":"latest"}`: 202,
		`{"selector":["` + r1 + `"],"whcih":"latest"}`: 400,
	} {
		if status, said := w.call("POST", "/restore-previews", w.admin.Token, []byte(body)); status != want {
			t.Errorf("%s: %d, %s", body, status, said)
		}
	}
	if status, said := w.call("POST", "/restores", w.admin.Token, []byte(`{"survey":"nobody","despite":"a test"}`)); status != 400 {
		t.Errorf("by older names: %d, %s", status, said)
	}
}
