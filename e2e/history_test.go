package e2e

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"database/sql"
	"encoding/base64"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"

	"magpie/client"
	"magpie/internal/history"
)

// TestNamedWhenTaken: a version has its name and reason from the moment it is taken; a name in
// use is refused before a device is visited; where nothing changed, the current version has it;
// and a push names what it keeps before and what it proves after.
func TestNamedWhenTaken(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	other := w.fleet.places[1].Name
	run := func(status int, args ...string) string {
		t.Helper()
		out, said, got := w.cli(args...)
		if got != status {
			t.Errorf("magpie %s: status %d\n%s%s", strings.Join(args, " "), got, out, said)
		}
		return out + said
	}
	if out := run(0, "pull", r1, "--name", "before-upgrade", "--note", "release 4.3 tonight"); !strings.Contains(out, "named before-upgrade") {
		t.Errorf("%s", out)
	}
	if v := w.versions(r1)[0]; v.Name != "before-upgrade" || v.Note != "release 4.3 tonight" || v.Number != 1 {
		t.Errorf("%+v", v)
	}
	logins := w.fleet.status(r1).Logins
	if out := run(2, "pull", "all", "--name", "before-upgrade"); !strings.Contains(out, r1+"@1") || !strings.Contains(out, "no device was visited") {
		t.Errorf("%s", out)
	}
	for _, name := range []string{"latest", "17", "2026-11-20T10:00"} {
		run(2, "pull", r1, "--name", name)
	}
	if w.fleet.status(r1).Logins != logins || len(must(w.admin.Jobs(ctx(t), client.JobFilter{}))(t).Items) != 1 {
		t.Error("a device was visited for a name that is refused")
	}
	// Unchanged, and named already: it has both names then.
	if out := run(0, "pull", r1, "--name", "quiet-night"); !strings.Contains(out, "named quiet-night") {
		t.Errorf("%s", out)
	}
	run(0, "show", r1+"@before-upgrade")
	w.pull(other)
	if out := run(0, "pull", other, "--name", "quiet-night", "--note", "nothing is under way"); !strings.Contains(out, "running unchanged, still 1; ") || !strings.Contains(out, "; named quiet-night") {
		t.Errorf("%s", out)
	}
	if v := w.versions(other)[0]; v.Number != 1 || v.Name != "quiet-night" || v.Note != "nothing is under way" {
		t.Errorf("the version that was current: %+v", v)
	}
	// The pair of a push.
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "on the quay"`)
	p := w.preview(client.NewPreview{Ref: r1 + "@before-upgrade"})
	for _, bad := range []client.NewPush{{NameBefore: "before-upgrade"}, {NameAfter: "latest"}, {NameBefore: "same", NameAfter: "same"}} {
		bad.Preview, bad.Hash = p.ID, p.Hash
		if _, err := w.admin.Push(ctx(t), bad, ""); err == nil {
			t.Errorf("%+v passes", bad)
		}
	}
	j := w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash, NameBefore: "as-mwilks-left-it", NameAfter: "back-again"}, ""))(t).ID)
	if j.Outcome != "verified" {
		t.Fatalf("%s: %s", j.Outcome, j.Summary)
	}
	all := w.versions(r1)
	if len(all) != 3 || all[1].Name != "as-mwilks-left-it" || all[0].Name != "back-again" {
		t.Errorf("%+v", all)
	}
	// In the browser.
	b := newBrowser(t, w.url)
	b.signIn("admin", w.firstPassword())
	b.open("/devices/" + other)
	b.more("More", "Pull and name it…")
	b.fill(`input[name=pull-name]`, "quiet-night")
	b.allows("409")
	b.do(clickIn("Pull"))
	b.see("already in use")
	w.fleet.amend(other, "mwilks", "lane quay1", `note "ticket hall"`)
	b.fill(`input[name=pull-name]`, "after-the-ferry")
	b.do(clickIn("Pull"))
	b.see("done: running 2")
	if v := w.versions(other)[0]; v.Name != "after-the-ferry" {
		t.Errorf("%+v", v)
	}
}

// TestUndoOutlivesRetention: what ran before a push of late stays, however many changes came since and however
// little is kept; what ran for long stays beside what came and went in a minute.
func TestUndoOutlivesRetention(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "the note that it had"`)
	w.pull(r1)
	pushed := w.push(r1 + "@1")
	if pushed.Outcome != "verified" {
		t.Fatal(pushed.Summary)
	}
	for n := range 4 {
		w.fleet.amend(r1, "mwilks", "lane quay1", fmt.Sprintf(`note "change %d"`, n))
		w.pull(r1)
	}
	for _, args := range [][]string{{"retention", "set", "little", "--of", "kind=router", "--newest", "1", "--by-hand", "0", "--daily", "0", "--weekly", "0", "--monthly", "0"}, {"retention", "run"}} {
		if out, said, status := w.cli(args...); status != 0 {
			t.Fatalf("%v: %d\n%s%s", args, status, out, said)
		}
	}
	var kept []int
	for _, v := range w.versions(r1) {
		kept = append(kept, v.Number)
	}
	if !slices.Equal(kept, []int{7, 3, 2}) { // the third is the newest that came by itself
		t.Errorf("%v are kept", kept)
	}
	out, said, status := w.cli("push", "--undo", pushed.ID, "--yes", "--override", "back to what it had")
	if status != 0 || !strings.Contains(w.fleet.running(r1), "the note that it had") {
		t.Errorf("%d\n%s%s", status, out, said)
	}
	// Where it is gone all the same, that is said.
	w.sql("UPDATE pushes SET changed_at = changed_at - INTERVAL 15 DAY")
	if out, said, status := w.cli("retention", "run"); status != 0 {
		t.Fatalf("%s%s", out, said)
	}
	if _, said, status := w.cli("push", "--undo", pushed.ID, "--yes"); status != 2 || !strings.Contains(said, "was deleted since") {
		t.Errorf("%d: %s", status, said)
	}
}

