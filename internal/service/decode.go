package service

import (
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/survey"
	"sentier/internal/wording"
)

// Words are the words of a language; see [wording.Catalogue].
type Words = wording.Catalogue

// English are the words of those who ask for no other language.
var English = wording.English

// Accepted chooses the words for an Accept-Language header.
func Accepted(header string) Words { return wording.Accepted(header) }

// Nearest finds what was probably meant by a word; see [policy.Nearest].
func Nearest(word string, candidates []string) string { return policy.Nearest(word, candidates) }

// Decode reads the JSON body of a request strictly into a struct; the error is of type [document.Faults]
// and names every field that is wrong.
func Decode(body []byte, into any) error { return document.DecodeJSON(body, into) }

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

// Said is a sentence for people; see [policy.Said].
type Said = policy.Said

// Names are some of which one is meant; see [policy.Names].
type Names = policy.Names

// Say makes a sentence; see [policy.Say].
func Say(form string, args ...any) Said { return policy.Say(form, args...) }

// Counts are the devices of sites and device groups; see [survey.Counts].
type Counts = survey.Counts
