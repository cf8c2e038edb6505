package main

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"magpie/client"
	"magpie/dialects"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/sim"
)

// How many simulated routers are pulled, how many at a time, and how much the
// memory figure is measured with.
const (
	routers    = 1000
	atATime    = 32
	registered = 10_000
	openAtOnce = 500
)

// place is a router to be pulled, with the key it shows.
type place struct {
	sim.Place
	HostKey string
}

// pulls measures pulling 1,000 simulated routers: what our side costs in CPU,
// link alone and with store and database, beside a shell loop of the OpenSSH
// client that types the same and throws it away; then the service's memory.
func pulls(dir string) error {
	fleet, places, err := startRouters(filepath.Join(dir, "routers"))
	if err != nil {
		return err
	}
	defer func() { _ = fleet.Process.Kill(); _ = fleet.Wait() }()
	key, err := badge(dir, places)
	if err != nil {
		return err
	}
	list := filepath.Join(dir, "places.json")
	raw, _ := json.Marshal(places)
	if err := os.WriteFile(list, raw, 0o600); err != nil {
		return err
	}
	fmt.Printf("\nPulling %d simulated routers over SSH, %d at a time: sign in by key, raise, identity, running, startup.\nCPU is that of our side only, all of its processes.\n", routers, atATime)
	fmt.Printf("%-34s %10s %12s %9s\n", "program", "pulls/s", "CPU a pull", "times ssh")
	rival, err := shellLoop(dir, key, places)
	if err != nil {
		return fmt.Errorf("the shell loop: %w", err)
	}
	say := func(name string, f figure) {
		fmt.Printf("%-34s %10.0f %9.2f ms %9.3f\n", name, routers/f.wall.Seconds(), float64(f.cpu.Microseconds())/1000/routers, float64(f.cpu)/float64(rival.cpu))
	}
	say("shell loop of ssh", rival)
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(self, "pull", list, key)
	cmd.Stderr = os.Stderr
	began := time.Now()
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("pulling: %w", err)
	}
	say("ours, link alone", figure{time.Since(began), cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()})
	return served(dir, key, places, say)
}

type figure struct{ wall, cpu time.Duration }

func startRouters(dir string) (*exec.Cmd, []place, error) {
	cmd := exec.Command("bin/magpie-sim", "-data", dir, "-devices", strconv.Itoa(routers))
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, nil, err
	}
	if err := cmd.Start(); err != nil {
		return nil, nil, fmt.Errorf("%w; run: make build", err)
	}
	url, err := waitFor(out, regexp.MustCompile(`control at (\S+)`))
	if err != nil {
		return nil, nil, err
	}
	control = url
	res, err := http.Get(url + "/devices")
	if err != nil {
		return nil, nil, err
	}
	defer res.Body.Close()
	var places []place
	if err := json.NewDecoder(res.Body).Decode(&places); err != nil {
		return nil, nil, err
	}
	err = each(len(places), 16, func(i int) (err error) {
		places[i].HostKey, _, err = link.Probe(context.Background(), link.Target{Address: places[i].Address, Port: places[i].Port}, 10*time.Second)
		places[i].Status.Running, places[i].Status.Startup = nil, nil
		return err
	})
	return cmd, places, err
}

var control string

func tell(device, what string, body any) error {
	raw, _ := json.Marshal(body)
	res, err := http.Post(control+"/devices/"+device+"/"+what, "application/json", bytes.NewReader(raw))
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, res.Body)
	if res.StatusCode != 200 {
		return fmt.Errorf("simulator: %s: %s", what, res.Status)
	}
	return nil
}

// waitFor reads until a line matches, and goes on reading in the background.
func waitFor(r io.Reader, re *regexp.Regexp) (string, error) {
	said := ""
	for buf := make([]byte, 4096); ; {
		n, err := r.Read(buf)
		said += string(buf[:n])
		if m := re.FindStringSubmatch(said); m != nil {
			go func() { _, _ = io.Copy(io.Discard, r) }()
			return m[1], nil
		}
		if err != nil {
			return "", fmt.Errorf("it did not come up: %s", said)
		}
	}
}

