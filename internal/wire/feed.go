package wire

import "time"

// NewFeed is a calendar that others are to read by a secret address.
type NewFeed struct {
	Kind string `json:"kind" sentier:"required" enum:"schedule,reach,ends" description:"schedule: when it is open; reach: when somebody may do what, where they may not always; ends: temporary rights that end"`
	Of   string `json:"of,omitempty" description:"id of the schedule, or of the user; of reach left out: you"`
	Zone string `json:"zone,omitempty" description:"the zone by whose clock a schedule goes that goes by the clock of the device's site; left out: that of the settings"`
}

// Feed is a calendar that others read by a secret address.
type Feed struct {
	ID string `json:"id"`
	NewFeed
	Name    string    `json:"name" description:"of what it is"`
	User    Named     `json:"user" description:"as whom it is read, as long as they may see it"`
	Created time.Time `json:"created"`
	Path    string    `json:"path,omitempty" description:"the secret address on this service, of a feed that was just made: shown once, and kept as a hash alone"`
}
