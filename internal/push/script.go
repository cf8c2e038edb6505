package push

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core"
	"magpie/internal/core/change"
	"magpie/internal/core/rules"
	"magpie/internal/core/text"
	"magpie/internal/dialect"
	"magpie/internal/link"
	"magpie/internal/visit"
)

// pathWarning says which lines may cut the way by which the device is reached:
// addresses and ways, and the account this service signs in with.
func pathWarning(p Preview, user string) string {
	var path, account, within []string
	for _, c := range p.Changes { // of a document
		if c.Reach {
			within = append(within, strings.TrimSpace(c.Block+" / "+cmp.Or(c.WantMasked, c.HaveMasked)))
		}
	}
	for i, st := range p.Steps {
		switch number := fmt.Sprint(i + 1); {
		case st.Reach:
			path = append(path, number)
		case user != "" && (st.Kind == string(change.Set) || st.Kind == string(change.Remove)) && slices.Contains(strings.Fields(st.Block+" "+st.Lines[0]), user):
			account = append(account, number)
		}
	}
	var out []string
	if len(path) > 0 {
		out = append(out, fmt.Sprintf("%s the management path (%s)", touch(len(path)), some(path)))
	}
	if n := len(within); n > 0 {
		out = append(out, fmt.Sprintf("%s the management path (%s)", strings.Replace(touch(n), "line", "change", 1), strings.Join(within[:min(n, 3)], "; ")))
	}
	if len(account) > 0 {
		out = append(out, fmt.Sprintf("%s the account %s, by which this service signs in (%s)", touch(len(account)), user, some(account)))
	}
	if len(out) == 0 {
		return ""
	}
	return strings.Join(out, "; ")
}

func touch(n int) string {
	if n == 1 {
		return "1 line touches"
	}
	return fmt.Sprintf("%d lines touch", n)
}

// some lists the numbers of a few lines.
func some(numbers []string) string {
	if len(numbers) > 6 {
		return "lines " + strings.Join(numbers[:6], ", ") + ", …"
	}
	if len(numbers) == 1 {
		return "line " + numbers[0]
	}
	return "lines " + strings.Join(numbers, ", ")
}

// script is a push worked out.
type script struct {
	steps     []SendStep
	predicted string
	changes   []visit.Difference
	remains   []visit.Difference
	notes     []string
	setAside  []visit.Difference // lines of the version that are set aside
	beside    bool               // something in use is built anew beside
}

// ask is what a push is to be worked out of.
type ask struct {
	method     string
	have, want string // what runs, and what should
	contentID  string // of want, as it is kept
	passphrase string // of want
	only       []string
	otherUnit  bool // want was taken from another piece of hardware
	inPlace    bool // what is in use is taken apart where it stands
	exactly    bool // want is sent although have means the same, where they are written differently
}

// script works out what to send so that a part that runs have runs want: lines
// where lines can be typed, otherwise the whole document or file.
func (s *Service) script(v *visit.Visit, doc *dialect.Doc, part string, ask ask) (p script, err error) {
	method, have, want, passphrase, only := ask.method, ask.have, ask.want, ask.passphrase, ask.only
	mask := s.Masker(v.Dialect)
	if method == "stage" {
		if len(only) > 0 {
			return p, fmt.Errorf("blocks are chosen with method replace, not stage: startup is written as a whole")
		}
		return s.staged(v, doc, have, want, ask.exactly)
	}
	asWritten := ask.exactly && have != want
	if doc.Language != nil && doc.Change.Remove != "" && !doc.Opaque() && (method == "replace" || method == "merge") {
		_, from, err := doc.Parse(have)
		if err != nil {
			return p, fmt.Errorf("what runs cannot be read as the dialect says: %w", err)
		}
		_, to, err := doc.Parse(want)
		if err != nil {
			return p, fmt.Errorf("the version cannot be read as the dialect says: %w", err)
		}
		if asWritten {
			return p, fmt.Errorf("dialect %s types lines: a text that is written differently and means the same goes only where it is sent as a whole", v.Dialect.Dialect)
		}
		if len(only) > 0 {
			if method != "replace" {
				return p, fmt.Errorf("blocks are chosen with method replace, not %s", method)
			}
			if to, err = change.Choose(from, to, only); err != nil {
				return p, err
			}
		}
		var held []*rules.Item
		if ask.otherUnit {
			to, held = change.Bound(from, to)
		}
		lang := *doc.Language
		lang.InPlace = ask.inPlace
		plan := lang.Replace(from, to)
		if method == "merge" {
			plan = lang.Merge(from, to)
		}
		if u := plan.Unread; u != nil {
			return p, fmt.Errorf("line %d cannot be read as dialect %s says (%s), and this push would have to send it or take it away; nothing was sent. Have the dialect read it, choose blocks that leave it alone, or push it another way", u.Src, v.Dialect.Dialect, u.Unread)
		}
		steps := sendSteps(plan.Steps, mask)
		if len(steps) > 0 && len(v.Dialect.Change.Live) > 0 {
			steps = append(steps, say("live", "what was sent takes effect"))
		}
		return script{steps: steps, predicted: doc.Blocks.Print(plan.Predicted.Node()), remains: visit.Masked(plan.Remains, mask), notes: plan.Notes, beside: plan.Beside, setAside: s.setAsideWords(held, mask)}, nil
	}
	if len(only) > 0 {
		return p, fmt.Errorf("%s goes there as a whole, so no blocks of it can be chosen", part)
	}
	p = script{remains: []visit.Difference{}, predicted: want}
	if method == "merge" {
		g, ok := doc.XML()
		if !ok {
			return p, fmt.Errorf("what merging would make of %s is not known before it is done: lines and XML documents are merged, nothing else; push it with method replace", part)
		}
		if p.predicted, err = g.Merge(have, want); err == nil {
			p.remains, err = s.Differences(doc, p.predicted, want)
		}
		if err != nil {
			return p, err
		}
	}
	if p.changes, err = s.Differences(doc, have, p.predicted); err != nil {
		return p, err
	}
	if doc.Opaque() {
		p.predicted = s.FileWords(doc, want) + "\n"
	}
	live := len(v.Dialect.Change.Live) > 0
	if len(p.changes) == 0 && !asWritten {
		if follows, _, _ := v.Dialect.Follower(); live && follows != "startup" && v.Unsaved() {
			p.steps = []SendStep{say("live", "what is there already takes effect")}
		}
		return p, nil
	}
	what := fmt.Sprintf("the whole of %s, %s", part, core.Count(len(text.Lines(want)), "line", "lines"))
	if doc.Opaque() {
		what = fmt.Sprintf("the file %s, %d bytes", part, dialect.Size(want))
	}
	load := say("load", what)
	load.Passphrase = passphrase
	if dialect.InPieces(want) {
		load.ContentID, load.Size = ask.contentID, dialect.Size(want)
	} else {
		load.Content, load.Current = []byte(want), []byte(have)
	}
	p.steps = []SendStep{load}
	if v.Session.Commits() {
		p.steps = append(p.steps, commits(v.Session))
	}
	if live {
		p.steps = append(p.steps, say("live", "what was sent takes effect"))
	}
	return p, nil
}

