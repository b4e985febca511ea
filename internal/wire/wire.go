// Package wire holds the types that travel over the HTTP interface, and nothing that acts. Records travel
// as the types of the package policy.
package wire

import (
	"encoding/json"
	"time"

	"sentier/internal/policy"
)

// Check is a question as it is asked over POST /api/v1/check.
type Check struct {
	User    string  `json:"user,omitempty" description:"id of a user; or give group" example:"tomas.field"`
	Group   string  `json:"group,omitempty" description:"id of a user group: somebody who is in it and in no other"`
	Right   string  `json:"right" sentier:"required" description:"id of a right" example:"control"`
	Device  string  `json:"device" sentier:"required" description:"id of a device, or device/point" example:"alder-bridge/deck"`
	At      string  `json:"at,omitempty" description:"RFC 3339, or a local time of the device's site such as 2026-07-04 21:30 or tomorrow 06:00; left out: now"`
	Context Context `json:"context,omitzero"`
}

// Context is what is known of the circumstances of a question.
type Context struct {
	IP           string `json:"ip,omitempty" description:"address that the request came from"`
	Place        string `json:"place,omitempty" description:"id of the site at which the user is; one that is no site of the policy counts as not known"`
	StrongSignIn *bool  `json:"strong_sign_in,omitempty" description:"the user signed in with a second factor"`
	Attended     *bool  `json:"attended,omitempty" description:"someone is present at the device"`
}

// Answer is the answer to a [Check].
type Answer struct {
	Allowed  bool                    `json:"allowed"`
	Reason   string                  `json:"reason" description:"code of the step that decided" example:"outside_schedule"`
	Text     string                  `json:"text" description:"the answer in words"`
	Until    *time.Time              `json:"until" description:"first instant at which allowed changes; null: not within 400 days"`
	At       time.Time               `json:"at"`
	Zone     string                  `json:"zone" description:"IANA zone of the device's site"`
	Revision uint64                  `json:"revision,omitempty" description:"revision of the policy that answered"`
	Limits   map[string]policy.Limit `json:"limits,omitempty"`
	Because  []Trail                 `json:"because" description:"every line that decided"`
	Missing  []Trail                 `json:"missing" description:"the nearest that would have made it a yes"`
	Near     []string                `json:"near,omitempty" description:"known ids near to the unknown one"`
	Whom     []Named                 `json:"whom,omitempty" description:"whom to ask, for whoever asks about themself without a mandate"`
	User     Named                   `json:"user"`
	Right    Named                   `json:"right"`
	Device   Named                   `json:"device"`
}

// Named is an id with the name that people know it by.
type Named struct {
	ID   string `json:"id"`
	Name string `json:"name"`
}

// Trail is the way from a user to a device through one line of a grant.
type Trail struct {
	Grant  string `json:"grant" description:"id of the grant"`
	Line   int    `json:"line" description:"number of the line in the grant, from 0"`
	Effect string `json:"effect" enum:"allow,deny"`
	Stops  []Stop `json:"stops"`
	Text   string `json:"text" description:"what is missing, or what it does, in one sentence"`
}

// Stop is one station of a trail.
type Stop struct {
	Type  string `json:"type" description:"record type, or everyone, everything, condition"`
	ID    string `json:"id,omitempty"`
	Name  string `json:"name"`
	State string `json:"state" enum:"holds,breaks,closes,beyond" description:"holds: the trail goes on; breaks: it ends here; closes: a deny ends it here; beyond: it would go on"`
	Text  string `json:"text" description:"why it holds or breaks"`

	Source *Named `json:"source,omitempty" description:"of a user group: the source that has brought the membership"`
}

// Problem is a fault of a request, RFC 9457.
type Problem struct {
	Type   string  `json:"type"`
	Title  string  `json:"title"`
	Status int     `json:"status"`
	Detail string  `json:"detail,omitempty"`
	Faults []Fault `json:"faults,omitempty"`
	// Current is the record as it is now, where another change came in between.
	Current any `json:"current,omitempty"`
	// Gains is what somebody would gain by a removal that is refused for it.
	Gains *Impact `json:"gains,omitempty"`
	// Unmet is the expectations that would not hold any more.
	Unmet []Unmet `json:"unmet,omitempty"`
	// Approval says why the change needs a second person.
	Approval []string `json:"approval,omitempty" items.enum:"control,everyone,everything,mandates,people"`
	// Needs is what a sign-in lacks.
	Needs string `json:"needs,omitempty" enum:"second_factor"`
}

// Fault is one thing that is wrong with a record or a document.
type Fault struct {
	Path    string `json:"path"`
	Problem string `json:"problem"`
	Line    int    `json:"line,omitempty"`
	Column  int    `json:"column,omitempty"`
}