// badge lets both sides sign in with one key, kept in a file.
func badge(dir string, places []place) (string, error) {
	pub, priv, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", err
	}
	block, err := ssh.MarshalPrivateKey(priv, "")
	if err != nil {
		return "", err
	}
	public, err := ssh.NewPublicKey(pub)
	if err != nil {
		return "", err
	}
	file := filepath.Join(dir, "key")
	if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
		return "", err
	}
	line := "badge " + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public)))
	return file, each(len(places), 16, func(i int) error {
		if err := tell(places[i].Name, "amend", map[string]any{"by": "bench", "lines": []string{"crew " + sim.ServiceUser, line}}); err != nil {
			return err
		}
		return tell(places[i].Name, "stow", map[string]any{})
	})
}

// each calls do for 0 to n-1, so many at a time, and returns the first error.
func each(n, most int, do func(i int) error) error {
	var wg sync.WaitGroup
	errs := make([]error, n)
	gate := make(chan struct{}, most)
	for i := range n {
		gate <- struct{}{}
		wg.Go(func() {
			defer func() { <-gate }()
			errs[i] = do(i)
		})
	}
	wg.Wait()
	return errors.Join(errs...)
}

// shellLoop is what an engineer would write.
func shellLoop(dir, key string, places []place) (f figure, err error) {
	var addresses strings.Builder
	for _, p := range places {
		addresses.WriteString(p.Address + "\n")
	}
	script := filepath.Join(dir, "loop.sh")
	text := fmt.Sprintf(`xargs -P %d -IADDR sh -c 'printf "aloft\n%s\nsheet endless\nrecite unit\nrecite running\nrecite startup\nbye\n" | ssh -T -p %d -i %s -o IdentitiesOnly=yes -o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null -o LogLevel=ERROR %s@ADDR > %s/got-ADDR'
`, atATime, sim.MastWord, places[0].Port, key, sim.ServiceUser, dir)
	if err := os.WriteFile(script, []byte(text), 0o700); err != nil {
		return f, err
	}
	cmd := exec.Command("sh", script)
	cmd.Stdin = strings.NewReader(addresses.String())
	began := time.Now()
	if out, err := cmd.CombinedOutput(); err != nil {
		return f, fmt.Errorf("%w: %s", err, out)
	}
	f = figure{time.Since(began), cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()}
	for _, p := range places {
		file := filepath.Join(dir, "got-"+p.Address)
		raw, err := os.ReadFile(file)
		if err != nil || !bytes.Contains(raw, []byte(".. end of startup, ")) || bytes.Contains(raw, []byte("shortened")) {
			return f, fmt.Errorf("%s was not pulled whole (%v): %.300s", p.Name, err, raw)
		}
		_ = os.Remove(file)
	}
	return f, nil
}

// pullAll is our side, link alone: a process of its own.
func pullAll(list, key string) error {
	debug.SetGCPercent(200) // as the service has it
	var places []place
	raw, err := os.ReadFile(list)
	if err == nil {
		err = json.Unmarshal(raw, &places)
	}
	if err != nil {
		return err
	}
	private, err := os.ReadFile(key)
	if err != nil {
		return err
	}
	src, err := dialects.Files.ReadFile("tern.yaml")
	if err != nil {
		return err
	}
	dia, err := dialect.Load("tern.yaml", src)
	if err != nil {
		return err
	}
	cred := link.Credential{User: sim.ServiceUser, Key: private, Privileged: sim.MastWord}
	return each(len(places), atATime, func(i int) error {
		p := places[i]
		s, err := link.Open(context.Background(), link.Call{Dialect: dia, Target: link.Target{Address: p.Address, Port: p.Port, HostKey: p.HostKey}, Credential: cred, Guard: func() error { return nil }})
		if err != nil {
			return fmt.Errorf("%s: %w", p.Name, err)
		}
		defer s.Close()
		if _, err := s.Identity(); err != nil {
			return err
		}
		for _, part := range []string{"running", "startup"} {
			if _, err := s.Fetch(part); err != nil {
				return fmt.Errorf("%s: %w", p.Name, err)
			}
		}
		return nil
	})
}

