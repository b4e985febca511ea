package wire

import (
	"encoding/json"
	"time"
)

// ServiceSettings are the settings of the service itself, beside those of the policy.
type ServiceSettings struct {
	Decisions      string         `json:"decisions" enum:"all,control_and_denials,none" description:"which decisions are kept in the record: all; those of rights that control, and denials; none. What somebody who looks after others asks about one of them is always kept"`
	DecisionsOf    []DecisionRule `json:"decisions_of" description:"for rights or sites of their own: the first that fits counts"`
	KeepDays       int            `json:"keep_days" minimum:"0" maximum:"36500" description:"after how many days entries of the record are let go; 0: never"`
	ReasonRequired bool           `json:"reason_required" description:"every change needs a reason"`
	BehindMinutes  int            `json:"behind_minutes" minimum:"0" maximum:"10080" description:"after how many minutes a machine that is behind, or not heard of, is told on Today"`
	IdleMinutes    int            `json:"idle_minutes" minimum:"0" maximum:"10080" description:"after how many minutes without a request a session ends; 0: with its last hour alone"`
	Approval       ApprovalRules  `json:"approval" description:"which changes need a second person, who approves them as a draft"`
	SessionHours   int            `json:"session_hours" minimum:"1" maximum:"744" description:"after how many hours a session in the console ends, used or not"`
}

// ServiceChange changes settings of the service: what is left out stays as it is.
type ServiceChange struct {
	Decisions      *string        `json:"decisions,omitempty" enum:"all,control_and_denials,none"`
	DecisionsOf    []DecisionRule `json:"decisions_of,omitempty" description:"all of them; empty: none any more"`
	KeepDays       *int           `json:"keep_days,omitempty" minimum:"0" maximum:"36500"`
	ReasonRequired *bool          `json:"reason_required,omitempty"`
	BehindMinutes  *int           `json:"behind_minutes,omitempty" minimum:"0" maximum:"10080"`
	IdleMinutes    *int           `json:"idle_minutes,omitempty" minimum:"0" maximum:"10080"`
	Approval       *ApprovalRules `json:"approval,omitempty" description:"all of them"`
	SessionHours   *int           `json:"session_hours,omitempty" minimum:"1" maximum:"744"`
}

// ApprovalRules say which changes need a second person. Who takes something away at once needs none.
type ApprovalRules struct {
	Control    bool `json:"control" description:"by which somebody gains a right that controls"`
	Limits     bool `json:"limits,omitempty" description:"by which limits of a right that controls are loosened"`
	Everyone   bool `json:"everyone" description:"by which something is given to everyone"`
	Everything bool `json:"everything" description:"by which something is given on everything"`
	Mandates   bool `json:"mandates" description:"of mandates, or by which somebody comes to hold one"`
	MoreThan   int  `json:"more_than" minimum:"0" maximum:"1000000" description:"by which more people than this gain anything; 0: not asked for"`
}

// Asks tells whether any rule is set.
func (r ApprovalRules) Asks() bool { return r != ApprovalRules{} }

// DecisionRule says which decisions of a right, at a site, are kept.
type DecisionRule struct {
	Right string `json:"right,omitempty" description:"id of a right; left out: any"`
	Site  string `json:"site,omitempty" description:"id of a site, with all below it; left out: any"`
	Keep  string `json:"keep" sentier:"required" enum:"all,control_and_denials,none"`
}

// AuditEntry is an entry of the record: one thing that was done, asked or refused.
type AuditEntry struct {
	Entry    uint64          `json:"entry" description:"number, from 1, without a gap"`
	At       time.Time       `json:"at"`
	Kind     string          `json:"kind"`
	Outcome  string          `json:"outcome" description:"done, refused, made, ended or reset; of a decision its reason" example:"granted"`
	Text     string          `json:"text" description:"the entry in words"`
	By       *Named          `json:"by,omitempty" description:"the user who did it"`
	Via      string          `json:"via,omitempty" description:"console, terminal, token, link, recovery or service"`
	Token    *AuditToken     `json:"token,omitempty" description:"the credential that it was done with"`
	From     string          `json:"from,omitempty" description:"address"`
	User     *Named          `json:"user,omitempty" description:"whom it is about"`
	Right    string          `json:"right,omitempty"`
	Device   *Named          `json:"device,omitempty"`
	Point    string          `json:"point,omitempty"`
	Revision uint64          `json:"revision,omitempty" description:"of the policy at that time; of a change, which it made"`
	More     json.RawMessage `json:"more,omitempty" description:"what the kind says beside"`
	Chain    string          `json:"chain" description:"SHA-256 over this entry and the chain of the one before, hexadecimal"`
}

