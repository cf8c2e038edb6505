package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/pem"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"

	"filippo.io/age"
	"github.com/chromedp/chromedp"
	"golang.org/x/net/webdav"

	"magpie/client"
	"magpie/internal/seal"
)

// davServer serves a folder by WebDAV to one user; while away it answers nobody.
type davServer struct {
	url, ca, dir string
	away         atomic.Bool
	refuses      atomic.Value // part of the name of files that it does not take
}

func newDav(t *testing.T) *davServer {
	t.Helper()
	d := &davServer{dir: t.TempDir()}
	h := &webdav.Handler{FileSystem: webdav.Dir(d.dir), LockSystem: webdav.NewMemLS()}
	s := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, word, _ := r.BasicAuth(); user != "keeper" || word != "quay" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		if d.away.Load() {
			panic(http.ErrAbortHandler)
		}
		if part, _ := d.refuses.Load().(string); part != "" && r.Method == http.MethodPut && strings.Contains(r.URL.Path, part) {
			w.WriteHeader(http.StatusInsufficientStorage)
			return
		}
		h.ServeHTTP(w, r)
	}))
	s.Config.ErrorLog = nil
	t.Cleanup(s.Close)
	d.url, d.ca = s.URL, filepath.Join(t.TempDir(), "ca.pem")
	if err := os.WriteFile(d.ca, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw}), 0o600); err != nil {
		t.Fatal(err)
	}
	return d
}

// inStep waits until a target has everything.
func (w *world) inStep(target string) client.Target {
	w.t.Helper()
	var last client.Target
	eventually(w.t, "target "+target+" to be in step", func() bool {
		last = must(w.admin.Target(ctx(w.t), target))(w.t)
		if last.NextAt != nil { // nobody waits for it
			must(w.admin.RetryTarget(ctx(w.t), target, false))(w.t)
		}
		return last.State == "in step"
	})
	return last
}

