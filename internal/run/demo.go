package run

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/history/place"
	"magpie/internal/link"
	"magpie/internal/read"
	"magpie/internal/routine"
	"magpie/internal/sim"
	"magpie/internal/sim/dunlin"
	"magpie/internal/store"
)

// demoUsers sign in to the demo. Their passwords are no secret.
var demoUsers = []struct {
	name, role, password string
	secrets              bool
}{
	{"admin", core.Admin, "demo-admin-1", true},
	{"okonkwo", core.Operator, "demo-okonkwo-1", false},
	{"lookout", core.Reader, "demo-lookout-1", false},
}

// Demo brings up a simulated fleet, the service, and, the first time, a history
// that tells a story. It runs until ctx ends and leaves nothing running.
func Demo(ctx context.Context, c Config, devices int, say func(string, ...any)) error {
	if devices < 1 || devices > 10000 {
		return fmt.Errorf("--routers is %d; it takes 1 to 10000", devices)
	}
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return fmt.Errorf("data folder: %w", err)
	}
	n, err := Prepare(ctx, c, func(string, ...any) {}) // a demo's key protects nothing
	if err != nil {
		return err
	}
	defer n.Close()
	n.Say = say
	ours, err := startFleet(ctx, filepath.Join(n.Config.Data, "fleet"), devices)
	if err != nil {
		return err
	}
	defer ours.stop()
	n.jobs.Alive() // laying out the history may take longer than others believe in a silent instance
	if err := n.seed(ctx, ours); err != nil {
		return fmt.Errorf("laying out the demo: %w", err)
	}
	if err := n.demoMail(ctx, ours); err != nil {
		return err
	}
	known, err := n.store.As(core.Actor{Name: "service"}).Devices(ctx, ref.All())
	if err != nil {
		return err
	}
	return n.Serve(ctx, func(url string) { n.welcome(url, ours, len(known)) })
}

func (n *Instance) welcome(url string, f *simulator, devices int) {
	n.Say(`Steady Magpie is up at %[1]s, with %[2]d devices of Brindle Sound Ferries.

  user      password         may
  admin     demo-admin-1     everything
  okonkwo   demo-okonkwo-1   pull and push; secrets are masked
  lookout   demo-lookout-1   look; secrets are masked

Three commands to try, in another terminal:
  bin/magpie login %[1]s --user admin
  bin/magpie status
  bin/magpie diff port-asterly-r1@baseline port-asterly-r1@live

A router's own command line:  ssh -p %[3]d okonkwo@%[4]s   (password demo-okonkwo-1, mast word demo-mast-1)
Mail that it sends to its people lies in %[5]s/fleet/mail.
Ctrl-C stops everything; what happened is kept in %[5]s.
`, url, devices, sim.Port, f.places[0].Address, n.Config.Data)
}

// simulator is the simulated fleet, running as a process of its own.
type simulator struct {
	url    string
	mail   string // where mail is taken
	places []sim.Place
	story  []sim.Event
	stop   func()
}

func startFleet(ctx context.Context, dir string, devices int) (*simulator, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	tool := filepath.Join(filepath.Dir(self), "magpie-sim")
	if _, err := os.Stat(tool); err != nil {
		return nil, fmt.Errorf("the simulator is not beside this program (%s); run: make build", tool)
	}
	cmd := exec.Command(tool, "-data", dir, "-devices", fmt.Sprint(devices), "-families", sim.AllFamilies)
	// It has a process group of its own, so that Ctrl-C reaches only us, and
	// ends with us even when we are killed.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	var trouble bytes.Buffer
	cmd.Stderr = &trouble
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	started, gone := make(chan error, 1), make(chan struct{})
	go func() {
		runtime.LockOSThread() // the death signal is tied to the thread that started it
		started <- cmd.Start()
		_, _ = io.Copy(io.Discard, out)
		_ = cmd.Wait()
		close(gone)
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("starting the simulator: %w", err)
	}
	f := &simulator{stop: sync.OnceFunc(func() {
		_ = cmd.Process.Signal(syscall.SIGTERM)
		<-gone
	})}
	control := filepath.Join(dir, "control.json")
	for f.url == "" || f.get("/devices", &f.places) != nil {
		select {
		case <-gone:
			return nil, fmt.Errorf("the simulator did not come up: %s", strings.TrimSpace(trouble.String()))
		case <-ctx.Done():
			f.stop()
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
		var at struct {
			PID       int
			URL, Mail string
		}
		if raw, err := os.ReadFile(control); err == nil && json.Unmarshal(raw, &at) == nil && at.PID == cmd.Process.Pid {
			f.url, f.mail = at.URL, at.Mail
		}
	}
	return f, f.get("/story", &f.story)
}

func (f *simulator) get(path string, into any) error {
	res, err := http.Get(f.url + path)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	return json.NewDecoder(res.Body).Decode(into)
}

func (f *simulator) tell(device, what string, body any) error {
	raw, err := json.Marshal(body)
	if err != nil {
		return err
	}
	res, err := http.Post(f.url+"/devices/"+device+"/"+what, "application/json", bytes.NewReader(raw))
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		msg, _ := bufio.NewReader(res.Body).ReadString('\n')
		return fmt.Errorf("simulator: %s %s: %s", device, what, msg)
	}
	return nil
}

