package push

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"magpie/internal/core"
	"magpie/internal/core/change"
	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/visit"
)

// fit holds a version against the unit it is to be put on, as the dialect says:
// warnings are what a person has to say a word about, notes what is pointed out.
// The error says everything that forbids it.
func (s *Service) fit(v *visit.Visit, doc *dialect.Doc, target core.Version, from core.Pull, have, want string) (warnings, notes []string, err error) {
	var refused []error
	said := map[string]bool{}
	for _, f := range v.Dialect.Fit {
		was, is := "", ""
		switch f.Compare {
		case "model":
			was, is = from.Model, v.Pull.Model
		case "release":
			was, is = from.Release, v.Pull.Release
		default:
			was, is = value(doc, f, want), value(doc, f, have)
		}
		said[f.Compare] = true
		if f.Pattern != "" {
			was, is = part1(v.Dialect, f.Pattern, was), part1(v.Dialect, f.Pattern, is)
		}
		if was == "" || is == "" || was == is {
			continue
		}
		words := fmt.Sprintf("%s was taken under %s %s; the unit has %s", target.Ref(), f.Compare, was, is)
		if f.Path != "" {
			words = fmt.Sprintf("%s has %s %s; the unit has %s", target.Ref(), thing(f.Path), was, is)
		}
		if f.Why != "" {
			words += ": " + f.Why
		}
		if f.Otherwise == "refuse" {
			refused = append(refused, errors.New(words))
		} else {
			warnings = append(warnings, words)
		}
	}
	if !said["model"] && from.Model != "" && from.Model != v.Pull.Model {
		warnings = append(warnings, fmt.Sprintf("%s was taken from a %s; this is a %s", target.Ref(), from.Model, v.Pull.Model))
	}
	if !said["release"] && from.Release != "" && from.Release != v.Pull.Release {
		notes = append(notes, fmt.Sprintf("%s was taken under release %s; the unit runs %s", target.Ref(), from.Release, v.Pull.Release))
	}
	if target.DeviceID != v.Device.ID {
		warnings = append(warnings, fmt.Sprintf("%s was taken from %s, not from %s: names, addresses and secrets in it are the other device's", target.Ref(), target.Device, v.Device.Name))
	}
	if doc.Part.Secrets == "withheld" {
		warnings = append(warnings, "the device does not tell all secrets in its export, so this version cannot put them back")
	}
	return warnings, notes, errors.Join(refused...)
}

func part1(dia *dialect.Dialect, pattern, src string) string {
	if m := dia.Pattern(pattern).FindStringSubmatch(src); m != nil {
		return m[1]
	}
	return src
}

// value is what a configuration says at a path; empty when it cannot be read.
func value(doc *dialect.Doc, f dialect.Fit, src string) string {
	r := &rules.Rule{Path: f.Path}
	if doc.Opaque() || src == "" || r.Compile() != nil {
		return ""
	}
	_, top, err := doc.Parse(src)
	if err != nil {
		return ""
	}
	if found := (rules.Masker{Table: doc.Table, Tag: func(string) string { return "masked" }}).KeyFacts(top, []*rules.Rule{r}); len(found[0].Values) > 0 {
		return strings.Join(found[0].Values, ", ")
	}
	return f.Default
}

// carried lists what of a document belongs to the hardware it was taken from and
// goes along, because a document goes as a whole.
func (s *Service) carried(p Preview, doc *dialect.Doc, have, want string) []string {
	if len(p.Steps) == 0 || !p.Steps[0].ours() || doc.Opaque() {
		return nil
	}
	_, to, err := doc.Parse(want)
	if err != nil {
		return nil
	}
	from := &rules.Item{}
	if _, it, err := doc.Parse(have); err == nil {
		from = it
	}
	if _, held := change.Bound(from, to); len(held) > 0 {
		return []string{fmt.Sprintf("%s to the hardware that %s was taken from would go along, because a document goes as a whole: %s", core.Count(len(held), "line that belongs", "lines that belong"), p.Target, held[0].Path())}
	}
	return nil
}

// thing names a path's last word but one: what the value is of.
func thing(path string) string {
	words := strings.Fields(path)
	return strings.Trim(words[max(0, len(words)-2)], "/:")
}

// admit tells whether a push may go to the unit that answers, and as what: nil
// when it is the device's own hardware.
func admit(v *visit.Visit, d core.Device, swap bool) (*Swap, error) {
	own := len(d.Serials) == 0 || slices.Contains(d.Serials, v.Pull.Serial)
	switch {
	case own && swap:
		return nil, fmt.Errorf("serial %s is the device's own hardware, so there is nothing to swap; to put a version back: magpie push %s", v.Pull.Serial, d.Name)
	case own:
		return nil, nil // reset, maybe: the same unit all the same
	case !swap:
		return nil, fmt.Errorf("%s; %w: if it is to take the device's place: magpie swap %s; if it was there all along: magpie device edit %s --serial %s",
			d.Trouble, ErrOtherHardware, d.Name, d.Name, v.Pull.Serial)
	}
	return &Swap{OldSerials: d.Serials, OldModel: v.Device.Model, NewSerial: v.Pull.Serial, NewModel: v.Pull.Model, NewRelease: v.Pull.Release, OldKey: d.HostKey}, nil
}
