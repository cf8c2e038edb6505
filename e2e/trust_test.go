package e2e

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"magpie/client"
	"magpie/internal/sim"
	"magpie/internal/sim/tern"
)

// trap is a machine of somebody's own that writes down every login it is shown.
type trap struct {
	addr  string
	print string // its key's fingerprint
	mu    sync.Mutex
	seen  []string
}

func (p *trap) said(login string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.seen = append(p.seen, login)
}

func (p *trap) shown() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return strings.Join(p.seen, "\n")
}

func setTrap(t *testing.T) *trap {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	_, key, _ := ed25519.GenerateKey(rand.Reader)
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	p := &trap{addr: l.Addr().String(), print: ssh.FingerprintSHA256(signer.PublicKey())}
	config := &ssh.ServerConfig{
		PasswordCallback: func(c ssh.ConnMetadata, word []byte) (*ssh.Permissions, error) {
			p.said(c.User() + " " + string(word))
			return nil, errors.New("no")
		},
		KeyboardInteractiveCallback: func(c ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			if words, err := ask("", "", []string{"word: "}, []bool{false}); err == nil && len(words) > 0 {
				p.said(c.User() + " " + words[0])
			}
			return nil, errors.New("no")
		},
	}
	config.AddHostKey(signer)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() { defer c.Close(); _, _, _, _ = ssh.NewServerConn(c, config) }()
		}
	}()
	return p
}

// TestGrantTravels: what is asked for with a token stays under it, whoever made the token: a masked one, or one
// for some devices, has no login shown elsewhere, and takes no version of another site.
func TestGrantTravels(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	w.pull(r1)
	const other = "innisquill-r1"
	w.pull(other)
	p := setTrap(t)
	for name, n := range map[string]client.NewToken{
		"masked":  {Name: "masked", Role: "operator", Masked: true},
		"scoped":  {Name: "scoped", Role: "operator", Scope: []string{r1}},
		"of both": {Name: "both", Role: "operator", Masked: true, Scope: []string{"name=" + r1}},
	} {
		n.Password = w.firstPassword()
		with := &client.Client{URL: w.url, Token: must(w.admin.AddToken(ctx(t), n))(t).Token}
		if j, err := with.NewPreview(ctx(t), client.NewPreview{Ref: r1 + "@1", At: p.addr, AcceptKey: p.print}); err != nil {
			t.Errorf("%s: %v", name, err)
		} else if j = w.end(j.ID); j.Outcome == "done" || p.shown() != "" {
			t.Errorf("%s: %s; %q was shown elsewhere", name, j.Summary, p.shown())
		}
		if _, err := with.NewPreview(ctx(t), client.NewPreview{Ref: other + "@1", To: r1}); n.Scope != nil && !client.IsStatus(err, 403) {
			t.Errorf("%s: a version of another site's device goes onto a device of theirs: %v", name, err)
		}
	}
}

