package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

func deviceFlags(edit bool) []cli.Flag {
	f := []cli.Flag{
		&cli.StringFlag{Name: "address", Usage: "host `NAME` or IP address"},
		&cli.IntFlag{Name: "port", Usage: "TCP `PORT`", HideDefault: true},
		&cli.StringFlag{Name: "site", Usage: "`SITE` it stands at"},
		&cli.StringFlag{Name: "kind", Usage: "`KIND`: router, switch, firewall, wireless-controller, access-point, other"},
		&cli.StringSliceFlag{Name: "tag", Usage: "a `TAG`; may be given more than once"},
		&cli.StringFlag{Name: "user", Usage: "user `NAME` to sign in with"},
		&cli.StringFlag{Name: "password-file", Usage: "`FILE` that holds the password (or set MAGPIE_DEVICE_PASSWORD)"},
		&cli.StringFlag{Name: "key-file", Usage: "`FILE` with a private key to sign in with"},
		&cli.StringFlag{Name: "credential", Usage: "credential `SET` to sign in with, instead of a user of its own"},
		&cli.StringFlag{Name: "agent-key", Usage: "`FILE` with the public key that the service's SSH agent signs with"},
		&cli.StringFlag{Name: "passphrase-file", Usage: "`FILE` that holds what its archives are to be encrypted under (or set MAGPIE_DEVICE_PASSPHRASE)"},
		&cli.StringFlag{Name: "transport", Usage: "`WAY` to speak to it, where its dialect knows several: ssh, telnet, netconf, https, http"},
		&cli.StringFlag{Name: "parent", Usage: "`DEVICE` it hangs on"},
		&cli.StringFlag{Name: "jump", Usage: "`DEVICE` to go through"},
		&cli.StringSliceFlag{Name: "timeout", Usage: "`WHAT=SPAN` of its own, like answer=3m; connect, answer, idle, whole"},
		&cli.StringSliceFlag{Name: "file-port", Usage: "`PROTOCOL=PORT` of its own for moving files, like tftp=6969"},
		&cli.StringFlag{Name: "note", Usage: "what is to be known of it: a `TEXT`"},
		&cli.StringSliceFlag{Name: "field", Usage: "a field of your own, `NAME=VALUE`; may be given more than once, in the place of those there were"},
		&cli.BoolFlag{Name: "disabled", Usage: "keep it, and visit it no more (--disabled=false: again)"},
		&cli.BoolFlag{Name: "spare", Usage: "nobody needs it: restore tests and learning may replace what it runs for a while (--spare=false: no more)"},
		&cli.StringSliceFlag{Name: "serial", Usage: "serial `NUMBER` of the unit that belongs there; may be given more than once"},
		&cli.StringFlag{Name: "privileged-secret-file", Usage: "`FILE` that holds the privileged mode's secret (or set MAGPIE_DEVICE_PRIVILEGED_SECRET)"},
	}
	if !edit {
		return append(f, &cli.StringFlag{Name: "dialect", Usage: "`DIALECT` it speaks", Required: true},
			&cli.StringFlag{Name: "proposal", Usage: "register what answered to a discovery, by its `ID`: its address, port and way"},
			&cli.BoolFlag{Name: "yes", Usage: "add it without asking, once it was tried"},
			&cli.BoolFlag{Name: "untried", Usage: "add it without signing in first"},
			&cli.BoolFlag{Name: "twice", Usage: "another device is registered at the same address, on purpose"},
			&cli.StringFlag{Name: "accept-key", Usage: "accept the host key with this `FINGERPRINT` without asking"})
	}
	return append(f, &cli.StringFlag{Name: "name", Usage: "new `NAME`"}, &cli.BoolFlag{Name: "password", Usage: "ask for a new password"},
		&cli.StringFlag{Name: "accept-key", Usage: "with --address: accept the host key with this `FINGERPRINT` there without asking"},
		&cli.BoolFlag{Name: "privileged-secret", Usage: "ask for a new secret of the privileged mode"},
		&cli.BoolFlag{Name: "retry-login", Usage: "the login it refused is right after all: try it again"})
}