// AuditToken is a credential as the record names it.
type AuditToken struct {
	ID   string `json:"id"`
	Name string `json:"name,omitempty"`
	By   string `json:"by,omitempty" description:"id of the user who made it, where that is not its own"`
}

// AuditPage is a part of the record, newest first.
type AuditPage struct {
	Items []AuditEntry `json:"items"`
	Next  string       `json:"next,omitempty" description:"cursor of the next page. A page can be short, or empty, and have a next one: a filter for which there is no index is looked for in 200,000 entries at once"`
	Down  uint64       `json:"down_to" description:"entry down to which was looked"`
	Last  uint64       `json:"last" description:"number of the last entry of the record"`
}

// AuditKey is the key by which checkpoints can be verified.
type AuditKey struct {
	Key []byte `json:"key" description:"Ed25519, public, base64"`
}

// VerifyAudit is what the record is held against.
type VerifyAudit struct {
	Checkpoints []Checkpoint `json:"checkpoints,omitempty" maxItems:"100000" description:"that were kept elsewhere, as they were given"`
	Key         string       `json:"key,omitempty" description:"that signed all of them, base64; left out: those that the record names"`
}

// AuditVerified is what was found of the record.
type AuditVerified struct {
	Whole       bool       `json:"whole"`
	Wrong       string     `json:"wrong,omitempty" description:"the first thing that is not as it was written"`
	Entries     uint64     `json:"entries" description:"that were read back and found right"`
	First       *time.Time `json:"first,omitempty"`
	Last        *time.Time `json:"last,omitempty"`
	Checkpoints int        `json:"checkpoints" description:"that it was held against"`
	Marked      bool       `json:"marked" description:"a mark of the last acknowledged entry lies beside the file, and agrees"`
}

// Checkpoint is the service's signed word that the record went as far as an entry. It is kept as it is, one a line.
type Checkpoint struct {
	Format    string    `json:"format" enum:"sentier-checkpoint/1"`
	Entry     uint64    `json:"entry"`
	At        time.Time `json:"at"`
	Chain     string    `json:"chain" description:"SHA-256 of the chain at that entry, hexadecimal"`
	Key       string    `json:"key" description:"Ed25519, public, base64"`
	Signature string    `json:"signature" description:"of the lines format, entry, at and chain, base64"`
}

// Revisions are some of the line of revisions, newest first.
type Revisions struct {
	Items []Happened `json:"items"`
	Next  string     `json:"next,omitempty" description:"cursor of the next page"`
}

// Undo is which revisions are taken back together.
type Undo struct {
	Revisions []uint64 `json:"revisions" minItems:"1" maxItems:"1000"`
}

// Compared is what leads from the policy as it was at one time to what it was at another, and who gained and lost what by it.
type Compared struct {
	From    Moment         `json:"from"`
	To      Moment         `json:"to"`
	Changes []RecordChange `json:"changes" description:"with what was before and after; the first 1,000"`
	All     int            `json:"all" description:"how many records differ"`
	Impact  Impact         `json:"impact" description:"at the time of the second"`
}

// Moment is a revision, and the time as of which it is asked.
type Moment struct {
	Revision uint64    `json:"revision"`
	At       time.Time `json:"at"`
}

// RevisionShown is what a revision did.
type RevisionShown struct {
	Revision uint64         `json:"revision"`
	At       time.Time      `json:"at"`
	By       Named          `json:"by"`
	Via      string         `json:"via"`
	Note     string         `json:"note,omitempty"`
	Changes  []RecordChange `json:"changes" description:"with what was before and after, where there are up to 1,000; of more, the first 1,000 without"`
	All      int            `json:"all" description:"how many records it changed"`
	Impact   *Impact        `json:"impact,omitempty" description:"who gained and lost what by it, where it was asked for"`
}