// TestLoginGoesToItsOwnAddress: somebody who may not see secrets cannot have a
// device's login shown to a machine of their own: not at another address, not
// behind another key, not over a transport that shows no key. The maker's login
// is tried there. Who may see secrets can; and where somebody asked to go is
// written down when they ask.
func TestLoginGoesToItsOwnAddress(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("dunlin"))
	const g = "workshop-g1"
	w.pull(r1)
	w.pull(g)
	op := w.addUser("okonkwo", "operator")
	end := func(c *client.Client, n client.NewPreview) client.Job {
		t.Helper()
		j, err := c.NewPreview(ctx(t), n)
		if err != nil {
			t.Fatal(err)
		}
		return w.end(j.ID)
	}
	p := setTrap(t)
	j := end(op, client.NewPreview{Ref: r1 + "@1", At: p.addr, AcceptKey: p.print})
	if j.Outcome == "done" || p.shown() != "" || !strings.Contains(j.Summary, "its own address and accepted key only") {
		t.Errorf("%s: %s; it was shown %q", j.Outcome, j.Summary, p.shown())
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.State != "in sync" || d.LoginLockedSince != nil {
		t.Errorf("what somebody found elsewhere is said of the device: %s, latched %v", d.State, d.LoginLockedSince)
	}
	log := ""
	for _, d := range must(w.admin.Audit(ctx(t), client.AuditFilter{}, 0, 50))(t).Items {
		log += d.Actor + " " + d.Action + " " + d.Object + " " + d.Detail + "\n"
	}
	if !strings.Contains(log, "okonkwo preview "+r1) || !strings.Contains(log, "at "+p.addr) || !strings.Contains(log, p.print) {
		t.Errorf("the audit log does not have where and which key:\n%s", log)
	}
	// With the maker's login known, that is what is tried, and nothing else.
	must(w.admin.AddCredentialSet(ctx(t), client.NewCredentialSet{Name: "yard", User: sim.ServiceUser, Password: sim.ServiceWord, Privileged: sim.MastWord, FactoryUser: "maker", FactoryPassword: "makers-word"}))(t)
	must(w.admin.AttachCredentialSet(ctx(t), "yard", []string{r1, g}))(t)
	if j = end(op, client.NewPreview{Ref: r1 + "@1", At: p.addr, AcceptKey: p.print}); j.Outcome == "done" || p.shown() != "maker makers-word" {
		t.Errorf("%s: %s; it was shown %q", j.Outcome, j.Summary, p.shown())
	}
	// Its own address under another key is elsewhere, too.
	w.fleet.call("POST", "/devices/"+r1+"/hostkey", nil, nil)
	shown := must(op.Probe(ctx(t), "", w.fleet.place(r1).Address, 2222))(t).Fingerprint
	if j = end(op, client.NewPreview{Ref: r1 + "@1", AcceptKey: shown}); j.Outcome == "done" || !strings.Contains(j.Summary, "maker's login") {
		t.Errorf("with another key: %s: %s", j.Outcome, j.Summary)
	}
	// Over HTTP nothing proves who is there.
	var posted sync.Map
	web := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		_ = r.ParseForm()
		user, word, _ := r.BasicAuth()
		posted.Store(fmt.Sprint(r.URL, r.Form, user, word, r.Header), true)
	}))
	defer web.Close()
	end(op, client.NewPreview{Ref: g + "@1", At: strings.TrimPrefix(web.URL, "http://")})
	posted.Range(func(k, _ any) bool {
		if strings.Contains(k.(string), sim.ServiceWord) {
			t.Errorf("the login was sent to a web server of somebody's: %s", k)
		}
		return true
	})
	// Who may see secrets can go anywhere, and so can an operator who was given the
	// right; it counts as it stands when the conversation begins.
	q := setTrap(t)
	see, blind := true, false
	must(w.admin.EditUser(ctx(t), "okonkwo", client.NewUser{Secrets: &see}))(t)
	if j = end(op, client.NewPreview{Ref: r1 + "@1", At: q.addr, AcceptKey: q.print}); !strings.Contains(q.shown(), sim.ServiceUser+" "+sim.ServiceWord) {
		t.Errorf("with the right: %s: %s; it was shown %q", j.Outcome, j.Summary, q.shown())
	}
	must(w.admin.EditUser(ctx(t), "okonkwo", client.NewUser{Secrets: &blind}))(t)
	if d := must(w.admin.Device(ctx(t), r1))(t); d.LoginLockedSince != nil {
		t.Error("another machine's refusal latched the device's login")
	}
	// Whoever may not see secrets learns nothing of which ports are open elsewhere.
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	go func() {
		for {
			c, err := silent.Accept()
			if err != nil {
				return
			}
			c.Close()
		}
	}()
	said := map[string]bool{}
	for _, at := range []string{"127.0.0.1:1", silent.Addr().String(), strings.TrimPrefix(web.URL, "http://")} {
		j = end(op, client.NewPreview{Ref: r1 + "@1", At: at, AcceptKey: p.print})
		_, port, _ := net.SplitHostPort(at)
		said[strings.ReplaceAll(j.Summary, "port "+port, "PORT")] = true
		if strings.Contains(j.Summary, "refused") || strings.Contains(j.Summary, "closed") {
			t.Errorf("at %s: %s", at, j.Summary)
		}
	}
	if len(said) != 1 {
		t.Errorf("an open port is told from a closed one: %v", said)
	}
	// Nor by asking for keys.
	for _, port := range []int{2222, 1} {
		if _, err := op.Probe(ctx(t), "", "127.0.0.1", port); !client.IsStatus(err, 403) {
			t.Errorf("a key asked for at port %d of no device: %v", port, err)
		}
	}
	// A device that moves has to show its key anew.
	if _, err := w.admin.EditDevice(ctx(t), r1, client.NewDevice{Address: "127.0.0.9"}); !client.IsStatus(err, 400) || !strings.Contains(err.Error(), "host key") {
		t.Errorf("moved under the old key: %v", err)
	}
}