// setAsideWords words lines of a version that do not go to another unit.
func (s *Service) setAsideWords(held []*rules.Item, mask rules.Masker) (out []visit.Difference) {
	for _, it := range held {
		block := ""
		if it.Up != nil && it.Up.Up != nil {
			block = it.Up.Path()
		}
		out = append(out, visit.Difference{Block: block, Want: it.Line, WantMasked: mask.Item(it)})
	}
	return out
}

// say is a step in our words, not the device's.
func say(kind, line string) SendStep {
	return SendStep{Kind: kind, Lines: []string{line}, Masked: []string{line}}
}

// commits is the step that commits what was loaded.
func commits(to *link.Session) SendStep {
	if to.Validates() {
		return say("commit", "what was loaded, once the device found it valid")
	}
	return say("commit", "what was loaded; the device is not asked whether it is valid")
}

// staged works out a push by way of the startup part and a restart.
func (s *Service) staged(v *visit.Visit, doc *dialect.Doc, have, want string, exactly bool) (p script, err error) {
	p = script{remains: []visit.Difference{}, predicted: want}
	asWritten := exactly && have != want
	if p.changes, err = s.Differences(doc, have, want); err != nil || len(p.changes) == 0 && !asWritten {
		return p, err
	}
	if now := v.Parts["startup"]; now.Absent || !doc.Equivalent(now.Text, want) || asWritten && now.Text != want {
		put := say("stage", "startup, "+core.Count(len(text.Lines(want)), "line", "lines"))
		put.Content = []byte(want)
		p.steps = append(p.steps, put)
	} else {
		p.notes = append(p.notes, "startup holds it already, so it is only restarted")
	}
	restart := say("restart", "into startup; what runs is not kept")
	restart.Content = []byte(want)
	p.steps = append(p.steps, restart)
	return p, nil
}

func sendSteps(steps []change.Step, mask rules.Masker) []SendStep {
	out := make([]SendStep, len(steps))
	for i, st := range steps {
		o := SendStep{Kind: string(st.Kind), Lines: st.Lines, Masked: slices.Clone(st.Lines), Block: st.Block, Depth: st.Depth}
		if st.Item != nil {
			o.Reach = st.Reach
			o.Secrets, o.Assumed = st.Item.Secrets(), st.Assumed()
			if st.Kind != change.Remove {
				o.Hostname = st.Item.Hostname()
			}
			o.Block = mask.Path(st.Item.Up)
			shown := mask.Lines(st.Item)
			for i, l := range st.Lines {
				switch {
				case i < len(shown) && st.Kind != change.Remove:
					o.Masked[i] = shown[i]
				case st.Item.Hidden():
					o.Masked[i] = shown[0]
				default:
					o.Masked[i] = mask.Answer(l, o.Secrets)
				}
			}
		}
		out[i] = o
	}
	return out
}