// TestRetention: what has had its time is previewed with the rule that says so, and deleted; what
// is pinned, named, a baseline, in a snapshot or the newest stays; all that stays reads back; a
// service that dies in the middle goes on.
func TestRetention(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	other := w.fleet.places[1].Name
	texts := map[int]string{}
	for n := 1; n <= 14; n++ {
		w.fleet.amend(r1, "mwilks", "lane quay1", fmt.Sprintf(`note "state %d"`, n))
		w.pull(r1)
		texts[n] = must(w.admin.Download(ctx(t), fmt.Sprintf("%s@%d", r1, n)))(t)
	}
	w.pull(other)
	yes, name := true, "before-the-storm"
	must(w.admin.SetMark(ctx(t), r1+"@2", client.Mark{Pin: &yes}))(t)
	must(w.admin.SetMark(ctx(t), r1+"@3", client.Mark{Name: &name}))(t)
	must(w.admin.SetMark(ctx(t), r1+"@4", client.Mark{Baseline: &yes}))(t)
	at := must(w.admin.Versions(ctx(t), r1, "running", 6, 1))(t)[0].TakenAt.Add(time.Millisecond)
	must(w.admin.AddSnapshot(ctx(t), client.NewSnapshot{Name: "then", Selector: []string{r1}, At: &at}))(t)
	w.sql("UPDATE versions SET taken_at = taken_at - INTERVAL (20 - number) DAY, reason = 'schedule' WHERE reason <> 'edited'")
	w.sql("UPDATE seen s JOIN versions v ON v.id = s.version_id SET s.from_at = v.taken_at, s.until_at = v.taken_at")
	policies := must(w.admin.Retentions(ctx(t)))(t)
	if len(policies) != 1 || policies[0].Name != "everything-else" || policies[0].Newest == 0 {
		t.Errorf("out of the box: %+v", policies)
	}
	run := func(status int, args ...string) string {
		t.Helper()
		out, said, got := w.cli(args...)
		if got != status {
			t.Errorf("magpie %s: status %d\n%s%s", strings.Join(args, " "), got, out, said)
		}
		return out + said
	}
	if out := run(0, "retention", "preview"); !strings.Contains(out, "0 versions would be deleted") {
		t.Errorf("%s", out)
	}
	run(0, "retention", "set", "routers", "--of", r1, "--newest", "2", "--by-hand", "0", "--daily", "8", "--weekly", "0", "--monthly", "0", "--note", "small disk")
	for _, wrong := range [][]string{{"retention", "set", "new"}, {"retention", "set", "routers", "--newest", "0"}, {"retention", "set", "x", "--of", "nosuch"}, {"retention", "remove", "nosuch"}, {"retention", "set", "everything-else", "--of", r1}, {"retention", "preview", "nosuch"}} {
		run(2, wrong...)
	}
	// 20 - number days ago: 14 is six days old, 13 seven; daily reaches seven days back.
	p := must(w.admin.PreviewRetention(ctx(t), []string{r1}))(t)
	gone := map[string]bool{}
	for _, g := range p.Items {
		gone[g.Ref] = true
		if g.Policy != "routers" || !strings.Contains(g.Why, "the newest 2") {
			t.Errorf("%+v", g)
		}
	}
	for n := 1; n <= 14; n++ {
		stays := n >= 13 || n >= 2 && n <= 5
		if ref := fmt.Sprintf("%s@%d", r1, n); gone[ref] == stays {
			t.Errorf("%s: goes %v", ref, gone[ref])
		}
	}
	before := w.contents()
	if out := run(0, "retention", "run"); !strings.Contains(out, "done: 8 versions of 1 device deleted") {
		t.Errorf("%s", out)
	}
	for _, v := range w.versions(r1) {
		if gone[v.Ref] {
			t.Errorf("%s is still there", v.Ref)
		}
		if got := must(w.admin.Download(ctx(t), v.Ref))(t); got != texts[v.Number] {
			t.Errorf("%s does not read back", v.Ref)
		}
	}
	if n := w.contents(); n >= before {
		t.Errorf("%d contents, there were %d", n, before)
	}
	log := ""
	for _, d := range must(w.admin.Audit(ctx(t), client.AuditFilter{About: r1}, 0, 100))(t).Items {
		log += d.Action + ": " + d.Detail + "\n"
	}
	if !strings.Contains(log, "versions deleted: 8 by retention routers") || !strings.Contains(log, r1+"@12") {
		t.Errorf("%s", log)
	}
	// What is no version ages too.
	w.preview(client.NewPreview{Ref: r1 + "@2"})
	w.sql("UPDATE previews SET made_at = made_at - INTERVAL 31 DAY")
	w.sql("UPDATE jobs SET ended_at = ended_at - INTERVAL 401 DAY WHERE state = 'ended'")
	asked := len(must(w.admin.Jobs(ctx(t), client.JobFilter{Kind: "retention"}))(t).Items)
	w.kill()
	w.sql("DELETE FROM settings WHERE name = 'retention: daily'")
	w.serve()
	run(0, "retention", "run")
	left := must(w.admin.Jobs(ctx(t), client.JobFilter{Limit: 1000}))(t).Items
	if asked != 1 || len(left) != 1 {
		t.Errorf("%d jobs are left", len(left))
	}
	// In the browser.
	b := newBrowser(t, w.url)
	b.signIn("admin", w.firstPassword())
	b.open("/settings?tab=retention")
	b.see("the newest 2, one a day for 8 days")
	b.click("What would go now")
	b.see("Nothing would go")
	b.do(clickIn("Change routers"))
	b.fill(`input[name=daily]`, "0")
	b.do(clickIn("Keep"))
	b.see("one a day for 0 days")
}