func (a *app) device() *cli.Command {
	return &cli.Command{Name: "device", Usage: "the devices and how they are reached", Commands: append(a.moving(),
		a.do("list", "[SELECTOR…]", "list devices", nil, 0, -1, a.deviceList),
		a.do("show", "DEVICE", "all that is known of a device", nil, 1, 1, a.deviceShow),
		a.do("add", "NAME", "add a device; its host key is shown first", deviceFlags(false), 1, 1, a.deviceAdd),
		a.described(a.do("import", "FILE", "add and change many devices, as a CSV or YAML file has them", []cli.Flag{
			&cli.BoolFlag{Name: "preview", Usage: "say what would be added and changed, and do nothing"},
			&cli.BoolFlag{Name: "skip-bad", Usage: "add the rows that are right"},
			&cli.BoolFlag{Name: "accept-keys", Usage: "accept whatever host keys the devices show now, where the file gives none"}}, 1, 1, a.deviceImport),
			"The first row of a CSV file names the columns (a YAML file is a list of maps with the same names): name, address and dialect, and any of "+deviceColumns+". Tags and serials are separated by blanks.\n"+
				"Devices that show a host key need it in the column host_key, as a key or as its fingerprint (SHA256:…), or --accept-keys, which takes whatever they show now."),
		a.do("export", "[SELECTOR…]", "write devices as a file that import reads; logins stay here", []cli.Flag{
			&cli.StringFlag{Name: "as", Value: "csv", Usage: "`FORM`: csv or yaml", Validator: func(v string) error {
				if v != "csv" && v != "yaml" {
					return fmt.Errorf("it is csv or yaml, not %s", v)
				}
				return nil
			}}}, 0, -1, a.deviceExport),
		a.do("edit", "DEVICE", "change a device's entry or login", deviceFlags(true), 1, 1, a.deviceEdit),
		a.do("tag", "SELECTOR…", "put tags on many devices, and take others off", []cli.Flag{
			&cli.StringSliceFlag{Name: "add", Usage: "a `TAG`, as often as wanted"},
			&cli.StringSliceFlag{Name: "drop", Usage: "a `TAG`, as often as wanted"}}, 1, -1, func(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
			changed, err := s.Tag(ctx, client.NewTags{Selector: sel, Add: c.StringSlice("add"), Drop: c.StringSlice("drop")})
			if err != nil {
				return err
			}
			a.print(c, changed, func() {
				a.s.printf("%s changed\n", count(len(changed.Items), "device was", "devices were"))
			})
			return nil
		}),
		a.do("baseline", "SELECTOR…", "approve a version of each of many devices: drift is judged against it", []cli.Flag{
			&cli.StringFlag{Name: "to", Value: "latest", Usage: "`WHICH` of their versions: a number, a name, latest, a time"}}, 1, -1, func(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
			out, err := s.Baselines(ctx, client.NewBaselines{Selector: sel, Which: c.String("to")})
			if err != nil {
				return err
			}
			a.print(c, out, func() {
				for _, x := range out.Skipped {
					a.s.printf("%s %s: %s\n", a.s.paint(removed, "left as it is:"), x.Device, x.Why)
				}
				if len(out.Items) > 0 || out.Waiting == 0 {
					a.s.printf("%s a baseline now\n", count(len(out.Items), "version is", "versions are"))
				}
				if out.Waiting > 0 {
					a.s.printf("%s approved by a second person first, who says: magpie job approve %s\n", count(out.Waiting, "version has to be", "versions have to be"), out.Job)
				}
			})
			return nil
		}),
		a.do("discover", "RANGE…", "look what answers at addresses: host key and greeting only, nobody signs in", []cli.Flag{
			&cli.StringSliceFlag{Name: "over", Usage: "only by this `WAY`: ssh, telnet, netconf, https, http, or one with its port, like ssh:2222; may be given more than once"}}, 1, 100, a.deviceSweep),
		a.do("proposals", "", "what answered where no device is registered", nil, 0, 0, func(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
			return a.showProposals(ctx, c, s)
		}),
		a.do("dismiss", "PROPOSAL…", "take proposals off the list; they come back when another key is shown there", nil, 1, 100, func(ctx context.Context, _ *cli.Command, s *client.Client, ids []string) error {
			for _, id := range ids {
				if err := s.DismissProposal(ctx, id); err != nil {
					return err
				}
			}
			return nil
		}),
		a.do("trust", "DEVICE", "look at the host key a device shows now, and accept it", []cli.Flag{
			&cli.StringFlag{Name: "accept-key", Usage: "accept the host key with this `FINGERPRINT` without asking"}}, 1, 1, a.deviceTrust),
		a.do("remove", "DEVICE", "take a device out; its versions stay, and are read under another name", []cli.Flag{
			&cli.BoolFlag{Name: "yes", Usage: "do not ask"}}, 1, 1, a.deviceRemove),
		a.described(a.do("removed", "", "list devices that were taken out and whose versions are here still", nil, 0, 0, a.devicesRemoved),
			"Their versions are read by the names in this list: magpie versions NAME, show, diff, export."),
		a.do("reinstate", "NAME", "bring a device that was taken out back, with its history", []cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "what it is called from now on: a `NAME`; as before, if not said"},
			&cli.BoolFlag{Name: "twice", Usage: "another device is registered at the same address, on purpose"}}, 1, 1, a.deviceReinstate),
	)}
}

