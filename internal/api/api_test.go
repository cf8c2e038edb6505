package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http/httptest"
	"os"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/gin-gonic/gin"
)

// TestEveryRouteIsDescribed, with its role, and everything described is there.
func TestEveryRouteIsDescribed(t *testing.T) {
	spec, err := Describe(Kinds())
	if err != nil {
		t.Fatal(err)
	}
	kept, err := os.ReadFile("openapi.yaml")
	if diff := Differs(kept, spec); err != nil || diff != "" {
		t.Errorf("openapi.yaml is not what its sources say, %s, %v; run: make build", diff, err)
	}
	doc, err := openapi3.NewLoader().LoadFromData(spec)
	if err != nil {
		t.Fatal(err)
	}
	ids := map[string]string{}
	var described, served []string
	roles := map[string]string{}
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			described = append(described, method+" "+path)
			at := method + " " + path
			if op.Summary == "" || op.OperationID == "" || len(op.Tags) != 1 || op.Responses.Value("400") == nil || op.Responses.Value("401") == nil {
				t.Errorf("%s lacks a summary, an id, its tag or an answer", at)
			}
			if other := ids[op.OperationID]; other != "" {
				t.Errorf("%s and %s have one id", at, other)
			}
			ids[op.OperationID] = at
			roles[method+" "+path] = fmt.Sprint(op.Extensions["x-role"])
		}
	}
	param := regexp.MustCompile(`:(\w+)`)
	for _, r := range (&Server{}).Handler().(*gin.Engine).Routes() {
		path, ok := strings.CutPrefix(r.Path, "/api/v1")
		if ok && r.Method != "HEAD" {
			served = append(served, r.Method+" "+param.ReplaceAllString(path, "{$1}"))
		}
	}
	for _, r := range (&Server{}).routes(Kinds()) {
		if at := r.method + " " + param.ReplaceAllString(r.path, "{$1}"); roles[at] != r.role {
			t.Errorf("%s takes the role %s, and is described as taking %s", at, r.role, roles[at])
		}
	}
	slices.Sort(described)
	slices.Sort(served)
	for _, r := range served {
		if !slices.Contains(described, r) {
			t.Errorf("%s is not described", r)
		}
	}
	for _, r := range described {
		if !slices.Contains(served, r) {
			t.Errorf("%s is described and not there", r)
		}
	}
}

func TestPasswords(t *testing.T) {
	hash := HashPassword("open the bow doors")
	if !strings.HasPrefix(hash, "$argon2id$v=19$m=19456,t=2,p=1$") || strings.Contains(hash, "bow") {
		t.Errorf("hashed as %s", hash)
	}
	if !passwordFits(hash, "open the bow doors") || passwordFits(hash, "open the bow door") {
		t.Error("the wrong one fits, or the right one does not")
	}
	if one, two := HashPassword("x"), HashPassword("x"); one == two {
		t.Error("there is no salt")
	}
	for _, bad := range []string{"", "$argon2id$", "$argon2id$v=19$m=1,t=1,p=1$!$!", strings.Replace(hash, "v=19", "v=x", 1)} {
		if passwordFits(bad, "") {
			t.Errorf("%q lets in", bad)
		}
	}
}

// TestGuessingGetsSlower and a success forgives; many names at a time are no way
// around it, nor are many addresses; and what is long ago is forgotten.
func TestGuessingGetsSlower(t *testing.T) {
	now := time.Date(2026, 11, 20, 3, 0, 0, 0, time.UTC)
	th := newThrottle(func() time.Time { return now })
	for range pairFree - 1 {
		th.failed("admin", "192.0.2.1")
	}
	if th.wait("admin", "192.0.2.1") > 0 {
		t.Error("a few slips are punished")
	}
	th.failed("admin", "192.0.2.1")
	first := th.wait("admin", "192.0.2.1")
	for range 20 {
		th.failed("admin", "192.0.2.1")
	}
	if most := th.wait("admin", "192.0.2.1"); first <= 0 || most <= first || most > pairMost {
		t.Errorf("waits of %s and %s", first, most)
	}
	if th.wait("admin", "192.0.2.2") > 0 {
		t.Error("somebody else has to wait too")
	}
	th.passed("admin", "192.0.2.1")
	if th.wait("admin", "192.0.2.1") > 0 {
		t.Error("a success does not forgive")
	}
	// A name each: the address is slowed down all the same, and the table has an end.
	for i := range 3 * mostCounted {
		th.failed(fmt.Sprint("user", i), "192.0.2.3")
	}
	if th.wait("another", "192.0.2.3") <= 0 || len(th.pairs) > mostCounted+1 {
		t.Errorf("many names: a wait of %s, %d counted", th.wait("another", "192.0.2.3"), len(th.pairs))
	}
	// An address each.
	for i := range 2 * mostCounted {
		th.failed("admin", peer(fmt.Sprintf("2001:db8:%x:%x::1", i>>16, i&0xffff)))
	}
	if th.wait("admin", peer("2001:db8:ffff::1")) <= 0 || len(th.peers) > mostCounted+1 {
		t.Errorf("many addresses: %d counted", len(th.peers))
	}
	if peer("2001:db8::1") != peer("2001:db8::ffff:1") || peer("::ffff:192.0.2.1") != "192.0.2.1" || peer("nonsense") != "unknown" {
		t.Error("addresses are told apart that one host can choose from")
	}
	now = now.Add(forgetAfter)
	if th.wait("another", "192.0.2.3") > 0 || th.wait("admin", peer("2001:db8:ffff::1")) > 0 {
		t.Error("it is never forgotten")
	}
}

