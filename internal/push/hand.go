package push

import (
	"context"
	"errors"

	"magpie/internal/core"
	"magpie/internal/job"
	"magpie/internal/link"
)

// ErrNotHanded is why a version is not pushed to where somebody says that the
// unit is.
var ErrNotHanded = errors.New("what would be sent holds secrets, and would go to another address than the device's own: that takes the right to see secrets")

// mayHand tells whether somebody may have a version's secrets sent to where a
// unit is for now.
func (s *Service) mayHand(ctx context.Context, actor core.Actor, p Preview) error {
	if actor.Secrets || !p.Where.Elsewhere() || !p.HoldsSecrets() {
		return nil
	}
	d, err := s.Store.As(job.Service).DeviceByID(ctx, p.DeviceID)
	if err != nil {
		return err
	}
	if p.Where.Address == "" && s.showsKey(d) && (p.Where.Key == "" || p.Where.Key == d.HostKey) {
		return nil // through a relay, to the device's own key
	}
	return ErrNotHanded
}

func (s *Service) showsKey(d core.Device) bool {
	dia := s.Dialect(d.Dialect)
	if dia == nil {
		return false
	}
	way, _ := dia.Way(d.Transport)
	return link.Shows(way.Transport)
}