// TestSecretsAreNotHandedAnywhere: a version with secrets in it is not pushed to
// an address of somebody's choice who may not see them.
func TestSecretsAreNotHandedAnywhere(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2, withFamilies("dunlin"))
	const g = "workshop-g1"
	w.gateways(g)
	w.pull(g)
	op := w.addUser("okonkwo", "operator")
	w.fleet.call("POST", "/devices/"+g+"/reset", map[string]any{"depth": "all"}, nil)
	at := strings.Join(append(strings.Split(w.fleet.place(g).Address, ".")[:2], "250", "1"), ".")
	j := w.end(must(op.NewPreview(ctx(t), client.NewPreview{Ref: g, At: at}))(t).ID)
	if j.Outcome != "done" {
		t.Fatalf("with the maker's login: %s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	p := must(op.Preview(ctx(t), j.Preview))(t)
	if _, err := op.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""); !client.IsStatus(err, 403) || !strings.Contains(err.Error(), "takes the right to see secrets") {
		t.Errorf("pushed by who may not see them: %v", err)
	}
	if end := w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t).ID); end.Outcome != "verified" {
		t.Errorf("pushed by who may: %s: %s", end.Outcome, end.Summary)
	}
}

// TestChangesDoNotCollide: changes that are made side by side are each based on
// what there was, or refused; an admin is left, whoever demotes whom; and whoever
// was disabled stays so.
func TestChangesDoNotCollide(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	second := w.addUser("second", "admin")
	demote := func(c *client.Client, name string, revision int) error {
		_, err := c.EditUser(ctx(t), name, client.NewUser{Role: "operator", Revision: revision})
		return err
	}
	for round := range 12 {
		var wg sync.WaitGroup
		wg.Go(func() { _ = demote(w.admin, "second", 0) })
		wg.Go(func() { _ = demote(second, "admin", 0) })
		wg.Wait()
		admins := 0
		for _, c := range []*client.Client{w.admin, second} {
			if me := must(c.Me(ctx(t)))(t); me.Role == "admin" {
				admins++
				for _, name := range []string{"admin", "second"} {
					must(c.EditUser(ctx(t), name, client.NewUser{Role: "admin"}))(t)
				}
				break
			}
		}
		if admins == 0 {
			t.Fatalf("in round %d no admin was left", round)
		}
	}
	w.addUser("okonkwo", "operator")
	yes, no := true, false
	for round := range 12 {
		var wg sync.WaitGroup
		wg.Go(func() { // until it took
			for {
				if _, err := w.admin.EditUser(ctx(t), "okonkwo", client.NewUser{Disabled: &yes}); err == nil {
					return
				} else if !client.IsStatus(err, 412) {
					t.Errorf("disabling: %v", err)
					return
				}
			}
		})
		wg.Go(func() { _, _ = second.EditUser(ctx(t), "okonkwo", client.NewUser{Secrets: &no}) })
		wg.Wait()
		for _, u := range must(w.admin.Users(ctx(t)))(t) {
			if u.Name == "okonkwo" && !u.Disabled {
				t.Fatalf("in round %d somebody who was disabled is not", round)
			}
		}
		must(w.admin.EditUser(ctx(t), "okonkwo", client.NewUser{Disabled: &no}))(t)
	}
	// Of two changes of a device that are based on the same, one is refused and
	// nothing of the other is lost.
	d := must(w.admin.Device(ctx(t), r1))(t)
	site, tags := "skerrinsay", []string{"edge"}
	var wg sync.WaitGroup
	errs := make([]error, 2)
	wg.Go(func() {
		_, errs[0] = w.admin.EditDevice(ctx(t), r1, client.NewDevice{Site: &site, Revision: d.Revision})
	})
	wg.Go(func() {
		_, errs[1] = second.EditDevice(ctx(t), r1, client.NewDevice{Tags: &tags, Revision: d.Revision})
	})
	wg.Wait()
	now := must(w.admin.Device(ctx(t), r1))(t)
	switch {
	case errs[0] == nil && client.IsStatus(errs[1], 412):
		if now.Site != site || len(now.Tags) != 0 {
			t.Errorf("%+v", now)
		}
	case errs[1] == nil && client.IsStatus(errs[0], 412):
		if now.Site == site || len(now.Tags) != 1 {
			t.Errorf("%+v", now)
		}
	default:
		t.Errorf("%v, %v", errs[0], errs[1])
	}
	if got, said := w.call("PATCH", "/devices/"+r1, w.admin.Token, []byte(`{}`)); got != 428 {
		t.Errorf("based on nothing: %d %s", got, said)
	}
	for _, tag := range []string{"*", "1", `W/"1"`, `"x"`, `""`} {
		if got, said := w.call("PATCH", "/devices/"+r1, w.admin.Token, []byte(`{}`), "If-Match", tag); got != 400 {
			t.Errorf("If-Match %s: %d %s", tag, got, said)
		}
	}
	// What a pull writes of a device takes nothing back of what a person wrote.
	for range 6 {
		wg.Go(func() { w.pull(r1) })
		wg.Go(func() {
			_, _ = w.admin.EditDevice(ctx(t), r1, client.NewDevice{Serials: &[]string{"TN4-ONE", must(w.admin.Device(ctx(t), r1))(t).Serial}})
		})
		wg.Wait()
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); len(d.Serials) != 2 {
		t.Errorf("expected hardware %v", d.Serials)
	}
}

