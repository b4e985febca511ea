// Package answers answers what callers ask of the service: checks and their explanations, AuthZEN, reach and the matrix, lists, searches and
// previews. It changes nothing, and asks of every caller what they may see.
package answers

import "sentier/internal/service"

// Service answers from the last revision that a service has.
type Service struct{ *service.Service }

// Of is the service that answers beside one that changes.
func Of(s *service.Service) Service { return Service{s} }