// List is a page of a list.
type List[T any] struct {
	Items []T    `json:"items"`
	Total int    `json:"total" description:"how many there are on all pages"`
	Next  string `json:"next,omitempty" description:"cursor of the next page"`

	Entries map[string]int `json:"entries,omitempty" description:"with short, by id: how many members a user group lists, how many devices a device group"`
}

// RecordChange is what a revision did, or a document would do, to one record.
type RecordChange struct {
	Op     string        `json:"op" enum:"added,changed,removed"`
	Type   string        `json:"type"`
	ID     string        `json:"id"`
	Name   string        `json:"name"`
	Fields []FieldChange `json:"fields,omitempty"`
}

// FieldChange is one field that changed.
type FieldChange struct {
	Field   string            `json:"field"`
	Before  json.RawMessage   `json:"before,omitempty"`
	After   json.RawMessage   `json:"after,omitempty"`
	Added   []json.RawMessage `json:"added,omitempty" description:"entries that came into a set"`
	Dropped []json.RawMessage `json:"dropped,omitempty" description:"entries that went out of a set"`
}

// Saved is the answer to every change of the policy: what it did, or, on a dry run, what it would do.
type Saved struct {
	Saved    bool           `json:"saved"`
	Revision uint64         `json:"revision" description:"the revision that holds it, or that it was compared with"`
	ID       string         `json:"id,omitempty" description:"of the record that was added"`
	Changes  []RecordChange `json:"changes"`
	Impact   *Impact        `json:"impact,omitempty" description:"who would gain and lose what, where it was asked for"`
	Unmet    []Unmet        `json:"unmet,omitempty" description:"expectations that would not hold any more or, where it was saved all the same, do not"`
	Approval []string       `json:"approval,omitempty" items.enum:"control,everyone,everything,mandates,people" description:"on a dry run: why it needs a second person, and can be made as a draft alone"`
	Draft    string         `json:"draft,omitempty" description:"id of the draft that it was put into: nothing counts until that is applied"`
	Tag      string         `json:"-"` // entity tag of the one record that was changed, in the version that this change made
}

// Imported is the answer to a CSV file that was brought in, or looked at.
type Imported struct {
	Saved    bool           `json:"saved"`
	Revision uint64         `json:"revision"`
	Rows     int            `json:"rows"`
	Added    int            `json:"added" description:"records that the file makes"`
	Changed  int            `json:"changed" description:"records that the file changes"`
	Same     int            `json:"same" description:"rows that change nothing by themselves"`
	Changes  []RecordChange `json:"changes,omitempty" description:"the first of the changes"`
	Impact   *Impact        `json:"impact,omitempty" description:"who would gain and lose what, where it was asked for"`
	Unmet    []Unmet        `json:"unmet,omitempty" description:"expectations that would not hold any more or, where it was saved all the same, do not"`
	Draft    string         `json:"draft,omitempty" description:"id of the draft that it was put into"`
}

// Unmet is an expectation that does not hold, with the first instant, user and resource for which it does not.
type Unmet struct {
	ID            string         `json:"id"`
	Name          string         `json:"name"`
	Expect        string         `json:"expect" enum:"never,always,someone"`
	Text          string         `json:"text" description:"what does not hold, and why, in a sentence"`
	At            time.Time      `json:"at" description:"the first instant"`
	User          *Named         `json:"user,omitempty" description:"left out of someone: then too few are allowed it"`
	Device        *Named         `json:"device,omitempty" description:"a point is written device/point"`
	Right         *Named         `json:"right,omitempty"`
	Circumstances *Circumstances `json:"circumstances,omitempty" description:"what must be given for it"`
	Reason        string         `json:"reason,omitempty" description:"of the decision then; see the reasons of a check"`
	Grant         string         `json:"grant,omitempty" description:"id of the grant that decides it"`
	Have          int            `json:"have" description:"of someone: how many are allowed it"`
	Cases         int            `json:"cases" description:"for how many users, rights and resources it does not hold"`
}

// Proof is which expectations of the policy hold over the 400 days from an instant.
type Proof struct {
	At       time.Time `json:"at"`
	Revision uint64    `json:"revision,omitempty"`
	Held     []Named   `json:"held"`
	Unmet    []Unmet   `json:"unmet" description:"those that do not hold"`
}

// Progress is how far a request with an Idempotency-Key is.
type Progress struct {
	State    string `json:"state" enum:"running,done,nothing" description:"nothing: no request with the key is running, and none has changed anything"`
	Done     int    `json:"done" description:"rows that are written, while it runs"`
	Of       int    `json:"of" description:"rows in all; 0: they are being read"`
	Revision uint64 `json:"revision,omitempty" description:"the revision that it made"`
}