// seed registers users and devices and plays the story, once. What was laid out
// is noted device by device, so that a start that was broken off is taken up.
func (n *Instance) seed(ctx context.Context, f *simulator) error {
	q := n.store.As(core.Actor{Name: "service"})
	done := filepath.Join(n.Config.Data, "demo.ready")
	if _, err := os.Stat(done); err == nil {
		return nil
	}
	have, err := q.Devices(ctx, ref.All())
	if err != nil {
		return err
	}
	if len(have) > 0 {
		return errors.New("an earlier start was broken off in the middle; remove the folder " + n.Config.Data + " and start again")
	}
	n.Say("Laying out three weeks of history, once...\n")
	for _, u := range demoUsers {
		if err := n.AddUser(ctx, u.name, u.role, u.password, u.secrets, false); err != nil {
			return err
		}
	}
	devices, err := n.register(ctx, f)
	if err != nil {
		return err
	}
	for len(f.story) > 0 {
		day := 1
		for day < len(f.story) && f.story[day].At.YearDay() == f.story[0].At.YearDay() {
			day++
		}
		if err := n.playDay(ctx, f, devices, f.story[:day]); err != nil {
			return err
		}
		f.story = f.story[day:]
	}
	for name := range devices {
		if err := f.tell(name, "clock", map[string]any{}); err != nil {
			return err
		}
	}
	if err := n.demoSchedules(ctx, devices); err != nil {
		return err
	}
	if err := n.demoTarget(ctx); err != nil {
		return err
	}
	if err := n.demoTelling(ctx); err != nil {
		return err
	}
	if err := n.noSheet(ctx); err != nil {
		return err
	}
	return os.WriteFile(done, nil, 0o600)
}

// demoMail has the mail of the demo taken by the simulator, which keeps it as files: its port is
// another at each start.
func (n *Instance) demoMail(ctx context.Context, f *simulator) error {
	u, err := n.store.As(core.Actor{Name: "service"}).UserNamed(ctx, "admin")
	if err != nil {
		return err
	}
	if m, _, _, err := n.daily.MailServer(ctx, u.Actor()); err == nil && !strings.HasPrefix(m.Server, "127.0.0.1:") {
		return nil // somebody named another
	}
	return n.daily.SaveMailServer(ctx, u.Actor(), core.MailServer{Server: f.mail, Security: "none", From: "magpie@ferries.example"})
}

// noSheet notes that nobody has to be reminded of a recovery sheet: a demo's key protects nothing.
func (n *Instance) noSheet(ctx context.Context) error {
	id, _, err := RecoverySheet(n.Config)
	if err != nil {
		return err
	}
	return n.store.Tx(ctx, core.Actor{Name: "service"}, func(q *store.Q) error {
		return q.SetSetting(ctx, store.SheetSetting, store.Sheet{KeyID: id, At: n.jobs.Now()})
	})
}

