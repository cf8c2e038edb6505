package read

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core"
	"magpie/internal/core/rules"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// ErrRule says that a rule of one's own cannot be as it is asked for.
var ErrRule = errors.New("cannot be a rule")

// SetRule keeps a rule of people's own, and has the devices that it is for judged anew, those of an earlier one
// of its name too. Without a dialect it is the one that all its devices have.
func (s *Service) SetRule(ctx context.Context, actor core.Actor, r store.OwnRule) (store.OwnRule, core.Job, error) {
	q := s.Store.As(actor)
	own := rules.Own{Name: r.Name, Kind: r.Kind, Path: r.Path}
	if err := own.Sound(); err != nil {
		return r, core.Job{}, fmt.Errorf("%w: %w", ErrRule, err)
	}
	switch model := r.Kind == rules.Template; {
	case model && strings.TrimSpace(r.Text) == "":
		return r, core.Job{}, fmt.Errorf("%w: a model needs a text: the lines that have to be there", ErrRule)
	case model && r.Path != "", !model && r.Text != "":
		return r, core.Job{}, fmt.Errorf("%w: a model has a text, other rules a path", ErrRule)
	}
	for _, w := range strings.Fields(r.Selector) {
		if strings.HasPrefix(w, "state=") {
			return r, core.Job{}, fmt.Errorf("%w: %s: a device's state follows from rules, so they cannot be for devices in a state", ErrRule, w)
		}
	}
	devices, err := q.Selected(ctx, r.Selector)
	if err != nil {
		return r, core.Job{}, err
	}
	var speak []string
	for _, d := range devices {
		if !slices.Contains(speak, d.Dialect) {
			speak = append(speak, d.Dialect)
		}
	}
	slices.Sort(speak)
	switch {
	case r.Dialect == "" && len(speak) == 1:
		r.Dialect = speak[0]
	case r.Dialect == "":
		return r, core.Job{}, fmt.Errorf("%w: its devices speak %s; say in which the path is written", ErrRule, strings.Join(speak, ", "))
	case !slices.Contains(speak, r.Dialect):
		return r, core.Job{}, fmt.Errorf("%w: none of its devices speaks %s; they speak %s", ErrRule, r.Dialect, strings.Join(speak, ", "))
	}
	if r.Kind == rules.Template {
		if err := s.readable(r); err != nil {
			return r, core.Job{}, err
		}
	}
	var selectors []string
	err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
		before := ""
		selectors = []string{r.Selector}
		if old, err := q.OwnRule(ctx, r.Name); err == nil {
			if err := q.Unseal(&old); err != nil {
				return err
			}
			before = ruleSays(old)
			if old.Selector != r.Selector {
				selectors = append(selectors, old.Selector)
			}
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := q.SaveOwnRule(ctx, &r); err != nil {
			return err
		}
		return q.Audit(ctx, "rule set", r.Name, core.Instead(ruleSays(r), before)+core.Because(r.Note))
	})
	if err != nil {
		return r, core.Job{}, err
	}
	j, err := s.judgeAnew(ctx, actor, r.Name, selectors)
	return r, j, err
}

// readable tells whether a model can be read in the words of its dialect.
func (s *Service) readable(r store.OwnRule) error {
	for _, d := range s.Dialects() {
		if d.Dialect != r.Dialect {
			continue
		}
		doc := d.Doc(d.Main())
		if doc.Opaque() {
			return fmt.Errorf("%w: what %s devices run is no text", ErrRule, r.Dialect)
		}
		if unread := doc.Unread(r.Text); len(unread) > 0 {
			return fmt.Errorf("%w: line %d of the model cannot be read: %s", ErrRule, unread[0].Line, unread[0].Unread)
		}
		if _, _, err := doc.Parse(r.Text); err != nil {
			return fmt.Errorf("%w: the model cannot be read: %w", ErrRule, err)
		}
		return nil
	}
	return fmt.Errorf("%w: no dialect %s is loaded", ErrRule, r.Dialect)
}

func ruleSays(r store.OwnRule) string {
	if r.Kind == rules.Template {
		return fmt.Sprintf("model of %s of %s, in %s", core.Count(strings.Count(strings.TrimSuffix(r.Text, "\n"), "\n")+1, "line", "lines"), r.Selector, r.Dialect)
	}
	return fmt.Sprintf("%s %q of %s, in %s", r.Kind, r.Path, r.Selector, r.Dialect)
}

