package push

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/change"
	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/store"
)

// ErrSheet is returned where no sheet can be made.
var ErrBootstrapSheet = errors.New("no bootstrap sheet")

// BootstrapSheet works out the least that has to be typed at a unit for a version's sake.
// With secrets it says them; that is written to the audit log.
func (s *Service) BootstrapSheet(ctx context.Context, actor core.Actor, target core.Version, secrets bool) (out client.BootstrapSheet, err error) {
	q := s.Store.As(actor)
	d, err := q.DeviceByID(ctx, target.DeviceID)
	if err != nil {
		return out, err
	}
	dia := s.DialectOf(d)
	if dia == nil || d.Member != "" {
		return out, fmt.Errorf("%w: %s is not spoken to by itself", ErrBootstrapSheet, d.Name)
	}
	out = client.BootstrapSheet{Lines: []client.SheetLine{}, Device: d.Name, Target: target.Ref(), User: d.User, At: fmt.Sprintf("%s port %d", d.Address, d.Port)}
	doc := dia.Doc(target.Part)
	if dia.Language == nil || dia.Change.Remove == "" || doc.Opaque() {
		sum := sha256.New()
		if err := q.ContentTo(ctx, target.ContentID, sum); err != nil {
			return out, err
		}
		out.File = &client.SheetFile{Part: target.Part, Bytes: target.Size}
		if actor.Secrets { // who may have the file may have its hash
			out.File.SHA256 = fmt.Sprintf("%x", sum.Sum(nil))
		}
		return out, nil
	}
	raw, err := q.Content(ctx, target.ContentID)
	if err != nil {
		return out, err
	}
	_, top, err := doc.Parse(string(raw))
	if err != nil {
		return out, err
	}
	least, held, err := change.Least(top, dia.Change.Least, d.User, d.Address)
	if err != nil {
		return out, err
	}
	out.Untold = !held
	mask := s.Masker(dia)
	if len(least.Kids) == 0 {
		return out, fmt.Errorf("%w: dialect %s does not say which lines carry the way (reach) or are needed first (change.least), or the version has none", ErrBootstrapSheet, dia.Dialect)
	}
	out.Lines = append(out.Lines, enter(dia)...)
	var typed func(it *rules.Item, depth int)
	typed = func(it *rules.Item, depth int) {
		for _, k := range it.Kids {
			all := append([]string{k.Line}, k.Body...)
			if shown := mask.Lines(k); !secrets && !slices.Equal(shown, all) {
				all = shown
				out.Hidden++
			}
			for _, l := range all {
				out.Lines = append(out.Lines, client.SheetLine{Text: strings.Repeat("  ", depth) + l})
			}
			if typed(k, depth+1); len(k.Kids) > 0 {
				out.Lines = append(out.Lines, client.SheetLine{Text: strings.Repeat("  ", depth+1) + dia.Change.Leave})
			}
		}
	}
	typed(least, 0)
	for m, ok := dia.Converse.Modes[dia.Change.Mode]; ok && m.Leave != ""; m, ok = dia.Converse.Modes[m.From] {
		out.Lines = append(out.Lines, client.SheetLine{Text: m.Leave, Why: "leaves that"})
		if sv := dia.Change.Save; sv != nil && m.From == sv.Mode {
			break
		}
	}
	if sv := dia.Change.Save; sv != nil && sv.Command != "" {
		out.Lines = append(out.Lines, client.SheetLine{Text: sv.Command, Why: "has startup hold it"})
	}
	if secrets {
		err = s.Store.Tx(ctx, actor, func(q *store.Q) error {
			return q.Audit(ctx, "bootstrap sheet with secrets", d.Name, target.Ref())
		})
	}
	return out, err
}

// enter is how the mode in which lines are typed is entered.
func enter(dia *dialect.Dialect) (out []client.SheetLine) {
	for name := dia.Change.Mode; name != "" && name != dia.Converse.Starts; name = dia.Converse.Modes[name].From {
		m := dia.Converse.Modes[name]
		why := "enters " + name
		if m.Asks != "" {
			why += "; it may ask for a secret of its own"
		}
		out = append([]client.SheetLine{{Text: m.Enter, Why: why}}, out...)
	}
	return out
}