// demoTelling is who is told what in the ferries' network.
func (n *Instance) demoTelling(ctx context.Context) error {
	u, err := n.store.As(core.Actor{Name: "service"}).UserNamed(ctx, "admin")
	if err != nil {
		return err
	}
	for name, to := range map[string]string{"control-room": "control-room@ferries.example", "mwilks": "mwilks@ferries.example"} {
		if _, _, err := n.daily.SaveRecipient(ctx, u.Actor(), "", name, core.ByMail, core.Way{To: []string{to}}, false); err != nil {
			return err
		}
	}
	for _, w := range []routine.WantedRule{
		{Name: "trouble", Events: []string{"failed", "recovered"}, Selector: "all", Recipients: []string{"control-room"}, Note: "at once, day and night"},
		{Name: "changes", Events: []string{"changed", "drifted"}, Selector: "all", Recipients: []string{"mwilks", "control-room"}, Quiet: []string{"daily 22:00 for 8h"}},
		{Name: "monday-sheet", Events: []string{"unproven"}, Days: 30, Selector: "kind=router", Digest: "weekly mon 07:00", Recipients: []string{"mwilks"}, Note: "what was never put back to see that it can be"},
	} {
		w.Zone = "Atlantic/Faroe"
		if _, err := n.daily.SaveNotificationRule(ctx, u.Actor(), "", w); err != nil {
			return err
		}
	}
	return nil
}

// demoTarget is where copies of the ferries' configurations are kept: a folder that stands for a
// disk elsewhere.
func (n *Instance) demoTarget(ctx context.Context) error {
	dir := filepath.Join(n.Config.Data, "fleet", "harbour-office")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	_, err := n.history.SaveTarget(ctx, core.Actor{Name: "admin", Role: core.Admin}, "", store.Target{Name: "harbour-office", Kind: place.Folder, Where: dir, Note: "stands for a disk in the harbour office"}, false)
	return err
}

// demoSchedules are what the ferries' network does by itself.
func (n *Instance) demoSchedules(ctx context.Context, devices map[string]core.Device) error {
	u, err := n.store.As(core.Actor{Name: "service"}).UserNamed(ctx, "okonkwo")
	if err != nil {
		return err
	}
	all := []routine.Wanted{
		{Name: "nightly", Rule: "daily 02:00", Spread: "30m", Deeds: []routine.Deed{{Kind: "pull"}, {Kind: "drift"}}, Selector: "all", Note: "what runs everywhere, and what has drifted"},
		{Name: "control-room", Rule: "every 4h", Deeds: []routine.Deed{{Kind: "pull"}}, Selector: "site=control", Note: "the heart of it more often"},
		{Name: "month-end", Rule: "monthly last 23:00", Deeds: []routine.Deed{{Kind: "snapshot"}}, Selector: "all"},
	}
	if _, ok := devices["port-asterly-sw1"]; ok {
		all = append(all, routine.Wanted{Name: "sunday-proof", Rule: "weekly sun 04:00", Blackouts: []string{"yearly 12-20 00:00 for 14d"}, Selector: "name=innisquill-sw1",
			Deeds: []routine.Deed{{Kind: "restore-test", With: map[string]string{"on": "port-asterly-sw1"}}}, Note: "a backup is one when it was put back"})
	}
	for _, w := range all {
		w.Zone = "Atlantic/Faroe"
		if _, err := n.daily.Save(ctx, u.Actor(), "", w); err != nil {
			return err
		}
	}
	return nil
}

