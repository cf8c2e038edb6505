package fleet

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"magpie/internal/core"
	"magpie/internal/core/grammar"
	"magpie/internal/core/learn"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/link"
	"magpie/internal/store"
)

// MostTyped is how many lines are typed at a spare unit, if nothing else is said.
const MostTyped = 2000

// LearnRequest is what learning a dialect's rules is asked for.
type LearnRequest struct {
	Dialect    string   `json:"dialect"`
	Of         []string `json:"of"`         // the devices whose versions are read, by id
	Logs       []string `json:"logs"`       // of typed sessions
	Experiment bool     `json:"experiment"` // things are tried out at the job's device
	Most       int      `json:"most"`       // lines that may be typed there
	Note       string   `json:"note"`
}

// LearnResult is what was learned.
type LearnResult struct {
	Draft    string `json:"draft"` // rules, as they stand in a dialect file
	Sure     int    `json:"sure"`
	Unsure   int    `json:"unsure"`
	Versions int    `json:"versions"` // that were read
	Typed    int    `json:"typed"`    // lines that were typed at the unit
	On       string `json:"on,omitempty"`
	Before   string `json:"before,omitempty"` // the version that the unit ran before
	Whole    bool   `json:"whole"`            // and runs again
}

// ErrLearn is returned where nothing can be learned.
var ErrLearn = errors.New("nothing can be learned")

// RequestLearn queues the learning of a dialect's rules. on is a unit that things may be
// tried out at, or that shows its YANG modules; nil: there is none.
func (s *Service) RequestLearn(ctx context.Context, actor core.Actor, req LearnRequest, on *core.Device, key store.Key) (j core.Job, err error) {
	if req.Most == 0 {
		req.Most = MostTyped
	}
	job := core.Job{Kind: "learn"}
	said := "rules of dialect " + req.Dialect
	if on != nil {
		job.DeviceID, job.Device = on.ID, on.Name
		switch {
		case on.Dialect != req.Dialect:
			return j, fmt.Errorf("%w: %s is spoken to by dialect %s", ErrLearn, on.Name, on.Dialect)
		case on.Member != "":
			return j, fmt.Errorf("%w: %s is spoken to by way of %s", ErrLearn, on.Name, on.Parent)
		case req.Experiment && !on.Spare:
			return j, fmt.Errorf("%w: %s is not marked as a spare, and experiments type lines there; an admin marks one that nobody needs: magpie device edit %s --spare", ErrLearn, on.Name, on.Name)
		}
		said += ", on " + on.Name
		if len(req.Of) == 0 {
			req.Of = []string{on.ID}
		}
	} else if req.Experiment {
		return j, fmt.Errorf("%w: experiments need a unit that they are made on", ErrLearn)
	} else if len(req.Of) == 0 {
		return j, fmt.Errorf("%w: name devices whose versions are read, or a unit", ErrLearn)
	}
	var also []func(ctx context.Context, q *store.Q, j core.Job) error
	if req.Experiment {
		said += ", by experiments"
		also = append(also, func(ctx context.Context, q *store.Q, j core.Job) error {
			holder, err := q.Claim(ctx, j.DeviceID, j.ID)
			if err == nil && holder != "" {
				err = fmt.Errorf("%w: push %s holds %s", ErrLearn, holder, on.Name)
			}
			return err
		})
	}
	return s.Queue(ctx, actor, "learn", store.NewJob{Job: job, Wants: req, Key: key}, said+core.Because(req.Note), also...)
}

