package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"magpie/client"
)

// described2 reads the API's description as the service serves it.
func (w *world) description() *openapi3.T {
	w.t.Helper()
	res, err := http.Get(w.url + "/openapi.yaml")
	if err != nil {
		w.t.Fatal(err)
	}
	defer res.Body.Close()
	raw, _ := io.ReadAll(res.Body)
	doc, err := openapi3.NewLoader().LoadFromData(raw)
	if err != nil {
		w.t.Fatal(err)
	}
	return doc
}

// operation is one of the API's, with an address that names nothing there is.
type operation struct {
	method, path, role string
	*openapi3.Operation
	item *openapi3.PathItem
}

func (w *world) operations() (all []operation) {
	for path, item := range w.description().Paths.Map() {
		for method, op := range item.Operations() {
			all = append(all, operation{method, path, fmt.Sprint(op.Extensions["x-role"]), op, item})
		}
	}
	slices.SortFunc(all, func(a, b operation) int { return strings.Compare(a.path+a.method, b.path+b.method) })
	if len(all) < 60 {
		w.t.Fatalf("only %d operations are described", len(all))
	}
	return all
}

// call sends what is asked for and returns the answer's status and body.
func (w *world) call(method, path, token string, body []byte, header ...string) (int, string) {
	w.t.Helper()
	asking := context.Background()
	if path == "/events" { // which goes on until somebody leaves
		var leave func()
		asking, leave = context.WithTimeout(asking, 2*time.Second)
		defer leave()
	}
	req, err := http.NewRequestWithContext(asking, method, w.url+"/api/v1"+path, bytes.NewReader(body))
	if err != nil {
		w.t.Fatal(err)
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i+1 < len(header); i += 2 {
		if req.Header.Del(header[i]); header[i+1] != "" {
			req.Header.Set(header[i], header[i+1])
		}
	}
	res, err := http.DefaultTransport.RoundTrip(req)
	if err != nil {
		w.t.Fatalf("%s %s: %v", method, path, err)
	}
	defer res.Body.Close()
	raw, _ := io.ReadAll(io.LimitReader(res.Body, 8<<20))
	return res.StatusCode, string(raw)
}

func nowhere(path string) string {
	if path == "/version" {
		path += "?ref=none-such@1"
	}
	return strings.NewReplacer("{name}", "none-such", "{id}", "0000000000000000").Replace(path)
}

// write tells whether an operation changes something.
func (o operation) write() bool { return o.method != "GET" }

// TestEveryRouteKeepsItsRole: every operation that is described, by everybody:
// who is below its role is kept out before anything else is looked at, and who
// has it is not.
func TestEveryRouteKeepsItsRole(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	roles := []string{"nobody", "reader", "operator", "admin"}
	tokens := map[string]string{"nobody": "", "reader": w.addUser("lookout", "reader").Token, "operator": w.addUser("okonkwo", "operator").Token, "admin": w.admin.Token}
	// Who may not go on, whatever they were: a token that ran out, a user who was disabled, one
	// who has to choose a password first; and a token of admin's that is for less.
	out := map[string]string{}
	out["expired"] = must(w.admin.AddToken(ctx(t), client.NewToken{Name: "expired", Password: w.firstPassword()}))(t).Token
	w.sql("UPDATE tokens SET expires_at = UTC_TIMESTAMP(6) - INTERVAL 1 SECOND WHERE name = 'expired'")
	out["disabled"] = w.addUser("gone", "admin").Token
	w.sql("UPDATE users SET disabled = TRUE WHERE name = 'gone'")
	must(w.admin.AddUser(ctx(t), client.NewUser{Name: "newcomer", Role: "admin", Password: "given to you"}))(t)
	out["unready"] = w.as("newcomer", "given to you").Token
	for _, role := range []string{"reader", "operator"} {
		tokens["admin's for "+role] = must(w.admin.AddToken(ctx(t), client.NewToken{Name: role, Role: role, Password: w.firstPassword()}))(t).Token
	}
	first := []string{"GET /me", "DELETE /session", "PUT /me/password"}
	for _, op := range w.operations() {
		if !slices.Contains(roles, op.role) {
			t.Errorf("%s %s takes the role %s", op.method, op.path, op.role)
		}
		what := op.method + " " + op.path
		for who, token := range out {
			if op.role == "nobody" || who == "unready" && slices.Contains(first, what) {
				continue
			}
			want := map[string]int{"expired": 401, "disabled": 401, "unready": 403}[who]
			if got, said := w.call(op.method, nowhere(op.path), token, []byte(`{}`)); got != want || who == "unready" && !strings.Contains(said, "password of your own") {
				t.Errorf("%s by a token that is %s: %d %s", what, who, got, said)
			}
		}
		for _, role := range []string{"reader", "operator"} {
			if slices.Index(roles, op.role) <= slices.Index(roles, role) {
				continue
			}
			if got, said := w.call(op.method, nowhere(op.path), tokens["admin's for "+role], []byte(`{}`)); got != 403 {
				t.Errorf("%s by admin's token for %s: %d %s", what, role, got, said)
			}
		}
		for i, who := range roles {
			if op.path == "/session" && op.method == "DELETE" && who != "nobody" {
				continue // it would sign them out
			}
			var body []byte
			if op.write() {
				body = []byte(`{}`)
			}
			got, said := w.call(op.method, nowhere(op.path), tokens[who], body)
			allowed := i >= slices.Index(roles, op.role)
			switch {
			case who == "nobody" && op.role != "nobody":
				if got != 401 {
					t.Errorf("%s %s by nobody: %d %s", op.method, op.path, got, said)
				}
			case !allowed && got != 403:
				t.Errorf("%s %s by %s: %d %s", op.method, op.path, who, got, said)
			case allowed && op.role != "nobody" && (got == 401 || got == 403 || got >= 500 || got == 404 && strings.Contains(said, "no such address")):
				t.Errorf("%s %s by %s: %d %s", op.method, op.path, who, got, said)
			}
		}
	}
	// Refusals are written down, once for each and not for every try.
	n := 0
	for _, d := range must(w.admin.Audit(ctx(t), client.AuditFilter{}, 0, 1000))(t).Items {
		if d.Actor == "lookout" && d.Action == "refused" && d.Object == "POST /api/v1/users" {
			n++
		}
	}
	for range 5 {
		w.call("POST", "/users", tokens["reader"], []byte(`{}`))
	}
	if n != 1 {
		t.Errorf("a refusal has %d rows in the audit log", n)
	}
}

// TestCrossSite: with a browser's cookie, nothing is changed by a page of another
// site, whatever it can send; nor is anybody signed in by one.
func TestCrossSite(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	sign := func(header ...string) (int, *http.Cookie, string) {
		req, _ := http.NewRequest("POST", w.url+"/api/v1/session", strings.NewReader(`{"user":"admin","password":"`+w.firstPassword()+`"}`))
		req.Header.Set("Content-Type", "application/json")
		for i := 0; i+1 < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		res, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		var g client.Granted
		_ = json.NewDecoder(res.Body).Decode(&g)
		for _, c := range res.Cookies() {
			return res.StatusCode, c, g.CSRF
		}
		return res.StatusCode, nil, ""
	}
	for _, h := range [][]string{{}, {"Origin", "http://elsewhere.example"}, {"Origin", "null"}, {"Origin", w.url + ".example"}} {
		if code, c, _ := sign(h...); code != 403 || c != nil {
			t.Errorf("signed in from %q: %d", h, code)
		}
	}
	for _, kind := range []string{"text/plain", "application/x-www-form-urlencoded", "multipart/form-data; boundary=x"} {
		if code, c, _ := sign("Origin", w.url, "Content-Type", kind); code != 415 || c != nil {
			t.Errorf("signed in by %s: %d", kind, code)
		}
	}
	// Whether it came by TLS is believed of a proxy that is named, and of no other.
	if _, c, _ := sign("Origin", w.url, "X-Forwarded-Proto", "https"); c == nil || c.Secure {
		t.Errorf("anybody's word is taken for TLS: %+v", c)
	}
	code, cookie, csrf := sign("Origin", w.url)
	if code != 200 || cookie == nil || csrf == "" {
		t.Fatalf("%d %v", code, cookie)
	}
	with := "magpie=" + cookie.Value
	for _, op := range w.operations() {
		if !op.write() || op.role == "nobody" {
			continue
		}
		for what, h := range map[string][]string{
			"without the token":   {"Cookie", with},
			"with another":        {"Cookie", with, "X-CSRF-Token", "x"},
			"from elsewhere":      {"Cookie", with, "X-CSRF-Token", csrf, "Origin", "http://elsewhere.example"},
			"the cookie as token": {"Authorization", "Bearer " + cookie.Value},
		} {
			if got, said := w.call(op.method, nowhere(op.path), "", []byte(`{}`), h...); got != 403 && !(got == 401 && what == "the cookie as token") {
				t.Errorf("%s %s %s: %d %s", op.method, op.path, what, got, said)
			}
		}
		if op.RequestBody != nil && op.RequestBody.Value.Content["application/json"] != nil {
			h := []string{"Cookie", with, "X-CSRF-Token", csrf, "Origin", w.url, "Content-Type", "text/plain", "If-Match", `"1"`}
			if got, said := w.call(op.method, nowhere(op.path), "", []byte(`{}`), h...); got != 415 {
				t.Errorf("%s %s as plain text: %d %s", op.method, op.path, got, said)
			}
		}
	}
	if got, said := w.call("GET", "/me", "", nil, "Cookie", with); got != 200 {
		t.Errorf("reading with the cookie: %d %s", got, said)
	}
}

// TestProxyIsBelievedWhenNamed: with the proxy in the settings its word is taken.
func TestProxyIsBelievedWhenNamed(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, func(w *world) { w.env = append(w.env, "MAGPIE_PROXIES=127.0.0.0/8") })
	req, _ := http.NewRequest("POST", w.url+"/api/v1/session", strings.NewReader(`{"user":"admin","password":"`+w.firstPassword()+`"}`))
	for k, v := range map[string]string{"Content-Type": "application/json", "Origin": "https://magpie.example", "X-Forwarded-Host": "magpie.example", "X-Forwarded-Proto": "https", "X-Forwarded-For": "192.0.2.77"} {
		req.Header.Set(k, v)
	}
	res, err := http.DefaultTransport.RoundTrip(req)
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	if c := res.Cookies(); res.StatusCode != 200 || len(c) == 0 || !c[0].Secure {
		t.Errorf("%d %+v", res.StatusCode, c)
	}
	if d := must(w.admin.Audit(ctx(t), client.AuditFilter{}, 0, 1))(t).Items[0]; !strings.Contains(d.Detail, "192.0.2.77") {
		t.Errorf("the audit log has %q", d.Detail)
	}
	// Another's word is not: without the setting, the peer's own address counts.
	other := newWorld(t, 1)
	if _, said := other.call("POST", "/login", "", []byte(`{"user":"x","password":"y"}`), "X-Forwarded-For", "192.0.2.77"); !strings.Contains(said, "not signed in") {
		t.Error(said)
	}
	if d := must(other.admin.Audit(ctx(t), client.AuditFilter{}, 0, 1))(t).Items[0]; d.Action != "sign-in refused" || !strings.Contains(d.Detail, "127.0.0.1") || d.Actor != "nobody" {
		t.Errorf("the audit log has %+v", d)
	}
	if code := failsToStart(t, []string{"MAGPIE_PROXIES=example", "MAGPIE_DATABASE=" + w.dsn}, "--data", t.TempDir()); !strings.Contains(code, "neither an address nor a network") {
		t.Errorf("a proxy that is none: %s", code)
	}
}

