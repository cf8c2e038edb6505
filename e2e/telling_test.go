package e2e

import (
	"bufio"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"magpie/client"
	"magpie/internal/sim/tern"
)

// postOffice is a mail server of Debian's (Exim) on loopback: it takes mail by STARTTLS from
// one user, knows nobody called gone, and keeps what it took in a folder.
type postOffice struct {
	t       *testing.T
	dir     string
	address string
	ca      string
	proc    *exec.Cmd
}

const mailWord = "a word for mail"

func newPostOffice(t *testing.T) *postOffice {
	t.Helper()
	dir, err := os.MkdirTemp("", "post")
	if err != nil {
		t.Fatal(err)
	}
	p := &postOffice{t: t, dir: dir}
	t.Cleanup(func() { p.close(); os.RemoveAll(dir) })
	run := func(name string, args ...string) {
		t.Helper()
		if out, err := exec.Command(name, args...).CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", name, err, out)
		}
	}
	run("openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:prime256v1", "-nodes", "-days", "2", "-subj", "/CN=localhost", "-addext", "subjectAltName=DNS:localhost", "-keyout", dir+"/key.pem", "-out", dir+"/cert.pem")
	ca, err := os.ReadFile(dir + "/cert.pem")
	if err != nil {
		t.Fatal(err)
	}
	p.ca, p.address = string(ca), freeAddress(t)
	_, port, _ := net.SplitHostPort(p.address)
	p.address = "localhost:" + port
	config := fmt.Sprintf(`spool_directory = %[1]s/spool
log_file_path = %[1]s/log/%%slog
pid_file_path = %[1]s/spool/pid
local_interfaces = 127.0.0.1
daemon_smtp_ports = %[2]s
deliver_drop_privilege = true
primary_hostname = mail.ferries.example
keep_environment =
host_lookup =
rfc1413_hosts =
tls_advertise_hosts = *
tls_certificate = %[1]s/cert.pem
tls_privatekey = %[1]s/key.pem
acl_smtp_rcpt = rcpt
begin acl
rcpt:
  deny !authenticated = *
       message = sign in first
  deny recipients = gone@ferries.example
       message = nobody of that name
  accept
begin routers
keep:
  driver = accept
  transport = keep
begin transports
keep:
  driver = appendfile
  directory = %[1]s/mail
  maildir_format
  envelope_to_add
begin authenticators
plain:
  driver = plaintext
  public_name = PLAIN
  server_condition = ${if and{{eq{$auth2}{magpie}}{eq{$auth3}{%[3]s}}}}
  server_set_id = $auth2
  server_advertise_condition = ${if def:tls_in_cipher}
`, dir, port, mailWord)
	if err := os.WriteFile(dir+"/exim.conf", []byte(config), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, d := range []string{"spool", "log", "mail"} {
		if err := os.Mkdir(filepath.Join(dir, d), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	run("chown", "-R", "Debian-exim", dir)
	run("chown", "root", dir+"/exim.conf")
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return p
}

// freeAddress is one on loopback that nobody listens at.
func freeAddress(t *testing.T) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

func (p *postOffice) open() {
	p.t.Helper()
	p.proc = exec.Command("exim4", "-C", p.dir+"/exim.conf", "-bdf", "-odi")
	if err := p.proc.Start(); err != nil {
		p.t.Fatal(err)
	}
	eventually(p.t, "the mail server listens", func() bool {
		c, err := net.Dial("tcp", p.address)
		if err == nil {
			c.Close()
		}
		return err == nil
	})
}

func (p *postOffice) close() {
	if p.proc != nil {
		_ = p.proc.Process.Kill()
		_ = p.proc.Wait()
		p.proc = nil
	}
}

// letter is a mail that came.
type letter struct {
	to, id, subject, text string
}

// letters are the mails that came, in no order.
func (p *postOffice) letters() (out []letter) {
	p.t.Helper()
	files, _ := filepath.Glob(p.dir + "/mail/new/*")
	for _, f := range files {
		raw, err := os.Open(f)
		if err != nil {
			p.t.Fatal(err)
		}
		m, err := mail.ReadMessage(raw)
		if err != nil {
			p.t.Fatal(err)
		}
		body := m.Body
		if m.Header.Get("Content-Transfer-Encoding") == "quoted-printable" {
			body = quotedprintable.NewReader(m.Body)
		}
		text, err := io.ReadAll(body)
		raw.Close()
		if err != nil {
			p.t.Fatal(err)
		}
		subject := m.Header.Get("Subject")
		if s, err := new(mime.WordDecoder).DecodeHeader(subject); err == nil {
			subject = s
		}
		out = append(out, letter{m.Header.Get("Envelope-To"), m.Header.Get("Message-ID"), subject, strings.ReplaceAll(string(text), "\r\n", "\n")})
	}
	return out
}

// server is how the service is told of it.
func (p *postOffice) server(password string) client.NewMailServer {
	return client.NewMailServer{Server: p.address, Security: "starttls", User: "magpie", Password: password, From: "magpie@ferries.example", CA: p.ca, Console: "https://magpie.ferries.example"}
}

// hook is a webhook that checks signatures.
type hook struct {
	*httptest.Server
	mu     sync.Mutex
	secret string
	got    []map[string]any
	wrong  []string
	down   bool
}

func newHook(t *testing.T) *hook {
	h := &hook{}
	h.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.down {
			http.Error(w, "closed for the night", http.StatusServiceUnavailable)
			return
		}
		body, _ := io.ReadAll(r.Body)
		sum := sha256.Sum256(body)
		digest := "sha-256=:" + base64.StdEncoding.EncodeToString(sum[:]) + ":"
		params := strings.TrimPrefix(r.Header.Get("Signature-Input"), "magpie=")
		base := fmt.Sprintf("\"@method\": POST\n\"@target-uri\": %s/tell\n\"content-type\": application/json\n\"content-digest\": %s\n\"idempotency-key\": %s\n\"@signature-params\": %s", h.URL, digest, r.Header.Get("Idempotency-Key"), params)
		mac := hmac.New(sha256.New, []byte(h.secret))
		mac.Write([]byte(base))
		if want := "magpie=:" + base64.StdEncoding.EncodeToString(mac.Sum(nil)) + ":"; r.Header.Get("Signature") != want || r.Header.Get("Content-Digest") != digest {
			h.wrong = append(h.wrong, fmt.Sprintf("signed %s (%s), should be %s", r.Header.Get("Signature"), params, want))
		}
		var m map[string]any
		if err := json.Unmarshal(body, &m); err != nil {
			h.wrong = append(h.wrong, err.Error())
		}
		h.got = append(h.got, m)
	}))
	t.Cleanup(h.Close)
	return h
}