// TestRefusalsAreCounted: however many sign-ins are refused, the log has a row a
// minute and address, and none is left out of its counts.
func TestRefusalsAreCounted(t *testing.T) {
	now := time.Date(2026, 11, 20, 3, 0, 0, 0, time.UTC)
	r := &refusals{now: func() time.Time { return now }, m: map[string]*refused{}}
	rows := 0
	for i := range 1000 {
		if r.note(fmt.Sprint("user", i%50), "192.0.2.1") {
			rows++
		}
	}
	if rows != 1 || len(r.due()) != 0 {
		t.Errorf("%d rows at once", rows)
	}
	now = now.Add(time.Minute)
	if said := r.due(); len(said) != 1 || said[0] != "from 192.0.2.1: 999 more within a minute, as user1, user2, user3" {
		t.Errorf("%q", said)
	}
	if r.note("again", "192.0.2.1") {
		t.Error("a minute later every one is written again")
	}
	now = now.Add(2 * time.Minute)
	if said := r.due(); len(said) != 1 || len(r.due()) != 0 {
		t.Errorf("%q", said)
	}
	for i := range 3 * mostCounted {
		r.note("x", fmt.Sprint(i))
	}
	if len(r.m) > mostCounted+1 {
		t.Errorf("%d addresses are kept", len(r.m))
	}
}

// TestLine: so many at a time, so many in line, the rest is turned away.
func TestLine(t *testing.T) {
	l := newLine(1, 1)
	leave, err := l.enter(context.Background(), time.Second)
	if err != nil {
		t.Fatal(err)
	}
	waited := make(chan error)
	go func() {
		out, err := l.enter(context.Background(), time.Minute)
		if err == nil {
			out()
		}
		waited <- err
	}()
	for len(l.queue) < 2 {
		time.Sleep(time.Millisecond)
	}
	if _, err := l.enter(context.Background(), time.Minute); err != errBusy {
		t.Errorf("the third: %v", err)
	}
	leave()
	if err := <-waited; err != nil {
		t.Errorf("who waited: %v", err)
	}
	leave, _ = l.enter(context.Background(), time.Second)
	if _, err := l.enter(context.Background(), time.Millisecond); err != errBusy || len(l.queue) != 1 {
		t.Errorf("who waited too long: %v", err)
	}
	leave()
}

// FuzzSound: what steers a terminal, or turns writing around, gets into no text
// of one line, however it is nested; and nothing that is sent is taken twice.
func FuzzSound(f *testing.F) {
	f.Add("name", "quay\x1b[2J", "tags")
	f.Add("note", "two\nlines", "password")
	f.Add("text", "a\x00b", "x")
	f.Fuzz(func(t *testing.T, field, value, up string) {
		raw, err := json.Marshal(map[string]any{up: []any{map[string]any{field: value}}})
		if err != nil {
			return
		}
		var all any
		if json.Unmarshal(raw, &all) != nil {
			return
		}
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		p := sound("", all)
		runtime.ReadMemStats(&after)
		if took := after.TotalAlloc - before.TotalAlloc; took > 8<<20 {
			t.Fatalf("%d bytes took %d MiB to look at", len(raw), took>>20)
		}
		var kept string // as it comes out of JSON
		_ = json.Unmarshal(must(json.Marshal(value)), &kept)
		one := !slices.Contains(manyLines, field)
		steers := strings.ContainsFunc(kept, func(r rune) bool { return unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r) })
		if p == nil && (one && steers || strings.ContainsRune(kept, 0)) {
			t.Errorf("%q is taken as %s", value, field)
		}
	})
}

func must(raw []byte, _ error) []byte { return raw }

// TestSlowBody: who sends a body drop by drop is not waited for, whether the body
// is wanted or not, and an answer that takes long is not cut off by that.
func TestSlowBody(t *testing.T) {
	defer func(was time.Duration) { bodyWithin = was }(bodyWithin)
	bodyWithin = 300 * time.Millisecond
	s := &Server{Clock: time.Now}
	srv := httptest.NewServer(s.Handler())
	defer srv.Close()
	for _, path := range []string{"/api/v1/login", "/healthz", "/nowhere"} {
		c, err := net.Dial("tcp", srv.Listener.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		method := "POST"
		if path == "/healthz" {
			method = "GET"
		}
		fmt.Fprintf(c, "%s %s HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{", method, path)
		_ = c.SetDeadline(time.Now().Add(20 * time.Second))
		said, err := io.ReadAll(c) // until the service hangs up
		if err != nil || len(said) == 0 {
			t.Errorf("%s: %v after %q", path, err, said)
		}
		if path == "/api/v1/login" && !strings.Contains(string(said), "408") {
			t.Errorf("%s: %q", path, said)
		}
		c.Close()
	}
}