// TestRightsEndAtOnce: whoever is disabled or demoted is shown nothing more by a
// stream that is open, lends no reach any more, and begins nothing more.
func TestRightsEndAtOnce(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	yes, no, see := true, false, true
	for _, p := range w.fleet.places {
		w.pull(p.Name)
	}
	op := w.addUser("okonkwo", "operator")
	must(w.admin.EditUser(ctx(t), "okonkwo", client.NewUser{Secrets: &see}))(t)
	// A stream, from the middle of a push on.
	w.fleet.amend(r1, "mwilks", "lookout", "cancel community demo-gulls")
	w.fleet.faults(r1, tern.Faults{HoldLine: 1})
	push := w.begin(r1 + "@1")
	w.fleet.waitHolding(r1)
	within, cancel := context.WithCancel(context.Background())
	defer cancel()
	ended := make(chan error, 1)
	go func() { _, err := op.Watch(within, push.ID, nil, nil); ended <- err }()
	time.Sleep(300 * time.Millisecond) // it is open by then
	w.lend(op, r1, "", w.fleet.place(r1).Address)
	must(w.admin.EditUser(ctx(t), "okonkwo", client.NewUser{Disabled: &yes}))(t)
	select {
	case err := <-ended:
		if !client.IsStatus(err, 401) {
			t.Errorf("the stream ended %v", err)
		}
	case <-time.After(10 * time.Second):
		t.Error("the stream of somebody disabled goes on")
	}
	eventually(t, "the relay is closed", func() bool { return len(must(w.admin.Relays(ctx(t)))(t)) == 0 })
	must(w.admin.EditUser(ctx(t), "okonkwo", client.NewUser{Disabled: &no}))(t)
	w.fleet.call("POST", "/devices/"+r1+"/release", nil, nil)
	w.fleet.faults(r1, tern.Faults{})
	w.end(push.ID)

	// A relay is closed by route: by who opened it or an admin.
	op = w.as("okonkwo", "words for okonkwo")
	other := w.addUser("lindqvist", "operator")
	id, _, _ := w.lend(op, r1, "", w.fleet.place(r1).Address)
	if err := other.CloseRelay(ctx(t), id); !client.IsStatus(err, 403) {
		t.Errorf("closed by somebody else: %v", err)
	}
	if err := w.admin.CloseRelay(ctx(t), id); err != nil {
		t.Error(err)
	}
	eventually(t, "it is closed", func() bool { return len(must(w.admin.Relays(ctx(t)))(t)) == 0 })
	if err := op.CloseRelay(ctx(t), id); !client.IsStatus(err, 404) {
		t.Errorf("closed twice: %v", err)
	}

	// A restore begins no further push.
	for _, p := range w.fleet.places {
		w.fleet.amend(p.Name, "mwilks", "lane quay1", "note \"changed\"")
		w.pull(p.Name)
	}
	looked := w.end(must(op.NewRestorePreview(ctx(t), client.NewRestorePreview{Selector: []string{"name=*-r1"}, Which: "previous"}))(t).ID)
	first := looked.RestorePreview.Rows[0].Device
	w.fleet.faults(first, tern.Faults{HoldLine: 1})
	restore := must(op.NewRestore(ctx(t), client.NewRestore{RestorePreview: looked.ID}, ""))(t)
	w.fleet.waitHolding(first)
	must(w.admin.EditUser(ctx(t), "okonkwo", client.NewUser{Role: "reader"}))(t)
	w.fleet.call("POST", "/devices/"+first+"/release", nil, nil)
	end := w.end(restore.ID)
	if end.Outcome != "failed" || end.Restore.Rows[0].Outcome != "verified" || !strings.Contains(w.logText(end.ID), "may not push any more") {
		t.Errorf("%s: %s, %+v", end.Outcome, end.Summary, end.Restore)
	}
}

