package push

import (
	"magpie/internal/job"
	"magpie/internal/visit"
)

// Service makes the previews and pushes of one instance.
type Service struct{ *visit.Service }

// on is the same service, in a job that goes by another clock.
func (s *Service) on(r *job.Runtime) *Service { return &Service{s.On(r)} }