// RemoveRule takes a rule away, and has its devices judged anew.
func (s *Service) RemoveRule(ctx context.Context, actor core.Actor, name string) (core.Job, error) {
	var old store.OwnRule
	err := s.Store.Tx(ctx, actor, func(q *store.Q) (err error) {
		if old, err = q.OwnRule(ctx, name); err != nil {
			return err
		}
		if err := q.Unseal(&old); err != nil {
			return err
		}
		if err := q.RemoveOwnRule(ctx, name); err != nil {
			return err
		}
		return q.Audit(ctx, "rule removed", name, ruleSays(old))
	})
	if err != nil {
		return core.Job{}, err
	}
	return s.judgeAnew(ctx, actor, name, []string{old.Selector})
}

// judgeAnew has devices judged after what is wanted of their lines changed.
func (s *Service) judgeAnew(ctx context.Context, actor core.Actor, rule string, selectors []string) (j core.Job, err error) {
	for _, sel := range selectors {
		if j, err = s.Queue(ctx, actor, "drift", store.NewJob{Job: core.Job{Kind: "drift"}, Wants: DriftRequest{Selector: sel}}, "after rule "+rule); err != nil {
			return j, err
		}
	}
	s.Kick()
	return j, nil
}

// RuleLine is a line that a rule speaks of, as an actor may see it.
type RuleLine struct {
	Device string
	Block  string
	Line   string
	Lacks  bool // it is not there, and should be
}

// RuleFinds is what a rule comes to in what devices run.
type RuleFinds struct {
	Devices, Lines int // devices with such lines, and the lines
	Looked         int // devices that were looked at
	Items          []RuleLine
	Unread         []string // devices that could not be looked at
	Text           string   // of a model: its text, secrets hidden
	Variables      []string // that stand in it
}

// mostRuleLines is how many lines are listed; all are counted.
const mostRuleLines = 500

// RuleFinds looks in what devices run for what a rule speaks of: the lines it hides, misses, or does not want.
// Secrets are hidden, whoever asks.
func (s *Service) RuleFinds(ctx context.Context, actor core.Actor, r store.OwnRule) (out RuleFinds, err error) {
	actor.Secrets = false // it is shown to everybody alike
	own := rules.Own{Name: r.Name, Kind: r.Kind, Path: r.Path}
	if err := own.Compile(); err != nil {
		return out, err
	}
	q := s.Store.As(actor)
	devices, err := q.Selected(ctx, r.Selector)
	if err == nil {
		err = q.Unseal(&r)
	}
	if err != nil {
		return out, err
	}
	out.Variables = rules.Variables(r.Text)
	for _, d := range devices {
		dia := s.DialectOf(d)
		if r.Kind == rules.Template && out.Text == "" && dia != nil && d.Dialect == r.Dialect {
			if out.Text, err = s.Masked(dia.Doc(dia.Main()), r.Text); err != nil {
				return out, err
			}
		}
		own.Text = rules.Fill(r.Text, store.Values(d))
		if d.Dialect != r.Dialect || dia == nil {
			continue
		}
		v, err := q.Version(ctx, store.Latest(d.ID, dia.Main(), 0))
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return out, err
		}
		out.Looked++
		raw, err := q.Content(ctx, v.ContentID)
		if err != nil && !errors.Is(err, store.ErrLarge) && !errors.Is(err, store.ErrDamaged) {
			return out, err
		}
		doc := dia.Doc(dia.Main())
		_, top, bad := doc.Parse(string(raw))
		if err != nil || bad != nil {
			out.Unread = append(out.Unread, d.Name)
			continue
		}
		mask := s.Masker(dia)
		var lines []RuleLine
		if r.Kind == rules.Ignored || r.Kind == rules.PerDevice {
			for _, it := range own.Matches(top) {
				lines = append(lines, RuleLine{Device: d.Name, Block: mask.Path(it.Up), Line: mask.Item(it)})
			}
		} else {
			for _, off := range visit.SeenBy(actor, s.Breaches(doc, own, top)) {
				line := RuleLine{Device: d.Name, Block: off.Block, Line: off.Have, Lacks: off.Want != ""}
				if line.Lacks {
					line.Line = off.Want
				}
				lines = append(lines, line)
			}
		}
		if len(lines) > 0 {
			out.Devices++
			out.Lines += len(lines)
			out.Items = append(out.Items, lines[:min(len(lines), mostRuleLines-len(out.Items))]...)
		}
	}
	return out, nil
}
