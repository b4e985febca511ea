package wire

import "time"

// NewReview begins a round in which those responsible confirm or take away what people hold.
type NewReview struct {
	Name       string   `json:"name" sentier:"required" description:"by which people find it; its id is made of it"`
	Reason     string   `json:"reason,omitempty" description:"why, for those who answer and for the record"`
	Groups     []string `json:"groups,omitempty" description:"user groups of which all that their members hold is looked at: the memberships, and grants that name members"`
	Sites      []string `json:"sites,omitempty" description:"sites: groups and people who are given anything there, or below"`
	Everything bool     `json:"everything,omitempty" description:"all groups, and all grants that name anybody"`
	Due        string   `json:"due" sentier:"required" description:"by when it is answered: RFC 3339, or a local time of the policy"`
	Unanswered string   `json:"unanswered" sentier:"required" enum:"told,suspended,taken" description:"what becomes of what nobody has answered by then: it is told, who holds it is suspended, or it is taken away"`
}

// ReviewHead is a review in a list.
type ReviewHead struct {
	ID         string      `json:"id"`
	Name       string      `json:"name"`
	Reason     string      `json:"reason,omitempty"`
	Author     Named       `json:"author"`
	State      string      `json:"state" enum:"open,over,stopped"`
	Created    time.Time   `json:"created"`
	Due        time.Time   `json:"due"`
	Ended      *time.Time  `json:"ended,omitempty"`
	Unanswered string      `json:"unanswered" enum:"told,suspended,taken"`
	Scope      ReviewScope `json:"scope"`
	Counts     ReviewCount `json:"counts" description:"of what the caller sees of it"`
	Mine       int         `json:"mine" description:"how many wait for an answer that the caller may give"`
	Problem    string      `json:"problem,omitempty" description:"what could not be done when it ended"`
}

// ReviewScope is what a review is about.
type ReviewScope struct {
	Groups     []Named `json:"groups"`
	Sites      []Named `json:"sites"`
	Everything bool    `json:"everything"`
}

// ReviewCount tells how far a review has come.
type ReviewCount struct {
	Total     int `json:"total"`
	Kept      int `json:"kept"`
	Taken     int `json:"taken"`
	Suspended int `json:"suspended"`
	Gone      int `json:"gone" description:"ended otherwise since the review began"`
	Waiting   int `json:"waiting"`
}

// Review is a review as a whole.
type Review struct {
	ReviewHead
	At      time.Time    `json:"at"`
	Parts   []ReviewPart `json:"parts" description:"by mandate, whose holders answer; what no delegate's mandate covers, the owners answer"`
	Items   []ReviewItem `json:"items"`
	MayStop bool         `json:"may_stop"`
}

// ReviewPart is what the holders of a mandate answer.
type ReviewPart struct {
	Mandate *Named      `json:"mandate,omitempty" description:"left out: the owners"`
	People  []Named     `json:"people" description:"who hold it now"`
	Counts  ReviewCount `json:"counts"`
}

// ReviewItem is one thing that somebody holds.
type ReviewItem struct {
	User     Named      `json:"user"`
	Status   string     `json:"status" description:"of the user; empty: they are there no more"`
	Type     string     `json:"type" enum:"user_groups,grants,mandates" description:"a membership, or a grant or a mandate that names the user"`
	Record   Named      `json:"record"`
	Until    *time.Time `json:"until,omitempty" description:"when the membership, of several the last, or the grant ends by itself"`
	Terms    []Term     `json:"terms,omitempty" description:"of a membership, where it has a beginning or several ends: each by itself"`
	Gives    string     `json:"gives,omitempty" description:"what it comes to, in words"`
	Mandates []Named    `json:"mandates" description:"of delegates whose holders may answer; none: the owners do"`
	Answer   string     `json:"answer" enum:"waiting,kept,taken,suspended,gone"`
	By       *Named     `json:"by,omitempty"`
	At       *time.Time `json:"at,omitempty"`
	Note     string     `json:"note,omitempty"`
	Revision uint64     `json:"revision,omitempty" description:"by which it was taken away"`
	May      bool       `json:"may" description:"the caller may answer"`
}

// Term is the time for which something holds; without an end it stays.
type Term struct {
	From  *time.Time `json:"from,omitempty"`
	Until *time.Time `json:"until,omitempty"`
}

// ReviewAnswers answer a review.
type ReviewAnswers struct {
	Answers []ReviewAnswer `json:"answers" sentier:"required"`
}

// ReviewAnswer is what is to become of one thing that somebody holds.
type ReviewAnswer struct {
	User   string `json:"user" sentier:"required"`
	Type   string `json:"type" sentier:"required" enum:"user_groups,grants,mandates"`
	Record string `json:"record" sentier:"required"`
	Answer string `json:"answer" sentier:"required" enum:"kept,taken"`
	Note   string `json:"note,omitempty"`
}

// Reviewed is what answers did: on a dry run what they would do.
type Reviewed struct {
	Kept  int    `json:"kept"`
	Taken int    `json:"taken"`
	Saved *Saved `json:"saved,omitempty" description:"the change by which something was taken away"`
}
