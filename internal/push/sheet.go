package push

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"

	"magpie/internal/core"
	"magpie/internal/core/change"
	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/store"
)

// BootstrapSheet is what a person types at a unit's console, or puts on it, so that the
// service can reach it; then the service takes over.
type BootstrapSheet struct {
	Device string
	Target string // the version, as a reference
	User   string // the account the service signs in with
	At     string // where the service looks for it
	Lines  []SheetLine
	File   *SheetFile // instead of lines: what is carried there as a whole
	Hidden int        // lines whose secrets are hidden
}

// SheetLine is one line to type.
type SheetLine struct {
	Text string
	Why  string // what it is for, where it is no line of the configuration
}

// SheetFile is a document or file to carry.
type SheetFile struct {
	Part   string
	Bytes  int
	SHA256 string
}

// ErrSheet is returned where no sheet can be made.
var ErrBootstrapSheet = errors.New("no bootstrap sheet")

// BootstrapSheet works out the least that has to be typed at a unit for a version's sake.
// With secrets it says them; that is written to the audit log.
func (s *Service) BootstrapSheet(ctx context.Context, actor core.Actor, target core.Version, secrets bool) (out BootstrapSheet, err error) {
	q := s.Store.As(actor)
	d, err := q.DeviceByID(ctx, target.DeviceID)
	if err != nil {
		return out, err
	}
	dia := s.DialectOf(d)
	if dia == nil || d.Member != "" {
		return out, fmt.Errorf("%w: %s is not spoken to by itself", ErrBootstrapSheet, d.Name)
	}
	raw, err := q.Content(ctx, target.ContentID)
	if err != nil {
		return out, err
	}
	out = BootstrapSheet{Device: d.Name, Target: target.Ref(), User: d.User, At: fmt.Sprintf("%s port %d", d.Address, d.Port)}
	doc := dia.Doc(target.Part)
	if dia.Language == nil || dia.Change.Remove == "" || doc.Opaque() {
		out.File = &SheetFile{Part: target.Part, Bytes: len(raw)}
		if actor.Secrets { // who may have the file may have its hash
			out.File.SHA256 = fmt.Sprintf("%x", sha256.Sum256(raw))
		}
		return out, nil
	}
	_, top, err := doc.Parse(string(raw))
	if err != nil {
		return out, err
	}
	least, err := change.Least(top, dia.Change.Least, d.User)
	if err != nil {
		return out, err
	}
	mask := s.Masker(dia)
	if len(least.Kids) == 0 {
		return out, fmt.Errorf("%w: dialect %s does not say which lines carry the way (reach) or are needed first (change.least), or the version has none", ErrBootstrapSheet, dia.Dialect)
	}
	out.Lines = enter(dia)
	var typed func(it *rules.Item, depth int)
	typed = func(it *rules.Item, depth int) {
		for _, k := range it.Kids {
			line := k.Line
			if shown := mask.Answer(line, k.Secrets()); !secrets && shown != line {
				line = shown
				out.Hidden++
			}
			for _, l := range append([]string{line}, k.Body...) {
				out.Lines = append(out.Lines, SheetLine{Text: strings.Repeat("  ", depth) + l})
			}
			if typed(k, depth+1); len(k.Kids) > 0 {
				out.Lines = append(out.Lines, SheetLine{Text: strings.Repeat("  ", depth+1) + dia.Change.Leave})
			}
		}
	}
	typed(least, 0)
	for m, ok := dia.Converse.Modes[dia.Change.Mode]; ok && m.Leave != ""; m, ok = dia.Converse.Modes[m.From] {
		out.Lines = append(out.Lines, SheetLine{m.Leave, "leaves that"})
		if sv := dia.Change.Save; sv != nil && m.From == sv.Mode {
			break
		}
	}
	if sv := dia.Change.Save; sv != nil {
		out.Lines = append(out.Lines, SheetLine{sv.Command, "has startup hold it"})
	}
	if secrets {
		err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
			return q.Audit(ctx, "bootstrap sheet with secrets", d.Name, target.Ref())
		})
	}
	return out, err
}

// enter is how the mode in which lines are typed is entered.
func enter(dia *dialect.Dialect) (out []SheetLine) {
	for name := dia.Change.Mode; name != "" && name != dia.Converse.Starts; name = dia.Converse.Modes[name].From {
		m := dia.Converse.Modes[name]
		why := "enters " + name
		if m.Asks != "" {
			why += "; it may ask for a secret of its own"
		}
		out = append([]SheetLine{{m.Enter, why}}, out...)
	}
	return out
}