func (a *app) deviceList(ctx context.Context, c *cli.Command, s *client.Client, sel []string) error {
	all, err := s.Devices(ctx, sel)
	if err != nil {
		return err
	}
	a.print(c, all, func() {
		if len(all) == 0 {
			a.s.printf("No devices. Add one: magpie device add NAME --address ADDRESS --dialect DIALECT --user USER\n")
			return
		}
		list(a.s, all, cells[client.Device]{
			"state": func(d client.Device) cell { return cell{stateWord(d), stateStyle(d.State)} },
			"latest": func(d client.Device) cell {
				if d.Latest == 0 {
					return cell{}
				}
				return cell{fmt.Sprint(d.Latest), plain}
			},
			"address": func(d client.Device) cell { return cell{fmt.Sprintf("%s:%d", d.Address, d.Port), faint} }})
	})
	return nil
}

func (a *app) deviceShow(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	d, err := s.Device(ctx, got[0])
	if err != nil {
		return err
	}
	swaps, err := s.Swaps(ctx, d.Name)
	if err != nil {
		return err
	}
	a.print(c, d, func() {
		next := "" // what to do about the unit that answers
		switch d.State {
		case "hardware changed":
			next = "if that unit is to take the device's place: magpie swap " + d.Name
		case "factory defaults":
			next = "to put the newest version back on it: magpie push " + d.Name
		}
		var lines []string
		for _, w := range swaps {
			line := fmt.Sprintf("%s %s: %s took the place of %s, with %s, by %s", when(w.At), zoneName(), w.NewSerial, w.OldSerial, w.Version, w.Actor)
			if w.Note != "" {
				line += ": " + w.Note
			}
			lines = append(lines, line)
		}
		a.showDevice(d, "next", next, "swaps", strings.Join(lines, "\n"))
	})
	return nil
}

