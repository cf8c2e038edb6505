package push

import (
	"context"

	"magpie/internal/job"
	"magpie/internal/store"
	"magpie/internal/visit"
)

// against lists what keeps what a visit found from being what was kept.
func (u *push) against(ctx context.Context, v *visit.Visit, contentID string) ([]visit.Difference, error) {
	doc := v.Dialect.Doc(u.p.Part)
	if contentID == "" && u.created() {
		_, off, err := u.s.elementDiffers(v, u.p.Part, "", false)
		return off, err
	}
	was, err := u.s.TextOf(ctx, u.s.Store.As(job.Service), doc, contentID)
	if err != nil {
		return nil, err
	}
	off, err := u.s.Differences(doc, v.Parts[u.p.Part].Text, was)
	if err != nil {
		return nil, err
	}
	more, err := u.elementsOff(ctx, v, true)
	return append(off, more...), err
}

// differs lists what keeps what a visit found from being what was asked for: the
// version, or where not all of it was to go there, what was predicted.
func (u *push) differs(ctx context.Context, v *visit.Visit) ([]visit.Difference, error) {
	want, err := u.wanted(ctx)
	if err != nil {
		return nil, err
	}
	off, err := u.s.Differences(v.Dialect.Doc(u.p.Part), v.Parts[u.p.Part].Text, want)
	if err != nil {
		return nil, err
	}
	more, err := u.elementsOff(ctx, v, false)
	return append(off, more...), err
}

// wanted is what was asked for, as text.
func (u *push) wanted(ctx context.Context) (string, error) {
	if len(u.p.Only) > 0 || len(u.p.SetAside) > 0 {
		return u.p.Predicted, nil
	}
	q := u.s.Store.As(job.Service)
	target, err := q.Version(ctx, store.ByID(u.p.TargetID))
	if err != nil {
		return "", err
	}
	return u.s.TextOf(ctx, q, u.v.Dialect.Doc(u.p.Part), target.ContentID)
}

// merged tells whether what a visit found is what the preview of a merge said would
// run: all of the version, and the lines that it said would be left.
func (u *push) merged(v *visit.Visit) bool {
	if u.p.Method != "merge" {
		return false
	}
	off, err := u.s.Differences(v.Dialect.Doc(u.p.Part), v.Parts[u.p.Part].Text, u.p.Predicted)
	return err == nil && len(off) == 0
}