func (h *hook) seen() (got []map[string]any, wrong []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return slices.Clone(h.got), slices.Clone(h.wrong)
}

// collector takes syslog by TCP.
type collector struct {
	net.Listener
	mu    sync.Mutex
	lines []string
}

func newCollector(t *testing.T) *collector {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	k := &collector{Listener: l}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				for r := bufio.NewReader(conn); ; {
					var n int
					if _, err := fmt.Fscanf(r, "%d ", &n); err != nil {
						return
					}
					b := make([]byte, n)
					if _, err := io.ReadFull(r, b); err != nil {
						return
					}
					k.mu.Lock()
					k.lines = append(k.lines, string(b))
					k.mu.Unlock()
				}
			}()
		}
	}()
	return k
}

// with are the lines that hold some words.
func (k *collector) with(words string) (out []string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, l := range k.lines {
		if strings.Contains(l, words) {
			out = append(out, l)
		}
	}
	return out
}

// gathered lets what was gathered to be told be told now, and what is to be sent be tried
// now.
func (w *world) gathered() {
	w.t.Helper()
	w.sql("UPDATE tellings SET at = at - INTERVAL 1 MINUTE WHERE batch = '' AND rule_id IN (SELECT id FROM tell_rules WHERE digest = '')")
	w.sql("UPDATE messages SET next_at = UTC_TIMESTAMP(6) WHERE state = 'waiting' AND next_at > UTC_TIMESTAMP(6) AND NOT held")
}

