package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"magpie/client"
)

func (a *app) push() *cli.Command {
	return a.do("push", "REF", "make a device run a version: shows exactly what would be sent, asks, sends, proves", append([]cli.Flag{
		&cli.StringFlag{Name: "to", Category: "what", Usage: "push onto this `DEVICE` instead of the version's own"},
		&cli.StringSliceFlag{Name: "only", Category: "what", Usage: "only this `BLOCK` of it, as often as wanted: its line or how that begins, like \"lane quay1\" or \"flock 7 / neighbour 10.0.0.1\""},
		&cli.StringFlag{Name: "undo", Category: "what", Usage: "put back what ran before this push `JOB`"},
	}, append(planFlags(), pushFlags()...)...), 0, 1, a.doPush)
}

// pushFlags are what every push can be told.
func pushFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "method", Category: "how", Usage: "`METHOD`, the dialect's first if not said; replace: end equivalent to the version; merge: add to what runs, leaving other lines; stage: write startup and restart into it; upload: put a file there"},
		&cli.StringFlag{Name: "at", Category: "where", Usage: "the unit is at this `ADDRESS` for now, HOST or HOST:PORT: a factory address, a bench"},
		&cli.StringFlag{Name: "relay", Category: "where", Usage: "speak to the unit through this `RELAY`, a machine beside it; see magpie relay"},
		&cli.StringFlag{Name: "accept-key", Category: "where", Usage: "the `FINGERPRINT` of the unit's key, where it is not the device's"},
		&cli.BoolFlag{Name: "preview", Category: "what", Usage: "show what would be sent, and stop"},
		&cli.BoolFlag{Name: "in-place", Category: "how", Usage: "take what is in use apart where it stands, where the dialect would build it anew beside first"},
		&cli.BoolFlag{Name: "exactly", Category: "how", Usage: "send the whole text although what runs means the same, where the two are written differently"},
		&cli.IntFlag{Name: "rounds", Category: "how", HideDefault: true, Usage: "after the proof, send what is still missing too, at most `N` times; once with --within if not said, otherwise never"},
		&cli.BoolFlag{Name: "no-save", Category: "how", Usage: "do not save to startup afterwards"},
		&cli.BoolFlag{Name: "leave", Category: "safety", Usage: "if a line is refused, leave what was applied before it: edit the version, push it again, and only what is missing is sent"},
		&cli.BoolFlag{Name: "hold-restart", Category: "when", Usage: "with --method stage: write startup, and leave the restart to later"},
		&cli.StringSliceFlag{Name: "check", Category: "safety", Usage: "`CHECK` made before and after, as often as wanted: " + checkWords},
		&cli.StringFlag{Name: "within", Category: "safety", Usage: "undo it by itself unless it is confirmed in this `TIME`, like 5m; from 20s to 24h"},
		&cli.BoolFlag{Name: "when-verified", Category: "safety", Usage: "with --within: confirm it by itself when it is verified"},
		&cli.StringFlag{Name: "override", Category: "safety", Usage: "`WHY` it is done although warnings speak against it; kept in the audit log"},
		&cli.StringFlag{Name: "note", Category: "safety", Usage: "`WHY`, kept in the audit log"},
		&cli.StringFlag{Name: "name-before", Category: "what", Usage: "a `NAME` for the version that is kept before it"},
		&cli.StringFlag{Name: "name-after", Category: "what", Usage: "a `NAME` for the one that is proved after"},
		&cli.StringFlag{Name: "end-session", Category: "where", Usage: "first end somebody's session `ID` that holds the device, as an earlier attempt named it; needs --note"},
		&cli.BoolFlag{Name: "yes", Category: "safety", Usage: "do not ask"},
	}
}

func (a *app) swap() *cli.Command {
	return a.do("swap", "DEVICE [REF]", "let other hardware take a device's place: shows both units, puts the newest version (or REF) on the new one, proves it", pushFlags(), 1, 2,
		func(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
			ref := got[len(got)-1]
			r, err := reference(ref, "")
			if err != nil {
				return err
			}
			return a.runPush(ctx, c, s, client.NewPreview{Ref: r, To: got[0], Swap: true})
		})
}