func (n *Instance) register(ctx context.Context, f *simulator) (map[string]core.Device, error) {
	devices := map[string]core.Device{}
	began := time.Now()
	if len(f.story) > 0 {
		began = f.story[0].At.Add(-time.Hour)
	}
	st := n.store.At(func() time.Time { return began })
	keys := make([]string, len(f.places))
	err := each(len(f.places), 16, func(i int) (err error) {
		p := f.places[i]
		way, _ := n.visits.Dialect(p.Family).Way("")
		keys[i], _, err = link.Probe(ctx, link.Target{Transport: way.Transport, Address: p.Address, Port: p.Port}, 10*time.Second)
		return err
	})
	if err != nil {
		return nil, err
	}
	admin := core.Actor{Name: "admin", Role: core.Admin}
	// One credential set for all: the fleet's own account.
	set := store.Credential{Name: "fleet", Selector: ""}
	err = st.Tx(ctx, admin, func(q *store.Q) error {
		if err := q.PutCredentialSet(ctx, &set, &store.Secret{User: sim.ServiceUser, Password: sim.ServiceWord, Privileged: sim.MastWord,
			FactoryUser: dunlin.FactoryUser, FactoryPassword: dunlin.FactoryWord}); err != nil {
			return err
		}
		return q.Audit(ctx, "credential set added", set.Name, "user "+sim.ServiceUser)
	})
	if err != nil {
		return nil, err
	}
	for start := 0; start < len(f.places); start += 200 {
		batch := f.places[start:min(start+200, len(f.places))]
		err := st.Tx(ctx, admin, func(q *store.Q) error {
			for i, p := range batch {
				dia := n.visits.Dialect(p.Family)
				d := core.Device{Name: p.Name, Address: p.Address, Port: p.Port, Site: p.Site, Kind: dia.Kind, Dialect: p.Family, HostKey: keys[start+i], Tags: core.Words{"edge"},
					CredentialID: set.ID, Credential: set.Name}
				switch {
				case p.Name == "port-asterly-sw1":
					d.Spare, d.Note = true, "on the shelf in the harbour office; restore tests are made on it"
				case strings.HasPrefix(p.Name, "control"):
					d.Tags = core.Words{"core"}
				case strings.HasPrefix(p.Name, "mv-"):
					d.Tags = core.Words{"ship"}
				}
				if err := q.AddDevice(ctx, &d, nil); err != nil {
					return err
				}
				shown := link.Fingerprint(d.HostKey)
				if shown == "" {
					shown = "none, the transport shows none"
				}
				if err := q.Audit(ctx, "device added", d.Name, fmt.Sprintf("%s port %d, dialect %s, host key %s", d.Address, d.Port, d.Dialect, shown)); err != nil {
					return err
				}
				d.User = sim.ServiceUser
				devices[d.Name] = d
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return devices, nil
}

// playDay plays one day's events, those of different devices side by side.
func (n *Instance) playDay(ctx context.Context, f *simulator, devices map[string]core.Device, events []sim.Event) error {
	by := map[string][]sim.Event{}
	var names []string
	for _, e := range events {
		if by[e.Device] == nil {
			names = append(names, e.Device)
		}
		by[e.Device] = append(by[e.Device], e)
	}
	return each(len(names), 8, func(i int) error {
		for _, e := range by[names[i]] {
			if err := n.play(ctx, f, devices[e.Device], e); err != nil {
				return fmt.Errorf("%s on %s: %w", e.Device, e.At.Format("2006-01-02"), err)
			}
		}
		return nil
	})
}

// play makes one thing happen and pulls the device a little later.
func (n *Instance) play(ctx context.Context, f *simulator, d core.Device, e sim.Event) error {
	if err := f.tell(d.Name, "clock", map[string]any{"at": e.At}); err != nil {
		return err
	}
	switch {
	case e.Serial != "":
		if err := f.tell(d.Name, "replace", map[string]any{"serial": e.Serial, "lines": e.Lines}); err != nil {
			return err
		}
	case e.Reset != "":
		if err := f.tell(d.Name, "reset", map[string]any{"depth": e.Reset}); err != nil {
			return err
		}
	case len(e.Lines) > 0:
		if err := f.tell(d.Name, "amend", map[string]any{"by": e.By, "lines": e.Lines}); err != nil {
			return err
		}
	}
	if e.Stow {
		if err := f.tell(d.Name, "stow", map[string]any{}); err != nil {
			return err
		}
	}
	if e.Down {
		if err := f.tell(d.Name, "faults", map[string]any{"down": true}); err != nil {
			return err
		}
	}
	at := e.At.Add(4 * time.Minute)
	s := n.visits.On(n.jobs.At(func() time.Time { return at }))
	fresh, err := s.Store.As(core.Actor{}).DeviceByID(ctx, d.ID)
	if err != nil {
		return err
	}
	if _, err := s.PullNow(ctx, core.Actor{Name: "okonkwo", Role: core.Operator}, fresh, core.ByHand); err != nil {
		return err
	}
	if e.Keep == "" && !e.Settle {
		return nil
	}
	m := read.Mark{}
	if e.Keep != "" {
		m.Name = &e.Keep
	}
	if e.Settle {
		m.Baseline = &e.Settle
	}
	_, err = read.New(s).SetMark(ctx, core.Actor{Name: "okonkwo", Role: core.Operator}, ref.Version{Device: d.Name, Part: "running", Which: "latest"}, m)
	return err
}

// each calls do for 0 to n-1, so many at a time, and returns the first error.
func each(n, most int, do func(i int) error) error {
	var all errgroup.Group
	all.SetLimit(most)
	for i := range n {
		all.Go(func() error { return do(i) })
	}
	return all.Wait()
}
