// Package e2e starts the real program, database, fleet and clients, and tries
// to break what they promise.
package e2e

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"

	"magpie/client"
	"magpie/internal/scratch"
	"magpie/internal/sim"
	"magpie/internal/sim/tern"
)

// Folders of the programs under test: of those that end by themselves, and of
// services, which are built with the race detector where MAGPIE_RACE is set.
var bin, serving string

// isUp is where a service says that it answers.
var isUp = regexp.MustCompile(`is up at (http://\S+)`)

func TestMain(m *testing.M) { os.Exit(testMain(m)) }

func testMain(m *testing.M) int {
	scratch.InMemory()
	dir, err := os.MkdirTemp("", "magpie-e2e-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	bin = dir
	all := []string{"magpie/cmd/magpie", "magpie/cmd/magpie-sim", "magpie/e2e/testdata/kettle"}
	builds := [][]string{append([]string{"build", "-o", bin + "/"}, all...)}
	serving = bin
	os.Setenv("GOGC", "400") // there is memory enough, and a hundred services; those whose memory is measured leave it out
	if os.Getenv("MAGPIE_RACE") != "" {
		serving = filepath.Join(bin, "race")
		builds = append(builds, append([]string{"build", "-race", "-o", serving + "/"}, all...))
		os.Setenv("GORACE", "atexit_sleep_ms=0") // a program that ends sleeps for a second otherwise, and here they end by the hundred
	}
	for _, args := range builds {
		if out, err := exec.Command("go", args...).CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "building: %v\n%s", err, out)
			return 1
		}
	}
	return scratch.Main(m)
}

// world is a fleet, a service and its admin.
type world struct {
	t     testing.TB // of the test that runs now
	top   testing.TB // of the test that ends last
	dir   string
	dsn   string // empty: the service has a server of its own
	env   []string
	fleet *fleet
	proc  *proc
	url   string
	admin *client.Client
	extra []string // arguments of serve
	name  string   // of the program
	cwd   string   // where commands are run; empty: here
	word  string   // admin's password, if another one than the first was chosen

	families string // besides routers
}

type option func(*world)

// ownDatabase makes the service start its own MariaDB.
func ownDatabase(w *world) { w.dsn = "" }

// withProgram runs another program than the one that ships.
func withProgram(name string) option {
	return func(w *world) {
		w.name = name
	}
}

func withDialects(dir string) option {
	return func(w *world) { w.extra = append(w.extra, "--dialects", dir) }
}

// withFamilies puts devices of other families up too.
func withFamilies(names string) option {
	return func(w *world) { w.families = names }
}

const adminWord = "a word for tests"

// newWorld starts so many routers and a service with them registered, not yet
// pulled.
func newWorld(t testing.TB, routers int, opts ...option) *world {
	t.Helper()
	w := &world{t: t, top: t, dir: t.TempDir(), dsn: "shared", name: "magpie"}
	for _, o := range opts {
		o(w)
	}
	if w.dsn == "shared" {
		w.dsn = scratch.Database(t)
	}
	w.fleet = startFleet(t, filepath.Join(w.dir, "fleet"), routers, w.families)
	w.serve()
	for _, p := range w.fleet.places {
		w.register(p, p.Family)
	}
	return w
}

// on is the world for a test within its own: what fails there fails that.
func (w *world) on(t testing.TB) *world {
	in := *w
	fleet := *w.fleet
	in.t, fleet.t, in.fleet = t, t, &fleet
	return &in
}

func (w *world) register(p sim.Place, dialect string) {
	w.t.Helper()
	must(w.admin.AddDevice(ctx(w.t), w.entry(p, dialect)))(w.t)
}

// entry is a place as it is registered.
func (w *world) entry(p sim.Place, dialect string) client.NewDevice {
	w.t.Helper()
	way := must(w.admin.Dialect(ctx(w.t), dialect))(w.t).Ways[0]
	probe := must(w.admin.Probe(ctx(w.t), way.Transport, p.Address, p.Port))(w.t)
	return client.NewDevice{Name: p.Name, Address: p.Address, Port: p.Port, Dialect: dialect, HostKey: probe.HostKey,
		User: sim.ServiceUser, Password: sim.ServiceWord, Privileged: sim.MastWord}
}

// sql runs a statement on the world's database.
func (w *world) sql(statement string) {
	w.t.Helper()
	db, err := sql.Open("mysql", w.dsn)
	if err != nil {
		w.t.Fatal(err)
	}
	defer db.Close()
	for try := 0; ; try++ {
		_, err := db.Exec(statement)
		if err == nil {
			if w.proc != nil {
				_ = w.proc.cmd.Process.Signal(syscall.SIGUSR1) // it need not wait until it looks by itself
			}
			return
		}
		if try == 20 || !strings.Contains(err.Error(), "Error 1213") { // the service and the test wait for each other's rows
			w.t.Fatal(err)
		}
	}
}