// contents counts the texts that are kept.
func (w *world) contents() (n int) {
	w.t.Helper()
	db, err := sql.Open("mysql", w.dsn)
	if err == nil {
		defer db.Close()
		err = db.QueryRow("SELECT COUNT(*) FROM contents").Scan(&n)
	}
	if err != nil {
		w.t.Fatal(err)
	}
	return n
}

// TestScrub: a bit that flipped in what is kept is found, named, and kept out of pushes; once it
// reads back again it is forgotten.
func TestScrub(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	for n := range 4 {
		w.fleet.amend(r1, "mwilks", "lane quay1", fmt.Sprintf(`note "state %d"`, n))
		w.pull(r1)
	}
	scrub := func() client.Job {
		t.Helper()
		return w.end(must(w.admin.Ask(ctx(t), client.NewJob{Kind: "scrub"}, ""))(t).ID)
	}
	if j := scrub(); j.Outcome != "done" || !strings.Contains(j.Summary, "read back as they were kept") {
		t.Fatalf("%s: %s", j.Outcome, j.Summary)
	}
	flip := flipped(2)
	w.sql(flip)
	j := scrub()
	if j.Outcome != "failed" || !strings.Contains(j.Summary, r1+"@2") || !strings.Contains(w.logText(j.ID), r1+"@3 is damaged") { // 3 builds on 2
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	if j := w.end(must(w.admin.NewPreview(ctx(t), client.NewPreview{Ref: r1 + "@2"}))(t).ID); j.Outcome == "done" || !strings.Contains(j.Summary, "does not read back") {
		t.Errorf("a damaged version is previewed: %s %s", j.Outcome, j.Summary)
	}
	// What comes after does not build on it.
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "after"`)
	w.pull(r1)
	must(w.admin.Download(ctx(t), r1+"@latest"))(t)
	w.sql(flip)
	if j := scrub(); j.Outcome != "done" {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
}

// flipped is a bit flipped in what is kept of versions of the running part.
func flipped(numbers ...int) string {
	in := strings.Trim(strings.ReplaceAll(fmt.Sprint(numbers), " ", ", "), "[]")
	return fmt.Sprintf("UPDATE contents c JOIN versions v ON v.content_id = c.id JOIN parts p ON p.id = v.part_id SET c.sealed = CONCAT(LEFT(c.sealed, LENGTH(c.sealed) - 1), CHAR(ASCII(RIGHT(c.sealed, 1)) ^ 1)) WHERE v.number IN (%s) AND p.name = 'running'", in)
}

// TestDamageStopsNothing: a device whose newest version, or whose baseline, is damaged is pulled, judged,
// compared and pushed to all the same; what runs is kept once more where what is kept of it does not read back.
func TestDamageStopsNothing(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	kept := func(what string, number int, says string) {
		t.Helper()
		j := w.pull(r1)
		v := w.versions(r1)[0]
		text, err := w.admin.Download(ctx(t), v.Ref)
		if j.Outcome != "done" || v.Number != number || err != nil || !strings.Contains(text, says) {
			t.Errorf("%s: %s: %s; the newest is %d: %v\n%s", what, j.Outcome, j.Summary, v.Number, err, w.logText(j.ID))
		}
	}
	w.pull(r1)
	must(w.admin.Baselines(ctx(t), client.NewBaselines{Selector: []string{"name=" + r1}, Which: "latest"}))(t)
	must(w.admin.AddSnapshot(ctx(t), client.NewSnapshot{Name: "at-first", Selector: []string{"all"}}))(t)
	w.sql(flipped(1))
	if _, said, status := w.cli("show", r1); status == 0 || !strings.Contains(said, r1+"@1: ") || !strings.Contains(said, "magpie job ask scrub") {
		t.Errorf("a damaged version is shown: %d, %s", status, said)
	}
	if out, said, status := w.cli("worksheet", r1); status != 0 || !strings.Contains(out, "does not read back") {
		t.Errorf("a worksheet with a damaged version: %d, %s", status, said)
	}
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "after damage"`)
	kept("the newest is damaged, and is the baseline", 2, "after damage")
	if out, said, status := w.cli("drift", r1); status != 1 || !strings.Contains(out, "the baseline, "+r1+"@1, does not read back") {
		t.Errorf("drift from a damaged baseline: %d\n%s%s", status, out, said)
	}
	if out, said, status := w.cli("snapshot", "compare", "at-first"); status != 1 || !strings.Contains(out, "1 does not read back") {
		t.Errorf("a damaged snapshot compared with now: %d\n%s%s", status, out, said)
	}
	// What is unchanged is kept once more, after a scrub found that what is kept of it is damaged.
	w.sql(flipped(2))
	must(w.admin.Baselines(ctx(t), client.NewBaselines{Selector: []string{"name=" + r1}, Which: "1"}))(t) // judged anew meanwhile
	w.end(must(w.admin.Ask(ctx(t), client.NewJob{Kind: "scrub"}, ""))(t).ID)
	kept("the newest is damaged, and what runs says the same", 3, "after damage")
	kept("and then all is well", 3, "after damage")
	// What a push is undone to has to read back, whether a scrub was there or not.
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "to be put back"`)
	kept("changed", 4, "to be put back")
	p := w.preview(client.NewPreview{Ref: r1 + "@3"})
	w.sql(flipped(4))
	j := w.end(must(w.admin.Push(ctx(t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(t).ID)
	end := must(w.admin.Job(ctx(t), j.ID))(t)
	if j.Outcome != "verified" || end.Push == nil || end.Push.Before != r1+"@5" {
		t.Fatalf("%s: %s, %+v", j.Outcome, j.Summary, end.Push)
	}
	if text, err := w.admin.Download(ctx(t), end.Push.Before); err != nil || !strings.Contains(text, "to be put back") {
		t.Errorf("what it is undone to: %v", err)
	}
}

// TestExport: versions leave as files with names that sort and a manifest whose hashes are right:
// plain, masked for who may not see secrets, sealed to a key; nothing is overwritten, and what is
// cut off is not taken for whole.
func TestExport(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2, withFamilies("dunlin"))
	for _, p := range w.fleet.places {
		w.pull(p.Name)
	}
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "on the quay"`)
	w.pull(r1)
	must(w.admin.AddSnapshot(ctx(t), client.NewSnapshot{Name: "all-of-it", Selector: []string{"all"}}))(t)
	reader := w.addUser("lookout", "reader")
	// checked reads the files of an archive and holds them against its manifest.
	checked := func(files map[string][]byte) (m history.Manifest) {
		t.Helper()
		if err := json.Unmarshal(files["manifest.json"], &m); err != nil {
			t.Fatalf("the manifest: %v", err)
		}
		n := 1
		for _, f := range m.Files {
			if f.Left != "" {
				continue
			}
			n++
			sum := sha256.Sum256(files[f.Name])
			if hex.EncodeToString(sum[:]) != f.SHA256 || int64(len(files[f.Name])) != f.Bytes {
				t.Errorf("%s is not what the manifest says", f.Name)
			}
		}
		if n != len(files) {
			t.Errorf("%d files, and the manifest has %d", len(files), n)
		}
		return m
	}
	untar := func(r io.Reader) map[string][]byte {
		t.Helper()
		z := must(zstd.NewReader(r))(t)
		defer z.Close()
		out := map[string][]byte{}
		for in := tar.NewReader(z); ; {
			h, err := in.Next()
			if err == io.EOF {
				return out
			}
			if err != nil {
				t.Fatal(err)
			}
			out[h.Name] = must(io.ReadAll(in))(t)
		}
	}
	run := func(as *client.Client, status int, args ...string) string {
		t.Helper()
		out, said, got := w.cliAs(as, args...)
		if got != status {
			t.Errorf("magpie %s: status %d\n%s%s", strings.Join(args, " "), got, out, said)
		}
		return out + said
	}
	// A folder, plain.
	folder := filepath.Join(w.dir, "out")
	run(w.admin, 0, "export", "all", "--as", "folder", "--to", folder, "--history")
	files := map[string][]byte{}
	for _, e := range must(os.ReadDir(folder))(t) {
		files[e.Name()] = must(os.ReadFile(filepath.Join(folder, e.Name())))(t)
	}
	m := checked(files)
	name := ""
	for _, f := range m.Files {
		if f.Device == r1 && f.Part == "running" && f.Number == 1 {
			name = f.Name
		}
	}
	if want := must(w.admin.Download(ctx(t), r1+"@1"))(t); string(files[name]) != want || !strings.HasPrefix(name, r1+"_running_2") || !strings.HasSuffix(name, "Z_v1.cfg") {
		t.Errorf("%s is not version 1", name)
	}
	// Again into it: what is there stays as it is, what is new is added, and nothing is overwritten.
	again := func(status int, words string, args ...string) {
		t.Helper()
		if out := run(w.admin, status, append([]string{"export", "all", "--as", "folder", "--to", folder}, args...)...); !strings.Contains(out, words) {
			t.Errorf("it says %q, and not %q", out, words)
		}
	}
	read := func() map[string][]byte {
		t.Helper()
		files := map[string][]byte{}
		for _, e := range must(os.ReadDir(folder))(t) {
			files[e.Name()] = must(os.ReadFile(filepath.Join(folder, e.Name())))(t)
		}
		return files
	}
	again(0, fmt.Sprintf("0 files added in %s, %d there already", folder, len(files)-1), "--history")
	again(0, "0 files added", "--masked=false")
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "since then"`)
	w.pull(r1)
	again(0, "1 file added in "+folder)
	if m := checked(read()); len(m.Files) != len(files) {
		t.Errorf("the manifest has %d files; there were %d, and one was added", len(m.Files), len(files)-1)
	}
	before := read()
	again(2, "holds something else", "--masked")
	if err := os.WriteFile(filepath.Join(folder, name), []byte("changed"), 0o600); err != nil {
		t.Fatal(err)
	}
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "once more"`)
	w.pull(r1)
	again(2, name+" holds something else", "--history")
	if after := read(); len(after) != len(before) {
		t.Errorf("%d files became %d, and nothing was to be written", len(before), len(after))
	}
	if err := os.Remove(filepath.Join(folder, "manifest.json")); err != nil {
		t.Fatal(err)
	}
	again(2, "holds no export")
	// To standard output, byte for byte: there is a screen behind it that writes out what steers a terminal.
	checked(untar(strings.NewReader(run(w.admin, 0, "export", "all", "--to", "-"))))
	// A ZIP, masked for who may not see secrets; what cannot be masked stays here, and is named.
	file := filepath.Join(w.dir, "out.zip")
	run(reader, 0, "export", "--snapshot", "all-of-it", "--as", "zip", "--to", file)
	in := must(zip.OpenReader(file))(t)
	defer in.Close()
	files = map[string][]byte{}
	for _, f := range in.File {
		r := must(f.Open())(t)
		files[f.Name] = must(io.ReadAll(r))(t)
		for _, s := range secrets {
			if bytes.Contains(files[f.Name], []byte(s)) {
				t.Errorf("%s holds %q", f.Name, s)
			}
		}
	}
	left := 0
	for _, f := range checked(files).Files {
		if f.Left != "" {
			left++
		}
	}
	if left == 0 {
		t.Error("an opaque file left for a reader")
	}
	run(w.admin, 2, "export", r1, "--as", "zip", "--to", file)
	// Sealed: to a key, and under a passphrase.
	key := must(age.GenerateX25519Identity())(t)
	sealed := filepath.Join(w.dir, "out.tar.zst.age")
	run(w.admin, 0, "export", r1, "--recipient", key.Recipient().String(), "--to", sealed)
	raw := must(os.ReadFile(sealed))(t)
	m = checked(untar(must(age.Decrypt(bytes.NewReader(raw), key))(t)))
	if len(m.Files) != 2 || m.MadeBy != "admin" {
		t.Errorf("%+v", m)
	}
	put(t, filepath.Join(w.dir, "word"), "ten characters and more")
	run(w.admin, 0, "export", r1, "--passphrase-file", filepath.Join(w.dir, "word"), "--to", sealed+"2")
	word := must(age.NewScryptIdentity("ten characters and more"))(t)
	checked(untar(must(age.Decrypt(bytes.NewReader(must(os.ReadFile(sealed+"2"))(t)), word))(t)))
	for _, wrong := range [][]string{{"export"}, {"export", "nosuch"}, {"export", "--snapshot", "nosuch"}, {"export", r1, "--snapshot", "all-of-it"}, {"export", r1, "--as", "rar"}, {"export", r1, "--recipient", "age1nonsense"}} {
		run(w.admin, 2, append(wrong, "--to", filepath.Join(w.dir, "wrong"))...)
	}
	if _, err := os.Stat(filepath.Join(w.dir, "wrong")); err == nil {
		t.Error("what is refused leaves a file")
	}
}

