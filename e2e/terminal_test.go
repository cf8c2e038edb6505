package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"magpie/client"
	"magpie/internal/sim/tern"
)

// terminal is a program that runs at a terminal, with somebody before it.
type terminal struct {
	t    *testing.T
	far  *os.File
	said lockedBuffer
	cmd  *exec.Cmd
	gone chan struct{} // closed when the program has ended
	read chan struct{} // closed when all that it wrote was read
}

// atTerminal runs the command line as a person does, in a terminal of so many
// columns.
func (w *world) atTerminal(t *testing.T, columns uint16, args ...string) *terminal {
	t.Helper()
	far, err := os.OpenFile("/dev/ptmx", os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		t.Skipf("no terminals here: %v", err)
	}
	if err := unix.IoctlSetPointerInt(int(far.Fd()), unix.TIOCSPTLCK, 0); err != nil {
		t.Fatal(err)
	}
	n, err := unix.IoctlGetInt(int(far.Fd()), unix.TIOCGPTN)
	if err != nil {
		t.Fatal(err)
	}
	if err := unix.IoctlSetWinsize(int(far.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: 40, Col: columns}); err != nil {
		t.Fatal(err)
	}
	near, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	x := &terminal{t: t, far: far, gone: make(chan struct{}), read: make(chan struct{}), cmd: exec.Command(filepath.Join(serving, "magpie"), args...)}
	x.cmd.Stdin, x.cmd.Stdout, x.cmd.Stderr = near, near, near
	x.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	x.cmd.Env = append(os.Environ(), "HOME="+w.dir, "XDG_CONFIG_HOME="+w.dir, "TZ=UTC", "TERM=xterm", "MAGPIE_URL="+w.url, "MAGPIE_TOKEN="+w.admin.Token)
	if err := x.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	near.Close()
	go func() {
		defer close(x.read)
		buf := make([]byte, 4096)
		for {
			n, err := far.Read(buf) // an error when nobody has the other end any more
			_, _ = x.said.Write(buf[:max(n, 0)])
			if err != nil {
				return
			}
		}
	}()
	go func() { _ = x.cmd.Wait(); close(x.gone) }()
	t.Cleanup(func() { _ = x.cmd.Process.Kill(); <-x.gone; far.Close() })
	return x
}

func (x *terminal) waitFor(what string) {
	x.t.Helper()
	eventually(x.t, "the terminal shows "+what, func() bool { return regexp.MustCompile(what).MatchString(x.said.String()) })
}

func (x *terminal) types(s string) {
	x.t.Helper()
	if _, err := x.far.WriteString(s); err != nil {
		x.t.Fatal(err)
	}
}

// ends waits until the program has ended and returns its exit status.
func (x *terminal) ends() int {
	x.t.Helper()
	select {
	case <-x.gone:
	case <-time.After(30 * time.Second):
		x.t.Fatalf("it does not end:\n%s", x.said.String())
	}
	select {
	case <-x.read:
	case <-time.After(10 * time.Second): // somebody else has the terminal
	}
	return x.cmd.ProcessState.ExitCode()
}

const ctrlC = "\x03"

// TestQuestionsCanBeLeft: Ctrl-C leaves every question, and says what goes on
// without the terminal; a question ends when its time does, or when somebody
// answered it elsewhere; and nothing typed afterwards is swallowed.
func TestQuestionsCanBeLeft(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	changed(w)
	second := w.fleet.running(r1)
	x := w.atTerminal(t, 100, "push", r1+"@1")
	x.waitFor("Type the device's name to go ahead: ")
	x.types(ctrlC)
	if status := x.ends(); status != 2 || w.fleet.running(r1) != second {
		t.Errorf("left before anything was sent: status %d\n%s", status, x.said.String())
	}
	x = w.atTerminal(t, 100, "user", "add", "somebody")
	x.waitFor("New password: ")
	x.types(ctrlC)
	if status := x.ends(); status != 2 || strings.Contains(x.said.String(), "somebody ") {
		t.Errorf("a password left: status %d\n%s", status, x.said.String())
	}
	// At the question whether a push is kept.
	x = w.atTerminal(t, 100, "push", r1+"@1", "--yes=false", "--within", "3m")
	x.waitFor("to go ahead: ")
	x.types(r1 + "\n")
	x.waitFor("Type confirm to keep it, or undo to take it back")
	x.types(ctrlC)
	status := x.ends()
	m := regexp.MustCompile(`magpie job confirm (\w+)`).FindStringSubmatch(x.said.String())
	if status != 2 || m == nil || !strings.Contains(x.said.String(), "goes on waiting") {
		t.Fatalf("left at the question: status %d\n%s", status, x.said.String())
	}
	if j := must(w.admin.Job(ctx(t), m[1]))(t); j.State != "waiting" {
		t.Errorf("left alone it is %s %s", j.State, j.Outcome)
	}
	// Decided elsewhere, the question is over, and what is typed then is the shell's.
	must(w.admin.Undo(ctx(t), m[1]))(t)
	w.end(m[1])
	x = w.atTerminal(t, 100, "push", r1+"@1", "--within", "3m")
	x.waitFor("to go ahead: ")
	x.types(r1 + "\n")
	x.waitFor("Type confirm to keep it")
	id := regexp.MustCompile(`push (\w{16})`).FindStringSubmatch(x.said.String())[1]
	must(w.admin.Undo(ctx(t), id))(t)
	x.waitFor("the question is over")
	if status := x.ends(); status != 1 || !strings.Contains(x.said.String(), "it was before, "+r1) && !strings.Contains(x.said.String(), "runs again what it ran before") {
		t.Errorf("decided elsewhere: status %d\n%s", status, x.said.String())
	}
	// Ctrl-C in a pull: what is done is shown, and what goes on is said.
	w.fleet.faults(r1, tern.Faults{Hang: "recite running"})
	x = w.atTerminal(t, 100, "pull", r1)
	eventually(t, "it pulls", func() bool { return must(w.admin.Status(ctx(t)))(t).Running > 0 })
	time.Sleep(time.Second) // the terminal hears of its job a moment after the service has it
	x.types(ctrlC)
	if status := x.ends(); status != 2 || !strings.Contains(x.said.String(), "goes on without this terminal") {
		t.Errorf("left in a pull: status %d\n%s", status, x.said.String())
	}
	w.fleet.faults(r1, tern.Faults{})
}