func (a *app) showDevice(d client.Device, also ...string) {
	latest, pulled, latched, changed := "", "never", "", ""
	proven := "never: no version of it was put back and proved"
	if d.LastProven != nil {
		proven = fmt.Sprintf("%s %s: %s", when(*d.LastProven), zoneName(), d.Proven)
	}
	if d.LastChanged != nil {
		changed = when(*d.LastChanged) + " " + zoneName()
	}
	if d.Latest > 0 {
		latest = fmt.Sprintf("%s@%d", d.Name, d.Latest)
	}
	if d.LastPulled != nil {
		pulled = fmt.Sprintf("%s %s, %s", when(*d.LastPulled), zoneName(), ago(d.LastPulled))
	}
	if d.LoginLockedSince != nil {
		latched = fmt.Sprintf("not tried since %s %s, because the device refused it", when(*d.LoginLockedSince), zoneName())
	}
	var children []string
	for _, k := range d.Children {
		children = append(children, k.Name+", "+k.State)
	}
	state := a.s.paint(stateStyle(d.State), stateWord(d))
	if d.Since != nil && !d.Disabled {
		state += fmt.Sprintf(" since %s %s", when(*d.Since), zoneName())
	}
	a.s.facts(append([]string{"device", a.s.paint(strong, d.Name), "state", state, "trouble", d.Trouble, "kind", d.Kind, "site", d.Site, "tags", strings.Join(d.Tags, ", "), "visited", map[bool]string{true: "no, it is disabled"}[d.Disabled], "spare", map[bool]string{true: "yes, restore tests may replace what it runs"}[d.Spare], "note", d.Note, "fields", pairs(d.Fields),
		"dialect", d.Dialect, "address", fmt.Sprintf("%s port %d", d.Address, d.Port), "over", d.Transport, "through", d.Jump, "parent", d.Parent,
		"member", d.Member, "time-outs", pairs(d.Timeouts), "credential set", d.Credential, "user", d.User, "login", latched, "host key", d.HostKey,
		"expected serial", strings.Join(d.Serials, " or "), "host name", d.Host, "model", d.Model, "serial", d.Serial + standsIn(d), "release", d.Release,
		"last pulled", pulled, "last changed", changed, "last proven", proven, "newest version", latest, "parts", strings.Join(d.Parts, ", "), "speaks for", strings.Join(children, "\n"), "registered before", strings.Join(d.Earlier, ", ")}, also...)...)
}

// standsIn says what a serial number is really, of a device that has none.
func standsIn(d client.Device) string {
	if is, ok := map[string]string{"address": "an address burnt into it", "machine-id": "its machine id", "host-key": "its host key"}[d.StandIn]; ok {
		return " (it has none; " + is + " stands in for it)"
	}
	return ""
}

// acceptKey shows the key a device shows and has a person accept it.
func (a *app) acceptKey(ctx context.Context, p client.Probe, given, before string) error {
	if given != "" {
		if given != p.Fingerprint {
			return fmt.Errorf("the device shows %s, not %s; nothing was changed", p.Fingerprint, given)
		}
		return nil
	}
	if before != "" {
		fmt.Fprintf(a.s.err, "accepted until now  %s\nshown now           %s\n", before, p.Fingerprint)
	} else {
		fmt.Fprintf(a.s.err, "The device shows the host key\n  %s\nCompare it with what the device itself says.\n", p.Fingerprint)
	}
	yes, err := a.s.yes(ctx, "Accept this key?")
	if err != nil {
		return fmt.Errorf("%w; give --accept-key with the fingerprint you know to be right", err)
	}
	if !yes {
		return fmt.Errorf("the key was not accepted; nothing was changed")
	}
	return nil
}