// newKey has a person accept the key that a unit shows, where it is not the
// device's.
func (a *app) newKey(ctx context.Context, s *client.Client, name, at, relay string) (string, error) {
	d, err := s.Device(ctx, name)
	if err != nil {
		return "", err
	}
	dia, err := s.Dialect(ctx, d.Dialect)
	if err != nil {
		return "", err
	}
	way, err := wayOf(dia, d.Transport)
	if err != nil {
		return "", err
	}
	if !way.ShowsKey {
		return "", nil
	}
	host, port := d.Address, d.Port
	if at != "" {
		if h, p, err := net.SplitHostPort(at); err == nil {
			host = h
			if port, err = strconv.Atoi(p); err != nil {
				return "", fmt.Errorf("--at %s: %q is no port", at, p)
			}
		} else {
			host = at
		}
	}
	p, err := s.ProbeThrough(ctx, relay, way.Transport, host, port)
	if err != nil {
		return "", err
	}
	if p.Fingerprint == d.HostKey && at == "" {
		return "", nil
	}
	if !a.s.asks {
		return "", fmt.Errorf("the unit at %s shows the key %s, not the device's; if it is the unit meant, give --accept-key %s", host, p.Fingerprint, p.Fingerprint)
	}
	return p.Fingerprint, a.acceptKey(ctx, p, "", d.HostKey)
}

func (a *app) doPush(ctx context.Context, c *cli.Command, s *client.Client, got []string) error {
	if c.Bool("hold-restart") && c.String("method") != "stage" {
		return fmt.Errorf("--hold-restart leaves a restart to later; only --method stage restarts by itself")
	}
	if c.Bool("when-verified") && c.String("within") == "" {
		return fmt.Errorf("--when-verified confirms a push that undoes itself otherwise; give --within TIME as well")
	}
	ask := client.NewPreview{To: c.String("to"), UndoOf: c.String("undo"), Only: c.StringSlice("only")}
	switch {
	case len(got) == 1 && ask.UndoOf == "":
		r, err := reference(got[0], "")
		if err != nil {
			return err
		}
		ask.Ref = r
	case len(got) == 1 || ask.UndoOf == "":
		return fmt.Errorf("usage: %s REF, or: %s --undo JOB", c.FullName(), c.FullName())
	}
	return a.runPush(ctx, c, s, ask)
}

