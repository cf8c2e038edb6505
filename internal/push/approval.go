package push

import (
	"context"
	"errors"
	"fmt"

	"magpie/internal/core"
	"magpie/internal/job"
)

// ErrSecondPerson is returned where a push needs somebody else's approval.
var ErrSecondPerson = errors.New("a second person has to approve pushes to this device")

// mayAlone tells whether a push may begin without somebody else's approval. It
// returns what the audit log should say of that.
func (s *Service) mayAlone(ctx context.Context, actor core.Actor, p Preview, req Request) (said string, err error) {
	if req.ApprovedBy != "" {
		return "; approved by " + req.ApprovedBy, nil
	}
	q := s.Store.As(job.Service)
	d, err := q.DeviceByID(ctx, p.DeviceID)
	if err != nil {
		return "", err
	}
	rule, err := q.AskedApproval(ctx, d)
	switch {
	case err != nil || rule == "":
		return "", err
	case actor.Role == core.Admin && req.Override != "" && req.RestoreTest == "": // what a restore test says of itself is no person's reason
		return fmt.Sprintf("; without the second person that %q asks for, because: %s", rule, req.Override), nil
	}
	return "", fmt.Errorf("%w (%s): plan it, with --from now if it is to begin as soon as it is approved; an admin can go ahead alone by saying why with --override", ErrSecondPerson, rule)
}