// TestPeopleAreTold: what happens is told to whom it concerns, by mail, webhook and syslog,
// with secrets masked, and once: also where the mail server was down for an hour, two
// instances run, and one is killed in the middle.
func TestPeopleAreTold(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	post, hook, log := newPostOffice(t), newHook(t), newCollector(t)
	name, other := w.fleet.places[0].Name, w.fleet.places[1].Name
	for _, n := range []string{name, other} {
		w.pull(n)
	}
	steps := func(to string) (last client.TestStep, all client.Tested) {
		t.Helper()
		all = must(w.admin.TestRecipient(ctx(t), to))(t)
		return all.Steps[len(all.Steps)-1], all
	}
	must(w.admin.AddRecipient(ctx(t), client.NewRecipient{Name: "noc", Kind: "mail", To: []string{"noc@ferries.example", "watch@ferries.example"}}))(t)
	if last, _ := steps("noc"); last.OK || !strings.Contains(last.Says, "no mail server is set") {
		t.Errorf("without a mail server: %+v", last)
	}
	must(w.admin.SetMailServer(ctx(t), post.server("a wrong word")))(t)
	if last, _ := steps("noc"); last.OK || !strings.HasPrefix(last.Step, "connect to port") || !strings.Contains(last.Says, "refused") {
		t.Errorf("nobody listens: %+v", last)
	}
	post.open()
	if last, _ := steps("noc"); last.OK || last.Step != "sign in as magpie" {
		t.Errorf("a wrong password: %+v", last)
	}
	if strings.Contains(fmt.Sprint(must(w.admin.MailServer(ctx(t)))(t)), "wrong word") {
		t.Error("the password of the mail server is shown")
	}
	noCA := post.server(mailWord)
	noCA.CA = ""
	must(w.admin.SetMailServer(ctx(t), noCA))(t)
	if last, _ := steps("noc"); last.OK || last.Step != "TLS" || !strings.Contains(last.Says, "certificate") {
		t.Errorf("nobody vouches for the server: %+v", last)
	}
	must(w.admin.SetMailServer(ctx(t), post.server(mailWord)))(t)
	if _, all := steps("noc"); !all.OK {
		t.Errorf("all is right: %+v", all)
	}
	must(w.admin.EditRecipient(ctx(t), "noc", client.NewRecipient{Name: "noc", Kind: "mail", To: []string{"noc@ferries.example", "gone@ferries.example"}}))(t)
	if last, _ := steps("noc"); last.OK || last.Step != "recipient gone@ferries.example" || !strings.Contains(last.Says, "nobody of that name") {
		t.Errorf("somebody who is not there: %+v", last)
	}
	must(w.admin.EditRecipient(ctx(t), "noc", client.NewRecipient{Name: "noc", Kind: "mail", To: []string{"noc@ferries.example", "watch@ferries.example"}}))(t)
	made := must(w.admin.AddRecipient(ctx(t), client.NewRecipient{Name: "hook", Kind: "webhook", URL: hook.URL + "/tell"}))(t)
	hook.secret = made.Secret
	if len(made.Secret) < 30 || must(w.admin.Recipient(ctx(t), "hook"))(t).Secret != "" {
		t.Errorf("the webhook's secret is not made, or shown twice: %+v", made)
	}
	must(w.admin.AddRecipient(ctx(t), client.NewRecipient{Name: "log", Kind: "syslog", Address: log.Addr().String(), Transport: "tcp", Audit: true}))(t)
	for _, to := range []string{"hook", "log"} {
		if _, all := steps(to); !all.OK {
			t.Errorf("%s: %+v", to, all)
		}
	}
	if got, wrong := hook.seen(); len(got) != 1 || len(wrong) != 0 {
		t.Errorf("the webhook got %v, wrong is %v", got, wrong)
	}

	for _, n := range []client.NewNotificationRule{
		{Name: "whatever", Events: []string{"changed", "failed", "recovered", "waiting"}, Selector: []string{"all"}, Recipients: []string{"noc", "hook", "log"}, Zone: "Atlantic/Faroe"},
		{Name: "elsewhere", Events: []string{"changed", "failed"}, Selector: []string{"name=" + other}, Recipients: []string{"hook"}},
		{Name: "asleep", Events: []string{"failed"}, Selector: []string{"all"}, Recipients: []string{"hook"}, Quiet: []string{"daily 00:00 for 1439m", "daily 23:00 for 2h"}},
		{Name: "mornings", Events: []string{"failed"}, Selector: []string{"all"}, Recipients: []string{"hook"}, Digest: "daily 07:00"},
	} {
		must(w.admin.AddNotificationRule(ctx(t), n))(t)
	}
	// The mail server is down for an hour. A second instance runs.
	post.close()
	tests := len(post.letters())
	_, second := w.another()
	w.fleet.amend(name, "mwilks", "crew mallory", "rank deck", "word open sesame-open-12")
	w.pull(name)
	eventually(t, "what changed is gathered", func() bool {
		w.gathered()
		return len(must(w.admin.Messages(ctx(t), "", 100))(t)) == 4
	})
	for range 5 { // tried in vain, again and again
		time.Sleep(1500 * time.Millisecond) // the outbox is looked at each second
		w.gathered()
	}
	waiting := must(w.admin.Messages(ctx(t), "waiting", 100))(t)
	if len(waiting) != 2 || waiting[0].Tries < 2 || !strings.Contains(waiting[0].Trouble, "connect to port") {
		t.Errorf("waiting: %+v", waiting)
	}
	w.sql("UPDATE messages SET made_at = made_at - INTERVAL 1 HOUR")
	if st := must(w.admin.Status(ctx(t)))(t); st.Untold != 2 {
		t.Errorf("%d are late by the status", st.Untold)
	}
	w.kill()
	w.sql("UPDATE messages SET held = FALSE") // what it was trying in that moment need not be waited for
	post.open()
	w.serve()
	eventually(t, "all mail comes afterwards", func() bool { w.gathered(); return len(post.letters()) == tests+2 })
	time.Sleep(2 * time.Second) // whatever would come twice would come by now
	if got := post.letters()[0:]; len(got) != tests+2 {
		t.Fatalf("%d letters came, not once each", len(got)-tests)
	}
	to := map[string]letter{}
	for _, l := range post.letters() {
		if !strings.Contains(l.subject, "test") {
			to[l.to] = l
		}
	}
	noc, watch := to["noc@ferries.example"], to["watch@ferries.example"]
	if noc.text == "" || noc.text != watch.text || noc.id == watch.id {
		t.Errorf("the two were told %q and %q", noc.text, watch.text)
	}
	for _, words := range []string{"Changed", name + ": running 2 (+", "word sealed ‹secret ", "by ", "https://magpie.ferries.example/compare?from=" + name + "%2Frunning%401", "Told by the rule whatever"} {
		if !strings.Contains(noc.text, words) {
			t.Errorf("the mail does not say %q:\n%s", words, noc.text)
		}
	}
	if strings.Contains(noc.text, "sesame-open") || !strings.Contains(noc.subject, "1 changed: "+name) {
		t.Errorf("%s\n%s", noc.subject, noc.text)
	}
	got, wrong := hook.seen()
	if raw, _ := json.Marshal(got); len(got) != 2 || len(wrong) > 0 || strings.Contains(string(raw), "sesame-open") || !strings.Contains(string(raw), `"event":"changed"`) {
		t.Errorf("the webhook got %s; wrong is %v", raw, wrong)
	}
	if lines := log.with(`event="changed"`); len(lines) != 1 || !strings.HasPrefix(lines[0], "<133>1 ") {
		t.Errorf("by syslog came %q", lines)
	}

	// What was being handed over when the service died says so, under the same Message-ID.
	w.sql("UPDATE messages SET state = 'waiting', handed = TRUE, held = FALSE, next_at = UTC_TIMESTAMP(6), ended_at = NULL WHERE address = 'noc@ferries.example'")
	eventually(t, "it comes again", func() bool { return len(post.letters()) == tests+3 })
	again := 0
	for _, l := range post.letters() {
		if l.id == noc.id && strings.HasPrefix(l.text, "This may have reached you before") {
			again++
		}
	}
	if again != 1 {
		t.Errorf("%d letters say that they may have come before", again)
	}

	// What is being sent at this moment, and what came, is not tried by hand.
	sent := must(w.admin.Messages(ctx(t), "sent", 1))(t)[0]
	for _, c := range []struct{ set, says string }{
		{"state = 'sent'", "it is sent"},
		{"state = 'waiting', held = TRUE, ended_at = NULL, next_at = UTC_TIMESTAMP(6) + INTERVAL 1 HOUR", "it is being sent at this moment"},
	} {
		w.sql("UPDATE messages SET " + c.set + " WHERE id = '" + sent.ID + "'")
		if _, err := w.admin.RetryMessage(ctx(t), sent.ID); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("a message with %s tried by hand: %v", c.set, err)
		}
	}
	w.sql("UPDATE messages SET state = 'sent', held = FALSE, next_at = NULL WHERE id = '" + sent.ID + "'")

	// A device that fails is told of once, however often it is tried, and when it is back.
	w.fleet.faults(other, tern.Faults{Down: true})
	w.pull(other)
	w.pull(other)
	count := func(event string) (n int) {
		got, _ := hook.seen()
		for _, m := range got {
			for _, i := range m["items"].([]any) {
				if i.(map[string]any)["event"] == event {
					n++
				}
			}
		}
		return n
	}
	eventually(t, "both rules tell that it fails", func() bool { w.gathered(); return count("failed") == 2 })
	w.fleet.faults(other, tern.Faults{})
	w.pull(other)
	eventually(t, "and that it is back", func() bool { w.gathered(); return count("recovered") == 1 })
	if n := count("failed"); n != 2 {
		t.Errorf("that it failed was told %d times", n)
	}
	// What was kept for the morning comes in the morning, as one.
	w.sql("UPDATE tellings SET at = at - INTERVAL 1 DAY WHERE batch = ''")
	eventually(t, "the digest comes", func() bool { return count("failed") == 3 })
	w.sql("UPDATE tell_rules SET quiet = '[]' WHERE name = 'asleep'")
	eventually(t, "when it is quiet no more, it is told", func() bool { w.gathered(); return count("failed") == 4 })

	// The audit log goes elsewhere, row by row; what is kept there tells of a database that was
	// put back to an earlier state.
	rows := func() (out []string) {
		for _, l := range log.with("[magpie@32473 seq=") {
			out = append(out, regexp.MustCompile(`seq="(\d+)" mac="([0-9a-f]+)"`).ReplaceAllString(regexp.MustCompile(`seq="\d+" mac="[0-9a-f]+"`).FindString(l), "$1:$2"))
		}
		return out
	}
	must(w.admin.PauseNotificationRule(ctx(t), "mornings", true))(t)
	eventually(t, "the audit log is sent", func() bool { return len(log.with(`action="notification rule paused"`)) > 0 })
	all := rows()
	if check := must(w.admin.CheckAudit(ctx(t), all[len(all)-1]))(t); !check.Sound {
		t.Errorf("the log as it is: %s", check.Trouble)
	}
	second.kill()
	w.kill()
	w.sql("CREATE TABLE earlier AS SELECT * FROM audit")
	w.sql("CREATE TABLE earlier_end AS SELECT * FROM audit_end")
	w.serve()
	must(w.admin.PauseNotificationRule(ctx(t), "mornings", false))(t)
	eventually(t, "it goes on", func() bool { return len(log.with(`action="notification rule resumed"`)) > 0 })
	all = rows()
	w.kill()
	w.sql("DELETE FROM audit")
	w.sql("DELETE FROM audit_end")
	w.sql("INSERT INTO audit SELECT * FROM earlier")
	w.sql("INSERT INTO audit_end SELECT * FROM earlier_end")
	w.serve()
	if check := must(w.admin.CheckAudit(ctx(t), ""))(t); !check.Sound {
		t.Errorf("by itself it cannot tell: %s", check.Trouble)
	}
	if out, _, status := w.cli("audit", "check", "--end", all[len(all)-1]); status != 1 || !strings.Contains(out, "earlier state") {
		t.Errorf("put back to an earlier state: exit %d, %s", status, out)
	}
}
