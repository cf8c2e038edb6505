package e2e

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"

	"magpie/client"
	"magpie/internal/seal"
)

// TestBackup: the whole service in one file, proved in a scratch database, restored onto an empty
// data folder: devices, credentials and schedules work, every text is as it was. A file that was
// cut off, altered, of a newer release or under another key is refused, and nothing is half
// restored; a restore that was killed goes on.
func TestBackup(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 2, ownDatabase)
	other := w.fleet.places[1].Name
	vault := t.TempDir()
	run := func(status int, args ...string) string {
		t.Helper()
		out, said, got := w.cli(args...)
		if got != status {
			t.Errorf("magpie %s: status %d\n%s%s", strings.Join(args, " "), got, out, said)
		}
		return out + said
	}
	w.pull(r1)
	w.pull(other)
	for i := range 6 {
		w.fleet.amend(r1, "mwilks", "lane quay1", `note "tide `+string(rune('a'+i))+`"`)
		w.pull(r1)
	}
	run(0, "mark", r1+"@3", "--name", "third", "--note", "kept for the winter", "--baseline")
	run(0, "schedule", "add", "nightly", "daily 02:00", "all", "--zone", "UTC", "--yes")
	run(0, "snapshot", "make", "before", "all")
	lookout := w.addUser("lookout", "reader")
	run(0, "target", "add", "vault", "folder", vault)
	w.inStep("vault")
	texts := map[string]string{}
	for _, v := range append(w.versions(r1), w.versions(other)...) {
		texts[v.Ref] = w.show(v.Ref)
	}

	if out := run(0, "backup", "list"); !strings.Contains(out, "None was made yet") {
		t.Errorf("%s", out)
	}
	run(2, "backup", "test")
	run(2, "backup", "make")
	run(2, "backup", "make", "--to", "valt")
	for range 3 {
		run(0, "backup", "make", "--to", "vault", "--keep", "2")
	}
	run(0, "backup", "make", "--to", "vault", "--settings-only")
	if files, _ := filepath.Glob(filepath.Join(vault, "backups", "*.age")); len(files) != 3 {
		t.Errorf("%v", files)
	}
	// There is one scratch database: tests wait for each other, and none spoils another's.
	var together sync.WaitGroup
	for range 3 {
		together.Go(func() { run(0, "backup", "test") })
	}
	together.Wait()
	if out := run(0, "backup", "list"); strings.Contains(out, "bad") || strings.Contains(out, "not proven") {
		t.Errorf("%s", out)
	}
	if out := run(0, "backup", "test"); !strings.Contains(out, "every hash equal") || !strings.Contains(out, "10 texts read back") {
		t.Errorf("%s", out)
	}
	if out := run(0, "status"); !strings.Contains(out, "and last proved") {
		t.Errorf("%s", out)
	}
	all := must(w.admin.Backups(ctx(t)))(t)
	if len(all) != 3 || all[0].History || all[1].ProvenAt == nil || all[1].Versions < len(texts) || all[2].ProvenAt != nil {
		t.Errorf("%+v", all)
	}
	if _, err := lookout.Backups(ctx(t)); !client.IsStatus(err, 403) {
		t.Errorf("a reader lists backups: %v", err)
	}
	if _, err := lookout.WriteBackup(ctx(t), client.NewBackup{}, io.Discard); !client.IsStatus(err, 403) {
		t.Errorf("a reader backs up: %v", err)
	}

	w.cwd = t.TempDir()
	run(0, "backup", "make", "--output", "whole.backup.age")
	if out := run(2, "backup", "make", "--output", "whole.backup.age"); !strings.Contains(out, "nothing was overwritten") {
		t.Errorf("%s", out)
	}
	file := filepath.Join(w.cwd, "whole.backup.age")
	key := filepath.Join(w.dir, "data", "master.key")
	data := filepath.Join(w.cwd, "elsewhere")
	if out := run(0, "backup", "check", file, "--data", data, "--master-key", key); !strings.Contains(out, "everything, with its history") || !strings.Contains(out, "yes: ") || strings.Contains(out, "in the way") {
		t.Errorf("%s", out)
	}

	// What is no whole backup of this service is refused, and leaves nothing.
	raw := must(os.ReadFile(file))(t)
	bad := func(name string, content []byte) string {
		t.Helper()
		path := filepath.Join(w.cwd, name)
		if err := os.WriteFile(path, content, 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	if out := run(0, "backup", "check", bad("piped.age", []byte(run(0, "backup", "make", "--output", "-"))), "--data", data, "--master-key", key); !strings.Contains(out, "yes: ") {
		t.Errorf("%s", out)
	}
	flipped := bytes.Clone(raw)
	flipped[len(flipped)/2] ^= 1
	wrong := filepath.Join(w.cwd, "wrong.key")
	if err := seal.NewMaster().Write(wrong); err != nil {
		t.Fatal(err)
	}
	master := must(seal.ReadMaster(key))(t)
	for _, c := range []struct{ file, key, says string }{
		{bad("cut.age", raw[:len(raw)*2/3]), key, "cut off"},
		{bad("end.age", raw[:len(raw)-1]), key, "cut off"},
		{bad("flipped.age", flipped), key, "cut off, or was changed"},
		{bad("text.age", []byte("no backup at all\n")), key, "no backup of a service"},
		{bad("empty.age", nil), key, "no backup of a service"},
		{file, wrong, "does not open with this key"},
		{file, filepath.Join(w.cwd, "absent.key"), "the master key is missing"},
		{bad("newer.age", amended(t, raw, master, regexp.MustCompile(`"schema": \d+`), `"schema": 9999`)), key, "a newer version"},
		{bad("form.age", amended(t, raw, master, regexp.MustCompile(`"format": 1`), `"format": 2`)), key, "a newer version"},
		{bad("row.age", amended(t, raw, master, regexp.MustCompile(`kept for the winter`), `kept for the summer`)), key, "or others"},
	} {
		out := run(2, "backup", "restore", c.file, "--data", data, "--master-key", c.key)
		if !strings.Contains(out, c.says) {
			t.Errorf("%s: %s", filepath.Base(c.file), out)
		}
		if _, err := os.Stat(filepath.Join(data, "db")); err == nil {
			t.Fatalf("%s: a database was begun", filepath.Base(c.file))
		}
	}
	if out := run(2, "backup", "restore", file, "--data", filepath.Join(w.dir, "data")); !strings.Contains(out, "in use by another magpie") {
		t.Errorf("into a service that runs: %s", out)
	}

	// A restore that is killed goes on where it was; nothing runs on half of it.
	p := start(t, append(os.Environ(), "TZ=UTC"), "backup", "restore", file, "--data", data, "--master-key", key)
	p.waitFor(regexp.MustCompile(`(contents|devices|parts): \d+ rows, as they were`))
	p.kill()
	if out := run(2, "serve", "--data", data, "--master-key", key, "--listen", "127.0.0.1:0"); !strings.Contains(out, "was broken off") {
		t.Errorf("half of it is served: %s", out)
	}
	run(0, "backup", "restore", file, "--data", data, "--master-key", key)
	if out := run(2, "backup", "restore", file, "--data", data, "--master-key", key); !strings.Contains(out, "the database is not empty") {
		t.Errorf("twice: %s", out)
	}

	// The service that it is of is gone; the other one goes on in its place.
	w.proc.stop()
	two := *w
	two.dir, two.dsn = w.cwd, ""
	if err := os.Rename(data, filepath.Join(two.dir, "data")); err != nil {
		t.Fatal(err)
	}
	if err := os.Link(key, filepath.Join(two.dir, "data", "master.key")); err != nil {
		t.Fatal(err)
	}
	two.serve()
	two.admin = two.as("admin", w.word)
	for ref, want := range texts {
		if got := two.show(ref); got != want {
			t.Errorf("%s is another text", ref)
		}
	}
	v := must(two.admin.Text(ctx(t), r1+"@third"))(t).Version
	if v.Number != 3 || v.Note != "kept for the winter" || !v.Baseline || v.Author != "mwilks" {
		t.Errorf("%+v", v)
	}
	if s := must(two.admin.Schedule(ctx(t), "nightly"))(t); len(s.Next) == 0 {
		t.Errorf("%+v", s)
	}
	if s := must(two.admin.Snapshot(ctx(t), "before"))(t); len(s.Versions) == 0 {
		t.Errorf("%+v", s)
	}
	if _, err := lookout.Me(ctx(t)); err == nil {
		t.Error("a token of the old address answers")
	}
	two.fleet.amend(r1, "okonkwo", "lane quay1", `note "on the new machine"`)
	if j := two.pull(r1); j.Outcome != "done" || two.versions(r1)[0].Number != 8 {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	if j := two.push(r1 + "@third"); j.Outcome != "verified" {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	two.inStep("vault")
	if a := must(two.admin.CheckAudit(ctx(t), ""))(t); !a.Sound {
		t.Errorf("%+v", a)
	}
	page := must(two.admin.Audit(ctx(t), client.AuditFilter{}, 0, 1000))(t)
	found := false
	for _, x := range page.Items {
		found = found || x.Action == "service restored"
	}
	if !found {
		t.Error("the audit log does not say that the service was restored")
	}
}

// amended is a backup in which something was changed by who has the key.
func amended(t *testing.T, raw []byte, master seal.Master, what *regexp.Regexp, with string) []byte {
	t.Helper()
	z := must(zstd.NewReader(must(age.Decrypt(bytes.NewReader(raw), master.Identity()))(t)))(t)
	defer z.Close()
	plain := must(io.ReadAll(z))(t)
	at := what.FindIndex(plain)
	if at == nil {
		t.Fatalf("%v is not in it", what)
	}
	word := []byte(with)
	if pad := at[1] - at[0] - len(word); pad > 0 { // its length is in the archive's head
		word = append(word, bytes.Repeat([]byte(" "), pad)...)
	} else if pad < 0 { // of the blanks at the beginning of the next line
		rest := bytes.Index(plain[at[1]:], []byte("\n  "))
		plain = append(plain[:at[1]+rest+1:at[1]+rest+1], plain[at[1]+rest+1-pad:]...)
	}
	plain = append(plain[:at[0]:at[0]], append(word, plain[at[1]:]...)...)
	var out bytes.Buffer
	w := must(age.Encrypt(&out, master.Identity().Recipient()))(t)
	packed := must(zstd.NewWriter(w))(t)
	if _, err := packed.Write(plain); err != nil {
		t.Fatal(err)
	}
	if err := packed.Close(); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// TestSettingsBackup: without history, devices and credentials come back and are pulled anew.
func TestSettingsBackup(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1, ownDatabase)
	w.pull(r1)
	w.cwd = t.TempDir()
	file := filepath.Join(w.cwd, "settings.backup.age")
	if _, said, status := w.cli("backup", "make", "--settings-only", "--output", file); status != 0 {
		t.Fatal(said)
	}
	data := filepath.Join(w.cwd, "data")
	if err := os.Mkdir(data, 0o700); err != nil {
		t.Fatal(err)
	}
	words := filepath.Join(w.cwd, "words")
	m := must(seal.ReadMaster(filepath.Join(w.dir, "data", "master.key")))(t)
	if err := os.WriteFile(words, []byte(strings.Join(m.Words(), " ")), 0o600); err != nil {
		t.Fatal(err)
	}
	// All that is left is the sheet of paper and the file.
	for _, args := range [][]string{{"key", "restore", "--words-file", words, "--to", filepath.Join(data, "master.key")}, {"backup", "restore", file, "--data", data}} {
		if out, said, status := w.cli(args...); status != 0 {
			t.Fatalf("%v: %s%s", args, out, said)
		}
	}
	w.proc.stop()
	two := *w
	two.dir, two.dsn = w.cwd, ""
	two.serve()
	two.admin = two.as("admin", w.word)
	if d := must(two.admin.Device(ctx(t), r1))(t); d.State != "never pulled" || d.Latest != 0 {
		t.Errorf("%+v", d)
	}
	if j := two.pull(r1); j.Outcome != "done" || two.versions(r1)[0].Number != 1 {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
}

// TestBackupBySchedule: a backup is made and proved by a schedule.
func TestBackupBySchedule(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	vault := t.TempDir()
	must(w.admin.AddTarget(ctx(t), client.NewTarget{Name: "vault", Kind: "folder", Where: vault}))(t)
	n := client.NewSchedule{Name: "sunday", Rule: "weekly sun 03:00", Zone: "UTC", Selector: []string{"all"}, Deeds: []client.Deed{{Kind: "backup", With: map[string]string{"to": "valt"}}, {Kind: "backup-test"}}}
	if _, err := w.admin.AddSchedule(ctx(t), n); err == nil || !strings.Contains(err.Error(), "did you mean vault?") {
		t.Errorf("%v", err)
	}
	n.Deeds[0].With["to"] = "vault"
	must(w.admin.AddSchedule(ctx(t), n))(t)
	if j := w.end(must(w.admin.RunSchedule(ctx(t), "sunday", client.NewRun{}, ""))(t).ID); j.Outcome != "done" {
		t.Fatalf("%s: %s\n%s", j.Outcome, j.Summary, w.logText(j.ID))
	}
	eventually(t, "the backup to be proved", func() bool {
		all := must(w.admin.Backups(ctx(t)))(t)
		return len(all) == 1 && all[0].ProvenAt != nil && time.Since(*all[0].ProvenAt) < time.Minute
	})
	// One text that is damaged keeps no backup from being proved; one that was, and is whole here now, does.
	w.pull(r1)
	w.sql(flipped(1))
	run := func(status int, says string, args ...string) {
		t.Helper()
		if out, said, got := w.cli(args...); got != status || !strings.Contains(out+said, says) {
			t.Errorf("magpie %s: status %d\n%s%s", strings.Join(args, " "), got, out, said)
		}
	}
	run(0, "", "backup", "make", "--to", "vault")
	run(0, "1 text does not, and here neither: "+r1+"@1", "backup", "test")
	w.sql(flipped(1))
	run(1, r1+"@1 reads back here and not in the backup", "backup", "test")
	run(0, "", "backup", "make", "--to", "vault")
	run(0, "every hash equal, 2 texts read back", "backup", "test")
}

// TestMoved: devices go from one service to another with credentials and all versions, numbers,
// names, baselines; names are matched first, and what clashes takes nothing.
func TestMoved(t *testing.T) {
	t.Parallel()
	w, two := newWorld(t, 2), newWorld(t, 1)
	other := w.fleet.places[1].Name
	w.pull(other)
	for i := range 5 {
		w.fleet.amend(r1, "mwilks", "lane quay1", `note "tide `+string(rune('a'+i))+`"`)
		w.pull(r1)
	}
	must(w.admin.SetMark(ctx(t), r1+"@3", client.Mark{Name: ptr("third"), Note: ptr("kept"), Baseline: ptr(true)}))(t)
	w.cwd, two.cwd = t.TempDir(), t.TempDir()
	run := func(w *world, status int, args ...string) string {
		t.Helper()
		out, said, got := w.cli(args...)
		if got != status {
			t.Errorf("magpie %s: status %d\n%s%s", strings.Join(args, " "), got, out, said)
		}
		return out + said
	}
	to := strings.TrimSpace(run(two, 0, "device", "recipient"))
	// One that is damaged holds nothing up: it stays behind.
	w.sql(flipped(2))
	lacking := filepath.Join(w.cwd, "lacking")
	if err := os.WriteFile(lacking, []byte(run(w, 0, "device", "transfer-out", other, r1, "--recipient", to, "--output", "-")), 0o600); err != nil {
		t.Fatal(err)
	}
	if out := run(two, 0, "device", "transfer-in", lacking, "--preview", "--rename", r1+"=harbour-r1"); !strings.Contains(out, "without "+r1+"@3, "+r1+"@2: damaged there") {
		t.Errorf("%s", out)
	}
	w.sql(flipped(2))
	run(w, 2, "device", "transfer-out", "all", "--recipient", "age1nobody")
	file := filepath.Join(w.cwd, "quay.devices.age")
	run(w, 0, "device", "transfer-out", "all", "--recipient", to, "--output", file)
	if out := run(w, 2, "device", "transfer-in", file); !strings.Contains(out, "sealed to another service") {
		t.Errorf("%s", out)
	}
	raw := must(os.ReadFile(file))(t)
	if bytes.Contains(raw, []byte("lane quay1")) {
		t.Error("it can be read")
	}
	cut := filepath.Join(two.cwd, "cut")
	if err := os.WriteFile(cut, raw[:len(raw)-100], 0o600); err != nil {
		t.Fatal(err)
	}
	if out := run(two, 2, "device", "transfer-in", cut); !strings.Contains(out, "cut off") {
		t.Errorf("%s", out)
	}
	// The other service has a device of that name.
	out := run(two, 1, "device", "transfer-in", file, "--preview")
	if !strings.Contains(out, "has the name of a device that is here already") || !strings.Contains(out, "Nothing was taken") {
		t.Errorf("%s", out)
	}
	run(two, 2, "device", "transfer-in", file)
	run(two, 2, "device", "transfer-in", file, "--rename", "nobody=x")
	if n := len(must(two.admin.Devices(ctx(t), nil))(t)); n != 1 {
		t.Fatalf("%d devices", n)
	}
	run(two, 0, "device", "transfer-in", file, "--rename", r1+"=harbour-r1")
	for _, v := range append(w.versions(r1), w.versions(other)...) {
		ref := strings.Replace(v.Ref, r1, "harbour-r1", 1)
		x := must(two.admin.Text(ctx(t), ref))(t)
		if x.Text != w.show(v.Ref) {
			t.Errorf("%s is another text", ref)
		}
		if y := x.Version; y.Author != v.Author || !y.TakenAt.Equal(v.TakenAt) || y.Reason != v.Reason || y.Name != v.Name || y.Baseline != v.Baseline || y.Number != v.Number || y.Serial != v.Serial {
			t.Errorf("%+v is not %+v", y, v)
		}
	}
	// It is pulled with the credential that came along, and goes on counting.
	w.fleet.amend(r1, "okonkwo", "lane quay1", `note "at the other service"`)
	if j := two.pull("harbour-r1"); j.Outcome != "done" || two.versions("harbour-r1")[0].Number != 6 {
		t.Errorf("%s: %s", j.Outcome, j.Summary)
	}
	if out := run(two, 1, "device", "transfer-in", file, "--preview", "--leave", other, "--rename", r1+"=harbour-r2"); !strings.Contains(out, "as harbour-r1 is, which is here already") || !strings.Contains(out, "left out") {
		t.Errorf("%s", out)
	}
}

func ptr[T any](v T) *T { return &v }
