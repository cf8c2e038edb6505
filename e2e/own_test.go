package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"magpie/client"
)

// TestOwnPassword: a password that was given to somebody is good for choosing another one and
// for nothing else; a change ends the other sessions and tokens, and what an admin changes of a
// user holds at once.
func TestOwnPassword(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	must(w.admin.AddUser(ctx(t), client.NewUser{Name: "mwilks", Role: "operator", Password: "given to you"}))(t)
	c, other := w.as("mwilks", "given to you"), w.as("mwilks", "given to you")
	if _, err := c.Devices(ctx(t), nil); statusOf(err) != 403 {
		t.Errorf("before: %v", err)
	}
	for _, p := range []client.NewPassword{{Old: "another", New: "a word of my own"}, {Old: "given to you", New: "short"}, {Old: "given to you", New: "given to you"}} {
		if _, err := c.SetOwnPassword(ctx(t), p); statusOf(err) != 400 {
			t.Errorf("%+v: %v", p, err)
		}
	}
	if me := must(c.SetOwnPassword(ctx(t), client.NewPassword{Old: "given to you", New: "a word of my own"}))(t); me.MustChange {
		t.Errorf("afterwards: %+v", me)
	}
	must(c.Devices(ctx(t), nil))(t)
	if _, err := other.Me(ctx(t)); statusOf(err) != 401 {
		t.Errorf("another token of theirs: %v", err)
	}
	// Less at once, and nothing at once: the token, the stream.
	watching := must(w.admin.EditUser(ctx(t), "mwilks", client.NewUser{Role: "reader"}))(t)
	if _, err := c.Pull(ctx(t), []string{r1}, "pull"); statusOf(err) != 403 || watching.Role != "reader" {
		t.Errorf("as a reader they pull: %v", err)
	}
	yes := true
	must(w.admin.EditUser(ctx(t), "mwilks", client.NewUser{Disabled: &yes}))(t)
	if _, err := c.Me(ctx(t)); statusOf(err) != 401 {
		t.Errorf("disabled: %v", err)
	}
	// An admin who sets another's password gives one; their own is their own.
	no := false
	must(w.admin.EditUser(ctx(t), "mwilks", client.NewUser{Disabled: &no, Password: "given once more"}))(t)
	if me := must(w.as("mwilks", "given once more").Me(ctx(t)))(t); !me.MustChange {
		t.Error("a password that an admin set is not to be changed")
	}
	// In the browser.
	b := newBrowser(t, w.url)
	b.allows("40")
	b.open("/")
	b.fill(`input[name=user]`, "mwilks")
	b.fill(`input[name=password]`, "given once more")
	b.click("Sign in")
	b.see("Choose one of your own, mwilks")
	b.fill(`input[name=old]`, "given once more")
	b.fill(`input[name=new]`, "short")
	b.fill(`input[name=again]`, "short")
	b.click("Choose it")
	b.see("it takes at least 10")
	b.fill(`input[name=new]`, "a word of my own")
	b.fill(`input[name=again]`, "a word of my own")
	b.click("Choose it")
	b.see("1 device")
}

// TestOneTimeCodes: sign-ins of who asked for it take a code, each good once, or a recovery
// code; who has neither is kept out, until an admin helps.
func TestOneTimeCodes(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	c := w.addUser("okonkwo", "operator")
	login := func(code string) error {
		_, err := (&client.Client{URL: w.url}).Login(ctx(t), client.Login{User: "okonkwo", Password: "words for okonkwo", Code: code})
		return err
	}
	code := func(secret string, steps int) string {
		t.Helper()
		return must(totp.GenerateCode(secret, time.Now().Add(time.Duration(steps)*30*time.Second)))(t)
	}
	made := must(c.MakeCodes(ctx(t)))(t)
	if !strings.HasPrefix(made.URL, "otpauth://totp/") || login("") != nil {
		t.Errorf("a secret that no code was sent back of counts: %+v", made)
	}
	if _, err := c.UseCodes(ctx(t), "000000"); statusOf(err) != 400 {
		t.Errorf("a wrong code: %v", err)
	}
	recovery := must(c.UseCodes(ctx(t), code(made.Secret, -1)))(t).Codes
	if len(recovery) != 10 {
		t.Fatalf("%d recovery codes", len(recovery))
	}
	for what, wrong := range map[string]string{"none": "", "one that was used": code(made.Secret, -1), "a wrong one": "123"} {
		if err := login(wrong); statusOf(err) != 401 || !strings.Contains(err.Error(), "code") {
			t.Errorf("%s: %v", what, err)
		}
	}
	eventually(t, "the code of now is taken", func() bool { return login(code(made.Secret, 0)) == nil })
	eventually(t, "but not twice", func() bool { return statusOf(login(code(made.Secret, 0))) == 401 })
	eventually(t, "a recovery code is", func() bool { return login(recovery[3]) == nil })
	if me := must(c.Me(ctx(t)))(t); me.Recovery != 9 || !me.Codes {
		t.Errorf("%+v", me)
	}
	eventually(t, "which is not good twice", func() bool { return statusOf(login(recovery[3])) == 401 })
	must(w.admin.EditUser(ctx(t), "okonkwo", client.NewUser{NoCodes: true}))(t)
	eventually(t, "an admin helps", func() bool { return login("") == nil })
	// The secret and the codes stand nowhere in the clear.
	said := w.proc.said()
	for _, word := range append(recovery, made.Secret) {
		if strings.Contains(said, word) {
			t.Errorf("the service's log holds %s", word)
		}
	}
}

// TestTokenForLess: a token is for no more than its maker may, ends when it is said, and takes
// the maker's password.
func TestTokenForLess(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	op := w.addUser("okonkwo", "operator")
	for _, n := range []client.NewToken{{Name: "x", Password: "not mine"}, {Name: "", Password: "words for okonkwo"}, {Name: "x", Role: "admin", Password: "words for okonkwo"}, {Name: "x", Role: "king", Password: "words for okonkwo"}, {Name: "x", Days: 9999, Password: "words for okonkwo"}} {
		if _, err := op.AddToken(ctx(t), n); statusOf(err) != 400 {
			t.Errorf("%+v: %v", n, err)
		}
	}
	made := must(w.admin.AddToken(ctx(t), client.NewToken{Name: "report", Role: "reader", Masked: true, Days: 3, Password: w.firstPassword()}))(t)
	if in := time.Until(made.Expires); in < 71*time.Hour || in > 73*time.Hour {
		t.Errorf("it ends in %s", in)
	}
	c := &client.Client{URL: w.url, Token: made.Token}
	if me := must(c.Me(ctx(t)))(t); me.User != "admin" || me.Role != "reader" || me.Secrets {
		t.Errorf("by it one is %+v", me)
	}
	if v := must(c.Text(ctx(t), r1+"@1"))(t); !strings.Contains(v.Text, "‹secret") {
		t.Error("it sees secrets")
	}
	if _, err := c.AddToken(ctx(t), client.NewToken{Name: "more", Role: "admin", Password: w.firstPassword()}); statusOf(err) != 400 {
		t.Errorf("by a token for less one makes a token for more: %v", err)
	}
	if _, err := c.MakeCodes(ctx(t)); statusOf(err) != 403 {
		t.Errorf("a token for a program changes how its maker signs in: %v", err)
	}
	out, _, status := w.cli("token", "list")
	if status != 0 || !strings.Contains(out, "report") || !strings.Contains(out, "reader") {
		t.Errorf("exit %d: %s", status, out)
	}
}
