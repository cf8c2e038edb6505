package e2e

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"

	"magpie/client"
	"magpie/internal/port"
)

// provider is an OpenID Connect provider that signs whoever comes in as the person it is told
// of, and holds the service to the code flow: its secret, PKCE, a code once.
type provider struct {
	*httptest.Server
	key *rsa.PrivateKey

	mu     sync.Mutex
	person map[string]any        // the claims
	codes  map[string]url.Values // what each code was asked with
	lie    map[string]any        // claims of the token that are others than they should be
	denies bool
}

const (
	providerSecret = "the service's word at the provider"
	providerClient = "steady-magpie"
)

func newProvider(t testing.TB) *provider {
	t.Helper()
	p := &provider{key: must(rsa.GenerateKey(rand.Reader, 2048))(t), codes: map[string]url.Values{}}
	mux := http.NewServeMux()
	say := func(w http.ResponseWriter, v any) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(v)
	}
	mux.HandleFunc("GET /.well-known/openid-configuration", func(w http.ResponseWriter, r *http.Request) {
		say(w, map[string]any{"issuer": p.URL, "authorization_endpoint": p.URL + "/authorize", "token_endpoint": p.URL + "/token", "jwks_uri": p.URL + "/keys", "userinfo_endpoint": p.URL + "/userinfo",
			"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"}, "id_token_signing_alg_values_supported": []string{"RS256"}, "code_challenge_methods_supported": []string{"S256"}})
	})
	mux.HandleFunc("GET /keys", func(w http.ResponseWriter, r *http.Request) {
		say(w, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: p.key.Public(), KeyID: "one", Algorithm: "RS256", Use: "sig"}}})
	})
	mux.HandleFunc("GET /authorize", func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		q := r.URL.Query()
		if q.Get("client_id") != providerClient || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" || q.Get("code_challenge") == "" || q.Get("nonce") == "" || q.Get("state") == "" || !strings.Contains(q.Get("scope"), "openid") {
			http.Error(w, "not asked as the code flow with PKCE asks: "+r.URL.RawQuery, 400)
			return
		}
		back := url.Values{"state": {q.Get("state")}, "iss": {p.URL}, "session_state": {"of no meaning"}}
		if p.denies {
			back.Set("error", "access_denied")
			back.Set("error_description", "not today")
		} else {
			code := must(cryptoText())(t)
			p.codes[code] = q
			back.Set("code", code)
		}
		http.Redirect(w, r, q.Get("redirect_uri")+"?"+back.Encode(), http.StatusFound)
	})
	mux.HandleFunc("POST /token", func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		id, secret, _ := r.BasicAuth()
		id, _ = url.QueryUnescape(id)
		secret, _ = url.QueryUnescape(secret)
		asked := p.codes[r.FormValue("code")]
		delete(p.codes, r.FormValue("code"))
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if id != providerClient || secret != providerSecret || asked == nil || asked.Get("redirect_uri") != r.FormValue("redirect_uri") || base64.RawURLEncoding.EncodeToString(sum[:]) != asked.Get("code_challenge") {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(400)
			fmt.Fprint(w, `{"error":"invalid_grant"}`)
			return
		}
		claims := map[string]any{"iss": p.URL, "aud": providerClient, "sub": p.person["sub"], "nonce": asked.Get("nonce"), "iat": time.Now().Unix(), "exp": time.Now().Add(time.Minute).Unix()}
		for k, v := range p.lie {
			claims[k] = v
		}
		signer := must(jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: p.key, KeyID: "one"}}, nil))(t)
		say(w, map[string]any{"access_token": "for userinfo", "token_type": "Bearer", "expires_in": 60, "id_token": must(jwt.Signed(signer).Claims(claims).Serialize())(t)})
	})
	mux.HandleFunc("GET /userinfo", func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		say(w, p.person)
	})
	p.Server = httptest.NewServer(mux)
	t.Cleanup(p.Close)
	return p
}

func cryptoText() (string, error) {
	b := make([]byte, 12)
	_, err := rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b), err
}

// is says who comes next.
func (p *provider) is(sub, name string, groups ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.person, p.lie, p.denies = map[string]any{"sub": sub, "preferred_username": name, "groups": groups}, nil, false
}

// lies says what of the next tokens is not as it should be.
func (p *provider) lies(claims map[string]any) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.lie = claims
}