// alongside runs a test's parts beside each other, and beside whatever else runs:
// they wait more than they work, and take no place from others.
func alongside[P any](t *testing.T, parts []P, name func(P) string, run func(*testing.T, P)) {
	t.Helper()
	var all sync.WaitGroup
	for _, p := range parts {
		all.Go(func() { t.Run(name(p), func(t *testing.T) { run(t, p) }) })
	}
	all.Wait()
}

// must unwraps a result, failing the test on an error.
func must[T any](v T, err error) func(testing.TB) T {
	return func(t testing.TB) T {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
}

func ctx(t testing.TB) context.Context {
	c, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	t.Cleanup(cancel)
	return c
}

// serve starts the service on the world's data folder, again if need be.
func (w *world) serve() {
	w.t.Helper()
	env := append(os.Environ(), w.env...)
	if w.dsn != "" {
		env = append(env, "MAGPIE_DATABASE="+w.dsn)
	}
	w.proc = startProgram(w.top, env, filepath.Join(serving, w.name), append([]string{"serve", "--listen", "127.0.0.1:0", "--data", filepath.Join(w.dir, "data")}, w.extra...)...)
	w.url = w.proc.waitFor(isUp)
	known(w.url, w.name)
	if w.admin == nil {
		w.admin = w.as("admin", w.firstPassword())
		if w.dsn != "" {
			w.sql("UPDATE users SET must_change = FALSE") // TestOwnPassword chooses another one, which takes time
		} else {
			must(w.admin.SetOwnPassword(ctx(w.t), client.NewPassword{Old: w.firstPassword(), New: adminWord}))(w.t)
			w.word = adminWord
		}
	} else { // signed in before it was started again
		again := *w.admin
		again.URL, again.HTTP = w.url, &http.Client{Transport: described{w.t}}
		w.admin = &again
	}
}

// another starts a second instance on the same database, and returns admin's client
// of it.
func (w *world) another() (*client.Client, *proc) {
	w.t.Helper()
	p := start(w.top, append(os.Environ(), "MAGPIE_DATABASE="+w.dsn, "MAGPIE_MASTER_KEY_FILE="+filepath.Join(w.dir, "data", "master.key")),
		"serve", "--listen", "127.0.0.1:0", "--data", filepath.Join(w.dir, "second"))
	return &client.Client{URL: p.waitFor(isUp), Token: w.admin.Token}, p
}

// firstPassword is admin's: the one given at the first start, if no other was chosen.
func (w *world) firstPassword() string {
	if w.word != "" {
		return w.word
	}
	raw, err := os.ReadFile(filepath.Join(w.dir, "data", "admin.password"))
	if err != nil {
		w.t.Fatal(err)
	}
	return strings.TrimSpace(string(raw))
}

// as signs a user in. Every call of the client is held to the API's description.
func (w *world) as(user, password string) *client.Client {
	w.t.Helper()
	c := &client.Client{URL: w.url, HTTP: &http.Client{Transport: described{w.t}}}
	g, err := c.Login(ctx(w.t), client.Login{User: user, Password: password})
	if err != nil {
		w.t.Fatal(err)
	}
	c.Token = g.Token
	return c
}

// addUser makes a user and signs them in.
func (w *world) addUser(name, role string) *client.Client {
	w.t.Helper()
	must(w.admin.AddUser(ctx(w.t), client.NewUser{Name: name, Role: role, Password: "words for " + name, Lasting: true}))(w.t)
	return w.as(name, "words for "+name)
}

// kill ends the service as a power cut would.
func (w *world) kill() { w.proc.kill() }

// cli runs the command line as admin and returns what it wrote and its exit
// status.
func (w *world) cli(args ...string) (stdout, stderr string, status int) {
	w.t.Helper()
	return w.cliAs(w.admin, args...)
}

func (w *world) cliAs(c *client.Client, args ...string) (stdout, stderr string, status int) {
	w.t.Helper()
	cmd := exec.Command(filepath.Join(bin, "magpie"), args...)
	var out, err bytes.Buffer
	cmd.Stdout, cmd.Stderr, cmd.Dir = &out, &err, w.cwd
	cmd.Env = append(os.Environ(), "HOME="+w.dir, "XDG_CONFIG_HOME="+w.dir, "TZ=UTC", "MAGPIE_URL="+w.url, "MAGPIE_TOKEN="+c.Token,
		"MAGPIE_DEVICE_PASSWORD="+sim.ServiceWord, "MAGPIE_DEVICE_PRIVILEGED_SECRET="+sim.MastWord)
	if e := cmd.Run(); e != nil && cmd.ProcessState == nil {
		w.t.Fatal(e)
	}
	return out.String(), err.String(), cmd.ProcessState.ExitCode()
}

// pull pulls one device and returns the ended job.
func (w *world) pull(device string) client.Job {
	w.t.Helper()
	jobs := must(w.admin.Pull(ctx(w.t), []string{device}, ""))(w.t)
	return w.end(jobs[0].ID)
}

// end waits for a job to end.
func (w *world) end(id string) client.Job {
	w.t.Helper()
	return must(w.admin.Watch(ctx(w.t), id, nil, nil))(w.t)
}

// preview makes a preview and returns it.
func (w *world) preview(p client.NewPreview) client.Preview {
	w.t.Helper()
	j := w.end(must(w.admin.NewPreview(ctx(w.t), p))(w.t).ID)
	if j.Outcome != "done" {
		w.t.Fatalf("preview ended %s: %s", j.Outcome, j.Summary)
	}
	return must(w.admin.Preview(ctx(w.t), j.Preview))(w.t)
}

// begin previews and begins a push of a reference.
func (w *world) begin(ref string) client.Job {
	w.t.Helper()
	p := w.preview(client.NewPreview{Ref: ref})
	return must(w.admin.Push(ctx(w.t), client.NewPush{Preview: p.ID, Hash: p.Hash}, ""))(w.t)
}

// push pushes a reference and returns the ended job.
func (w *world) push(ref string) client.Job {
	w.t.Helper()
	return w.end(w.begin(ref).ID)
}

func (w *world) logText(id string) string {
	w.t.Helper()
	var b strings.Builder
	for _, e := range must(w.admin.Log(ctx(w.t), id, 0))(w.t) {
		fmt.Fprintf(&b, "%s: %s\n", e.Kind, e.Text)
	}
	return b.String()
}

func (w *world) versions(device string) []client.Version {
	w.t.Helper()
	return must(w.admin.Versions(ctx(w.t), device, "running", 0, 1000))(w.t)
}

// proc is a running program.
type proc struct {
	t    testing.TB
	cmd  *exec.Cmd
	mu   sync.Mutex
	out  bytes.Buffer
	gone chan struct{}
}

func (p *proc) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.out.Write(b)
}

