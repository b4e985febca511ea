// Package demo is the Larkmere Navigation: the made-up waterway of the examples, the tests and the demonstration.
package demo

import (
	"embed"
	"io/fs"

	"sentier/internal/document"
	"sentier/internal/policy"
)

//go:embed outside
var outside embed.FS

// Outside is what others keep of the navigation: the office's calendar (navigation.ics), and the plant's list of devices (devices.csv, devices.jsonl).
func Outside() fs.FS {
	out, err := fs.Sub(outside, "outside")
	if err != nil {
		panic(err) // the folder is in the program
	}
	return out
}

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