// TestKeysAreBound: an idempotency key is one user's, for one request; another
// request under it is refused, and none of the service's own can be taken.
func TestKeysAreBound(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	other := w.fleet.places[1].Name
	a := must(w.admin.Pull(ctx(t), []string{r1}, "one"))(t)
	if b := must(w.admin.Pull(ctx(t), []string{r1}, "one"))(t); b[0].ID != a[0].ID {
		t.Error("asking twice is not asking once")
	}
	for what, words := range map[string][]string{"another device": {other}, "one more": {r1, other}} {
		if _, err := w.admin.Pull(ctx(t), words, "one"); !client.IsStatus(err, 422) {
			t.Errorf("%s under the same key: %v", what, err)
		}
	}
	w.end(a[0].ID)
	p := w.preview(client.NewPreview{Ref: r1})
	if _, err := w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, "one"); !client.IsStatus(err, 422) {
		t.Errorf("another route under the same key: %v", err)
	}
	if b := must(w.addUser("okonkwo", "operator").Pull(ctx(t), []string{other}, "one"))(t); b[0].ID == a[0].ID {
		t.Error("another user's key is the same")
	}
	for _, key := range []string{strings.Repeat("k", 81), "a\tb"} {
		if _, err := w.admin.Pull(ctx(t), []string{r1}, key); err == nil {
			t.Errorf("the key %q is taken", key)
		}
	}
}

