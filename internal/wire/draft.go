package wire

import (
	"encoding/json"
	"time"
)

// NewDraft begins a draft.
type NewDraft struct {
	Name    string     `json:"name" sentier:"required" description:"by which people find it; its id is made of it"`
	Reason  string     `json:"reason,omitempty" description:"why, for the record: the note of the revision that it becomes"`
	Changes []Edit     `json:"changes,omitempty" description:"the first of what it changes"`
	Acts    []DraftAct `json:"acts,omitempty" description:"what it does beside the policy, which is left as it is from then on"`
}

// DraftHead is a draft in a list.
type DraftHead struct {
	ID        string     `json:"id"`
	Name      string     `json:"name"`
	Reason    string     `json:"reason,omitempty"`
	Author    Named      `json:"author"`
	State     string     `json:"state" enum:"open,waiting,applied,ended,failed,dropped" description:"waiting: for its hour; ended: its time was over, and it was taken back; failed: it could not be applied, or taken back, at its hour"`
	Created   time.Time  `json:"created"`
	Changed   time.Time  `json:"changed"`
	Records   int        `json:"records" description:"how many it changes"`
	ApplyAt   *time.Time `json:"apply_at,omitempty" description:"its hour, where it waits for one"`
	Until     *time.Time `json:"until,omitempty" description:"when it ends: what it gives carries this instant as its own end, and all else is put back then"`
	AppliedBy *Named     `json:"applied_by,omitempty"`
	Revision  uint64     `json:"revision,omitempty" description:"that it was applied as"`
	Ended     uint64     `json:"ended,omitempty" description:"the revision by which it was taken back"`
	Problem   string     `json:"problem,omitempty" description:"why it could not be applied, or taken back, at its hour"`
}

// Draft is a draft as a whole, held against the newest revision.
type Draft struct {
	DraftHead
	Digest    string         `json:"digest" description:"SHA-256 of what it changes: what is approved, and applied"`
	Now       uint64         `json:"now" description:"the revision that it is held against"`
	Acts      []DraftAct     `json:"acts,omitempty" description:"what it does beside the policy"`
	Changes   []RecordChange `json:"changes" description:"what it does to each record"`
	Conflicts []Conflict     `json:"conflicts" description:"records that it and somebody else have changed: they are left out of the rest until one of the versions is taken"`
	Faults    []Fault        `json:"faults" description:"what is wrong with it as the policy is now"`
	Impact    *Impact        `json:"impact,omitempty"`
	Unmet     []Unmet        `json:"unmet,omitempty" description:"expectations that would not hold any more"`
	Approval  Approval       `json:"approval"`
	May       DraftMay       `json:"may"`
}

// Conflict is a record that a draft and somebody else have changed.
type Conflict struct {
	Type   string        `json:"type"`
	ID     string        `json:"id"`
	Name   string        `json:"name"`
	Mine   RecordChange  `json:"mine" description:"what the draft does to it"`
	Theirs *RecordChange `json:"theirs" description:"what was done to it since"`
}

// DraftAct is what a draft does beside the policy: to settings of the service, to a source or to a webhook.
type DraftAct struct {
	Act  string          `json:"act" enum:"change_settings,add_source,edit_source,remove_source,link_source,add_webhook,edit_webhook,remove_webhook"`
	ID   string          `json:"id,omitempty" description:"of the source or the webhook"`
	Body json.RawMessage `json:"body,omitempty" description:"what it is to be"`
}

// Approval is whether somebody else has to agree to a draft, and who has.
type Approval struct {
	Needed []string   `json:"needed" items.enum:"control,everyone,everything,mandates,people,service" description:"why somebody else has to agree: control rights are gained, everyone or everything is named, mandates are changed, more people gain rights than is set, or settings of the service, a source or a webhook change; empty: nobody has to"`
	By     *Named     `json:"by,omitempty" description:"who has agreed to it as it is"`
	At     *time.Time `json:"at,omitempty"`
	Void   string     `json:"void,omitempty" description:"why an approval does not hold any more"`
}

// DraftMay is what the caller may do with a draft.
type DraftMay struct {
	Change  bool `json:"change"`
	Approve bool `json:"approve"`
	Apply   bool `json:"apply"`
}

// Approve agrees to what a draft changes.
type Approve struct {
	Digest string `json:"digest" sentier:"required" description:"of what was looked at: it is refused where the draft is another by now"`
}

// Settle takes one of the versions of a record that a draft and somebody else have changed.
type Settle struct {
	Type string `json:"type" sentier:"required"`
	ID   string `json:"id" sentier:"required"`
	Take string `json:"take" sentier:"required" enum:"mine,theirs" description:"mine: what the draft changes wins, and the rest stays as it is now; theirs: the draft does not change it any more"`
}

// ApplyDraft applies a draft.
type ApplyDraft struct {
	Digest   string   `json:"digest,omitempty" description:"of what was looked at: it is refused where the draft is another by now"`
	At       string   `json:"at,omitempty" description:"RFC 3339, or a local time of the policy; left out: at once"`
	Until    string   `json:"until,omitempty" description:"when it ends: what it gives carries this instant as its own end, and all else is put back then; left out: never"`
	Override []string `json:"override,omitempty" description:"ids of expectations in spite of which it is applied; it takes a mandate of owner, and a reason"`
}

// WouldReach asks what a user would reach after changes that are not made.
type WouldReach struct {
	User    string `json:"user" sentier:"required"`
	Changes []Edit `json:"changes" sentier:"required"`
	At      string `json:"at,omitempty" description:"RFC 3339, or a local time of the policy; left out: now"`
}

// SideBySide is what a user reaches, and would.
type SideBySide struct {
	At   time.Time `json:"at"`
	Rows []SideRow `json:"rows" description:"what is kept first, then what changes, is lost and gained"`
	More int       `json:"more" description:"devices that are not told"`
}

// SideRow is devices for which the same holds for the same reason.
type SideRow struct {
	Change  string   `json:"change" enum:"kept,changed,lost,gained"`
	Before  []string `json:"before" description:"rights, each with what it takes"`
	After   []string `json:"after"`
	Through []Ref    `json:"through" description:"the shortest way to it: after the changes, or before them where it is lost"`
	Count   int      `json:"count"`
	Devices []Named  `json:"devices" description:"the first of them"`
}