// TestTakenIn: files made elsewhere become versions that count for nothing: known by their name,
// by what stands in them, or by hand; packed ones are opened; a trial changes nothing, and a
// second time nothing is added.
func TestTakenIn(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	other := w.fleet.places[1].Name
	w.pull(r1)
	w.pull(other)
	now := must(w.admin.Download(ctx(t), r1+"@1"))(t)
	older := strings.Replace(now, "lane ", "lane quay9\n  note \"before the storm\"\nlane ", 1)
	folder := filepath.Join(w.dir, "files")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	put(t, filepath.Join(folder, r1+" 20.11.2025.txt"), older)
	put(t, filepath.Join(folder, "2025-11-21_0930 backup.cfg"), strings.Replace(must(w.admin.Download(ctx(t), other+"@1"))(t), "lane ", "lane quay8\n  shut\nlane ", 1)) // its host name stands in it
	put(t, filepath.Join(folder, "shopping 2025-01-02.txt"), "bread\nmilk\n")
	put(t, filepath.Join(folder, r1+"-2025-10-01.txt"), "bread\nmilk\n")
	put(t, filepath.Join(folder, "same "+r1+" 2025-10-02.txt"), now)
	put(t, filepath.Join(folder, r1+" 2099-01-01.txt"), older)
	run := func(status int, args ...string) string {
		t.Helper()
		out, said, got := w.cli(args...)
		if got != status {
			t.Errorf("magpie %s: status %d\n%s%s", strings.Join(args, " "), got, out, said)
		}
		return out + said
	}
	if out := run(1, "import", folder, "--preview"); !strings.Contains(out, "2 would be added, 1 there already, 3 refused") || len(w.versions(r1)) != 1 {
		t.Errorf("%s", out)
	}
	out := run(1, "import", folder, "--note", "from the old file server")
	if !strings.Contains(out, "2 added, 1 there already, 3 refused") || !strings.Contains(out, "a host name in it") || !strings.Contains(out, "has not come yet") || !strings.Contains(out, "say whose it is") {
		t.Errorf("%s", out)
	}
	if out := run(1, "import", folder); !strings.Contains(out, "0 added, 3 there already") {
		t.Errorf("a second time: %s", out)
	}
	all := w.versions(r1)
	if all[0].Added+all[0].Removed == 0 {
		t.Errorf("another text than what counts: %+v", all[0])
	}
	if len(all) != 2 || all[0].Aside != "imported" || all[0].TakenAt.Format("2006-01-02") != "2025-11-20" || !strings.Contains(all[0].Note, "from the old file server") {
		t.Errorf("%+v", all[0])
	}
	if d := must(w.admin.Device(ctx(t), r1))(t); d.Latest != 1 || d.State != "in sync" {
		t.Errorf("what was taken in counts: %+v", d)
	}
	if got := must(w.admin.Download(ctx(t), r1+"@2"))(t); got != older {
		t.Error("it does not read back")
	}
	if j := w.pull(r1); !strings.Contains(j.Summary, "running unchanged, still 1") {
		t.Errorf("%s", j.Summary)
	}
	// It can be put back, and by hand it can be said whose a file is.
	if p := w.preview(client.NewPreview{Ref: r1 + "@2"}); p.Lines == 0 {
		t.Errorf("%+v", p)
	}
	// An export comes back as it left, into a service that has lost it.
	file := filepath.Join(w.dir, "out.tar.zst")
	run(0, "export", r1, "--history", "--to", file)
	w.sql("DELETE v FROM versions v JOIN parts p ON p.id = v.part_id WHERE v.aside = 'imported'")
	if out := run(0, "import", file); !strings.Contains(out, "1 added") {
		t.Errorf("%s", out)
	}
}