// learnJob reads versions and logs, and tries things out where a person allowed it.
func (s *Service) learnJob(ctx context.Context, r *job.Run) {
	j, l := r.Job, r.Log
	q := s.Store.As(job.Service)
	var req LearnRequest
	var res LearnResult
	fail := func(outcome, format string, args ...any) {
		s.End(j, l, outcome, fmt.Sprintf(format, args...), res)
	}
	if err := errors.Join(q.OpenRequest(j, &req), q.OpenResult(j, &res)); err != nil {
		fail(core.Failed, "%v", err)
		return
	}
	if r.Again && res.Before != "" {
		fail(core.Unknown, "it broke off while things were tried out, and %s may not be as it was; look: magpie diff %s %s@live; to have it run that again: magpie push %s", j.Device, res.Before, j.Device, res.Before)
		return
	}
	res.On = j.Device
	dia := s.dialect(req.Dialect)
	if dia == nil {
		fail(core.Failed, "no dialect is named %q here", req.Dialect)
		return
	}
	if dia.Doc(dia.Main()).Opaque() {
		fail(core.Refused, "nothing in the files of dialect %s can be read, so there are no rules to be learned", req.Dialect)
		return
	}
	texts, known, err := s.learnFrom(ctx, req, dia)
	if err != nil {
		fail(core.Failed, "%v", err)
		return
	}
	res.Versions = len(texts)
	l.Info("%s read", core.Count(len(texts), "version was", "versions were"))
	const none = "no version was read: pull a device of dialect %s first, or name others with --of"
	if len(texts) == 0 && dia.Blocks != nil {
		fail(core.Refused, none, req.Dialect)
		return
	}
	draft := learn.From(texts, dia.Table.Words, dia.Grammar.Denial)
	how := learn.How{Remove: dia.Change.Remove, Leave: dia.Change.Leave, Most: req.Most}
	head := s.heard(req, dia, draft, known, &how, l)
	rules := draft.Rules
	var modules []learn.Rule
	if j.DeviceID != "" {
		modules, err = s.atUnit(ctx, j, l, req, draft, how, &res)
	}
	switch {
	case err == nil && len(texts) == 0 && len(modules) == 0:
		fail(core.Refused, none, req.Dialect)
		return
	case dia.Blocks == nil && len(modules) == 0:
		rules = func(learn.How) []learn.Rule { return learn.Documents(texts) }
	case len(modules) > 0:
		rules = func(learn.How) []learn.Rule { return modules }
	}
	all := rules(how)
	if len(modules) == 0 { // a module says more than what is configured now
		var dropped []string
		all, dropped = learn.Prove(all, texts, *dia.Table)
		for _, d := range dropped {
			l.Warn("not drafted: %s", d)
		}
	}
	for _, r := range all {
		if len(r.Unsure) > 0 {
			res.Unsure++
		} else {
			res.Sure++
		}
	}
	res.Draft = head + learn.YAML(all)
	switch {
	case errors.Is(err, learn.ErrStopped) && errors.Is(context.Cause(ctx), job.ErrStopping):
		fail(core.Failed, "the service was stopped; %s runs what it ran before", j.Device)
	case errors.Is(err, learn.ErrStopped):
		fail(core.Cancelled, "cancelled by hand; %s runs what it ran before", j.Device)
	case err != nil:
		l.Trouble(err.Error(), "")
		fail(core.Failed, "%v", said(err))
	default:
		summary := fmt.Sprintf("%s drafted: %d sure, %d not", core.Count(len(all), "rule", "rules"), res.Sure, res.Unsure)
		if res.Before != "" {
			summary += fmt.Sprintf("; %s typed at %s, which runs again what it ran before, %s", core.Count(res.Typed, "line was", "lines were"), j.Device, res.Before)
		}
		fail(core.Done, "%s", summary)
	}
}

// said is why learning ended, without lines of configurations.
func said(err error) string {
	var left *learn.Left
	if errors.As(err, &left) {
		return "an experiment could not be undone, and nothing more was tried; the log says what is missing"
	}
	return err.Error()
}

// dialect is the one of that name; nil: there is none.
func (s *Service) dialect(name string) *dialect.Dialect {
	for _, d := range s.Dialects() {
		if d.Dialect == name {
			return d
		}
	}
	return nil
}

// learnFrom reads the newest versions of the devices named.
func (s *Service) learnFrom(ctx context.Context, req LearnRequest, dia *dialect.Dialect) (roots []*grammar.Node, known []learn.Entry, err error) {
	q := s.Store.As(job.Service)
	doc := dia.Doc(dia.Main())
	for _, id := range req.Of {
		versions, err := q.Versions(ctx, id, dia.Main(), 0, 20)
		if err != nil {
			return nil, nil, err
		}
		for _, v := range versions {
			raw, err := q.Content(ctx, v.ContentID)
			if errors.Is(err, store.ErrDamaged) { // the others say enough
				continue
			}
			if err != nil {
				return nil, nil, err
			}
			root, err := doc.Tree(string(raw))
			if err != nil {
				return nil, nil, fmt.Errorf("%s: %w", v.Ref(), err)
			}
			roots, known = append(roots, root), append(known, learn.Flatten(root)...)
		}
	}
	return roots, known, nil
}

// heard adds what logs of typed sessions suggest, and returns it as keys of the dialect
// that lacks them.
func (s *Service) heard(req LearnRequest, dia *dialect.Dialect, draft *learn.Draft, known []learn.Entry, how *learn.How, l *job.Log) (head string) {
	if len(req.Logs) == 0 {
		return ""
	}
	var prompts []*regexp.Regexp
	for mode := range dia.Converse.Modes {
		prompts = append(prompts, dia.Prompt(mode))
	}
	h := draft.Hear(strings.Join(req.Logs, "\n"), prompts, known)
	l.Info("%s in the logs", core.Count(h.Typed, "typed line", "typed lines"))
	if how.Remove == "" && h.Remove != "" {
		how.Remove = h.Remove
		head += "# heard in a log, for change: remove: '" + h.Remove + "'\n"
	}
	if how.Leave == "" && h.Leave != "" {
		how.Leave = h.Leave
		head += "# heard in a log, for change: leave: " + h.Leave + "\n"
	}
	return head
}