// served pulls the same through the service, and measures its memory.
func served(dir, key string, places []place, say func(string, figure)) error {
	config := filepath.Join(dir, "config.yaml")
	if err := os.WriteFile(config, []byte(fmt.Sprintf("sessions: %d\n", atATime)), 0o600); err != nil {
		return err
	}
	data := filepath.Join(dir, "service")
	s, err := startService(data, config)
	if err != nil {
		return err
	}
	private, err := os.ReadFile(key)
	if err != nil {
		return err
	}
	if _, err := s.c.AddCredentialSet(context.Background(), client.NewCredentialSet{Name: "bench", User: sim.ServiceUser, Key: string(private), Privileged: sim.MastWord}); err != nil {
		return err
	}
	var all []client.NewDevice
	site := "real"
	for _, p := range places {
		all = append(all, client.NewDevice{Name: p.Name, Address: p.Address, Port: p.Port, Dialect: "tern", HostKey: p.HostKey, Credential: "bench", Site: &site})
	}
	if err := s.add(all); err != nil {
		return err
	}
	for _, round := range []string{"first", "unchanged"} {
		before, alone, began := s.cpu(s.family()), s.cpu(s.family()[:1]), time.Now()
		if err := s.pull("site=real"); err != nil {
			return err
		}
		say("ours, with store and database, "+round, figure{time.Since(began), s.cpu(s.family()) - before})
		fmt.Printf("%-34s %10s %9.2f ms\n", "  of which the service itself", "", float64((s.cpu(s.family()[:1])-alone).Microseconds())/1000/routers)
	}
	// 10,000 devices, of which 500 are being talked to and do not answer.
	all = nil
	nowhere := "nowhere"
	for i := len(places); i < registered; i++ {
		all = append(all, client.NewDevice{Name: fmt.Sprintf("nowhere-%05d", i), Address: "192.0.2.1", Port: 22, Twice: true, Dialect: "tern", HostKey: places[0].HostKey, Credential: "bench", Site: &nowhere})
	}
	for start := 0; start < len(all); start += 1000 {
		if err := s.add(all[start:min(start+1000, len(all))]); err != nil {
			return err
		}
	}
	s.stop()
	if err := os.WriteFile(config, []byte(fmt.Sprintf("sessions: %d\n", openAtOnce)), 0o600); err != nil {
		return err
	}
	if s, err = startService(data, config); err != nil {
		return err
	}
	defer s.stop()
	held := places[:openAtOnce]
	if err := each(len(held), 16, func(i int) error { return tell(held[i].Name, "faults", map[string]any{"hang": "recite running"}) }); err != nil {
		return err
	}
	if _, err := s.c.Pull(context.Background(), []string{"site=real"}, ""); err != nil {
		return err
	}
	most, open := 0, 0
	for end := time.Now().Add(40 * time.Second); time.Now().Before(end); time.Sleep(500 * time.Millisecond) {
		most, open = max(most, s.resident()), max(open, s.open())
		if open >= openAtOnce {
			most = max(most, s.resident())
			break
		}
	}
	fmt.Printf("\nMemory of the service, %d devices registered, %d sessions open: %d MB (to stay under 500)\n", registered, open, most>>20)
	if err := each(len(held), 16, func(i int) error { return tell(held[i].Name, "faults", map[string]any{}) }); err != nil {
		return err
	}
	return nil
}

// service is a running service with its database.
type service struct {
	cmd *exec.Cmd
	c   *client.Client
}