func (p *proc) said() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.out.String()
}

func start(t testing.TB, env []string, args ...string) *proc {
	t.Helper()
	return startProgram(t, env, filepath.Join(serving, "magpie"), args...)
}

func startProgram(t testing.TB, env []string, name string, args ...string) *proc {
	t.Helper()
	p := &proc{t: t, cmd: exec.Command(name, args...), gone: make(chan struct{})}
	p.cmd.Env, p.cmd.Stdout, p.cmd.Stderr = env, p, p
	if err := p.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	go func() { _ = p.cmd.Wait(); close(p.gone) }()
	t.Cleanup(func() {
		p.stop()
		if strings.Contains(p.said(), "DATA RACE") {
			t.Errorf("%s raced:\n%s", name, p.said())
		}
		if strings.Contains(p.said(), "broke down") {
			t.Errorf("%s broke down:\n%s", name, p.said())
		}
	})
	return p
}

// stop asks the program to end and waits.
func (p *proc) stop() {
	_ = p.cmd.Process.Signal(syscall.SIGINT)
	select {
	case <-p.gone:
	case <-time.After(60 * time.Second):
		p.t.Errorf("it does not stop:\n%s", p.said())
		p.kill()
	}
}

func (p *proc) kill() {
	_ = p.cmd.Process.Kill()
	<-p.gone
}

// waitFor waits until the program says something and returns the first group.
func (p *proc) waitFor(re *regexp.Regexp) string {
	p.t.Helper()
	for end := time.Now().Add(2 * time.Minute); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		if m := re.FindStringSubmatch(p.said()); m != nil {
			return m[len(m)-1]
		}
		select {
		case <-p.gone:
			p.t.Fatalf("it ended without saying %s:\n%s", re, p.said())
		default:
		}
	}
	p.t.Fatalf("it does not say %s:\n%s", re, p.said())
	return ""
}

// fleet is the simulator.
type fleet struct {
	t      testing.TB
	url    string
	places []sim.Place
}

func startFleet(t testing.TB, dir string, n int, families string) *fleet {
	t.Helper()
	p := startProgram(t, os.Environ(), filepath.Join(bin, "magpie-sim"), "-data", dir, "-devices", fmt.Sprint(n), "-families", families)
	f := &fleet{t: t, url: p.waitFor(regexp.MustCompile(`control at (\S+)`))}
	f.call("GET", "/devices", nil, &f.places)
	return f
}