// Edits are changes that are made all together, or not at all.
type Edits struct {
	Changes []Edit `json:"changes"`
	Note    string `json:"note,omitempty"`
}

// Edit is one change. put takes a whole record, patch a JSON Merge Patch of one; remove with cascade takes every
// mention of the record along; copy makes a record like another; add and drop change one entry of a list:
// members of a user group, devices of a device group, tags or points of a device.
type Edit struct {
	Op      string          `json:"op" enum:"put,patch,copy,remove,add,drop,give,take"`
	Type    string          `json:"type" description:"record type, such as user_groups"`
	ID      string          `json:"id"`
	Record  json.RawMessage `json:"record,omitempty"`
	Cascade bool            `json:"cascade,omitempty" description:"with remove: take every mention along"`
	Accept  bool            `json:"accept_gains,omitempty" description:"with cascade: though somebody would gain rights by it"`
	List    string          `json:"list,omitempty" enum:"members,devices,tags,points"`
	Value   string          `json:"value,omitempty" description:"the user, device, tag or point"`
	From    string          `json:"from,omitempty" description:"beginning of a membership"`
	Until   string          `json:"until,omitempty" description:"end of a membership"`
	Beside  bool            `json:"beside,omitempty" description:"keep the person's memberships of other times in the group"`
	Name    string          `json:"name,omitempty" description:"name of a point, or of a copy"`
	To      string          `json:"to,omitempty" description:"id of a copy; left out: made from its name"`
	With    []string        `json:"with,omitempty" description:"what a copy takes along: members, groups, grants; own_grants makes grants of its own like those of the one copied"`
	Access  *policy.Access  `json:"access,omitempty" description:"with give and take: who, what on what, and during which time; the id is left empty"`
}

// Entry is what is said of an entry of a list when it is added by itself.
type Entry struct {
	From  string `json:"from,omitempty" description:"beginning of a membership, RFC 3339"`
	Until string `json:"until,omitempty" description:"end of a membership, RFC 3339"`
	Name  string `json:"name,omitempty" description:"name of a point"`
	// Beside keeps what is there; without it the entry takes the place of all that the person has in the group.
	Beside bool `json:"beside,omitempty" description:"keep the person's memberships of other times in the group"`
}

// Found is a record that a search found.
type Found struct {
	Type string `json:"type"`
	ID   string `json:"id"`
	Name string `json:"name"`
	Note string `json:"note,omitempty" description:"what else is known of it, such as an e-mail or a site"`
}

// Event tells of a revision: what it changed.
type Event struct {
	Revision uint64          `json:"revision"`
	At       time.Time       `json:"at"`
	By       string          `json:"by"`
	Changes  []policy.Change `json:"changes" description:"those that lead to it from the revision before"`
	More     int             `json:"more,omitempty" description:"how many there are, where they are too many to be told: read the policy instead"`
}

// Credentials ask for a session.
type Credentials struct {
	User     string `json:"user" sentier:"required"`
	Password string `json:"password" sentier:"required"`
	Code     string `json:"code,omitempty" description:"of the second factor, or a recovery code, where the user has one"`
	Terminal bool   `json:"terminal,omitempty" description:"answer with a bearer token instead of a cookie"`
}

// SignIns is how a user comes in.
type SignIns struct {
	Password *time.Time     `json:"password,omitempty" description:"since when they have theirs; left out: they have none"`
	Factors  []SecondFactor `json:"factors"`
	Required bool           `json:"required" description:"whether a user group of theirs requires a second factor"`
	Sessions []OwnSession   `json:"sessions" description:"that hold, newest first"`
	Tokens   []Token        `json:"tokens" description:"that hold, newest first"`
}

// SetUpNeeded tells whether a service waits for its first owner.
type SetUpNeeded struct {
	Needed bool `json:"needed"`
}

// SetUp makes the first owner.
type SetUp struct {
	Code     string `json:"code" sentier:"required" description:"that the start of the service has printed; good once, and for an hour"`
	Name     string `json:"name" sentier:"required" description:"of the owner"`
	User     string `json:"user,omitempty" description:"id of the owner; left out: made of the name"`
	Password string `json:"password" sentier:"required"`
	Terminal bool   `json:"terminal,omitempty"`
}

// SecondFactor is a device by which its user proves who they are: one that makes codes, beside the password; or a passkey, instead of it.
type SecondFactor struct {
	ID      string    `json:"id"`
	Kind    string    `json:"kind" enum:"totp,passkey"`
	Name    string    `json:"name"`
	Created time.Time `json:"created"`
}