// TestInputsAreBounded: every body and parameter that is described, filled with
// what nobody means: each is refused with a reason, nothing breaks down, and
// nothing of it is kept.
func TestInputsAreBounded(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	long, control := strings.Repeat("x", 5000), "a\x1b[2Jb"
	bad := func(op operation, what string, got int, said string) {
		t.Helper()
		if got < 400 || got >= 500 || len(said) > 20_000 || strings.Contains(said, "\x1b") {
			t.Errorf("%s %s, %s: %d %.200q", op.method, op.path, what, got, said)
		}
	}
	bodies := 0
	for _, op := range w.operations() {
		match := []string{"If-Match", `"1"`, "Origin", w.url}
		path := nowhere(op.path)
		for _, p := range append(slices.Clone(op.Parameters), op.item.Parameters...) {
			if p.Value.In != "query" {
				continue
			}
			for what, v := range map[string]string{"a control character": control, "a NUL": "a\x00b"} {
				got, said := w.call(op.method, strings.Split(path, "?")[0]+"?"+url.Values{p.Value.Name: {v}}.Encode(), w.admin.Token, nil)
				bad(op, what+" in "+p.Value.Name, got, said)
			}
			if p.Value.Name != "selector" && strings.Contains(fmt.Sprint(p.Value.Schema.Value.Type.Slice()), "integer") {
				for _, v := range []string{"-1", "1e9", "99999999999999999999", "x"} {
					if got, said := w.call(op.method, strings.Split(path, "?")[0]+"?"+url.Values{p.Value.Name: {v}}.Encode(), w.admin.Token, nil); got >= 500 {
						t.Errorf("%s %s with %s=%s: %d %s", op.method, op.path, p.Value.Name, v, got, said)
					}
				}
			}
		}
		if strings.Contains(op.path, "{") {
			got, said := w.call(op.method, strings.NewReplacer("{name}", "a%1bb", "{id}", "a%00b").Replace(op.path), w.admin.Token, nil)
			bad(op, "a control character in the path", got, said)
		}
		if op.RequestBody == nil || op.RequestBody.Value.Content["application/json"] == nil {
			continue
		}
		bodies++
		for what, body := range map[string]string{
			"no JSON": "{", "another type": `[]`, "two values": `{} {}`, "an unknown field": `{"no-such-field": 1}`, "nothing at all": "",
			"lists in lists": strings.Repeat("[", 100_000), "objects in objects": strings.Repeat(`{"a":`, 100_000),
		} {
			got, said := w.call(op.method, path, w.admin.Token, []byte(body), match...)
			bad(op, what, got, said)
		}
		size := 5 << 20
		if op.path == "/imports" { // texts of the largest size, in base64
			size = 25 << 20
		}
		got, said := w.call(op.method, path, w.admin.Token, bytes.Repeat([]byte(" "), size), match...)
		if got != 413 {
			t.Errorf("%s %s with 5 MiB: %d %s", op.method, op.path, got, said)
		}
		for name, prop := range op.RequestBody.Value.Content["application/json"].Schema.Value.Properties {
			kind := prop.Value.Type
			for what, v := range map[string]any{"too long": long, "a control character": control, "a NUL": "a\x00b", "too many": slices.Repeat([]any{"x"}, 6000), "a number": 1e300, "an object": map[string]any{"a": 1}} {
				if kind.Is("string") && what == "too long" && slices.Contains([]string{"text", "content", "source", "key", "password", "privileged_secret", "passphrase", "factory_password", "agent", "host_key"}, name) {
					continue
				}
				if what == "a control character" && slices.Contains([]string{"text", "source", "note", "override", "key", "password", "privileged_secret", "passphrase", "factory_password", "agent", "host_key"}, name) {
					continue
				}
				raw, _ := json.Marshal(map[string]any{name: v})
				got, said := w.call(op.method, path, w.admin.Token, raw, match...)
				bad(op, what+" as "+name, got, said)
			}
		}
	}
	if bodies < 15 {
		t.Errorf("only %d bodies were tried", bodies)
	}
	// Dialect files have bounds of their own.
	for name, bomb := range map[string]string{"aliases": "a: &a [x,x]\nb: &b [*a,*a]\nc: [*b,*b]\n", "size": strings.Repeat("# x\n", 40_000), "lists": strings.Repeat("[\n", 30_000)} {
		got, said := w.call("POST", "/dialect-check", w.admin.Token, []byte(bomb), "Content-Type", "application/yaml")
		if got != 200 || !strings.Contains(said, `"line"`) {
			t.Errorf("%s: %d %.200s", name, got, said)
		}
	}
	if users := must(w.admin.Users(ctx(t)))(t); len(users) != 1 {
		t.Errorf("users were kept: %+v", users)
	}
	if strings.Contains(w.proc.said(), "broke down") || strings.Contains(w.proc.said(), "request failed") {
		t.Errorf("the service says\n%s", w.proc.said())
	}
}