// secrets fills in what signs in, from files, the environment or a prompt.
// privileged tells whether the dialect knows a mode with a secret of its own.
func (a *app) secrets(ctx context.Context, c *cli.Command, n *client.NewDevice, ask, privileged bool) (err error) {
	if f := c.String("key-file"); f != "" {
		raw, err := os.ReadFile(f)
		if err != nil {
			return err
		}
		n.Key = string(raw)
	} else if n.Credential == "" && c.String("agent-key") == "" && (ask || c.Bool("password") || c.String("password-file") != "") {
		if n.Password, err = a.s.secret(ctx, "Password on the device", "MAGPIE_DEVICE_PASSWORD", c.String("password-file")); err != nil {
			return err
		}
	}
	if f := c.String("agent-key"); f != "" {
		raw, err := os.ReadFile(f)
		if err != nil {
			return err
		}
		n.Agent = strings.TrimSpace(string(raw))
	}
	if c.String("passphrase-file") != "" || os.Getenv("MAGPIE_DEVICE_PASSPHRASE") != "" {
		if n.Passphrase, err = a.s.secret(ctx, "Passphrase of its archives", "MAGPIE_DEVICE_PASSPHRASE", c.String("passphrase-file")); err != nil {
			return err
		}
	}
	if n.Credential != "" {
		return nil
	}
	if c.Bool("privileged-secret") || c.String("privileged-secret-file") != "" || os.Getenv("MAGPIE_DEVICE_PRIVILEGED_SECRET") != "" || ask && privileged && a.s.asks {
		n.Privileged, err = a.s.secret(ctx, "Secret of the privileged mode (empty if there is none)", "MAGPIE_DEVICE_PRIVILEGED_SECRET", c.String("privileged-secret-file"))
	}
	return err
}

func fromFlags(c *cli.Command) client.NewDevice {
	n := client.NewDevice{Address: c.String("address"), Port: c.Int("port"), Kind: c.String("kind"), User: c.String("user")}
	if c.IsSet("site") {
		v := c.String("site")
		n.Site = &v
	}
	if c.IsSet("tag") {
		v := c.StringSlice("tag")
		n.Tags = &v
	}
	n.Credential, n.Transport = c.String("credential"), c.String("transport")
	for name, into := range map[string]**string{"parent": &n.Parent, "jump": &n.Jump} {
		if c.IsSet(name) {
			v := c.String(name)
			*into = &v
		}
	}
	if c.IsSet("note") {
		v := c.String("note")
		n.Note = &v
	}
	if c.IsSet("disabled") {
		v := c.Bool("disabled")
		n.Disabled = &v
	}
	if c.IsSet("spare") {
		v := c.Bool("spare")
		n.Spare = &v
	}
	if c.IsSet("field") {
		m := map[string]string{}
		for _, p := range c.StringSlice("field") {
			if k, v, _ := strings.Cut(p, "="); k != "" {
				m[k] = v
			}
		}
		n.Fields = &m
	}
	if c.IsSet("serial") {
		v := c.StringSlice("serial")
		n.Serials = &v
	}
	if c.IsSet("timeout") {
		m := map[string]string{}
		for _, p := range c.StringSlice("timeout") {
			k, v, _ := strings.Cut(p, "=")
			m[k] = v
		}
		n.Timeouts = &m
	}
	if c.IsSet("file-port") {
		m := map[string]int{}
		for _, p := range c.StringSlice("file-port") {
			k, v, _ := strings.Cut(p, "=")
			m[k], _ = strconv.Atoi(v) // the service says what is wrong with 0
		}
		n.Ports = &m
	}
	return n
}