// NewFactor begins to set up a second factor.
type NewFactor struct {
	Password string `json:"password,omitempty" description:"the caller's own; not asked for while setting one up is required of them"`
}

// GivenPassword is a password that somebody is given, to be changed when they first come in.
type GivenPassword struct {
	Password string `json:"password" sentier:"required"`
}

// Ceremony is what a browser is asked to do with a passkey (WebAuthn).
type Ceremony struct {
	ID      string `json:"id" description:"comes back with what the browser gives"`
	Options string `json:"options" description:"JSON, as PublicKeyCredential.parseCreationOptionsFromJSON or parseRequestOptionsFromJSON reads it"`
}

// PasskeyMade is the passkey that a browser has made.
type PasskeyMade struct {
	ID         string `json:"id" sentier:"required" description:"of the ceremony"`
	Name       string `json:"name" sentier:"required" description:"by which its user knows it"`
	Credential string `json:"credential" sentier:"required" description:"JSON, as PublicKeyCredential.toJSON writes it"`
}

// PasskeySigned is what a passkey has signed, to sign in.
type PasskeySigned struct {
	ID         string `json:"id" sentier:"required" description:"of the ceremony"`
	Credential string `json:"credential" sentier:"required" description:"JSON, as PublicKeyCredential.toJSON writes it"`
}

// Enrolling is a second factor that is being set up: what the program for codes has to be told.
type Enrolling struct {
	Secret string   `json:"secret" description:"in base 32, RFC 6238: six digits, SHA-1, half a minute"`
	URI    string   `json:"uri" description:"the same as an address for a program"`
	Drawn  []string `json:"drawn" description:"the same to be read by a camera: rows of 1 for dark and 0 for light"`
}

// FactorProof proves a second factor that is being set up.
type FactorProof struct {
	Code string `json:"code" sentier:"required" description:"that is shown now"`
	Name string `json:"name" sentier:"required" description:"what one knows the device by"`
}

// FactorMade is that a second factor was set up.
type FactorMade struct {
	Session Session  `json:"session"`
	Codes   []string `json:"codes,omitempty" description:"recovery codes, each good once, with the first second factor; shown this once"`
}

// OwnProof proves again who one is.
type OwnProof struct {
	Password string `json:"password" sentier:"required" description:"the caller's own"`
}

// RecoveryCodes stand in for a second factor, each once.
type RecoveryCodes struct {
	Codes []string `json:"codes" description:"shown this once; those from before are good no more"`
}

// Session is who is signed in.
type Session struct {
	User           Named     `json:"user"`
	Mandates       []string  `json:"mandates" description:"roles of the mandates in force"`
	Sees           []string  `json:"sees" description:"types of record of which they may see some"`
	Makes          []string  `json:"makes" description:"types of record of which they may add some"`
	Whole          bool      `json:"whole" description:"whether they see the policy as a whole"`
	Expires        time.Time `json:"expires"`
	Strong         bool      `json:"strong" description:"whether it was begun with a second factor"`
	ReasonRequired bool      `json:"reason_required" description:"every change needs a reason: its note"`
	Sourced        bool      `json:"sourced" description:"some records come from sources"`
	Setup          []string  `json:"setup" description:"what has to be done before anything else: second_factor, password"`
	Terminal       bool      `json:"-"`
	Now            time.Time `json:"now" description:"what the clock of the service shows"`
	Revision       uint64    `json:"revision" description:"of the policy"`
	Token          string    `json:"token,omitempty" description:"shown once, for a terminal"`
}

// Preferences are how somebody has the console; what is empty is as the browser and the service have it.
type Preferences struct {
	Language string `json:"language,omitempty" enum:"en,fr"`
	Theme    string `json:"theme,omitempty" enum:"light,dark"`
	Landing  string `json:"landing,omitempty" enum:"today,check,devices,people,grants,times,matrix" description:"the page that one comes to"`
	Zone     string `json:"zone,omitempty" description:"IANA zone in which times are told that belong to no device"`
}

// Verified says what was read back and found to be what was written.
type Verified struct {
	Whole     bool   `json:"whole"`
	Wrong     string `json:"wrong,omitempty" description:"the first thing that is not what was written"`
	Revisions uint64 `json:"revisions" description:"whose chain was read back"`
	Records   int    `json:"records"`
	Entries   int    `json:"entries" description:"of the long lists"`
	Recorded  uint64 `json:"recorded" description:"entries of the record, whose chain was read back"`
	Marked    bool   `json:"marked" description:"the marks of the last acknowledged revision and of the last entry of the record agree"`
}

