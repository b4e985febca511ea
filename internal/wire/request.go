package wire

import "time"

// Mine is what somebody can do by themselves with what is theirs.
type Mine struct {
	Groups   []OwnGroup `json:"groups" description:"in which they are by name"`
	Grants   []Named    `json:"grants" description:"that name them, and give something"`
	MayJoin  []Joinable `json:"may_join"`
	Requests []Request  `json:"requests" description:"of their own, newest first"`
}

// OwnGroup is a membership of somebody's own.
type OwnGroup struct {
	ID    string     `json:"id"`
	Name  string     `json:"name"`
	From  *time.Time `json:"from,omitempty"`
	Until *time.Time `json:"until,omitempty"`
}

// Joinable is a group that somebody may join by themselves.
type Joinable struct {
	ID       string `json:"id"`
	Name     string `json:"name"`
	Note     string `json:"note,omitempty"`
	Minutes  int    `json:"minutes" description:"for at most so long"`
	Approval string `json:"approval" enum:"none,mandate" description:"mandate: somebody has to agree"`
}

// GiveBack ends a membership, or a grant by name, of one's own.
type GiveBack struct {
	Group string `json:"group,omitempty" description:"id of a user group; or give grant"`
	Grant string `json:"grant,omitempty" description:"id of a grant"`
	Note  string `json:"note,omitempty" description:"why"`
}

// JoinGroup joins a group for a time.
type JoinGroup struct {
	Group   string `json:"group" sentier:"required"`
	Minutes int    `json:"minutes" sentier:"required" minimum:"1"`
	Reason  string `json:"reason" sentier:"required"`
}

// AskFor asks for a right on a device for a time.
type AskFor struct {
	Right  string `json:"right" sentier:"required" description:"id of a right" example:"control"`
	Device string `json:"device" sentier:"required" description:"id of a device, device/point, or its name as one knows it"`
	Until  string `json:"until" sentier:"required" description:"RFC 3339"`
	Reason string `json:"reason" sentier:"required"`
}

// Request is what somebody asks for, and how it was answered.
type Request struct {
	ID       string     `json:"id"`
	Kind     string     `json:"kind" enum:"join,access"`
	User     Named      `json:"user"`
	Group    *Named     `json:"group,omitempty"`
	Right    string     `json:"right,omitempty"`
	Device   *Named     `json:"device,omitempty" description:"without an id where it is not known which is meant"`
	Minutes  int        `json:"minutes,omitempty"`
	Until    *time.Time `json:"until,omitempty"`
	Reason   string     `json:"reason"`
	State    string     `json:"state" enum:"open,granted,refused,withdrawn,joined,ended" description:"joined: at once; ended: nobody answered in time"`
	Created  time.Time  `json:"created"`
	Answered *time.Time `json:"answered,omitempty"`
	By       *Named     `json:"by,omitempty"`
	Answer   string     `json:"answer,omitempty"`
	May      bool       `json:"may_answer" description:"the caller may answer it"`
}

// AnswerRequest answers a request.
type AnswerRequest struct {
	Agree bool   `json:"agree" sentier:"required"`
	Edits []Edit `json:"edits,omitempty" description:"of a request for a right: the changes that grant it, such as one that is advised"`
	Note  string `json:"note,omitempty"`
}