// atUnit visits the unit: where it shows YANG modules rules are drafted of them, and where
// a person allowed it things are tried out. What it ran before is kept first.
func (s *Service) atUnit(ctx context.Context, j core.Job, l *job.Log, req LearnRequest, draft *learn.Draft, how learn.How, res *LearnResult) ([]learn.Rule, error) {
	q := s.Store.As(job.Service)
	d, err := q.DeviceByID(ctx, j.DeviceID)
	if err != nil {
		return nil, err
	}
	v := s.NewVisit(j, d, core.BeforePush, l)
	defer v.Close()
	// The unit is owed what it ran before: a cancel waits for the end of an experiment.
	owed, done := s.Lasting()
	defer done()
	if err := v.Open(owed); err != nil {
		return nil, err
	}
	dia := v.Session.Dialect()
	if dia.Blocks == nil {
		modules, err := v.Session.Modules()
		if errors.Is(err, link.ErrNoModules) {
			l.Warn("%v; rules are drafted from what its documents look like", err)
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		rules, notes, err := learn.Modules(modules)
		l.Info("%s read", core.Count(len(modules), "YANG module was", "YANG modules were"))
		for _, note := range notes {
			l.Warn("%s", note)
		}
		return rules, err
	}
	switch {
	case !req.Experiment:
		return nil, nil
	case dia.Change.Mode == "" || how.Remove == "":
		return nil, fmt.Errorf("%w by experiments: they type lines, and dialect %s does not say in which mode (change.mode) or how one is taken away (change.remove)", ErrLearn, req.Dialect)
	}
	if err := v.Fetch(ctx); err != nil {
		return nil, err
	}
	kept, err := v.Keep(context.WithoutCancel(ctx))
	if err != nil {
		return nil, err
	}
	main := dia.Main()
	res.Before = kept.Versions[main].Ref()
	l.Result(res)
	if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.SetTesting(ctx, j.DeviceID, j.ID) }); err != nil {
		return nil, err
	}
	cred, err := s.Credential(ctx, d)
	if err != nil {
		return nil, err
	}
	before := v.Parts[main].Text
	host := cmp.Or(v.Identity.Host, v.Session.Called())
	draft.Host, how.Spare = host, []string{cred.User, d.Address}
	how.Stop = func() bool { return ctx.Err() != nil }
	l.Step("trying out at %s; what it runs is kept as %s", d.Name, res.Before)
	unit := &counted{v.Session.Unit(main, host), &res.Typed}
	tried := draft.Try(unit, how, func(line string) { l.Line(line, masked(line)) })
	if tried != nil && !errors.Is(tried, learn.ErrStopped) {
		// What was under way is undone in another conversation.
		l.Warn("%s; going back to what it ran", said(tried))
		v.Close()
		if v = s.NewVisit(j, d, core.AfterPush, l); v.Open(owed) == nil {
			if err := draft.Undo(v.Session.Unit(main, host), how, func(line string) { l.Line(line, masked(line)) }); err != nil {
				l.Warn("%s", said(err))
			}
		}
		defer v.Close()
	}
	if !v.IsOpen() {
		return nil, errors.Join(tried, fmt.Errorf("%s cannot be reached any more; to have it run again what it ran: magpie push %s", d.Name, res.Before))
	}
	now, err := v.Session.Fetch(main)
	if err != nil {
		return nil, errors.Join(tried, fmt.Errorf("reading what it runs afterwards: %w", err))
	}
	if res.Whole = dia.Doc(main).Settled(now.Text) == dia.Doc(main).Settled(before); res.Whole {
		l.Info("%s was read again, and runs what it ran before", d.Name)
		err = s.Store.Tx(context.WithoutCancel(ctx), job.Service, func(q *store.Q) error { return q.SetTesting(context.WithoutCancel(ctx), j.DeviceID, "") })
	} else if tried == nil {
		err = fmt.Errorf("%s does not run what it ran before; to have it run that again: magpie push %s", d.Name, res.Before)
	}
	return nil, errors.Join(tried, err)
}

// masked is what of a typed line somebody may see who may not see secrets: that something
// was typed. No rule tells yet what is secret in it.
func masked(line string) string {
	if strings.HasPrefix(line, "  ") {
		return "  ‹lines that were typed›"
	}
	return "about ‹a kind of lines›"
}

// counted is a unit whose typed lines are counted.
type counted struct {
	learn.Unit
	typed *int
}

func (c *counted) Types(lines []string) (int, string, error) {
	*c.typed += len(lines)
	return c.Unit.Types(lines)
}