func (f *fleet) call(method, path string, body, into any) {
	f.t.Helper()
	raw, _ := json.Marshal(body)
	if body == nil {
		raw = nil
	}
	req, err := http.NewRequest(method, f.url+path, bytes.NewReader(raw))
	if err != nil {
		f.t.Fatal(err)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		f.t.Fatal(err)
	}
	defer res.Body.Close()
	all, _ := io.ReadAll(res.Body)
	if res.StatusCode != 200 {
		f.t.Fatalf("simulator: %s %s: %s", method, path, all)
	}
	if into != nil {
		if err := json.Unmarshal(all, into); err != nil {
			f.t.Fatal(err)
		}
	}
}

func (f *fleet) faults(device string, faults tern.Faults) {
	f.t.Helper()
	f.call("POST", "/devices/"+device+"/faults", faults, nil)
}

func (f *fleet) amend(device, by string, lines ...string) {
	f.t.Helper()
	f.call("POST", "/devices/"+device+"/amend", map[string]any{"by": by, "lines": lines}, nil)
}

func (f *fleet) stow(device string) {
	f.t.Helper()
	f.call("POST", "/devices/"+device+"/stow", nil, nil)
}

func (f *fleet) status(device string) tern.Status {
	f.t.Helper()
	var p sim.Place
	f.call("GET", "/devices/"+device, nil, &p)
	return p.Status
}

func (f *fleet) running(device string) string {
	f.t.Helper()
	return strings.Join(f.status(device).Running, "\n")
}

func (f *fleet) place(device string) sim.Place {
	for _, p := range f.places {
		if p.Name == device {
			return p
		}
	}
	f.t.Fatalf("no place %s", device)
	return sim.Place{}
}

// waitHolding waits until a device holds a line.
func (f *fleet) waitHolding(device string) {
	f.t.Helper()
	eventually(f.t, "the device holds a line", func() bool { return f.status(device).Holding })
}

func eventually(t testing.TB, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(60 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		if ok() {
			return
		}
	}
	t.Fatalf("in a minute it never came about that %s", what)
}

// ssh types lines at a device with the OpenSSH client, as a person would, and
// returns all that was shown.
func (w *world) ssh(device string, lines ...string) string {
	w.t.Helper()
	cmd, badge := w.sshClient(device)
	cmd.Stdin = strings.NewReader(strings.Join(append([]string{"aloft", sim.MastWord, "sheet endless"}, append(lines, "bye")...), "\n") + "\n")
	out, err := cmd.CombinedOutput()
	if err != nil {
		w.t.Fatalf("ssh: %v: %s", err, out)
	}
	w.fleet.amend(device, sim.PersonUser, "crew "+sim.PersonUser, "cancel "+badge)
	return string(out)
}

// holdOpen does so and stays there, in the mode that keeps others out, until
// the function returned is called.
func (w *world) holdOpen(device string, lines ...string) (leave func()) {
	w.t.Helper()
	cmd, _ := w.sshClient(device)
	in, err := cmd.StdinPipe()
	if err != nil {
		w.t.Fatal(err)
	}
	var said lockedBuffer
	cmd.Stdout, cmd.Stderr = &said, &said
	if err := cmd.Start(); err != nil {
		w.t.Fatal(err)
	}
	fmt.Fprint(in, strings.Join(lines, "\n")+"\n")
	eventually(w.t, "a person is in amend mode", func() bool { return strings.Contains(said.String(), " chart ~~ ") })
	return func() { _ = in.Close(); _ = cmd.Process.Kill(); _ = cmd.Wait() }
}

type lockedBuffer struct {
	mu sync.Mutex
	b  strings.Builder
}

func (l *lockedBuffer) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(b)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// sshClient makes the OpenSSH client ready, with a key that the device knows by
// the line returned.
func (w *world) sshClient(device string) (cmd *exec.Cmd, badge string) {
	w.t.Helper()
	key := filepath.Join(w.dir, "person")
	if _, err := os.Stat(key); err != nil {
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key).CombinedOutput(); err != nil {
			w.t.Fatalf("%v: %s", err, out)
		}
	}
	raw, err := os.ReadFile(key + ".pub")
	if err != nil {
		w.t.Fatal(err)
	}
	f := strings.Fields(string(raw))
	badge = "badge " + f[0] + " " + f[1]
	w.fleet.amend(device, sim.PersonUser, "crew "+sim.PersonUser, badge)
	p := w.fleet.place(device)
	cmd = exec.Command("ssh", "-T", "-i", key, "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null", "-o", "LogLevel=ERROR",
		"-p", fmt.Sprint(p.Port), sim.PersonUser+"@"+p.Address)
	return cmd, badge
}