// runPush previews a push, asks, begins it and follows it to its end.
func (a *app) runPush(ctx context.Context, c *cli.Command, s *client.Client, ask client.NewPreview) error {
	ask.InPlace, ask.Exactly = c.Bool("in-place"), c.Bool("exactly")
	ask.Method, ask.At, ask.AcceptKey, ask.Relay = c.String("method"), c.String("at"), c.String("accept-key"), c.String("relay")
	if ask.Relay != "" && ask.At == "" {
		all, err := s.Relays(ctx)
		if err != nil {
			return err
		}
		for _, r := range all {
			if r.ID == ask.Relay {
				ask.At = r.Address
			}
		}
	}
	if (ask.Swap || ask.At != "") && ask.AcceptKey == "" {
		name := ask.To
		if name == "" && ask.Ref == "" {
			undone, err := s.Job(ctx, ask.UndoOf)
			if err != nil {
				return err
			}
			name = undone.Device
		}
		if name == "" {
			name, _, _ = strings.Cut(strings.FieldsFunc(ask.Ref, func(r rune) bool { return r == '@' || r == '/' })[0], " ")
		}
		key, err := a.newKey(ctx, s, name, ask.At, ask.Relay)
		if err != nil {
			return err
		}
		ask.AcceptKey = key
	}
	from, until, planZone, err := plan(c, time.Now())
	if err == nil {
		err = window(c)
	}
	if err != nil {
		return err
	}
	if c.String("end-session") != "" && c.String("note") == "" {
		return fmt.Errorf("--end-session ends somebody's session; say why with --note")
	}
	j, err := s.NewPreview(ctx, ask)
	if err != nil {
		return err
	}
	a.tell("looking at %s ...\n", j.Device)
	if j, err = s.Watch(ctx, j.ID, nil, nil); err != nil {
		return err
	}
	if j.Outcome != "done" {
		a.advise(ctx, s, j)
		a.tell("nothing was sent: %s\n", j.Summary)
		return errDiffers
	}
	p, err := s.Preview(ctx, j.Preview)
	if err != nil {
		return err
	}
	// With nothing to send there may still be something to save.
	onlySave := len(p.Steps) == 0 && p.Unsaved && p.Saves && !c.Bool("no-save")
	if c.Bool("preview") || len(p.Steps) == 0 && !onlySave {
		a.print(c, p, func() { a.showPreview(p, c.Bool("no-save"), c.String("within")) })
		return nil
	}
	if !c.Bool("json") {
		a.showPreview(p, c.Bool("no-save"), c.String("within"))
	}
	override := c.String("override")
	if len(p.Warnings) > 0 && override == "" {
		if override, err = a.s.ask(ctx, "\nSomething speaks against it. Why is it done all the same? (kept in the audit log) "); err != nil || override == "" {
			return fmt.Errorf("nothing was sent: warnings speak against it; if it is to be done all the same, say why with --override")
		}
	}
	if !c.Bool("yes") {
		question := fmt.Sprintf("\nPush this to %s"+later(from, until)+"? Type the device's name to go ahead: ", p.Device)
		if onlySave {
			question = fmt.Sprintf("\nSave what %s runs to startup? Type the device's name to go ahead: ", p.Device)
		}
		name, err := a.s.ask(ctx, question)
		if err != nil {
			return fmt.Errorf("%w; look at the preview with --preview, then give --yes", err)
		}
		if name != p.Device {
			a.tell("nothing was sent\n")
			return errDiffers
		}
	}
	var rounds *int
	if c.IsSet("rounds") {
		n := c.Int("rounds")
		rounds = &n
	}
	if j, err = s.Push(ctx, client.NewPush{From: from, Until: until, Zone: planZone, Preview: p.ID, Hash: p.Hash, NoSave: c.Bool("no-save"), Leave: c.Bool("leave"), HoldRestart: c.Bool("hold-restart"), Note: c.String("note"), EndSession: c.String("end-session"), Within: c.String("within"), Checks: c.StringSlice("check"), Override: override, WhenVerified: c.Bool("when-verified"), Rounds: rounds, NameBefore: c.String("name-before"), NameAfter: c.String("name-after")}, onceKey()); err != nil {
		return err
	}
	if j.Kind == "planned" {
		a.tell("planned as job %s\n", j.ID)
		return a.followPlan(ctx, c, s, j)
	}
	a.tell("push %s\n", j.ID)
	return a.followPush(ctx, c, s, j)
}

// window makes sure that the time in which a push is to be confirmed is one,
// before anybody looks at a preview.
func window(c *cli.Command) error {
	given := c.String("within")
	if given == "" {
		return nil
	}
	d, err := time.ParseDuration(given)
	if err != nil {
		return fmt.Errorf("--within %s is no span of time; write it like 90s, 10m or 2h", given)
	}
	if d < client.MinWindow || d > client.MaxWindow {
		return fmt.Errorf("--within %s is not between 20s and 24h; choose a time in which the change can be looked at", given)
	}
	return nil
}

// later words when a planned push is to begin.
func later(from, until *time.Time) string {
	if from == nil {
		return ""
	}
	return fmt.Sprintf(" between %s and %s %s", when(*from), when(*until), zoneName())
}

// followPush shows a push under way until it has ended.
func (a *app) followPush(ctx context.Context, c *cli.Command, s *client.Client, j client.Job) (err error) {
	last, id := 0, j.ID
	seen := func(e client.Entry) {
		if e.Seq > last && !c.Bool("json") {
			a.logLine(e)
		}
		last = max(last, e.Seq)
	}
	held := false
	for asked := false; ; asked = true {
		watching, stop := context.WithCancel(ctx)
		waits, waiting := a.waits(), false
		j, err = s.Watch(watching, id, seen, func(j client.Job) {
			if j.Awaits == "restart" {
				held = true
				stop()
			} else if j.Due == nil || j.Decision != "" || j.State != "waiting" || !a.s.asks || c.Bool("yes") || asked {
				waits(j)
			} else if !waiting {
				waiting = true
				stop()
			}
		})
		stop()
		if held {
			if j, err = s.Job(ctx, id); err != nil {
				return err
			}
			a.print(c, j, func() {
				a.s.printf("\n%s\nto restart it: magpie job restart %s; to put startup back as it was: magpie job undo %[2]s\n", j.Summary, j.ID)
			})
			return nil
		}
		if !waiting {
			break
		}
		if err := a.askToKeep(ctx, s, id); err != nil {
			return err
		}
	}
	if err != nil {
		if ctx.Err() != nil {
			err = errLeft
		}
		return fmt.Errorf("%w\nthe push goes on without this terminal; follow it: magpie job watch %s", err, id)
	}
	a.print(c, j, func() { a.showPush(j) })
	bad := j.Push != nil && slices.ContainsFunc(j.Push.Checks, func(c client.Checked) bool { return c.Failed })
	if j.Outcome != "verified" || bad {
		return errDiffers
	}
	return nil
}