func pairs(m map[string]string) string {
	var out []string
	for k, v := range m {
		out = append(out, k+" "+v)
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

func (a *app) deviceAdd(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	n := fromFlags(c)
	n.Name, n.Dialect, n.Twice = got[0], c.String("dialect"), c.Bool("twice")
	if id := c.String("proposal"); id != "" {
		all, err := s.Proposals(ctx)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(all, func(p client.Proposal) bool { return p.ID == id })
		if i < 0 {
			return fmt.Errorf("no proposal is called %s; see which there are: magpie device proposals", id)
		}
		n.Address, n.Port, n.Transport = all[i].Address, all[i].Port, all[i].Transport
	}
	if n.Address == "" {
		return fmt.Errorf("a device needs --address, or --proposal with what answered to a discovery")
	}
	d, err := s.Dialect(ctx, n.Dialect)
	if err != nil {
		return err
	}
	way, err := wayOf(d, n.Transport)
	if err != nil {
		return err
	}
	if n.Port == 0 {
		n.Port = way.Port
	}
	p, err := s.Probe(ctx, way.Transport, n.Address, n.Port)
	if err != nil {
		return err
	}
	if way.ShowsKey {
		if err := a.acceptKey(ctx, p, c.String("accept-key"), ""); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(a.s.err, "%s shows no host key: whoever answers at %s is believed, and all that is said travels unencrypted.\n", way.Transport, n.Address)
	}
	n.HostKey = p.HostKey
	if err := a.secrets(ctx, c, &n, n.User != "", d.Privileged); err != nil {
		return err
	}
	if !c.Bool("untried") {
		t, err := s.Try(ctx, n)
		if err != nil {
			return fmt.Errorf("%w\nnothing was added; to add it all the same: --untried", err)
		}
		a.showTried(t)
		if !c.Bool("yes") {
			yes, err := a.s.yes(ctx, "Add it?")
			if err != nil {
				return fmt.Errorf("%w; --yes adds it without asking", err)
			}
			if !yes {
				return fmt.Errorf("nothing was added")
			}
		}
	}
	added, err := s.AddDevice(ctx, n)
	if err != nil {
		return err
	}
	a.print(c, added, func() {
		a.s.printf("%s was added. Pull it for the first time: magpie pull %[1]s\n", added.Name)
		a.earlier(added)
	})
	return nil
}

// wayOf finds the way that is meant among those a dialect speaks.
func wayOf(d client.Dialect, transport string) (client.Way, error) {
	var names []string
	for _, w := range d.Ways {
		if transport == "" || w.Transport == transport {
			return w, nil
		}
		names = append(names, w.Transport)
	}
	return client.Way{}, fmt.Errorf("dialect %s does not speak %s; it speaks %s", d.Name, transport, strings.Join(names, ", "))
}

// showTried tells what a device showed that is not registered yet.
func (a *app) showTried(t client.Tried) {
	for _, w := range t.Warnings {
		fmt.Fprintf(a.s.err, "Note: %s\n", w)
	}
	fmt.Fprintf(a.s.err, "Signed in: %s\n", t.Said())
	if t.Factory {
		fmt.Fprintf(a.s.err, "It has factory settings.\n")
	}
	for _, p := range t.Parts {
		what := count(p.Lines, "line", "lines")
		switch {
		case p.Trouble != "":
			what = p.Trouble
		case p.Absent:
			what = "the device has none"
		case p.Lines == 0:
			what = fmt.Sprintf("%d bytes", p.Bytes)
		}
		fmt.Fprintf(a.s.err, "  %-16s %s\n", p.Name, what)
	}
	if len(t.Members) > 0 {
		fmt.Fprintf(a.s.err, "It speaks for %s, which its first pull adds.\n", count(len(t.Members), "device", "devices"))
	}
}

func (a *app) deviceEdit(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	n := fromFlags(c)
	n.Name = c.String("name")
	if err := a.secrets(ctx, c, &n, false, false); err != nil {
		return err
	}
	was, err := s.Device(ctx, got[0])
	if err != nil {
		return err
	}
	n.Revision = was.Revision
	if n.Address != "" && n.Address != was.Address || n.Transport != "" && n.Transport != was.Transport {
		if err := a.keyElsewhere(ctx, c, s, was, &n); err != nil {
			return err
		}
	}
	d, err := s.EditDevice(ctx, got[0], n)
	if err == nil && c.Bool("retry-login") {
		d, err = s.RetryLogin(ctx, d.Name)
	}
	if err != nil {
		return err
	}
	a.print(c, d, func() { a.showDevice(d) })
	return nil
}

// keyElsewhere has the key accepted that a device shows at its new address: the
// trust in the old one does not move along.
func (a *app) keyElsewhere(ctx context.Context, c *cli.Command, s *client.Client, was client.Device, n *client.NewDevice) error {
	dia, err := s.Dialect(ctx, was.Dialect)
	if err != nil {
		return err
	}
	way, err := wayOf(dia, cmp.Or(n.Transport, was.Transport))
	if err != nil || !way.ShowsKey {
		return err
	}
	given := c.String("accept-key")
	if given != "" && given == was.HostKey { // the same key, which needs no look
		n.HostKey = given
		return nil
	}
	p, err := s.Probe(ctx, way.Transport, cmp.Or(n.Address, was.Address), cmp.Or(n.Port, was.Port))
	if err != nil {
		return fmt.Errorf("%w\nwhat is trusted is a key at an address; if it keeps its key there: --accept-key %s", err, was.HostKey)
	}
	if p.Fingerprint != was.HostKey {
		if err := a.acceptKey(ctx, p, given, was.HostKey); err != nil {
			return err
		}
	}
	n.HostKey = p.HostKey
	return nil
}

func (a *app) deviceTrust(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	d, err := s.Device(ctx, got[0])
	if err != nil {
		return err
	}
	dia, err := s.Dialect(ctx, d.Dialect)
	if err != nil {
		return err
	}
	way, err := wayOf(dia, d.Transport)
	if err != nil {
		return err
	}
	p, err := s.Probe(ctx, way.Transport, d.Address, d.Port)
	if err != nil {
		return err
	}
	if p.Fingerprint == d.HostKey {
		a.print(c, d, func() { a.s.printf("%s shows the key accepted for it: %s\n", d.Name, d.HostKey) })
		return nil
	}
	if err := a.acceptKey(ctx, p, c.String("accept-key"), d.HostKey); err != nil {
		return err
	}
	if d, err = s.EditDevice(ctx, d.Name, client.NewDevice{HostKey: p.HostKey}); err != nil {
		return err
	}
	a.print(c, d, func() { a.s.printf("The key of %s is accepted now: %s\n", d.Name, d.HostKey) })
	return nil
}

func (a *app) devicesRemoved(ctx context.Context, c *cli.Command, s *client.Client, _ []string) error {
	all, err := s.RemovedDevices(ctx)
	if err != nil {
		return err
	}
	a.print(c, all, func() {
		if len(all) == 0 {
			a.s.printf("No device was taken out of which there are versions.\n")
			return
		}
		list(a.s, all, nil)
	})
	return nil
}

func (a *app) deviceReinstate(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	d, err := s.ReinstateDevice(ctx, got[0], client.Reinstate{Name: c.String("name"), Twice: c.Bool("twice")})
	if err != nil {
		return err
	}
	a.print(c, d, func() { a.s.printf("%s is back, with its history. Pull it: magpie pull %s\n", d.Name, d.Name) })
	return nil
}

// earlier says which removed devices were the same hardware.
func (a *app) earlier(d client.Device) {
	for _, name := range d.Earlier {
		a.s.printf("The same hardware was registered before: %s. Its versions: magpie versions %s. To go on with its history: magpie device remove %s; magpie device reinstate %s\n",
			name, name, d.Name, name)
	}
}

func (a *app) deviceRemove(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	if !c.Bool("yes") {
		name, err := a.s.ask(ctx, fmt.Sprintf("Take %s out of every list? Its versions stay, and are read under another name. Type its name: ", got[0]))
		if err != nil {
			return fmt.Errorf("%w; give --yes", err)
		}
		if name != got[0] {
			return fmt.Errorf("nothing was changed")
		}
	}
	if err := s.RemoveDevice(ctx, got[0]); err != nil {
		return err
	}
	if !c.Bool("json") {
		a.s.printf("%s was taken out. Its versions are listed under another name now: magpie device removed\n", got[0])
	}
	return nil
}
