package wire

import "time"

// Findings are what may not be meant as it is.
type Findings struct {
	Revision  uint64         `json:"revision"`
	At        time.Time      `json:"at"`
	Items     []Finding      `json:"items"`
	Counts    map[string]int `json:"counts" description:"how many there are of each kind, those that were dismissed left out"`
	Dismissed int            `json:"dismissed" description:"how many were dismissed, and have not come back"`
}

// Finding is one thing that may not be meant as it is.
type Finding struct {
	Key       string         `json:"key" description:"the same as long as the finding is the same"`
	Kind      string         `json:"kind"`
	Text      string         `json:"text" description:"what it is, in a sentence"`
	Why       string         `json:"why" description:"why it matters"`
	Records   []FindingOf    `json:"records" description:"what it is about"`
	At        *time.Time     `json:"at,omitempty" description:"of an end, or of the last that was asked"`
	Mends     []FindingMend  `json:"mends" description:"changes each of which ends it; none where that takes a decision of somebody's own"`
	Dismissed *FindingClosed `json:"dismissed,omitempty"`
}

// FindingOf is a record that a finding is about.
type FindingOf struct {
	Type string `json:"type"`
	ID   string `json:"id"`
	Name string `json:"name"`
}

// FindingMend is a change that ends a finding.
type FindingMend struct {
	Text  string `json:"text"`
	Edits []Edit `json:"edits"`
}

// FindingClosed is that somebody has looked at a finding and left it as it is.
type FindingClosed struct {
	Reason string    `json:"reason"`
	Until  time.Time `json:"until" description:"when it comes back"`
	By     Named     `json:"by"`
	At     time.Time `json:"at"`
}

// Dismiss leaves a finding as it is.
type Dismiss struct {
	Key    string `json:"key" sentier:"required"`
	Reason string `json:"reason" sentier:"required"`
	Until  string `json:"until" sentier:"required" description:"when it comes back: RFC 3339, or a local time of the policy"`
}
