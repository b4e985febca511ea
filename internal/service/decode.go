package service

import (
	"sentier/internal/decision"
	"sentier/internal/document"
	"sentier/internal/policy"
)

// Decode reads the JSON body of a request strictly into a struct; the error is of type [document.Faults]
// and names every field that is wrong.
func Decode(body []byte, into any) error { return document.Decode(body, into) }

// Syntax is how a policy document is written; see [document.Syntax].
type Syntax = document.Syntax

// The syntaxes of a policy document.
const (
	YAML = document.YAML
	JSON = document.JSON
)

// Faults are all that is wrong with a document or a record; see [document.Faults].
type Faults = document.Faults

// PolicyFaults are all that is wrong with a change; see [policy.Faults].
type PolicyFaults = policy.Faults

// Counts are the devices of sites and device groups; see [decision.Counts].
type Counts = decision.Counts

// MayRead tells whether a caller may read everything.
func (s *Service) MayRead(c Caller) error { return s.may(s.State(), c, Read, "") }