// signsOn goes through a sign-in as a browser does, and tells who is signed in afterwards, or
// what the sign-in page is to say.
func (w *world) signsOn(jar http.CookieJar, at string) (me client.Me, said client.Problem, landed string) {
	w.t.Helper()
	browser := &http.Client{Jar: jar}
	res := must(browser.Get(at))(w.t)
	res.Body.Close()
	landed = res.Request.URL.String()
	here := must(url.Parse(w.url))(w.t)
	for _, c := range jar.Cookies(here) {
		if c.Name == "magpie_said" {
			raw := must(base64.RawURLEncoding.DecodeString(c.Value))(w.t)
			_ = json.Unmarshal(raw, &said)
		}
	}
	res = must(browser.Get(w.url + "/api/v1/me"))(w.t)
	defer res.Body.Close()
	_ = json.NewDecoder(res.Body).Decode(&me)
	return me, said, landed
}

func newJar() http.CookieJar { jar, _ := cookiejar.New(nil); return jar }

// TestSignOn: a provider signs people in, as what it says they are; what it did not say, or
// said to another, lets nobody in.
func TestSignOn(t *testing.T) {
	t.Parallel()
	p := newProvider(t)
	dir := t.TempDir()
	secret, config := filepath.Join(dir, "secret"), filepath.Join(dir, "magpie.yaml")
	if err := os.WriteFile(secret, []byte(providerSecret+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	write := func(address string) {
		t.Helper()
		text := fmt.Sprintf("sign_on:\n  issuer: %s\n  client_id: %s\n  secret_file: %s\n  address: %s\n  label: Ferries\n  roles:\n    admin: [net-admins]\n    operator: [net-ops, harbour]\n", p.URL, providerClient, secret, address)
		if err := os.WriteFile(config, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	// The service's own address has to stand in its configuration: it is known once it runs.
	listen := fmt.Sprintf("127.0.0.1:%d", must(port.Free())(t))
	write("http://" + listen)
	w := newWorld(t, 1, func(w *world) { w.extra = []string{"--config", config, "--listen", listen} })
	if out, err, status := w.cli("serve", "--check", "--config", config, "--data", filepath.Join(dir, "none"), "--listen", "127.0.0.1:0"); status != 0 || !strings.Contains(out, "sign_on: "+p.URL+" answers") {
		t.Errorf("serve --check: %d %s%s", status, out, err)
	}
	begin := w.url + "/api/v1/sign-on/start?to=" + url.QueryEscape("/devices/"+r1)

	// Who is in a group becomes a user, as what the group gives.
	p.is("s-1", "mwilks", "net-ops", "choir")
	me, said, landed := w.signsOn(newJar(), begin)
	if me.User != "mwilks" || me.Role != "operator" || !me.Elsewhere || me.Secrets || landed != w.url+"/devices/"+r1 {
		t.Fatalf("%+v %+v %s", me, said, landed)
	}
	// The groups changed: so does the role, and the name is still the one it was.
	p.is("s-1", "mwilks-smith", "net-admins")
	jar := newJar()
	if me, _, _ = w.signsOn(jar, begin); me.User != "mwilks" || me.Role != "admin" {
		t.Errorf("another group: %+v", me)
	}
	// There is no password to be tried, and a token takes a sign-in of just now.
	if _, err := (&client.Client{URL: w.url}).Login(ctx(t), client.Login{User: "mwilks", Password: ""}); statusOf(err) != 401 && statusOf(err) != 400 {
		t.Errorf("an empty password: %v", err)
	}
	token := func() (int, string) {
		body := strings.NewReader(`{"name":"nightly report"}`)
		req := must(http.NewRequest("POST", w.url+"/api/v1/tokens", body))(t)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("X-CSRF-Token", me.CSRF)
		res := must((&http.Client{Jar: jar}).Do(req))(t)
		defer res.Body.Close()
		var made client.MadeToken
		_ = json.NewDecoder(res.Body).Decode(&made)
		return res.StatusCode, made.Token
	}
	status, word := token()
	if status != 201 {
		t.Errorf("a token after a sign-in: %d", status)
	}
	w.sql("UPDATE tokens SET made_at = made_at - INTERVAL 1 HOUR WHERE kind = 'session'")
	if status, _ := token(); status != 403 {
		t.Errorf("a token an hour after the sign-in: %d", status)
	}
	// The command line signs in by that token.
	file := filepath.Join(dir, "token")
	if err := os.WriteFile(file, []byte(word+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err, status := w.cli("login", w.url, "--token-file", file); status != 0 || !strings.Contains(out, "as mwilks (admin") {
		t.Errorf("login --token-file: %d %s%s", status, out, err)
	}

	// Who is not let in is told why, and what to do.
	w.addUser("okonkwo", "operator")
	p.is("s-2", "okonkwo", "net-admins")
	if me, said, _ = w.signsOn(newJar(), begin); me.User != "" || !strings.Contains(said.Detail, `"okonkwo" is here already`) || !strings.Contains(said.Next, "--subject s-2") {
		t.Errorf("a name that is another's: %+v %+v", me, said)
	}
	if _, err, status := w.cli("user", "edit", "okonkwo", "--subject", "s-2"); status != 0 {
		t.Fatal(err)
	}
	if me, said, _ = w.signsOn(newJar(), begin); me.User != "okonkwo" || me.Role != "admin" || me.Elsewhere {
		t.Errorf("an admin said that it is them: %+v %+v", me, said)
	}
	p.is("s-3", "passer-by", "choir")
	if me, said, _ = w.signsOn(newJar(), begin); me.User != "" || !strings.Contains(said.Next, "--subject s-3") {
		t.Errorf("in no group: %+v %+v", me, said)
	}
	p.is("s-1", "mwilks")
	if me, said, _ = w.signsOn(newJar(), begin); me.User != "" || !strings.Contains(said.Detail, "no role here any more") {
		t.Errorf("in no group any more: %+v %+v", me, said)
	}
	p.is("s-2", "okonkwo", "net-ops")
	yes := true
	must(w.admin.EditUser(ctx(t), "okonkwo", client.NewUser{Disabled: &yes}))(t)
	if me, said, _ = w.signsOn(newJar(), begin); me.User != "" || !strings.Contains(said.Detail, "not sign in any more") {
		t.Errorf("disabled: %+v %+v", me, said)
	}

	// Tokens that are not for this sign-in, this service, this moment or by this key.
	for what, lie := range map[string]map[string]any{"nonce": {"nonce": "another"}, "audience": {"aud": "another"}, "issuer": {"iss": "https://signin.example"}, "ended": {"exp": time.Now().Add(-time.Hour).Unix()}, "subject": {"sub": "s-9"}} {
		p.is("s-1", "mwilks", "net-admins")
		p.lies(lie)
		if me, said, _ = w.signsOn(newJar(), begin); me.User != "" || said.Title == "" {
			t.Errorf("%s: %+v %+v", what, me, said)
		}
	}
	p.is("s-1", "mwilks", "net-admins")
	ours := p.key
	p.key = must(rsa.GenerateKey(rand.Reader, 2048))(t)
	if me, said, _ = w.signsOn(newJar(), begin); me.User != "mwilks" { // its keys were changed: they are asked for again
		t.Errorf("new keys: %+v %+v", me, said)
	}
	p.key = ours
	// An answer that this browser did not ask for, one that says no, and one that comes twice.
	if me, said, _ = w.signsOn(newJar(), w.url+"/api/v1/sign-on/back?code=x&state=y"); me.User != "" || said.Title != "not begun here" {
		t.Errorf("another browser's answer: %+v %+v", me, said)
	}
	p.mu.Lock()
	p.denies = true
	p.mu.Unlock()
	if me, said, _ = w.signsOn(newJar(), begin); me.User != "" || !strings.Contains(said.Detail, "access_denied: not today") {
		t.Errorf("denied: %+v %+v", me, said)
	}
	// It comes back to no other's pages.
	for _, to := range []string{"https://elsewhere.example/", "//elsewhere.example/", `/\elsewhere.example`, "javascript:alert(1)"} {
		p.is("s-1", "mwilks", "net-admins")
		if _, _, landed = w.signsOn(newJar(), w.url+"/api/v1/sign-on/start?to="+url.QueryEscape(to)); landed != w.url+"/" {
			t.Errorf("%s: landed at %s", to, landed)
		}
	}

	// In the browser.
	b := newBrowser(t, w.url)
	b.allows("40")
	b.allows(p.URL)
	b.allows("net::") // the service is started anew at the end
	b.open("/jobs")
	b.click("Sign in with Ferries")
	b.see("mwilks")
	b.see("Jobs")
	p.is("s-3", "passer-by", "choir")
	other := newBrowser(t, w.url)
	other.allows("40")
	other.allows(p.URL)
	other.allows("net::")
	other.open("/")
	other.click("Sign in with Ferries")
	other.see("you may not use this service")
	other.see("--subject s-3")

	// The provider is away: passwords still are good, and it is said.
	p.CloseClientConnections()
	p.Close()
	w.kill()
	w.serve()
	if me, said, _ = w.signsOn(newJar(), w.url+"/api/v1/sign-on/start"); me.User != "" || !strings.Contains(said.Detail, "the provider of sign-ins, "+p.URL) {
		t.Errorf("away: %+v %+v", me, said)
	}
	w.as("admin", w.firstPassword())
	if said := w.proc.said(); strings.Contains(said, providerSecret) {
		t.Error("the log holds the secret")
	}
}