// Welcome sets a password by a link.
type Welcome struct {
	Link     string `json:"link" sentier:"required" description:"the secret of the link: what follows the # in it"`
	Password string `json:"password" sentier:"required"`
	Terminal bool   `json:"terminal,omitempty"`
}

// Invitation is a link by which a user sets a password of their own.
type Invitation struct {
	Link    string    `json:"link,omitempty" description:"shown once; good once; left out where it was sent"`
	Sent    string    `json:"sent,omitempty" description:"the address that it was sent to by mail"`
	Failed  string    `json:"failed,omitempty" description:"why it could not be sent: it is to be handed over"`
	Expires time.Time `json:"expires"`
}

// NewPassword changes the caller's own password.
type NewPassword struct {
	Current  string `json:"current" sentier:"required"`
	Password string `json:"password" sentier:"required" description:"12 to 200 characters"`
}

// OwnSession is one of the caller's own sessions.
type OwnSession struct {
	ID      string     `json:"id"`
	Kind    string     `json:"kind" enum:"console,terminal"`
	From    string     `json:"from" description:"address that it was begun from"`
	Began   time.Time  `json:"began"`
	Used    *time.Time `json:"used,omitempty" description:"last, to a minute or so"`
	Expires time.Time  `json:"expires"`
	This    bool       `json:"this,omitempty" description:"the one that this request came with"`
}

// Token is a bearer token without its secret.
type Token struct {
	ID       string     `json:"id"`
	User     string     `json:"user"`
	Name     string     `json:"name"`
	Kind     string     `json:"kind"`
	Created  time.Time  `json:"created"`
	By       string     `json:"by"`
	Expires  *time.Time `json:"expires,omitempty"`
	Revoked  *time.Time `json:"revoked,omitempty"`
	Expired  bool       `json:"expired,omitempty" description:"its end is past by the service's clock"`
	Used     *time.Time `json:"used,omitempty" description:"last, to a minute or so"`
	Mandate  string     `json:"mandate,omitempty" description:"id of the only mandate that counts with it"`
	Networks []string   `json:"networks,omitempty" description:"that it is good from"`
	Secret   string     `json:"secret,omitempty" description:"shown once, when it is made"`
}

// NewToken asks for a token.
type NewToken struct {
	User     string   `json:"user" sentier:"required"`
	Name     string   `json:"name" sentier:"required"`
	Days     int      `json:"days,omitempty" description:"days until it expires; 0: 90, unless until is given"`
	Until    string   `json:"until,omitempty" description:"when it expires: RFC 3339, or a local time of the policy such as 2027-03-31"`
	Mandate  string   `json:"mandate,omitempty" description:"id of a mandate that reaches the user: with the token no other counts"`
	Networks []string `json:"networks,omitempty" maxItems:"50" description:"that the token is good from, such as 10.20.0.0/16; none: any"`
}

// Rotation asks for a token in the place of another.
type Rotation struct {
	Hours int `json:"hours,omitempty" minimum:"0" maximum:"720" description:"for how long the one before holds beside it; 0: 24"`
}

// Mention is a record that refers to another.
type Mention struct {
	Type  string `json:"type"`
	ID    string `json:"id"`
	Name  string `json:"name"`
	Field string `json:"field"`
}

// Evaluation is a request of the OpenID AuthZEN Authorization API 1.0.
type Evaluation struct {
	Subject  Entity         `json:"subject"`
	Action   Action         `json:"action"`
	Resource Entity         `json:"resource"`
	Context  map[string]any `json:"context,omitempty"`
}

// Entity is a subject or a resource.
type Entity struct {
	Type       string         `json:"type"`
	ID         string         `json:"id"`
	Properties map[string]any `json:"properties,omitempty"`
}

// Action is what the subject wants to do; its name is the id of a right.
type Action struct {
	Name       string         `json:"name"`
	Properties map[string]any `json:"properties,omitempty"`
}

// Decision is the answer to an [Evaluation].
type Decision struct {
	Decision bool            `json:"decision"`
	Context  DecisionContext `json:"context"`
}

// DecisionContext is what comes with a decision.
type DecisionContext struct {
	Reason   string                  `json:"reason"`
	Until    *time.Time              `json:"until,omitempty"`
	Limits   map[string]policy.Limit `json:"limits,omitempty"`
	Revision uint64                  `json:"revision"`
	Error    *EvaluationError        `json:"error,omitempty" description:"one of many evaluations that could not be read"`
}

// EvaluationError says why one of many evaluations has no answer.
type EvaluationError struct {
	Status  int    `json:"status"`
	Message string `json:"message"`
}