// TestRulesCountNow: whether a second person has to approve is asked when
// somebody approves, not when it was planned; and an approval counts no more of
// somebody who may not push any more.
func TestRulesCountNow(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	op, other := w.addUser("okonkwo", "operator"), w.addUser("lindqvist", "operator")
	plan := func() client.Job {
		t.Helper()
		j := w.end(must(op.NewPreview(ctx(t), client.NewPreview{Ref: r1 + "@1"}))(t).ID)
		p := must(op.Preview(ctx(t), j.Preview))(t)
		from, until := time.Now().Add(time.Hour), time.Now().Add(2*time.Hour)
		j = must(op.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, From: &from, Until: &until}, ""))(t)
		eventually(t, "it waits", func() bool { return must(op.Job(ctx(t), j.ID))(t).Awaits != "" })
		return must(op.Job(ctx(t), j.ID))(t)
	}
	rule := must(w.admin.AddApproval(ctx(t), []string{r1}))(t)
	j := plan()
	if j.Awaits != "approval" {
		t.Fatalf("it awaits %s", j.Awaits)
	}
	// The rule goes and another comes: the planner still cannot.
	if err := w.admin.RemoveApproval(ctx(t), rule.ID); err != nil {
		t.Fatal(err)
	}
	must(w.admin.AddApproval(ctx(t), []string{"kind=router"}))(t)
	if _, err := op.Approve(ctx(t), j.ID, j.Plan.Preview); !client.IsStatus(err, 403) || !strings.Contains(err.Error(), "kind=router") {
		t.Errorf("approved by who planned it: %v", err)
	}
	must(other.Approve(ctx(t), j.ID, j.Plan.Preview))(t)
	eventually(t, "it is approved", func() bool { return must(op.Job(ctx(t), j.ID))(t).Awaits == "start" })
	must(w.admin.Decline(ctx(t), j.ID))(t)
	w.end(j.ID)
	for _, word := range []string{"skerinsay-r1", ""} {
		if _, err := w.admin.AddApproval(ctx(t), []string{word}); err == nil {
			t.Errorf("a rule for %q protects nobody, and is taken", word)
		}
	}
}

// TestMarksTellNothingAcross: the mark of a hidden secret tells equal ones from
// unequal ones of one device, and nothing from one device to another.
func TestMarksTellNothingAcross(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2, withFamilies("dunlin"))
	op := w.addUser("okonkwo", "operator")
	marks := map[string]bool{}
	for _, p := range w.fleet.places[:2] {
		w.pull(p.Name)
		if !strings.Contains(w.fleet.running(p.Name), "community demo-gulls") {
			t.Fatalf("%s has another word", p.Name)
		}
		for _, l := range strings.Split(must(op.Text(ctx(t), p.Name+"@1"))(t).Text, "\n") {
			if strings.Contains(l, "community ") {
				marks[strings.TrimSpace(l)] = true
			}
		}
	}
	if len(marks) != 2 {
		t.Errorf("the same word at two devices is shown as %v", marks)
	}
	// Of a file that may hold secrets no hash is told that others could work out.
	const g = "workshop-g1"
	w.pull(g)
	_, raw := w.call("GET", "/version/text?ref="+g+"@1", w.admin.Token, nil)
	sum := fmt.Sprintf("%x", sha256.Sum256([]byte(raw)))
	_, sheet := w.call("GET", "/bootstrap-sheet?ref="+g+"@1", op.Token, nil)
	w.fleet.amend(g, "mwilks", "name elsewhere")
	w.pull(g)
	must(w.admin.SetMark(ctx(t), g+"@1", client.Mark{Baseline: &[]bool{true}[0]}))(t)
	_, drift := w.call("GET", "/drift?selector="+g, op.Token, nil)
	for what, said := range map[string]string{"the sheet": sheet, "drift": drift} {
		if strings.Contains(said, sum[:12]) {
			t.Errorf("%s tells the file's hash: %s", what, said)
		}
	}
	if !strings.Contains(drift, "mark ") {
		t.Errorf("drift of a file: %s", drift)
	}
}
