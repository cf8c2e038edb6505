// Package read is what only looks, and what a person says of a version: the text a
// reference names, comparisons, drift, marks, texts edited by hand. It talks to a
// device only to look at what it runs now.
package read

import (
	"magpie/internal/visit"
)

// Service reads for one instance.
type Service struct {
	*visit.Service
	search *searcher
	lines  originCache
}

// New makes it. Its kinds of jobs are registered by Register.
func New(v *visit.Service) *Service {
	return &Service{Service: v, search: newSearcher()}
}
