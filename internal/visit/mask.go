package visit

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/change"
	"magpie/internal/core/diff"
	"magpie/internal/core/grammar"
	"magpie/internal/core/rules"
	"magpie/internal/core/text"
	"magpie/internal/dialect"
	"magpie/internal/store"
	"magpie/internal/wire"
)

// Differences lists what keeps one content from being equivalent to another. Of
// an opaque file it is known only that it differs.
func (s *Service) Differences(doc *dialect.Doc, have, want string) ([]Difference, error) {
	return s.DifferencesOf(doc, have, want, false)
}

// TookFromOther tells whether a version was taken from hardware that has not the
// device's place any more. What belongs to that hardware is not expected to run.
func (s *Service) TookFromOther(ctx context.Context, q *store.Q, d core.Device, v core.Version) (bool, error) {
	from, err := q.PullByID(ctx, v.PullID)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	return err == nil && from.Serial != "" && len(d.Serials) > 0 && !slices.Contains(d.Serials, from.Serial), err
}

// DifferencesOf leaves aside what belongs to other hardware, where want was taken
// from such.
func (s *Service) DifferencesOf(doc *dialect.Doc, have, want string, other bool) ([]Difference, error) {
	if doc.Opaque() {
		if doc.Equivalent(have, want) {
			return []Difference{}, nil
		}
		say := func(raw string) string {
			return s.FileWords(doc, raw)
		}
		h, w := say(have), say(want)
		if have == "" {
			h = ""
		}
		return []Difference{{Have: h, Want: w, HaveMasked: h, WantMasked: w}}, nil
	}
	if doc.Part.Exact {
		return s.exactly(doc, have, want)
	}
	_, is, err := doc.Parse(have)
	if err != nil {
		return nil, err
	}
	_, should, err := doc.Parse(want)
	if err != nil {
		return nil, err
	}
	if other {
		should, _ = change.Bound(is, should)
	}
	return Masked(rules.Differences(is, should), s.Masker(doc.Dialect)), nil
}

// exactly lists what differs between texts of which every byte counts, line by line.
func (s *Service) exactly(doc *dialect.Doc, have, want string) ([]Difference, error) {
	out := []Difference{}
	if have == want {
		return out, nil
	}
	masked := map[string][]string{}
	for _, src := range []string{have, want} {
		m, err := s.Masked(doc, src)
		if err != nil {
			return nil, err
		}
		masked[src] = text.Lines(m)
	}
	a, b := doc.Split(have), doc.Split(want)
	within := func(t diff.Text, i int) string {
		if i < len(t.Within) {
			return t.Within[i]
		}
		return ""
	}
	// A line without words still has to be seen.
	shown := func(l string) string {
		if strings.TrimSpace(l) == "" {
			return fmt.Sprintf("a blank line of %d characters", len(l))
		}
		return l
	}
	for _, e := range diff.Lines(a.Lines(), b.Lines()) {
		for i := e.Start; i < e.End; i++ {
			out = append(out, Difference{Block: within(a, i), Have: shown(a.Line(i)), HaveMasked: shown(masked[have][i])})
		}
		for i := e.From; i < e.To; i++ {
			out = append(out, Difference{Block: within(b, i), Want: shown(b.Line(i)), WantMasked: shown(masked[want][i])})
		}
	}
	if len(out) == 0 {
		const ended, open = "the last line ends as lines do", "the last line has no end"
		d := Difference{Have: ended, Want: open}
		if strings.HasSuffix(want, "\n") {
			d = Difference{Have: open, Want: ended}
		}
		d.HaveMasked, d.WantMasked = d.Have, d.Want
		out = append(out, d)
	}
	return out, nil
}

// FileWords says of an opaque file what there is to say.
func (s *Service) FileWords(doc *dialect.Doc, raw string) string {
	return fmt.Sprintf("an opaque file of %d bytes, mark %s", dialect.Size(raw), s.FileMark(doc.Settled(raw)))
}

// FileMark tells files apart without telling anything of them: they may hold
// secrets, so no hash leaves that others could work out.
func (s *Service) FileMark(raw string) string {
	return s.Store.Keys().Hash("file mark", []byte(raw))[:16]
}

// Difference is a line that differs, with what a reader may see of it.
type Difference struct {
	Block      string `json:"block,omitempty"`
	Have       string `json:"have,omitempty"`
	Want       string `json:"want,omitempty"`
	Order      bool   `json:"order,omitempty"`
	Reach      bool   `json:"reach,omitempty"` // it carries the path by which the device is reached
	HaveMasked string `json:"have_masked,omitempty"`
	WantMasked string `json:"want_masked,omitempty"`
	Rule       string `json:"rule,omitempty"` // the rule of somebody's own that misses the line, or does not want it
}

// Hides tells whether any of it is hidden from who may not see secrets.
func (r Difference) Hides() bool { return r.Have != r.HaveMasked || r.Want != r.WantMasked }

// SeenBy are differences as an actor may see them.
func SeenBy(a core.Actor, all []Difference) []client.Difference {
	out := wire.List(difference, all)
	if !a.Secrets {
		for i, d := range all {
			out[i].Have, out[i].Want = d.HaveMasked, d.WantMasked
		}
	}
	return out
}

var difference = wire.Make[client.Difference, Difference]()

// Masker hides secrets under this database's keys.
func (s *Service) Masker(d *dialect.Dialect) rules.Masker {
	keys := s.Store.Keys()
	return rules.Masker{Table: d.Table, Tag: func(secret string) string { return keys.Tag(d.Scope, secret) }}
}

// Masked returns a text with its secrets hidden. Text the grammar cannot read
// cannot be masked and is not shown at all.
func (s *Service) Masked(d *dialect.Doc, src string) (string, error) {
	root, err := d.Tree(src)
	return s.MaskedAs(d, src, root, err)
}

// MaskedAs is Masked of a text that was read already, or could not be.
func (s *Service) MaskedAs(d *dialect.Doc, src string, root *grammar.Node, unread error) (string, error) {
	if unread != nil {
		return "", fmt.Errorf("%w: %w", ErrCannotMask, unread)
	}
	return s.Masker(d.Dialect).Text(src, root), nil
}

// ErrCannotMask is returned when a text cannot be shown to someone who may not
// see secrets, because where its secrets stand is not known.
var ErrCannotMask = errors.New("this text cannot be shown without its secrets, because the dialect cannot read it; ask someone who may see secrets")

func Masked(ds []rules.Difference, mask rules.Masker) []Difference {
	out := make([]Difference, len(ds))
	for i, d := range ds {
		m := mask.Difference(d)
		out[i] = Difference{Block: d.Block, Have: d.Have, Want: d.Want, Order: d.Order, Reach: d.Reach(), HaveMasked: m.Have, WantMasked: m.Want}
	}
	return out
}
