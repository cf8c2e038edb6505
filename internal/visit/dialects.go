package visit

import (
	"context"
	"errors"
	"fmt"
	"log/slog"

	"magpie/internal/core/ref"
	"magpie/internal/dialect"
	"magpie/internal/job"
	"magpie/internal/store"
)

// TakeDialect takes a dialect into use, in the place of one of its name, and
// records it. If what it says of lines changed, the fingerprints of the newest
// versions of its devices are worked out anew from what is kept, so that the
// fleet does not seem to have changed.
func (s *Service) TakeDialect(ctx context.Context, d *dialect.Dialect) error {
	var settled bool
	err := s.Store.Tx(ctx, job.Service, func(q *store.Q) (err error) {
		d.Revision, settled, err = q.KeepDialect(ctx, d.Dialect, d.Source)
		return err
	})
	if err != nil {
		return fmt.Errorf("recording dialect %s: %w", d.Dialect, err)
	}
	return s.use(ctx, d, settled)
}

// use takes a recorded revision into use, unless a newer one is. Fingerprints follow it afterwards,
// where they do not yet.
func (s *Service) use(ctx context.Context, d *dialect.Dialect, settled bool) error {
	s.mu.Lock()
	if in := s.dialects[d.Dialect]; in != nil && in.Revision > d.Revision {
		s.mu.Unlock()
		return nil
	}
	s.dialects[d.Dialect] = d
	s.mu.Unlock()
	if settled {
		return nil
	}
	if err := s.refingerprint(ctx, d); err != nil {
		return fmt.Errorf("dialect %s: working out fingerprints anew: %w", d.Dialect, err)
	}
	return s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.DialectSettled(ctx, d.Dialect, d.Revision) })
}

// upToDate takes a dialect into use that another instance was given, before its agenda tells of it:
// what is asked for after a dialect was loaded goes by that dialect.
func (s *Service) upToDate(ctx context.Context, q *store.Q, name string) error {
	newest, err := q.DialectUploadedAs(ctx, name)
	if d := s.Dialect(name); err == nil && d != nil && d.Revision < newest {
		s.syncDialects(ctx)
	}
	return err
}

// syncDialects takes dialects into use that came by the API, maybe of another
// instance.
func (s *Service) syncDialects(ctx context.Context) {
	q := s.Store.As(job.Service)
	all, err := q.DialectsUploaded(ctx)
	if err != nil {
		return // the database is away; the next beat comes again
	}
	for _, u := range all {
		if d := s.Dialect(u.Name); d != nil && d.Revision >= u.Revision {
			continue
		}
		source, settled, err := q.DialectSource(ctx, u.Name, u.Revision)
		var d *dialect.Dialect
		if err == nil {
			d, err = dialect.Load(u.Name, []byte(source))
		}
		switch {
		case err == nil: // it is recorded, and must not be so once more: a newer one may be by now
			d.Revision = u.Revision
			err = s.use(ctx, d, settled)
		case source != "": // kept by an earlier release; it is a revision of its own
			if d, err = dialect.Load(u.Name, []byte(dialect.Modern(source))); err == nil {
				err = s.TakeDialect(ctx, d)
			}
		}
		if err != nil {
			slog.Warn("a dialect that was loaded cannot be used", "dialect", u.Name, "revision", u.Revision, "err", err)
			continue
		}
		slog.Info("dialect in use", "dialect", u.Name, "revision", u.Revision)
	}
}

// refingerprint works out the fingerprints of the newest versions of a
// dialect's devices from what is kept.
func (s *Service) refingerprint(ctx context.Context, d *dialect.Dialect) error {
	q := s.Store.As(job.Service)
	devices, err := q.Devices(ctx, ref.All())
	if err != nil {
		return err
	}
	for _, dev := range devices {
		if dev.Dialect != d.Dialect {
			continue
		}
		dia := s.DialectOf(dev)
		parts, err := q.Parts(ctx, dev.ID)
		if err != nil {
			return err
		}
		for _, p := range parts {
			v, err := q.Version(ctx, store.Latest(dev.ID, p.Name, 0))
			if errors.Is(err, store.ErrNotFound) {
				continue
			}
			if err != nil {
				return err
			}
			if pass, err := q.Passphrase(ctx, v.ID); err != nil {
				return err
			} else if pass != "" {
				continue // it goes by the device's own sign
			}
			raw, err := s.TextOf(ctx, q, dia.Doc(p.Name), v.ContentID)
			if errors.Is(err, store.ErrDamaged) { // the next pull keeps what runs once more
				continue
			}
			if err != nil {
				return err
			}
			fingerprint := s.Fingerprint(dia.Doc(p.Name), dia.Doc(p.Name).Settled(raw))
			if fingerprint == v.Fingerprint {
				continue
			}
			if err := s.Store.Tx(ctx, job.Service, func(q *store.Q) error { return q.SetFingerprint(ctx, v.ID, fingerprint) }); err != nil {
				return err
			}
		}
	}
	return nil
}