// TestFindVersions: versions are looked for by name, note, author, reason, time, serial number and
// release, of one device or many; a time can be said in any zone.
func TestFindVersions(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2)
	other := w.fleet.places[1].Name
	run := func(status int, args ...string) string {
		t.Helper()
		out, said, got := w.cli(args...)
		if got != status {
			t.Errorf("magpie %s: status %d\n%s%s", strings.Join(args, " "), got, out, said)
		}
		return out + said
	}
	run(0, "pull", r1, "--name", "before-storm", "--note", "the 40% mast was replaced")
	w.pull(other)
	w.fleet.amend(r1, "mwilks", "lane quay1", `note "a"`)
	w.pull(r1)
	w.fleet.amend(other, "okonkwo", "lane quay1", `note "b"`)
	w.pull(other)
	serial := w.versions(r1)[0].Serial
	w.sql("UPDATE versions SET taken_at = taken_at - INTERVAL 3 DAY WHERE number = 1")
	for _, c := range []struct {
		by   []string
		want []string // refs that are found
	}{
		{[]string{"all", "--find", "MAST storm"}, []string{r1 + "@1"}},
		{[]string{"all", "--find", "40%"}, []string{r1 + "@1"}},
		{[]string{"all", "--find", "4_%"}, nil},
		{[]string{"all", "--name", "before-*"}, []string{r1 + "@1"}},
		{[]string{"all", "--note", "replaced"}, []string{r1 + "@1"}},
		{[]string{"all", "--by", "okonkwo", "--part", "running"}, []string{other + "@2"}},
		{[]string{"all", "--by", "mwilks", "--part", "running"}, []string{r1 + "@2"}},
		{[]string{r1, "--serial", serial, "--part", "running"}, []string{r1 + "@1", r1 + "@2"}},
		{[]string{other, "--serial", serial}, nil},
		{[]string{"all", "--release", "4.*", "--reason", "first pull", "--part", "running"}, []string{r1 + "@1", other + "@1"}},
		{[]string{"all", "--since", "yesterday", "--part", "running"}, []string{r1 + "@2", other + "@2"}},
		{[]string{"all", "--until=-2d", "--part", "running"}, []string{r1 + "@1", other + "@1"}},
	} {
		out := run(0, append([]string{"versions"}, c.by...)...)
		for _, ref := range []string{r1 + "@1", r1 + "@2", other + "@1", other + "@2"} {
			has := strings.Contains(out, ref+" ")
			if has != slices.Contains(c.want, ref) {
				t.Errorf("%v: %s found: %v\n%s", c.by, ref, has, out)
			}
		}
	}
	run(2, "versions", "all", "--reason", "by magic")
	run(2, "versions", "all", "--since", "soon")
	if out := run(0, "versions", "name="+r1); !strings.Contains(out, r1+"@1") {
		t.Errorf("versions of a selector:\n%s", out)
	}
	run(2, "versions", "site=nowhere")
	// References: the first, what ran then, wherever one reads.
	if out := run(0, "show", r1+"@first"); out != run(0, "show", r1+"@1") {
		t.Errorf("%s", out)
	}
	if out := run(0, "show", r1+"@-1d"); !strings.Contains(out, r1+"@1") && !strings.Contains(out, "1 seen until") {
		t.Errorf("%s", out)
	}
	run(0, "show", r1+"@yesterday")
	day := time.Now().UTC().AddDate(0, 0, -3)
	early := time.Date(day.Year(), day.Month(), day.Day(), 0, 0, 0, 0, time.UTC)
	w.sql(fmt.Sprintf("UPDATE versions SET taken_at = '%s' WHERE number = 1", early.Add(30*time.Minute).Format("2006-01-02 15:04:05"))) // half past midnight in UTC
	before := early.AddDate(0, 0, -1).Format("2006-01-02")
	if out := run(2, "show", r1+"@"+before); !strings.Contains(out, "nothing was pulled by then") {
		t.Errorf("%s", out)
	}
	run(0, "show", r1+"@"+before+"[America/New_York]") // where that day ends five hours later
	run(0, "--in-zone", "America/New_York", "show", r1+"@"+before)
	if out := run(2, "--in-zone", "America/Newyork", "show", r1); !strings.Contains(out, "is not known") {
		t.Errorf("%s", out)
	}
	// A worksheet of what matters.
	if out := run(0, "worksheet", r1); !strings.Contains(out, "<h2>"+r1+"</h2>") || !strings.Contains(out, "10.12.40.1/22") || strings.Contains(out, "community") {
		t.Errorf("%s", out)
	}
	rows := must(csv.NewReader(strings.NewReader(run(0, "worksheet", "all", "--as", "csv", "--output", "-"))).ReadAll())(t)
	if len(rows) < 5 || rows[1][0] != other || rows[1][2] != "summary" || !strings.Contains(rows[1][3], "addresses: 5") ||
		!slices.ContainsFunc(rows, func(r []string) bool { return r[3] == "10.12.40.1/22" && r[4] == "lane guest / berth 10.12.40.1/22" }) {
		t.Errorf("%v", rows)
	}
	run(2, "worksheet", "all", "--as", "pdf")
}