// askToKeep asks what becomes of a push that waits to be confirmed.
func (a *app) askToKeep(ctx context.Context, s *client.Client, id string) error {
	j, err := s.Job(ctx, id)
	if err != nil || j.Due == nil {
		return err
	}
	a.s.printf("\n%s\n", j.Summary)
	if j.Push != nil && len(j.Push.Remaining) > 0 {
		a.residuals(j.Push.Remaining)
	}
	if j.Push != nil {
		a.checks(j.Push.Checks)
	}
	looked := time.Now()
	over := func() bool { // by time, or because somebody decided elsewhere
		if time.Since(looked) < time.Second {
			return false
		}
		looked = time.Now()
		now, err := s.Job(ctx, id)
		return err == nil && (now.State != "waiting" || now.Decision != "" || now.Cancel)
	}
	for {
		answer, err := a.s.askUntil(ctx, fmt.Sprintf("Type confirm to keep it, or undo to take it back; by itself it goes back in %s: ", time.Until(*j.Due).Round(time.Second)), over)
		if errors.Is(err, errOver) {
			a.tell("the question is over: the time has passed, or somebody decided it elsewhere\n")
			return nil
		}
		if err != nil {
			return fmt.Errorf("%w\nthe push goes on waiting until %s %s and then takes itself back; keep it with: magpie job confirm %s; undo it now with: magpie job undo %[4]s; in the console: under Jobs", err, when(*j.Due), zoneName(), id)
		}
		decide := s.Confirm
		switch answer {
		case "confirm", "keep":
		case "undo":
			decide = s.Undo
		default:
			continue
		}
		if _, err := decide(ctx, id); client.IsStatus(err, 409) {
			a.tell("%v\n", err)
		} else if err != nil {
			return err
		}
		return nil
	}
}

// waits tells once, and again when it changes, what a waiting job waits for.
func (a *app) waits() func(client.Job) {
	said := ""
	return func(j client.Job) {
		if j.State == "waiting" && j.Summary != said {
			said = j.Summary
			a.tell("waiting: %s\n", said)
			if j.Due != nil && j.Decision == "" && time.Now().Before(*j.Due) {
				a.tell("keep it with: magpie job confirm %s; undo it now with: magpie job undo %[1]s\n", j.ID)
			}
		}
	}
}