func startService(data, config string) (*service, error) {
	cmd := exec.Command("bin/magpie", "serve", "--listen", "127.0.0.1:0", "--data", data, "--config", config)
	out, err := cmd.StderrPipe()
	if err != nil {
		return nil, err
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	url, err := waitFor(out, regexp.MustCompile(`is up at (http://\S+)`))
	if err != nil {
		return nil, err
	}
	word, err := os.ReadFile(filepath.Join(data, "admin.password"))
	if err != nil {
		return nil, err
	}
	s := &service{cmd, &client.Client{URL: strings.TrimRight(url, ".,")}}
	g, err := s.c.Login(context.Background(), client.Login{User: "admin", Password: strings.TrimSpace(string(word))})
	s.c.Token = g.Token
	if err == nil {
		_, err = s.c.SetOwnPassword(context.Background(), client.NewPassword{Old: strings.TrimSpace(string(word)), New: "a word for the bench"})
	}
	return s, err
}

func (s *service) stop() {
	_ = s.cmd.Process.Signal(os.Interrupt)
	_ = s.cmd.Wait()
}

func (s *service) add(all []client.NewDevice) error {
	got, err := s.c.Import(context.Background(), client.NewDevices{Devices: all})
	if err == nil && len(got.Bad) > 0 {
		err = fmt.Errorf("%d devices were not added: %+v", len(got.Bad), got.Bad[0])
	}
	return err
}

// pull pulls what a selector picks and waits until no job is left.
func (s *service) pull(selector string) error {
	if _, err := s.c.Pull(context.Background(), []string{selector}, ""); err != nil {
		return err
	}
	for {
		st, err := s.c.Status(context.Background())
		if err != nil {
			return err
		}
		if st.Queued+st.Running+st.Waiting == 0 {
			if st.States["in sync"] != routers {
				return fmt.Errorf("after the pull the fleet is %v", st.States)
			}
			return nil
		}
		time.Sleep(500 * time.Millisecond) // asking costs the service, too
	}
}

// family lists the service's process and its children.
func (s *service) family() []int {
	pids := []int{s.cmd.Process.Pid}
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%[1]d/children", pids[0]))
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pids[0]))
	for _, t := range tasks {
		more, _ := os.ReadFile(t)
		raw = append(append(raw, ' '), more...)
	}
	seen := map[int]bool{pids[0]: true}
	for _, f := range strings.Fields(string(raw)) {
		if pid, err := strconv.Atoi(f); err == nil && !seen[pid] {
			seen[pid], pids = true, append(pids, pid)
		}
	}
	return pids
}

// cpu is what processes have used: the service's own comes first in its family,
// the database's after it.
func (s *service) cpu(pids []int) (sum time.Duration) {
	for _, pid := range pids {
		raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if i := bytes.LastIndexByte(raw, ')'); i > 0 {
			f := strings.Fields(string(raw[i+1:]))
			user, _ := strconv.Atoi(f[11])
			system, _ := strconv.Atoi(f[12])
			sum += time.Duration(user+system) * 10 * time.Millisecond // USER_HZ is 100
		}
	}
	return sum
}

// resident is the service's memory in bytes, without the database's.
func (s *service) resident() int {
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/statm", s.cmd.Process.Pid))
	f := strings.Fields(string(raw))
	if len(f) < 2 {
		return 0
	}
	pages, _ := strconv.Atoi(f[1])
	return pages * os.Getpagesize()
}

// open counts the service's connections to devices.
func (s *service) open() (n int) {
	links, _ := filepath.Glob(fmt.Sprintf("/proc/%d/fd/*", s.cmd.Process.Pid))
	for _, l := range links {
		if to, err := os.Readlink(l); err == nil && strings.HasPrefix(to, "socket:") {
			n++
		}
	}
	return max(0, n-40) // the listener, the database's pool, ourselves
}
