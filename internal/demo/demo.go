// Package demo is the Larkmere Navigation: the made-up waterway of the examples, the tests and the demonstration.
package demo

import (
	_ "embed"

	"sentier/internal/document"
	"sentier/internal/policy"
)

//go:embed larkmere.yaml
var larkmere []byte

//go:embed stories.yaml
var stories []byte

// Owner is the user who signs in to the demonstration.
const Owner policy.UserID = "ines.carvalho"

// Document is the policy of the navigation as a document, byte for byte as it would be dumped.
func Document() []byte { return larkmere }

// Stories are the expectations that the navigation's people have of it, as a document.
func Stories() []byte { return stories }

// Policy reads the policy of the navigation.
func Policy() (*policy.Policy, error) { return document.ReadPolicy(larkmere) }