// TestBounded: hour after hour devices are pulled by a schedule and nothing changes; what that
// leaves has its time, and no table grows but the audit log.
func TestBounded(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 3)
	must(w.admin.AddSchedule(ctx(t), client.NewSchedule{Name: "hourly", Rule: "every 1h", Zone: "UTC", Selector: []string{"all"}, Deeds: []client.Deed{{Kind: "pull"}}}))(t)
	db := must(sql.Open("mysql", w.dsn))(t)
	defer db.Close()
	rows := func() map[string]int {
		t.Helper()
		tables := must(db.Query("SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()"))(t)
		defer tables.Close()
		all := map[string]int{}
		for tables.Next() {
			var name string
			if err := tables.Scan(&name); err != nil {
				t.Fatal(err)
			}
			var n int
			if err := db.QueryRow("SELECT COUNT(*) FROM `" + name + "`").Scan(&n); err != nil {
				t.Fatal(err)
			}
			all[name] = n
		}
		return all
	}
	var before map[string]int
	for round := range 4 {
		for range 5 { // hours
			if j := w.end(must(w.admin.RunSchedule(ctx(t), "hourly", client.NewRun{}, ""))(t).ID); j.Outcome != "done" {
				t.Fatalf("%s: %s", j.Outcome, j.Summary)
			}
		}
		if n := rows()["jobs"]; round > 0 && n < before["jobs"]+15 {
			t.Fatalf("%d jobs: nothing was pulled", n)
		}
		// Two years go by.
		for _, s := range []string{"UPDATE jobs SET created_at = created_at - INTERVAL 2 YEAR, ended_at = ended_at - INTERVAL 2 YEAR WHERE state = 'ended'", "UPDATE commits SET at = at - INTERVAL 2 YEAR", "UPDATE asked SET at = at - INTERVAL 2 YEAR",
			"UPDATE schedule_runs SET due_at = due_at - INTERVAL 2 YEAR - INTERVAL " + fmt.Sprint(round) + " DAY", "UPDATE tellings SET at = at - INTERVAL 2 YEAR", "UPDATE sizes SET day = day - INTERVAL 3 YEAR - INTERVAL " + fmt.Sprint(round) + " DAY"} {
			w.sql(s)
		}
		if j := w.end(must(w.admin.Ask(ctx(t), client.NewJob{Kind: "retention"}, ""))(t).ID); j.Outcome != "done" {
			t.Fatalf("%s: %s", j.Outcome, j.Summary)
		}
		eventually(t, "what happened is gathered", func() bool { return rows()["events"] == 0 })
		after := rows()
		for name, n := range after {
			switch name {
			case "audit", "commits", "asked": // the first stays; the others are tidied by the hour, by their age
				continue
			}
			if round > 1 && n > before[name] {
				t.Errorf("%s grew from %d to %d rows", name, before[name], n)
			}
		}
		before = after
	}
}

