package visit

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"

	"magpie/internal/core"
	"magpie/internal/core/ref"
	"magpie/internal/job"
	"magpie/internal/store"
)

// Version finds the version a reference names, without its text.
func (s *Service) Version(ctx context.Context, actor core.Actor, r ref.Version) (core.Version, error) {
	q := s.Store.As(actor)
	d, err := q.AnyDevice(ctx, r.Device)
	if err != nil {
		return core.Version{}, err
	}
	if r.Which == "live" {
		return core.Version{}, fmt.Errorf("%s is no stored version; pull it first", r)
	}
	return s.Find(ctx, q, d, r)
}

// PartOf is the part that is meant: a device without a running part is spoken
// of by its main one when no other is named.
func (s *Service) PartOf(d core.Device, part string) string {
	if dia := s.DialectOf(d); dia != nil && part == "running" {
		if _, ok := dia.Parts[part]; !ok {
			return dia.Main()
		}
	}
	return part
}

// HasPart tells whether a device has a part of that name, by its dialect or by
// what was pulled of it.
func (s *Service) HasPart(ctx context.Context, actor core.Actor, d core.Device, part string) error {
	var names []string
	if dia := s.DialectOf(d); dia != nil {
		if _, ok := dia.PartOf(part); ok {
			return nil
		}
		names = dia.PartNames()
	}
	kept, err := s.Store.As(actor).Parts(ctx, d.ID)
	if err != nil {
		return err
	}
	for _, p := range kept {
		if p.Name == part {
			return nil
		}
		if !slices.Contains(names, p.Name) {
			names = append(names, p.Name)
		}
	}
	hint := ref.Meant(part, names)
	if hint == "" {
		hint = "it has " + strings.Join(names, ", ")
	}
	return fmt.Errorf("part %q of %s: %w; %s", part, d.Name, store.ErrNotFound, hint)
}

// Find finds the version of a device that a reference names.
func (s *Service) Find(ctx context.Context, q *store.Q, d core.Device, r ref.Version) (v core.Version, err error) {
	err = s.find(ctx, q, d, r, func(p store.Pick) (err error) { v, err = q.Version(ctx, p); return err })
	return v, err
}

// FindText finds it with its text. Of one that is too large it returns the version, and
// store.ErrLarge.
func (s *Service) FindText(ctx context.Context, q *store.Q, d core.Device, r ref.Version) (v core.Version, text []byte, err error) {
	err = s.find(ctx, q, d, r, func(p store.Pick) error {
		return s.Whole(ctx, &v, func() (err error) { v, text, err = q.VersionText(ctx, p); return err })
	})
	return v, text, err
}

// Whole reads a version's text. One that is damaged is mended by a copy elsewhere, if there is one,
// and read again.
func (s *Service) Whole(ctx context.Context, v *core.Version, read func() error) error {
	err := read()
	if !errors.Is(err, store.ErrDamaged) {
		return err
	}
	err = fmt.Errorf("%s: %w", v.Ref(), err)
	if s.Mend == nil {
		return err
	}
	from, mending := s.Mend(ctx, v.ContentID)
	if from == "" { // where copies are is not for everybody to know
		slog.Error("a version does not read back", "err", err, "its copies", mending)
		return err
	}
	slog.Warn("a version did not read back, and was mended by a copy elsewhere", "version", v.Ref(), "copy at", from)
	return read()
}

func (s *Service) find(ctx context.Context, q *store.Q, d core.Device, r ref.Version, read func(store.Pick) error) error {
	r.Part = s.PartOf(d, r.Part)
	if err := s.HasPart(ctx, job.Service, d, r.Part); err != nil {
		return err
	}
	var p store.Pick
	missing := ""
	switch r.Which {
	case "latest":
		p = store.Latest(d.ID, r.Part, 0)
		missing = "it was never pulled; run: magpie pull " + d.Name
	case "previous":
		p = store.Latest(d.ID, r.Part, 1)
		missing = "there is only one version or none"
	case "first":
		p = store.First(d.ID, r.Part)
		missing = "it was never pulled; run: magpie pull " + d.Name
	case "baseline":
		p = store.Baseline(d.ID, r.Part)
		missing = "no version is its baseline yet; choose one: magpie mark " + d.Name + "@NUMBER --baseline"
	case "number":
		p = store.ByNumber(d.ID, r.Part, r.Number)
		missing = "see which there are: magpie versions " + d.Name
	case "name":
		p = store.ByName(d.ID, r.Part, r.Name)
		missing = "see which names there are: magpie versions " + d.Name
	case "time":
		p = store.At(d.ID, r.Part, r.At)
		missing = "nothing was pulled by then"
		if r.Any {
			p, missing = store.AtWithImported(d.ID, r.Part, r.At), "nothing was pulled by then, and nothing imported is so old"
		}
	}
	if r.Which == "time" && r.Name != "" { // a date that is a name is the name
		if err := read(store.ByName(d.ID, r.Part, r.Name)); !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	err := read(p)
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if r.Which == "time" && !r.Any {
		v, err := q.Version(ctx, store.AtWithImported(d.ID, r.Part, r.At))
		switch {
		case err == nil:
			any := r
			any.Any = true
			missing += fmt.Sprintf("; version %d, imported, is of %s: %s", v.Number, v.TakenAt.UTC().Format("2006-01-02 15:04 MST"), any)
		case !errors.Is(err, store.ErrNotFound):
			return err
		}
	}
	if r.Which == "name" {
		names, err := q.VersionNames(ctx, d.ID, r.Part)
		if err != nil {
			return err
		}
		if meant := ref.Meant(r.Name, append(names, ref.Keywords...)); meant != "" {
			missing = meant
		}
	}
	return fmt.Errorf("%s: %w; %s", r, store.ErrNotFound, missing)
}