// TestCopies: versions are copied to every target, sealed so that they are read without the
// service, masked into a repository; what is deleted leaves; a target that is away catches up.
func TestCopies(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	dav, vault, repo := newDav(t), t.TempDir(), filepath.Join(t.TempDir(), "copies.git")
	if out, err := exec.Command("git", "init", "-q", "--bare", "-b", "main", repo).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	other := must(age.GenerateX25519Identity())(t)
	password := filepath.Join(t.TempDir(), "password")
	if err := os.WriteFile(password, []byte("quay\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.pull(r1)
	run := func(status int, args ...string) string {
		t.Helper()
		out, said, got := w.cli(args...)
		if got != status {
			t.Errorf("magpie %s: status %d\n%s%s", strings.Join(args, " "), got, out, said)
		}
		return out + said
	}
	if out := run(0, "target", "list"); !strings.Contains(out, "on this service's disk only") {
		t.Errorf("%s", out)
	}
	for _, bad := range [][]string{{"vault", "folder", "/nowhere/at/all"}, {"vault", "tape", "/x"}, {"dav", "http", dav.url, "--ca-file", dav.ca}, {"dav", "http", dav.url, "--user", "keeper", "--password-file", password},
		{"vault", "folder", vault, "--recipient", "age1nobody"}, {"two words", "folder", vault}, {"repo", "git", repo, "--recipient", other.Recipient().String()}} {
		run(2, append([]string{"target", "add"}, bad...)...)
	}
	run(0, "target", "add", "vault", "folder", vault, "--recipient", other.Recipient().String(), "--note", "the disk in the harbour office")
	run(0, "target", "add", "dav", "http", dav.url, "--user", "keeper", "--password-file", password, "--ca-file", dav.ca)
	run(0, "target", "add", "repo", "git", repo)
	if out := run(2, "target", "add", "again", "folder", vault); !strings.Contains(out, "another target's files are there") {
		t.Errorf("%s", out)
	}
	w.inStep("vault")
	if out := run(2, "target", "add", "again", "folder", vault+"/../"+filepath.Base(vault)); !strings.Contains(out, "another target's files are there") {
		t.Errorf("%s", out)
	}
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "on the quay"`)
	run(0, "pull", r1, "--name", "after-the-storm", "--note", "the mast was replaced")
	for _, target := range []string{"vault", "dav", "repo"} {
		w.inStep(target)
	}
	v := w.versions(r1)[0]
	if v.Copies != 3 || v.Serial == "" || v.Release == "" {
		t.Errorf("%+v", v)
	}
	if out := run(0, "target", "copies", r1); strings.Count(out, "there") != 3 {
		t.Errorf("%s", out)
	}
	text := w.show(v.Ref)

	// Without the service: the master key's identity opens the key of the copies, and that a copy;
	// so does the other recipient's.
	master := strings.TrimSpace(run(0, "key", "identity", "--data", filepath.Join(w.dir, "data")))
	words := filepath.Join(t.TempDir(), "words")
	m := must(seal.ReadMaster(filepath.Join(w.dir, "data", "master.key")))(t)
	if err := os.WriteFile(words, []byte(strings.Join(m.Words(), " ")), 0o600); err != nil {
		t.Fatal(err)
	}
	if again := strings.TrimSpace(run(0, "key", "identity", "--words-file", words)); again != master {
		t.Errorf("the words say %q", again)
	}
	if _, err := exec.LookPath("age"); err != nil {
		t.Fatal("age is missing; run: make needs-test")
	}
	opened := func(identity, file string) string {
		t.Helper()
		id := filepath.Join(t.TempDir(), "id")
		if err := os.WriteFile(id, []byte(identity+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command("age", "--decrypt", "-i", id, file).Output()
		if bad := new(exec.ExitError); errors.As(err, &bad) {
			t.Errorf("%s does not open: %s", file, bad.Stderr)
		}
		return string(out)
	}
	for _, dir := range []string{vault, dav.dir} {
		files, _ := filepath.Glob(filepath.Join(dir, r1, r1+"_running_*_v2.cfg.age"))
		if len(files) != 1 {
			t.Fatalf("%s: %v", dir, files)
		}
		if raw, _ := os.ReadFile(files[0]); bytes.Contains(raw, []byte("lane")) {
			t.Errorf("%s can be read", files[0])
		}
		copies := strings.TrimSpace(opened(master, filepath.Join(dir, "magpie-key.age")))
		if got := opened(copies, files[0]); got != text {
			t.Errorf("%s holds %d bytes, not the %d of the version", files[0], len(got), len(text))
		}
		if dir == vault && opened(other.String(), files[0]) != text {
			t.Error("the other recipient reads another text")
		}
		if raw, _ := os.ReadFile(filepath.Join(dir, "README.txt")); !bytes.Contains(raw, []byte("magpie key identity --words")) {
			t.Errorf("%s", raw)
		}
	}
	git := func(args ...string) string {
		t.Helper()
		out, err := exec.Command("git", append([]string{"-C", repo}, args...)...).CombinedOutput()
		if err != nil {
			t.Errorf("git %v: %v\n%s", args, err, out)
		}
		return string(out)
	}
	if out := git("log", "-1", "--format=%an%n%B", "--", r1+"/running.cfg"); !strings.HasPrefix(out, "mwilks\n"+r1+"@2 (after-the-storm): by hand\n\nthe mast was replaced\n") {
		t.Errorf("%s", out)
	}
	if out := git("show", "main:"+r1+"/running.cfg"); !strings.Contains(out, "on the quay") || !strings.Contains(out, "‹secret ") {
		t.Errorf("%s", out)
	}

	// A target that is away for a day: what comes about meanwhile waits, and is told of.
	dav.away.Store(true)
	w.fleet.amend(r1, "okonkwo", "lane quay1", `note "while it was away"`)
	w.pull(r1)
	eventually(t, "the target to fail", func() bool { return must(w.admin.Target(ctx(t), "dav"))(t).State == "failing" })
	w.inStep("vault")
	if out := run(0, "target", "show", "dav"); !strings.Contains(out, "failing since") || !strings.Contains(out, "waiting") {
		t.Errorf("%s", out)
	}
	if out := run(0, "status"); !strings.Contains(out, "dav") {
		t.Errorf("nobody is told of a target that fails:\n%s", out)
	}
	w.sql("UPDATE targets SET failing_at = failing_at - INTERVAL 1 DAY, next_at = NOW(6) + INTERVAL 15 MINUTE WHERE name = 'dav'")
	w.kill()
	w.serve()
	if got := must(w.admin.Target(ctx(t), "dav"))(t); got.State != "failing" || got.Waiting == 0 {
		t.Errorf("%+v", got)
	}
	dav.away.Store(false)
	w.inStep("dav")
	if got := w.versions(r1)[0].Copies; got != 3 {
		t.Errorf("%d copies", got)
	}

	// What retention deletes here leaves there, but not what is kept.
	run(0, "retention", "set", "everything-else", "--newest", "1", "--by-hand", "1", "--daily", "0", "--weekly", "0", "--monthly", "0")
	run(0, "retention", "run")
	gone := func(dir string) bool {
		files, _ := filepath.Glob(filepath.Join(dir, r1, r1+"_running_*_v1.cfg.age"))
		return len(files) == 0
	}
	eventually(t, "the first version to leave", func() bool { return gone(vault) && gone(dav.dir) })
	if out := git("log", "--format=%s", "--", r1+"/running.cfg"); !strings.Contains(out, r1+"@1: ") {
		t.Errorf("a commit left: %s", out)
	}

	// A place that is not what it was is not written to.
	if err := os.Rename(filepath.Join(vault, "magpie-target.json"), filepath.Join(vault, "elsewhere")); err != nil {
		t.Fatal(err)
	}
	w.fleet.amend(r1, "okonkwo", "lane quay1", `note "no disk"`)
	w.pull(r1)
	eventually(t, "the vault to fail", func() bool {
		return strings.Contains(must(w.admin.Target(ctx(t), "vault"))(t).Trouble, "is it the place that it was")
	})
	run(0, "target", "retry", "vault", "--again")
	w.inStep("vault")

	run(0, "target", "edit", "dav", "--paused")
	if got := must(w.admin.Target(ctx(t), "dav"))(t); got.State != "paused" {
		t.Errorf("%+v", got)
	}
	run(0, "target", "remove", "dav", "--yes")
	if files, _ := filepath.Glob(filepath.Join(dav.dir, r1, "*.age")); len(files) == 0 {
		t.Error("what was there is gone")
	}
	if got := w.versions(r1)[0].Copies; got != 2 {
		t.Errorf("%d copies", got)
	}
	if got := w.addUser("lookout", "reader"); len(must(got.Targets(ctx(t)))(t)) != 2 {
		t.Error("a reader does not see the targets")
	} else if _, err := got.AddTarget(ctx(t), client.NewTarget{Name: "x", Kind: "folder", Where: t.TempDir()}); !client.IsStatus(err, 403) {
		t.Errorf("a reader adds a target: %v", err)
	}
}

// TestLostCopies: copies that were deleted, spoilt or swapped at a target are found by a check, told, and made anew;
// a target whose folder is gone is no longer in step.
func TestLostCopies(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	vault := filepath.Join(t.TempDir(), "vault")
	if err := os.Mkdir(vault, 0o700); err != nil {
		t.Fatal(err)
	}
	for _, d := range must(w.admin.Devices(ctx(t), []string{"kind=router"}))(t) {
		w.pull(d.Name)
	}
	check := func(status int, says string, args ...string) {
		t.Helper()
		out, said, got := w.cli(append([]string{"target", "check"}, args...)...)
		if got != status || !strings.Contains(out+said, says) {
			t.Errorf("%v: status %d\n%s%s", args, got, out, said)
		}
	}
	if _, said, status := w.cli("target", "add", "vault", "folder", vault); status != 0 {
		t.Fatal(said)
	}
	w.inStep("vault")
	check(0, "4 copies looked at, all there")
	check(0, "all there", "vault")
	check(2, "vault", "valt")
	files, _ := filepath.Glob(filepath.Join(vault, "*", "*.age"))
	if len(files) != 4 {
		t.Fatalf("%v", files)
	}
	sound := must(os.ReadFile(files[2]))(t)
	for _, err := range []error{os.Remove(files[0]), os.WriteFile(files[1], nil, 0o600), os.WriteFile(files[2], append(sound[:len(sound)-3:len(sound)-3], "xyz"...), 0o600)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	check(1, "4 copies looked at, 3 were not there as they were put: they are copied anew")
	w.inStep("vault")
	check(0, "4 copies looked at, all there")
	if raw := must(os.ReadFile(files[0]))(t); len(raw) < 100 {
		t.Errorf("%q", raw)
	}
	if err := os.RemoveAll(vault); err != nil {
		t.Fatal(err)
	}
	check(1, "vault")
	if last := must(w.admin.Target(ctx(t), "vault"))(t); last.State != "failing" || last.Trouble == "" {
		t.Errorf("its folder is gone: %+v", last)
	}
}

// TestReadableCopies: a target keeps readable files where somebody chose so: masked, or plain for who may see secrets
// and was warned; what runs lies there under its part's name, after each pull. A check looks at both, and a damaged
// text is mended by a plain copy, never by a masked one.
func TestReadableCopies(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	dav, base := newDav(t), t.TempDir()
	masked, password := filepath.Join(base, "masked"), filepath.Join(base, "password")
	if err := errors.Join(os.Mkdir(masked, 0o700), os.WriteFile(password, []byte("quay\n"), 0o600)); err != nil {
		t.Fatal(err)
	}
	run := func(status int, says string, args ...string) {
		t.Helper()
		if out, said, got := w.cli(args...); got != status || !strings.Contains(out+said, says) {
			t.Errorf("magpie %s: status %d\n%s%s", strings.Join(args, " "), got, out, said)
		}
	}
	site := []string{dav.url, "--user", "keeper", "--password-file", password, "--ca-file", dav.ca}
	run(2, "Whoever reads", append([]string{"target", "add", "plain", "http"}, append(site, "--files", "plain")...)...)
	run(2, "sealed, masked, plain", "target", "add", "masked", "folder", masked, "--files", "open")
	run(2, "holds masked text", "target", "add", "repo", "git", masked, "--files", "plain", "--yes")
	key := must(age.GenerateX25519Identity())(t)
	run(2, "sealed to nobody", "target", "add", "masked", "folder", masked, "--files", "masked", "--recipient", key.Recipient().String())
	run(0, "readable, secrets hidden", "target", "add", "masked", "folder", masked, "--files", "masked")
	run(0, "readable, with the secrets", append([]string{"target", "add", "plain", "http"}, append(site, "--files", "plain", "--yes")...)...)
	for _, hidden := range []bool{true, false} {
		token := must(w.admin.AddToken(ctx(t), client.NewToken{Name: fmt.Sprint(hidden), Masked: hidden, Password: w.firstPassword()}))(t)
		by := *w.admin
		by.Token = token.Token
		_, err := by.EditTarget(ctx(t), "plain", client.NewTarget{Name: "plain", Kind: "http", Where: dav.url, User: "keeper", CA: string(must(os.ReadFile(dav.ca))(t)), Files: "plain", Keep: true})
		if !hidden && err != nil || hidden && !client.IsStatus(err, 403) {
			t.Errorf("who sees no secrets: %v, %v", hidden, err)
		}
	}
	if _, err := w.admin.EditTarget(ctx(t), "masked", client.NewTarget{Name: "masked", Kind: "folder", Where: masked, Files: "plain"}); err == nil || !strings.Contains(err.Error(), "cannot be changed") {
		t.Errorf("masked files become plain: %v", err)
	}

	for round := range 3 {
		if round > 0 {
			w.fleet.amend(r1, "mwilks", "lane quay1", fmt.Sprintf(`note "round %d"`, round))
			w.pull(r1)
		}
		w.inStep("masked")
		w.inStep("plain")
		want := must(w.admin.Download(ctx(t), r1))(t)
		if got := must(os.ReadFile(filepath.Join(dav.dir, r1, "running.cfg")))(t); string(got) != want {
			t.Errorf("round %d: what runs is not there:\n%s", round, got)
		}
		hidden := must(os.ReadFile(filepath.Join(masked, r1, "running.cfg")))(t)
		if lines := bytes.Count(hidden, []byte("\n")); lines != strings.Count(want, "\n") || bytes.Contains(hidden, []byte("demo-gulls")) || !strings.Contains(want, "demo-gulls") {
			t.Errorf("round %d: masked, it has %d lines:\n%s", round, lines, hidden)
		}
	}
	for _, dir := range []string{masked, dav.dir} {
		if files, _ := filepath.Glob(filepath.Join(dir, r1, r1+"_running_*_v?.cfg")); len(files) != 3 {
			t.Errorf("the versions are %v", files)
		}
		if _, err := os.Stat(filepath.Join(dir, "magpie-key.age")); err == nil {
			t.Errorf("%s has the copies' key and nothing that it opens", dir)
		}
	}

	run(0, "all there", "target", "check")
	current := filepath.Join(masked, r1, "running.cfg")
	spoilt, _ := filepath.Glob(filepath.Join(dav.dir, r1, r1+"_running_*_v1.cfg"))
	text := must(os.ReadFile(spoilt[0]))(t)
	text[len(text)/2] ^= 1
	if err := errors.Join(os.Remove(current), os.WriteFile(spoilt[0], text, 0o600)); err != nil {
		t.Fatal(err)
	}
	run(1, "2 were not there as they were put", "target", "check")
	w.inStep("masked")
	w.inStep("plain")
	run(0, "all there", "target", "check")
	if _, err := os.Stat(current); err != nil {
		t.Error(err)
	}

	whole := must(w.admin.Download(ctx(t), r1+"@2"))(t)
	w.sql(flipped(2))
	scrub := w.end(must(w.admin.Ask(ctx(t), client.NewJob{Kind: "scrub"}, ""))(t).ID)
	if scrub.Outcome != "done" || must(w.admin.Download(ctx(t), r1+"@2"))(t) != whole {
		t.Errorf("%s: %s", scrub.Outcome, scrub.Summary)
	}
	if err := w.admin.RemoveTarget(ctx(t), "plain"); err != nil {
		t.Fatal(err)
	}
	w.sql(flipped(2))
	if scrub = w.end(must(w.admin.Ask(ctx(t), client.NewJob{Kind: "scrub"}, ""))(t).ID); scrub.Outcome != "failed" {
		t.Errorf("by a masked copy: %s: %s", scrub.Outcome, scrub.Summary)
	}
}

// TestOneFileIsNotTaken: a file that a target does not take stands in nobody's way: what comes behind it
// is copied, the target says which file it is, and has it once it takes it.
func TestOneFileIsNotTaken(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	dav := newDav(t)
	password := filepath.Join(t.TempDir(), "password")
	if err := os.WriteFile(password, []byte("quay\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.pull(r1) // its versions are the first in line
	dav.refuses.Store(r1)
	if out, said, status := w.cli("target", "add", "dav", "http", dav.url, "--user", "keeper", "--password-file", password, "--ca-file", dav.ca); status != 0 {
		t.Fatalf("%s%s", out, said)
	}
	for _, d := range must(w.admin.Devices(ctx(t), []string{"kind=router"}))(t) {
		w.pull(d.Name)
	}
	var last client.Target
	eventually(t, "the others to be there", func() bool {
		last = must(w.admin.Target(ctx(t), "dav"))(t)
		must(w.admin.RetryTarget(ctx(t), "dav", false))(t)
		return last.There >= 4 && last.State == "failing"
	})
	if last.Waiting != 2 || !strings.Contains(last.Trouble, r1+"/") || !strings.Contains(last.Trouble, "507") {
		t.Errorf("%+v", last)
	}
	dav.refuses.Store("")
	if last := w.inStep("dav"); last.Waiting != 0 || last.Trouble != "" {
		t.Errorf("%+v", last)
	}
}

// TestMended: a bit that flips in any text is found, named, and mended by a copy; without a copy
// it is said, and kept out of pushes.
func TestMended(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	vault := t.TempDir()
	w.pull(r1)
	texts := []string{w.show(r1 + "@1")}
	for i := range 4 {
		w.fleet.amend(r1, "mwilks", "lane quay1", fmt.Sprintf(`note "tide %d"`, i))
		w.pull(r1)
		texts = append(texts, w.show(fmt.Sprintf("%s@%d", r1, i+2)))
	}
	must(w.admin.AddTarget(ctx(t), client.NewTarget{Name: "vault", Kind: "folder", Where: vault}))(t)
	w.inStep("vault")
	scrub := func() client.Job {
		t.Helper()
		return w.end(must(w.admin.Ask(ctx(t), client.NewJob{Kind: "scrub"}, ""))(t).ID)
	}
	w.sql(flipped(1, 2, 4)) // others build on these
	if j := scrub(); j.Outcome != "done" || !strings.Contains(j.Summary, "mended by copies elsewhere") {
		t.Fatalf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	for i, want := range texts {
		if got := w.show(fmt.Sprintf("%s@%d", r1, i+1)); got != want {
			t.Errorf("version %d reads back as another text", i+1)
		}
	}
	// Who wants to read or push one just then does not have to wait for a scrub.
	w.sql(flipped(2, 3, 4))
	if got := w.show(r1 + "@3"); got != texts[2] {
		t.Error("version 3 reads back as another text")
	}
	if got := must(w.admin.Download(ctx(t), r1+"@2"))(t); got != texts[1] {
		t.Error("version 2 reads back as another text")
	}
	w.preview(client.NewPreview{Ref: r1 + "@4"})
	if j := scrub(); j.Outcome != "done" || strings.Contains(j.Summary, "mended") {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	// The copy is damaged, too: then it is said.
	w.sql(flipped(2))
	files, _ := filepath.Glob(filepath.Join(vault, r1, r1+"_running_*_v2.cfg.age"))
	raw := must(os.ReadFile(files[0]))(t)
	raw[len(raw)-3] ^= 1
	if err := os.WriteFile(files[0], raw, 0o600); err != nil {
		t.Fatal(err)
	}
	j := scrub()
	if said := w.logText(j.ID); j.Outcome != "failed" || !strings.Contains(said, "its copies do not help") || !strings.Contains(said, r1+"@2") {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, said)
	}
	if j := w.end(must(w.admin.NewPreview(ctx(t), client.NewPreview{Ref: r1 + "@2"}))(t).ID); j.Outcome == "done" || !strings.Contains(j.Summary, "does not read back") {
		t.Errorf("a damaged version is previewed: %s %s", j.Outcome, j.Summary)
	}
}

// TestOneRowStopsNothing: a target, or what came of a job, that was changed where it lies keeps nobody from
// seeing and using the others; and the status does not say that the database is away.
func TestOneRowStopsNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	vault := t.TempDir()
	must(w.admin.AddTarget(ctx(t), client.NewTarget{Name: "vault", Kind: "folder", Where: vault}))(t)
	must(w.admin.AddTarget(ctx(t), client.NewTarget{Name: "attic", Kind: "folder", Where: t.TempDir()}))(t)
	first := w.pull(r1)
	w.inStep("vault")
	changed := func(table, column, where string) {
		w.sql(fmt.Sprintf("UPDATE %s SET %[2]s = CONCAT(LEFT(%[2]s, LENGTH(%[2]s) - 1), CHAR(ASCII(RIGHT(%[2]s, 1)) ^ 1)) WHERE %s", table, column, where))
	}
	changed("jobs", "result", "id = '"+first.ID+"'")
	changed("targets", "body", "name = 'attic'")
	run := func(status int, says string, args ...string) {
		t.Helper()
		if out, said, got := w.cli(args...); got != status || !strings.Contains(out+said, says) {
			t.Errorf("magpie %s: status %d\n%s%s", strings.Join(args, " "), got, out, said)
		}
	}
	run(0, "does not open", "job", "list")
	run(0, "does not open", "job", "show", first.ID)
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "on the quay"`)
	w.pull(r1)
	if got := w.inStep("vault"); got.There != len(w.versions(r1))+1 {
		t.Errorf("%+v", got)
	}
	eventually(t, "the target that does not open to be failing", func() bool {
		return strings.Contains(must(w.admin.Target(ctx(t), "attic"))(t).Trouble, "add it anew")
	})
	run(0, "vault", "target", "list")
	if st := must(w.admin.Status(ctx(t)))(t); st.AsOf != nil || !slices.Contains(st.Failing, "attic") {
		t.Errorf("%+v", st)
	}
	for name, way := range map[string][]string{"harbour": {"webhook", "--webhook", "http://127.0.0.1:9/a"}, "pilot": {"mail", "--to", "pilot@ferries.example"}, "quay": {"mail", "--to", "quay@ferries.example"}} {
		run(0, "", append([]string{"recipient", "add", name}, way...)...)
	}
	changed("recipients", "body", "name <> 'quay'")
	run(0, "quay@ferries.example", "recipient", "list")
	run(1, "say it anew", "recipient", "test", "harbour")
	run(1, "say it anew", "recipient", "test", "pilot")
	run(0, "", "recipient", "edit", "pilot", "--to", "pilot@ferries.example")
	run(0, "pilot@ferries.example", "recipient", "show", "pilot")
	run(2, "add it anew", "target", "edit", "attic", "--note", "under the roof")
	run(0, "", "target", "remove", "attic", "--yes")
	run(0, "", "target", "add", "attic", "folder", t.TempDir())
	w.inStep("attic")
}

// show is a version's text, with its secrets.
func (w *world) show(ref string) string {
	w.t.Helper()
	return must(w.admin.Text(ctx(w.t), ref))(w.t).Text
}

// TestCopiesSurvive: the service is killed, its database restarted and stopped in good order in
// the middle of copying; in the end everything is there, once each.
func TestCopiesSurvive(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, ownDatabase)
	vault, repo := t.TempDir(), filepath.Join(t.TempDir(), "copies.git")
	if out, err := exec.Command("git", "init", "-q", "--bare", "-b", "main", repo).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	w.pull(r1)
	first := w.versions(r1)[0]
	text := w.show(first.Ref)
	var files []client.ImportFile
	for i := range 140 {
		files = append(files, client.ImportFile{File: fmt.Sprintf("%s_running_202601%02dT%02d0000Z_v1.cfg", r1, i/24+1, i%24), Content: base64.StdEncoding.EncodeToString([]byte(strings.Replace(text, "note \"", fmt.Sprintf("note \"tide %d ", i), 1)))})
	}
	for _, x := range must(w.admin.ImportVersions(ctx(t), client.NewImport{Files: files}))(t) {
		if x.Became != "added" {
			t.Fatalf("%+v", x)
		}
	}
	must(w.admin.AddTarget(ctx(t), client.NewTarget{Name: "vault", Kind: "folder", Where: vault}))(t)
	must(w.admin.AddTarget(ctx(t), client.NewTarget{Name: "repo", Kind: "git", Where: repo}))(t)
	there := func() int {
		files, _ := filepath.Glob(filepath.Join(vault, r1, r1+"_running_*.cfg.age"))
		return len(files)
	}
	for _, at := range []int{10, 60, 100} {
		eventually(t, "copies to come", func() bool { return there() >= at })
		if at == 60 {
			w.proc.stop()
		} else {
			w.kill() // its database goes on, and is taken on by the next
		}
		w.serve()
	}
	if got := w.inStep("vault"); got.There < 141 || there() != 141 {
		t.Errorf("%d of %d are there", there(), got.There)
	}
	if left, _ := filepath.Glob(filepath.Join(vault, r1, "*.part*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	w.inStep("repo")
	out, err := exec.Command("git", "-C", repo, "log", "--format=%s").Output()
	if n := strings.Count(string(out), r1+"@"); err != nil || n != 1 { // imported ones are set aside
		t.Errorf("%d commits: %s", n, out)
	}
}

// TestDiskFull: a target without room fails and says so; nothing that counts as there is cut off.
func TestDiskFull(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("a small disk has to be mounted by root")
	}
	w := newWorld(t, 1)
	small := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", small).CombinedOutput(); err != nil {
		t.Skipf("no small disk here: %v %s", err, out)
	}
	t.Cleanup(func() { _ = exec.Command("umount", small).Run() })
	must(w.admin.AddTarget(ctx(t), client.NewTarget{Name: "small", Kind: "folder", Where: small}))(t)
	w.pull(r1)
	w.inStep("small")
	if err := os.WriteFile(filepath.Join(small, "ballast"), make([]byte, 1<<20), 0o600); err == nil {
		t.Fatal("the small disk is not small")
	}
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "no room"`)
	w.pull(r1)
	eventually(t, "the target to fail", func() bool {
		return strings.Contains(must(w.admin.Target(ctx(t), "small"))(t).Trouble, "no space left")
	})
	if got := w.versions(r1)[0].Copies; got != 1 {
		t.Errorf("a copy that was cut off counts: %d", got)
	}
	if err := os.Remove(filepath.Join(small, "ballast")); err != nil {
		t.Fatal(err)
	}
	if got := w.inStep("small"); got.Room == nil || got.Trouble != "" {
		t.Errorf("%+v", got)
	}
}

// TestTargetBySSH: a server's host key is accepted by who adds it, and no other is.
func TestTargetBySSH(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	l := must(net.Listen("tcp", "127.0.0.1:0"))(t)
	defer l.Close()
	go func() { // something that is no SSH server
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			_, _ = io.WriteString(c, "hello\r\n")
			c.Close()
		}
	}()
	_, err := w.admin.AddTarget(ctx(t), client.NewTarget{Name: "x", Kind: "sftp", Where: "sftp://keeper@" + l.Addr().String() + "/copies", Password: "quay"})
	if !client.IsStatus(err, 502) {
		t.Errorf("no SSH server: %v", err)
	}
	// A router of the fleet is one: its key is shown, and has to be accepted.
	p := w.fleet.place(r1)
	n := client.NewTarget{Name: "x", Kind: "sftp", Where: fmt.Sprintf("sftp://keeper@%s:%d/copies", p.Address, p.Port), Password: "quay"}
	_, err = w.admin.AddTarget(ctx(t), n)
	shown := regexp.MustCompile(`--host-key (SHA256:\S+)\)`)
	if !client.IsStatus(err, 409) || !shown.MatchString(err.Error()) {
		t.Fatalf("a key that nobody accepted: %v", err)
	}
	if w.fleet.status(r1).Logins != 0 {
		t.Error("somebody signed in")
	}
	n.HostKey = shown.FindStringSubmatch(err.Error())[1]
	if _, err = w.admin.AddTarget(ctx(t), n); !client.IsStatus(err, 502) {
		t.Errorf("a wrong password: %v", err)
	}
	n.Unreached = true
	if got := must(w.admin.AddTarget(ctx(t), n))(t); got.HostKey != n.HostKey {
		t.Errorf("%+v", got)
	}
	if rows := must(w.admin.Targets(ctx(t)))(t); strings.Contains(fmt.Sprintf("%+v", rows), "quay") {
		t.Error("the password is shown")
	}
}

// TestConsoleKeeps: in the browser a target is added, whose server's host key is accepted first;
// the service is backed up and the backup proved; files are taken in, looked at before; versions
// are looked for.
func TestConsoleKeeps(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	vault := t.TempDir()
	w.pull(r1)
	for i := range 4 {
		w.fleet.amend(r1, "mwilks", "lane quay1", fmt.Sprintf(`note "tide %d"`, i))
		w.pull(r1)
	}
	must(w.admin.SetMark(ctx(t), r1+"@2", client.Mark{Name: ptr("before-the-storm"), Note: ptr("the mast was replaced")}))(t)
	b := newBrowser(t, w.url)
	b.allows("") // targets that are not reached
	b.signIn("admin", w.firstPassword())
	b.open("/settings?tab=copies")
	b.see("No copies are kept elsewhere")
	b.click("Add a target")
	b.fill(`input[name=target-name]`, "tower")
	b.choose(`select[name=target-kind]`, "sftp")
	p := w.fleet.place(r1)
	b.fill(`input[name=target-where]`, fmt.Sprintf("sftp://%s:%d/copies", p.Address, p.Port))
	b.fill(`input[name=target-user]`, "keeper")
	b.fill(`input[name=target-password]`, "quay")
	b.do(clickIn("Keep"))
	b.see("The server shows SHA256:")
	b.click("Accept it")
	b.do(clickIn("Keep"))
	b.see("does not let us in")
	b.do(clickIn("Cancel"))
	b.click("Add a target")
	b.fill(`input[name=target-name]`, "vault")
	b.fill(`input[name=target-where]`, vault)
	b.do(clickIn("Keep"))
	b.see(vault)
	w.inStep("vault")
	b.open("/settings?tab=copies")
	b.see("in step")
	b.click("Back up now")
	b.see("done: ")
	b.do(clickIn("Prove"))
	eventually(t, "somebody to ask for a proof", func() bool {
		return len(must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: "backup-test"}))(t).Items) > 0
	})
	if j := w.end(must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: "backup-test"}))(t).Items[0].ID); j.Outcome != "done" {
		t.Fatalf("%s: %s", j.Outcome, j.Summary)
	}
	b.see("every hash equal")

	b.open("/devices/" + r1)
	b.fill(`input[name=version-words]`, "storm mast")
	b.see("before-the-storm")
	if n := js[int](b, `document.querySelectorAll('a[aria-label^="version "]').length`); n != 1 {
		t.Errorf("%d versions are shown", n)
	}
	b.open("/version?ref=" + r1 + "@2")
	b.see("the mast was replaced")
	b.see("copies")

	b.open("/settings?tab=files")
	file := filepath.Join(t.TempDir(), r1+" 20.11.2025.txt")
	if err := os.WriteFile(file, []byte(strings.Replace(w.show(r1+"@1"), "note \"", "note \"old ", 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	b.do(chromedp.SetUploadFiles(`input[name=in-files]`, []string{file}, often))
	b.see("1 of 1 would be taken in")
	b.see("a name in its name")
	b.click("Take 1 in")
	b.see("1 were taken in")
	if v := w.versions(r1)[0]; v.Aside != "imported" {
		t.Errorf("%+v", v)
	}
	b.fill(`input[name=out-selector]`, "nobody")
	b.click("Take them out")
	b.see("nobody")
}

// TestLargeFile: a file that no memory should hold goes in and out by the command line and to a
// target, and comes back byte for byte; the service stays small.
func TestLargeFile(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, withFamilies("dunlin"), func(w *world) { w.env = append(w.env, "GOGC=") })
	const device = "workshop-g1"
	dir, vault := t.TempDir(), t.TempDir()
	big, back := filepath.Join(dir, "image.bin"), filepath.Join(dir, "back.bin")
	f := must(os.Create(big))(t)
	r, sum := rand.New(rand.NewPCG(1, 9)), sha256.New()
	for range 20 {
		piece := make([]byte, 1<<20)
		for i := 0; i < len(piece); i += 8 {
			binary.LittleEndian.PutUint64(piece[i:], r.Uint64())
		}
		sum.Write(piece)
		if _, err := f.Write(piece); err != nil {
			t.Fatal(err)
		}
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	want := sum.Sum(nil)
	run := func(status int, args ...string) string {
		t.Helper()
		out, said, got := w.cli(args...)
		if got != status {
			t.Errorf("magpie %s: status %d\n%s%s", strings.Join(args, " "), got, out, said)
		}
		return out + said
	}
	hash := func(file string) []byte {
		t.Helper()
		f := must(os.Open(file))(t)
		defer f.Close()
		h := sha256.New()
		if _, err := io.Copy(h, f); err != nil {
			t.Fatal(err)
		}
		return h.Sum(nil)
	}
	part := must(w.admin.Dialect(ctx(t), "dunlin"))(t).Parts[0]
	run(0, "import", big, "--device", device, "--part", part, "--at", "2026-11-20T10:00Z", "--name", "as-delivered")
	if out := run(0, "import", big, "--device", device, "--part", part, "--at", "2026-11-20T10:00Z"); !strings.Contains(out, "there already") {
		t.Errorf("%s", out)
	}
	ref := device + "/" + part + "@as-delivered"
	if out := run(0, "show", ref); !strings.Contains(out, fmt.Sprint(20<<20)) {
		t.Errorf("%s", out)
	}
	run(0, "show", ref, "--output", back)
	if !bytes.Equal(hash(back), want) {
		t.Error("it comes back as another file")
	}
	must(w.admin.AddTarget(ctx(t), client.NewTarget{Name: "vault", Kind: "folder", Where: vault}))(t)
	if got := w.inStep("vault"); got.Bytes < 20<<20 {
		t.Errorf("%+v", got)
	}
	archive := filepath.Join(dir, "all.tar.zst")
	run(0, "export", device, "--history", "--to", archive)
	if st := must(os.Stat(archive))(t); st.Size() < 19<<20 {
		t.Errorf("%d bytes are exported", st.Size())
	}
	// A piece is damaged; the copy has it.
	for seq, says := range []string{"does not read back", "cut off"} {
		w.sql(fmt.Sprintf("UPDATE chunks SET sealed = INSERT(sealed, 60, 1, '~') WHERE id = (SELECT chunk_id FROM content_chunks WHERE seq = %d)", 4*seq))
		if _, said, status := w.cli("show", ref, "--output", filepath.Join(dir, "damaged.bin")); status == 0 || !strings.Contains(said, says) {
			t.Errorf("a damaged file comes back: %s", said)
		}
		if seq == 1 { // who copies meanwhile leaves it out, and has it when it is mended
			must(w.admin.AddTarget(ctx(t), client.NewTarget{Name: "attic", Kind: "folder", Where: t.TempDir()}))(t)
			if got := w.inStep("attic"); got.LeftOut != 1 {
				t.Errorf("a damaged version is copied: %+v", got)
			}
		}
		if j := w.end(must(w.admin.Ask(ctx(t), client.NewJob{Kind: "scrub"}, ""))(t).ID); j.Outcome != "done" || !strings.Contains(j.Summary, "1 of them mended") {
			t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
		}
	}
	if got := w.inStep("attic"); got.LeftOut != 0 || got.Bytes < 20<<20 {
		t.Errorf("a mended version is not copied: %+v", got)
	}
	if err := os.Remove(back); err != nil {
		t.Fatal(err)
	}
	run(0, "show", ref, "--output", back)
	if !bytes.Equal(hash(back), want) {
		t.Error("it is mended to another file")
	}
	// A device has such a file, too: it is pulled in pieces, and proved by its own checksum.
	noise, letters := make([]byte, 24<<20), "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_"
	for i := range noise {
		noise[i] = letters[r.IntN(64)]
	}
	w.pull(device)
	newest := func() client.Version {
		t.Helper()
		return must(w.admin.Versions(ctx(t), device, part, 0, 1))(t)[0]
	}
	baseline := func(which int) string {
		t.Helper()
		must(w.admin.Baselines(ctx(t), client.NewBaselines{Selector: []string{"name=" + device}, Which: fmt.Sprint(which)}))(t)
		w.pull(device)
		return must(w.admin.Device(ctx(t), device))(t).State
	}
	before := newest()
	w.fleet.amend(device, "bo", "note survey "+string(noise))
	j := w.pull(device)
	large := newest()
	pulled := filepath.Join(dir, "pulled.bin")
	run(0, "show", device, "--output", pulled)
	if raw := must(os.ReadFile(pulled))(t); j.Outcome != "done" || large.Number <= before.Number || large.Size != len(raw) || len(raw) < 17<<20 ||
		binary.BigEndian.Uint32(raw[20:]) != crc32.ChecksumIEEE(raw[25:]) {
		t.Errorf("%s: %s; %d of %d bytes, version %d after %d", j.Outcome, j.Summary, len(raw), large.Size, large.Number, before.Number)
	}
	if state, v := baseline(large.Number), newest(); state != "in sync" || v.Number != large.Number {
		t.Errorf("pulled again it is %s at version %d, was %d", state, v.Number, large.Number)
	}
	if state := baseline(before.Number); state != "drifted" {
		t.Errorf("with another baseline it is %s", state)
	}
	// It is put back in the same way, proved, and taken back again.
	w.fleet.amend(device, "bo", "note survey done")
	w.pull(device)
	small := newest()
	p := w.preview(client.NewPreview{Ref: large.Ref})
	if len(p.Steps) == 0 || !strings.Contains(p.Steps[0].Lines[0], fmt.Sprint(large.Size)) || !strings.Contains(p.Predicted, fmt.Sprint(large.Size)) {
		t.Errorf("%+v", p)
	}
	pushed := w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t).ID)
	if pushed.Outcome != "verified" {
		t.Errorf("%s: %s\n%s", pushed.Outcome, pushed.Summary, w.logText(pushed.ID))
	}
	now := filepath.Join(dir, "now.bin")
	run(0, "show", device, "--output", now)
	if raw := must(os.ReadFile(now))(t); len(raw) != large.Size {
		t.Errorf("after the push it has %d bytes, not %d", len(raw), large.Size)
	}
	pushed = w.parked(w.within("10m", small.Ref).ID)
	must(w.admin.Say(ctx(t), pushed.ID, "undo", ""))(t)
	if pushed = w.end(pushed.ID); pushed.Outcome != "undone" || newest().Size != large.Size {
		t.Errorf("%s: %s\n%s", pushed.Outcome, pushed.Summary, w.logText(pushed.ID))
	}
	// A text part takes no such file.
	if _, err := w.admin.ImportFile(ctx(t), map[string]string{"file": "x", "device": "nobody", "part": part, "taken_at": "2026-11-20"}, strings.NewReader("x")); !client.IsStatus(err, 400) {
		t.Errorf("of a device that is not there: %v", err)
	}
	raw := must(os.ReadFile(fmt.Sprintf("/proc/%d/status", w.proc.cmd.Process.Pid)))(t)
	m := regexp.MustCompile(`VmHWM:\s+(\d+) kB`).FindSubmatch(raw)
	if kib := must(strconv.Atoi(string(m[1])))(t); kib > 300<<10 && serving == bin {
		t.Errorf("the service took %d MiB", kib>>10)
	}
}