func (a *app) showPreview(p client.Preview, noSave bool, within string) {
	target := a.s.paint(strong, p.Target)
	if p.TargetName != "" {
		target += " (" + p.TargetName + ")"
	}
	if len(p.Steps) == 0 {
		if len(p.Remaining) > 0 {
			a.s.printf("%s has all of %s already; nothing to add. %s would stay:\n", p.Device, target, count(len(p.Remaining), "other line", "other lines"))
			a.residuals(p.Remaining)
		} else {
			a.s.printf("%s runs %s already; nothing to send.\n", p.Device, target)
			if gone := letGo(p.LetGo); gone != "" {
				a.s.printf("They are written differently and mean the same: %s.\n"+
					"--exactly sends it all the same, where it goes as a whole.\n", gone)
			}
		}
		if p.Unsaved {
			a.s.printf("But it is not saved: startup does not hold what runs.\n")
		}
		return
	}
	save := "saved to startup afterwards"
	if noSave {
		save = "not saved to startup"
	} else if !p.Saves {
		save = "the dialect knows no startup to save to"
	}
	undo := "none by itself; with --within TIME it goes back unless it is confirmed, " + p.Undo
	switch {
	case p.Undo == "":
		undo = "none: what ran before is not complete, so it is not kept"
	case within != "":
		undo = "in " + within + " unless it is confirmed, " + p.Undo
		if save == "saved to startup afterwards" {
			save = "saved to startup when it is confirmed"
		}
	}
	method := p.Method + ", to end equivalent to the version"
	switch p.Method {
	case "merge":
		method = "merge, adding to what runs and leaving other lines"
	case "upload":
		method = "upload, the file as it was pulled"
	case "stage":
		method, save = "stage, writing startup and restarting into it", "written first, and read again before the restart"
	}
	if p.UndoOf != "" {
		target += ", undoing push " + p.UndoOf
	}
	unit, old := a.s.paint(strong, p.Device)+", serial "+p.Serial, ""
	if p.Swap != nil {
		old = fmt.Sprintf("serial %s, %s", strings.Join(p.Swap.OldSerials, " or "), p.Swap.OldModel)
		unit = a.s.paint(strong, p.Device) + fmt.Sprintf(", new unit: serial %s, %s, release %s", p.Swap.NewSerial, p.Swap.NewModel, p.Swap.NewRelease)
	}
	if p.Factory {
		unit += ", with factory settings"
	}
	a.s.facts("device", unit, "in place of", old, "spoken to", spokenTo(p), "to run", target, "runs now", p.Base, "method", method, "startup", save, "undo", undo)
	whole := p.Steps[0].Kind == "load" || p.Method == "stage"
	if whole {
		a.s.printf("\n%s to take:\n", count(len(p.Steps), "step", "steps"))
	} else {
		a.s.printf("\n%s to send:\n", count(p.Lines, "line", "lines"))
	}
	a.steps(p)
	if len(p.Changes) > 0 {
		a.s.printf("\nWhat that changes in %s:\n", p.Part)
		a.residuals(turned(p.Changes))
	}
	var marks [][]cell
	for _, l := range p.KeyFacts {
		marks = append(marks, []cell{{l.Name, plain}, {strings.Join(l.Have, ", "), removed}, {strings.Join(l.Want, ", "), added}})
	}
	if len(marks) > 0 {
		a.s.printf("\nKey facts that change:\n")
		a.s.table([]string{"", "only runs now", "only in " + p.Target}, marks)
	}
	if len(p.SetAside) > 0 {
		a.s.printf("\nSet aside, for it belongs to the hardware that %s was taken from:\n", p.Target)
		a.residuals(p.SetAside)
	}
	if len(p.Loaded) > 0 {
		a.s.printf("\nLoaded into the candidate by somebody, and not committed:\n")
		a.residuals(turned(p.Loaded))
	}
	if p.Approval != "" {
		a.s.printf("\n%s a second person has to approve it (%s): plan it, with --from now if it is to begin as soon as it is approved\n", a.s.paint(alarm, "note:"), p.Approval)
	}
	for _, w := range p.Warnings {
		a.s.printf("\n%s %s\n", a.s.paint(alarm, "warning:"), w)
	}
	for _, w := range p.Notes {
		a.s.printf("\n%s %s\n", a.s.paint(alarm, "note:"), w)
	}
	if p.TouchesManagementPath && within == "" {
		a.s.printf("\n%s with --within TIME it goes back by itself if contact is lost\n", a.s.paint(alarm, "note:"))
	}
	if len(p.Remaining) > 0 {
		a.s.printf("\n%s would still differ from %s:\n", count(len(p.Remaining), "line", "lines"), p.Target)
		a.residuals(p.Remaining)
	} else if p.Assumed > 0 {
		a.s.printf("\nAfterwards it is expected to run what %s says, if %s. No rule of its dialect speaks of what is marked so.\n", p.Target, assumed(p.Assumed))
	} else if len(p.SetAside) > 0 {
		a.s.printf("\nAfterwards it is expected to run what %s says, but for that.\n", p.Target)
	} else {
		a.s.printf("\nAfterwards it is expected to run exactly what %s says.\n", p.Target)
	}
}

