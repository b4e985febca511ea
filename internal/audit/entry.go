// Package audit is the record: what was done, asked and refused, one entry each, chained by SHA-256 in a file of its own, so that any
// number of decisions slows no edit, and so that it can be shown to an outsider that nothing was changed or left out.
package audit

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"strconv"
	"time"

	"sentier/internal/database"
)

// Kind is what an entry is of.
type Kind string

// The kinds.
const (
	Decision     Kind = "decision"      // a question that was answered, by the reason that it was answered with
	Question     Kind = "question"      // asked about somebody by whoever looks after them
	Look         Kind = "look"          // at the service as somebody else meets it
	Change       Kind = "change"        // a revision of the policy
	SignIn       Kind = "sign_in"       // done or refused
	SignOut      Kind = "sign_out"      // of one session or all
	Password     Kind = "password"      // set
	SecondFactor Kind = "second_factor" // made, removed or reset
	Link         Kind = "link"          // by which somebody sets a password
	Token        Kind = "token"         // made or revoked
	Request      Kind = "request"       // made, granted, refused or taken back
	Draft        Kind = "draft"         // approved, set for an hour, dropped, or not applied at its hour
	Review       Kind = "review"        // begun, answered or ended
	Source       Kind = "source"        // set up, changed, taken away, or not read
	Ending       Kind = "ending"        // of a temporary right, within a week; told while a hook asks for it
	Finding      Kind = "finding"       // more of something that may not be meant so; told while a hook asks for it
	Machine      Kind = "machine"       // admitted or taken away
	Refusal      Kind = "refusal"       // of what a caller may not do
	Backup       Kind = "backup"
	Export       Kind = "export" // of the record itself
	Setting      Kind = "setting"
	Service      Kind = "service" // it started, or found something out about its files
	Closing      Kind = "closing" // entries of a certain age were let go
	Key          Kind = "key"     // by which checkpoints are signed from here on
)

// Kinds lists all kinds.
func Kinds() []Kind {
	return []Kind{Decision, Question, Look, Change, SignIn, SignOut, Password, SecondFactor, Link, Token, Request, Draft, Review, Source, Ending, Finding, Machine, Refusal, Backup, Export, Setting, Service, Closing, Key}
}

// Outcomes of entries that are no decisions; those of decisions are their reasons.
const (
	Done    = "done"
	Refused = "refused"
	Made    = "made"
	Ended   = "ended"
	Reset   = "reset"
)

// Granted is the outcome of a decision that was a yes: "The decision", step 7.
const Granted = "granted"

// Entry is one thing that was done, asked or refused.
type Entry struct {
	Seq      uint64 // from 1, without a gap
	At       time.Time
	Kind     Kind
	Outcome  string
	By       string // user who did it
	Via      string // console, terminal, token, link …
	Token    string // id of the credential
	From     string // address
	User     string // whom it is about
	Right    string
	Device   string
	Point    string
	Revision uint64          // of the policy at that time, or that a change made
	More     json.RawMessage // what the kind says beside; empty: nothing
	Chain    []byte
}

// form is the version of the bytes over which the chain is made.
const form = "sentier-audit/1"

// link gives the hash that chains an entry to the one before. room is used for the bytes, and given back for the next.
func (e *Entry) link(before []byte, room []byte) (chain [sha256.Size]byte, _ []byte) {
	b := database.AppendText(room[:0], form)
	b = database.AppendText(b, string(before))
	b = database.AppendNumber(b, e.Seq)
	b = database.AppendNumber(b, uint64(e.At.UnixMicro()))
	for _, text := range [...]string{string(e.Kind), e.Outcome, e.By, e.Via, e.Token, e.From, e.User, e.Right, e.Device, e.Point} {
		b = database.AppendText(b, text)
	}
	b = database.AppendNumber(b, e.Revision)
	b = database.AppendText(b, string(e.More))
	return sha256.Sum256(b), b
}

const daySeconds = 24 * 60 * 60

// dayOf is the day of an instant, UTC, counted from 1970.
func dayOf(at time.Time) int64 {
	s := at.Unix()
	if s < 0 {
		s -= daySeconds - 1
	}
	return s / daySeconds
}

// MarshalJSON writes an entry as it goes to whoever keeps it elsewhere, in one line. Texts that are empty are left out.
func (e Entry) MarshalJSON() ([]byte, error) {
	return json.Marshal(struct {
		Entry    uint64          `json:"entry"`
		At       time.Time       `json:"at"`
		Kind     Kind            `json:"kind"`
		Outcome  string          `json:"outcome"`
		By       string          `json:"by,omitempty"`
		Via      string          `json:"via,omitempty"`
		Token    string          `json:"token,omitempty"`
		From     string          `json:"from,omitempty"`
		User     string          `json:"user,omitempty"`
		Right    string          `json:"right,omitempty"`
		Device   string          `json:"device,omitempty"`
		Point    string          `json:"point,omitempty"`
		Revision uint64          `json:"revision,omitempty"`
		More     json.RawMessage `json:"more,omitempty"`
		Chain    string          `json:"chain"`
	}{e.Seq, e.At.UTC(), e.Kind, e.Outcome, e.By, e.Via, e.Token, e.From, e.User, e.Right, e.Device, e.Point, e.Revision, e.More, hex.EncodeToString(e.Chain)})
}

// Columns are the columns of an entry as a row of a sheet.
var Columns = []string{"entry", "at", "kind", "outcome", "by", "via", "token", "from", "user", "right", "device", "point", "revision", "more", "chain"}

// Row is an entry as a row of a sheet.
func (e *Entry) Row() []string {
	return []string{strconv.FormatUint(e.Seq, 10), e.At.UTC().Format(time.RFC3339Nano), string(e.Kind), e.Outcome, e.By, e.Via, e.Token, e.From,
		e.User, e.Right, e.Device, e.Point, strconv.FormatUint(e.Revision, 10), string(e.More), hex.EncodeToString(e.Chain)}
}