// TestKilledInTheMiddle: the service is killed while versions are deleted, texts packed anew and
// read back; each goes on where it was, and every version that stays reads back.
func TestKilledInTheMiddle(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	text := w.show(r1 + "@1")
	var files []client.ImportFile
	want := map[string]string{}
	for i := range 160 {
		name := fmt.Sprintf("%s_running_2026%02d%02dT%02d0000Z_v1.cfg", r1, i/100+1, i%100/4+1, i%4*6)
		changed := strings.Replace(text, "note \"", fmt.Sprintf("note \"tide %d ", i), 1)
		files = append(files, client.ImportFile{File: name, Content: base64.StdEncoding.EncodeToString([]byte(changed))})
	}
	for _, x := range must(w.admin.ImportVersions(ctx(t), client.NewImport{Files: files}))(t) {
		if x.Became != "added" {
			t.Fatalf("%+v", x)
		}
	}
	for n := 1; n <= 161; n += 19 {
		want[fmt.Sprintf("%s@%d", r1, n)] = w.show(fmt.Sprintf("%s@%d", r1, n))
		if n > 1 {
			must(w.admin.SetMark(ctx(t), fmt.Sprintf("%s@%d", r1, n), client.Mark{Pin: ptr(true)}))(t)
		}
	}
	must(w.admin.SetRetention(ctx(t), "everything-else", client.NewRetention{Newest: 1, ByHand: 1}))(t)
	counted := w.contents
	was := counted()
	job := must(w.admin.Ask(ctx(t), client.NewJob{Kind: "retention"}, ""))(t).ID
	for range 3 {
		eventually(t, "something to be deleted", func() bool { return counted() < was || ended(t, w, job) })
		was = counted()
		w.kill()
		w.serve()
	}
	if j := w.end(job); j.Outcome != "done" {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	if n := len(must(w.admin.Versions(ctx(t), r1, "running", 0, 1000))(t)); n > 20 {
		t.Errorf("%d versions are left", n)
	}
	scrub := must(w.admin.Ask(ctx(t), client.NewJob{Kind: "scrub"}, ""))(t).ID
	w.kill()
	w.serve()
	if j := w.end(scrub); j.Outcome != "done" {
		t.Errorf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	for ref, text := range want {
		if got := w.show(ref); got != text {
			t.Errorf("%s reads back as another text", ref)
		}
	}
}

// ended tells whether a job is over.
func ended(t *testing.T, w *world, id string) bool {
	t.Helper()
	return must(w.admin.Job(ctx(t), id))(t).State == "ended"
}