// steps shows the lines that a push sends, numbered, in their order.
func (a *app) steps(p client.Preview) {
	whole := len(p.Steps) > 0 && p.Steps[0].Kind == "load" || p.Method == "stage"
	n := 0
	for _, st := range p.Steps {
		for i, l := range st.Lines {
			style, pad := plain, strings.Repeat("  ", st.Depth)
			switch st.Kind {
			case "remove":
				style = removed
			case "set":
				style = added
			}
			if whole {
				pad = st.Kind + " "
			}
			number := ""
			if i == 0 {
				n++
				number = fmt.Sprint(n)
			} else {
				pad = ""
			}
			mark := ""
			if st.Assumed && i == 0 {
				mark = a.s.paint(faint, "   (assumed)")
			}
			a.s.printf("  %s  %s%s\n", a.s.paint(faint, fmt.Sprintf("%4s", number)), a.s.paint(style, pad+l), mark)
		}
	}
}

// assumed says what is taken for granted of lines that no rule speaks of.
func assumed(n int) string {
	if n == 1 {
		return "the assumed line does what most lines do"
	}
	return fmt.Sprintf("the %d assumed lines do what most lines do", n)
}

// spokenTo says where a unit is spoken to for now.
func spokenTo(p client.Preview) string {
	if p.Relay != "" {
		return strings.TrimSpace(p.At + " through relay " + p.Relay)
	}
	return p.At
}

// turned shows changes as what goes and what comes.
func turned(rs []client.Difference) []client.Difference {
	out := make([]client.Difference, len(rs))
	for i, r := range rs {
		r.Have, r.Want = r.Want, r.Have
		out[i] = r
	}
	return out
}

// logLine shows one line of a job's log.
func (a *app) logLine(e client.Entry) {
	at := a.s.paint(faint, e.At.In(zone()).Format("15:04:05"))
	switch e.Kind {
	case "step":
		a.s.printf("%s  %s\n", at, a.s.paint(strong, e.Text))
	case "line":
		a.s.printf("%s  %s\n", at, strings.ReplaceAll(e.Text, "\n", "\n               "))
	case "trouble":
		a.s.printf("%s  %s\n", at, a.s.paint(alarm, e.Text))
	case "warning":
		a.s.printf("%s  %s %s\n", at, a.s.paint(removed, "note:"), e.Text)
	case "kept":
		a.s.printf("%s  what came from the device:\n%s\n", at, e.Text)
	case "end":
	default:
		a.s.printf("%s  %s\n", at, e.Text)
	}
}

func (a *app) showPush(j client.Job) {
	a.s.printf("\n%s: %s\n", a.s.paint(stateStyle(j.Outcome), j.Outcome), j.Summary)
	if j.Push == nil {
		return
	}
	if r := j.Push.Refused; r != nil {
		where := ""
		if r.Block != "" {
			where = ", in " + r.Block
		}
		a.s.facts("refused line", fmt.Sprintf("%d%s: %s", r.Line, where, r.Text), "the device said", r.Answer)
		a.s.printf("to go on without what it refuses: magpie edit %s, then push the version that makes\n", j.Push.Target)
	}
	if len(j.Push.Remaining) > 0 {
		a.residuals(j.Push.Remaining)
	}
	a.checks(j.Push.Checks)
	if j.Push.Before != "" && j.Push.Begun && j.Outcome != "undone" {
		a.s.printf("%s\n", a.s.paint(faint, fmt.Sprintf("what ran before is kept as %s; to go back: magpie push --undo %s", j.Push.Before, j.ID)))
	}
}

// checks shows what was good and is good, side by side.
func (a *app) checks(all []client.Checked) {
	if len(all) == 0 {
		return
	}
	word := func(f *client.Finding) cell {
		switch {
		case f == nil:
			return cell{"", plain}
		case !f.Known:
			return cell{"not known", faint}
		case f.Good:
			return cell{"good", added}
		}
		return cell{"bad", alarm}
	}
	var rows [][]cell
	for _, c := range all {
		said := c.After
		if said == nil {
			said = c.Before
		}
		rows = append(rows, []cell{{c.Check, plain}, word(c.Before), word(c.After), {said.Said, faint}})
	}
	a.s.printf("\n")
	a.s.table([]string{"check", "was", "is", "answer"}, rows)
	a.s.printf("\n")
}