// TestNothingSteersTheTerminal: what others wrote is shown so that it can neither
// clear the screen of who reads it nor turn its writing around; texts that go to
// a file are as they are.
func TestNothingSteersTheTerminal(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.pull(r1)
	evil := "x\x1b[2J\x1b]0;title\x07\u202egnihton"
	for what, err := range map[string]error{
		"a user's name": func() error {
			_, err := w.admin.AddUser(ctx(t), client.NewUser{Name: evil, Role: "reader", Password: "long enough words"})
			return err
		}(),
		"a sign-in": func() error {
			_, err := (&client.Client{URL: w.url}).Login(ctx(t), client.Login{User: evil, Password: "x"})
			return err
		}(),
		"a tag": func() error {
			_, err := w.admin.EditDevice(ctx(t), r1, client.NewDevice{Tags: &[]string{evil}})
			return err
		}(),
	} {
		if !client.IsStatus(err, 400) || !strings.Contains(err.Error(), "control character") {
			t.Errorf("%s may steer: %v", what, err)
		}
	}
	if _, err := (&client.Client{URL: w.url}).Login(ctx(t), client.Login{User: strings.Repeat("n", 65), Password: "x"}); !client.IsStatus(err, 400) {
		t.Errorf("a name of 65 characters: %v", err)
	}
	// What was written before that is escaped, wherever it is printed.
	w.sql(`UPDATE audit SET actor = 'x\x1b[2J' WHERE seq = 3`)
	w.sql("UPDATE audit SET actor = CONCAT('x', CHAR(27), '[2J', CHAR(7)) WHERE seq = 3")
	w.sql("UPDATE devices SET trouble = CONCAT('t', CHAR(27), ']0;x', CHAR(7)), state = 'pull failing'")
	for _, args := range [][]string{{"audit", "list"}, {"status"}, {"device", "show", r1}, {"device", "list"}} {
		x := w.atTerminal(t, 120, args...)
		x.ends()
		rest := regexp.MustCompile("\x1b\\[[0-9;]*m").ReplaceAllString(x.said.String(), "")
		if strings.ContainsAny(rest, "\x1b\a") || strings.Contains(x.said.String(), "\x1b[2J") {
			t.Errorf("%v steers the terminal: %q", args, rest)
		}
		if args[0] == "audit" && !strings.Contains(rest, `x\x1b[2J\x07`) {
			t.Errorf("what was written there cannot be read:\n%s", rest)
		}
		out, _, _ := w.cli(args...)
		if strings.ContainsAny(out, "\x1b\a") {
			t.Errorf("%v steers when it is piped: %q", args, out)
		}
	}
}

// TestTablesFit: on a narrow terminal tables are folded between words and no line
// is wider; piped, nothing is cut.
func TestTablesFit(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	w.fleet.faults(r1, tern.Faults{CutAfter: 900})
	w.pull(r1)
	for _, args := range [][]string{{"job", "list"}, {"audit", "list"}, {"status"}, {"device", "list"}} {
		x := w.atTerminal(t, 80, args...)
		x.ends()
		for _, l := range strings.Split(regexp.MustCompile("\x1b\\[[0-9;]*m").ReplaceAllString(x.said.String(), ""), "\r\n") {
			if n := len([]rune(l)); n > 80 {
				t.Errorf("%v has a line of %d columns: %q", args, n, l)
			}
		}
	}
	j := must(w.admin.Jobs(ctx(t), client.JobFilter{}))(t).Items[0]
	if out, _, _ := w.cli("job", "list"); !strings.Contains(out, j.Summary) {
		t.Errorf("the summary %q is cut:\n%s", j.Summary, out)
	}
}
