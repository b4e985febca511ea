package wire

import "time"

// NewHook is to whom it is told what happens, as it is set up.
type NewHook struct {
	Name    string   `json:"name" sentier:"required" description:"by which people know it; its id is made of it"`
	URL     string   `json:"url" sentier:"required" description:"to which each event is sent by POST; https, but on this very machine"`
	Secret  string   `json:"secret" sentier:"required" description:"the name of the secret by which it is signed: a file in the folder secrets beside the data, or the variable SENTIER_SECRET_… of the service"`
	Kinds   []string `json:"kinds,omitempty" description:"kinds of entries of the record that are told; left out: change, request, draft, review and source"`
	Paused  bool     `json:"paused,omitempty" description:"nothing is told for the time being; it is kept until then"`
	Version uint64   `json:"version,omitempty" description:"when it is changed: that which was looked at"`
}

// Hook is to whom it is told what happens, and how far that has come.
type Hook struct {
	ID string `json:"id"`
	NewHook
	Author  Named      `json:"author"`
	Sent    uint64     `json:"sent" description:"the last entry of the record that was taken"`
	Behind  uint64     `json:"behind" description:"how many entries of the record came since, among them those that it is not told"`
	Tries   int        `json:"tries" description:"of the next, that failed"`
	Next    *time.Time `json:"next,omitempty" description:"when that is tried again"`
	Last    *time.Time `json:"last,omitempty" description:"when something was told last"`
	Status  int        `json:"status,omitempty" description:"that was answered then"`
	Problem string     `json:"problem,omitempty" description:"why it was not taken"`
}
