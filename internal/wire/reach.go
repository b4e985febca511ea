package wire

import (
	"encoding/json"
	"time"

	"sentier/internal/policy"
)

// Reach is a page of what somebody reaches, or of who reaches something.
type Reach struct {
	Of       Ref       `json:"of" description:"whom or what it was asked of"`
	At       time.Time `json:"at"`
	Zone     string    `json:"zone" description:"IANA zone in which its times are best told"`
	Degrees  []string  `json:"degrees" description:"those that were asked for"`
	Revision uint64    `json:"revision"`
	Barred   string    `json:"barred,omitempty" description:"why nothing at all is allowed, such as user_suspended"`
	Items    []Reached `json:"items"`
	Total    int       `json:"total" description:"how many there are on all pages"`
	Totals   Totals    `json:"totals" description:"how many have something of each degree"`
	Next     string    `json:"next,omitempty" description:"cursor of the next page"`
}

// Ref is a record by its type, id and name.
type Ref struct {
	Type string `json:"type"`
	ID   string `json:"id"`
	Name string `json:"name"`
}

// Reached is one device, point or user of a [Reach].
type Reached struct {
	ID      string          `json:"id" description:"of a user, or of a device, or device/point"`
	Name    string          `json:"name"`
	Site    string          `json:"site,omitempty" description:"id of a device's site"`
	Rights  []PossibleRight `json:"rights"`
	Through []Ref           `json:"through,omitempty" description:"the shortest way to what is nearest: groups, then the grant"`
}

// PossibleRight is a right that is possible, and how far it is.
type PossibleRight struct {
	ID            string         `json:"id"`
	Name          string         `json:"name"`
	Degree        string         `json:"degree" enum:"now,later,if" description:"now: in the circumstances given; later: within 400 days in the same; if: at some time in others"`
	Until         *time.Time     `json:"until" description:"for now the end of it, null: not within 400 days; otherwise the first instant at which it is allowed, in the circumstances told"`
	Circumstances *Circumstances `json:"circumstances,omitempty" description:"for if: the fewest values that must be given"`
	When          string         `json:"when,omitempty" enum:"at,later" description:"for if: whether it holds at the instant asked about, or only later"`
	Text          string         `json:"text,omitempty" description:"what it takes, in words"`
	Through       []Ref          `json:"through,omitempty" description:"the shortest way, where it is another than that of the item"`
}

// Circumstances are values that must be given for something to be allowed: any of the networks, any of the places.
type Circumstances struct {
	IP           []string `json:"ip,omitempty" description:"networks: an address in any of them"`
	Place        []string `json:"place,omitempty" description:"ids of sites: any of them, or one below"`
	StrongSignIn *bool    `json:"strong_sign_in,omitempty"`
	Attended     *bool    `json:"attended,omitempty"`
	ComesIn      bool     `json:"comes_in,omitempty" description:"an invited user has to come in first"`
}

// Totals counts by degree: how many have something in each.
type Totals struct {
	Now   int `json:"now"`
	Later int `json:"later"`
	If    int `json:"if"`
}

// Held tells how many have which rights on a device: the rights that anybody has on it.
type Held struct {
	ID     string      `json:"id" description:"of the device"`
	Rights []HeldRight `json:"rights"`
}

// HeldRight is a right on a device, and how many have it.
type HeldRight struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Totals Totals `json:"totals" description:"users, each in the nearest degree in which they have it"`
}

// Seen is the service as a user would meet it: what they reach now and later, and why nothing where it is nothing.
type Seen struct {
	User   Ref     `json:"user"`
	Text   string  `json:"text" description:"in words: how much, or why nothing"`
	Groups []Ref   `json:"groups" description:"the groups that the user is in now"`
	Whom   []Named `json:"whom" description:"owners, whom to ask"`
	Reach  Reach   `json:"reach"`
}

// Look is a record of somebody's having looked at the service as another user sees it.
type Look struct {
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	User string    `json:"user"`
}

// Use is a line of a grant that makes use of a record.
type Use struct {
	Grant         Named          `json:"grant"`
	Line          int            `json:"line" description:"number of the line, from 0"`
	Effect        string         `json:"effect" enum:"allow,deny"`
	Rights        []string       `json:"rights" description:"names of the rights that it gives or takes, with what follows from them"`
	Users         Totals         `json:"users" description:"how many it reaches, by when it is in force for them"`
	Devices       int            `json:"devices" description:"how many it covers"`
	Degree        string         `json:"degree,omitempty" enum:"now,later,if" description:"when it is in force for anybody; left out: never"`
	Until         *time.Time     `json:"until,omitempty" description:"the first instant at which it is"`
	Circumstances *Circumstances `json:"circumstances,omitempty"`
	Text          string         `json:"text,omitempty" description:"what it takes, in words"`
}

// MatrixQuestion asks for a matrix.
type MatrixQuestion struct {
	Rows    Axis     `json:"rows"`
	Columns Axis     `json:"columns"`
	At      string   `json:"at,omitempty" description:"RFC 3339, or a local time of the settings' zone; left out: now"`
	Context Context  `json:"context,omitzero"`
	Degree  []string `json:"degree,omitempty" description:"which degrees are told: now, later, if; left out: all"`
}

// Axis selects the rows or the columns of a matrix, up to 1,000: those named, or those that a list of the type
// shows for a word and filters.
type Axis struct {
	Type   string            `json:"type" sentier:"required" enum:"users,user_groups,devices,device_groups,sites"`
	IDs    []string          `json:"ids,omitempty"`
	Q      string            `json:"q,omitempty"`
	Filter map[string]string `json:"filter,omitempty"`
}

// Matrix is the rights of each row in each column.
type Matrix struct {
	At       time.Time `json:"at"`
	Zone     string    `json:"zone"`
	Revision uint64    `json:"revision"`
	Rows     []Named   `json:"rows"`
	Columns  []Named   `json:"columns"`
	RowsOf   int       `json:"rows_of" description:"how many rows there would be without the bound of 1,000"`
	ColsOf   int       `json:"columns_of"`
	Kinds    []Cell    `json:"kinds" description:"the cells that there are, each once"`
	Cells    [][]int32 `json:"cells" description:"by row and column, the number of the cell in kinds"`
}

// Cell is what a row may do in a column: ids of rights.
type Cell struct {
	Rights []string `json:"rights" description:"on all that is in the column"`
	Some   []string `json:"some,omitempty" description:"on some of it, but not on all"`
	Later  []string `json:"later,omitempty" description:"on none of it now, but on some of it within 400 days"`
	If     []string `json:"if,omitempty" description:"on none of it now or later, but on some of it in other circumstances"`
}

// WeekQuestion asks how an answer will run.
type WeekQuestion struct {
	User    string  `json:"user,omitempty" description:"id of a user; or give group"`
	Group   string  `json:"group,omitempty" description:"id of a user group: somebody who is in it and in no other"`
	Device  string  `json:"device" sentier:"required" description:"id of a device, or device/point"`
	Right   string  `json:"right,omitempty" description:"id of a right; left out: all that are allowed at some time of the days"`
	From    string  `json:"from,omitempty" description:"first day, as 2026-11-23; left out: today"`
	Days    int     `json:"days,omitempty" description:"1 to 31; left out: 7"`
	Context Context `json:"context,omitzero"`
}

// Week is how answers run over some days.
type Week struct {
	Zone   string        `json:"zone"`
	Days   []Day         `json:"days"`
	Rights []WeekOfRight `json:"rights"`
}

// Day is a day by the clock of a zone; one on which the clock changes has not 24 hours.
type Day struct {
	Date   string       `json:"date"`
	From   time.Time    `json:"from"`
	Until  time.Time    `json:"until"`
	Change *ClockChange `json:"change,omitempty"`
}

// ClockChange is a change of the clock on a day.
type ClockChange struct {
	At     time.Time `json:"at"`
	Before string    `json:"before" description:"offset from UTC, as +01:00"`
	After  string    `json:"after"`
}

// WeekOfRight is how the answer about one right runs.
type WeekOfRight struct {
	Right     Named     `json:"right"`
	Stretches []Stretch `json:"stretches"`
}

// Stretch is a time in which an answer stays the same.
type Stretch struct {
	From    time.Time `json:"from"`
	Until   time.Time `json:"until"`
	Allowed bool      `json:"allowed"`
	Reason  string    `json:"reason,omitempty"`
}

// TimeQuestion asks what instant somebody means.
type TimeQuestion struct {
	Text   string `json:"text,omitempty" maxLength:"100" description:"RFC 3339, or a local time such as tomorrow 06:00, fri 18:00, 31 March, 2026-07-04 21:30 or in 2 weeks; left out: the zone alone is told"`
	Device string `json:"device,omitempty" description:"by the clock of its site"`
	Site   string `json:"site,omitempty" description:"by its clock"`
	Zone   string `json:"zone,omitempty" description:"by the clock of an IANA zone; with none of the three, that of the policy"`
}

// Time is an instant, and the zone by whose clock it was read.
type Time struct {
	At   *time.Time `json:"at,omitempty"`
	Zone string     `json:"zone" description:"IANA"`
}

// ScheduleQuestion asks how a schedule, saved or not, will run.
type ScheduleQuestion struct {
	Schedule policy.Schedule `json:"schedule,omitzero"`
	Zone     string          `json:"zone,omitempty" description:"IANA zone by whose clock it is told, and judged where its zone is site; left out: the settings'"`
	From     string          `json:"from,omitempty" description:"first day; left out: today"`
	Days     int             `json:"days,omitempty" description:"1 to 31; left out: 14"`
}

// Fortnight is how a schedule runs over some days; only the open stretches are there.
type Fortnight struct {
	Zone      string    `json:"zone"`
	Zones     []string  `json:"zones" description:"zones of the sites"`
	Days      []Day     `json:"days"`
	Stretches []Stretch `json:"stretches"`
}

// MatchQuestion asks which devices a match, saved or not, selects.
type MatchQuestion = policy.Match

// Matched is the devices that a match, saved or not, selects.
type Matched struct {
	Total int     `json:"total"`
	Items []Named `json:"items" description:"the first of them"`
}

// AdviceQuestion asks what would turn an answer.
type AdviceQuestion struct {
	User    string  `json:"user" sentier:"required"`
	Right   string  `json:"right" sentier:"required"`
	Device  string  `json:"device" sentier:"required" description:"id of a device, or device/point"`
	At      string  `json:"at,omitempty" description:"as in a check"`
	Context Context `json:"context,omitzero"`
	Until   string  `json:"until,omitempty" description:"end of the memberships and grants that are advised, RFC 3339; left out: none"`
}

// Advice is the changes that would turn an answer, the one that changes least beside it first.
type Advice struct {
	Allowed bool     `json:"allowed" description:"the answer as it is"`
	Items   []Advise `json:"items"`
}

// Advise is one change that would turn an answer.
type Advise struct {
	Kind    string          `json:"kind"`
	Text    string          `json:"text"`
	Else    int             `json:"else" description:"rights of users on devices, or limits of them, that change beside the one asked for"`
	Impact  Impact          `json:"impact"`
	Edits   []policy.Change `json:"edits" description:"to be sent to /api/v1/changes"`
	Changes []RecordChange  `json:"changes" description:"what they do to records"`
}

// Impact is who gains and loses what by a change, and whose limits are others: now, within 400 days and in other circumstances. No access changes only
// where all its counts are 0.
type Impact struct {
	Mandates  []MandateDifference `json:"mandates" description:"who may do more or less with the service itself"`
	Gained    Tally               `json:"gained" description:"rights of users on devices and points"`
	Lost      Tally               `json:"lost"`
	Loosened  Tally               `json:"loosened" description:"rights that are allowed before and after, with a limit that is larger, longer or gone"`
	Tightened Tally               `json:"tightened" description:"likewise, with a limit that is smaller, shorter or new"`
	Users     int                 `json:"users" description:"users for whom anything changes"`
	Devices   int                 `json:"devices" description:"devices on which it does for anybody"`
	Items     []Difference        `json:"items" description:"the first of them, what concerns control before the others"`
	More      int                 `json:"more" description:"how many are not among the items"`
}

// Unchanged tells whether no access changes.
func (i *Impact) Unchanged() bool {
	return i.Gained.All+i.Lost.All+i.Loosened.All+i.Tightened.All == 0
}

// Tally counts rights of users on devices, each in the first degree in which something changes.
type Tally struct {
	All   int `json:"all"`
	Now   int `json:"now"`
	Later int `json:"later"`
	If    int `json:"if"`
}

// MandateDifference is that somebody holds a mandate after a change, or holds it no more.
type MandateDifference struct {
	User    Named     `json:"user"`
	Mandate Named     `json:"mandate"`
	Role    string    `json:"role" enum:"owner,delegate,auditor,enforcement"`
	Gained  bool      `json:"gained" description:"false: it is lost"`
	Degree  string    `json:"degree" enum:"now,later,if" description:"if: once they have come in, as they are invited"`
	Until   time.Time `json:"until" description:"the first instant at which it is so"`
}

// Difference is what one user gains and loses on one device, or on a point where that differs from its device.
type Difference struct {
	User      Named          `json:"user"`
	Device    Named          `json:"device"`
	Gained    []ChangedRight `json:"gained,omitempty"`
	Lost      []ChangedRight `json:"lost,omitempty"`
	Loosened  []ChangedLimit `json:"loosened,omitempty"`
	Tightened []ChangedLimit `json:"tightened,omitempty"`
}

// ChangedRight is a right that only one of two policies allows at some instant, in some circumstances: in which degree, and from when on.
type ChangedRight struct {
	PossibleRight
	Before string `json:"before" enum:"now,later,if,impossible" description:"what is possible before the change"`
	After  string `json:"after" enum:"now,later,if,impossible" description:"what is possible after it"`
}

// ChangedLimit is a right that is allowed before and after a change, with other limits: in which degree, and from when on.
type ChangedLimit struct {
	PossibleRight
	Before map[string]policy.Limit `json:"before" description:"the limits before the change, at the first instant at which they are others"`
	After  map[string]policy.Limit `json:"after" description:"those after it, at that instant"`
	Limits string                  `json:"limits" description:"those that are others, in words"`
}

// Evaluations is a request for many decisions of the OpenID AuthZEN Authorization API 1.0. What an evaluation leaves
// out is taken from the top.
type Evaluations struct {
	Subject     *Entity            `json:"subject,omitempty"`
	Action      *Action            `json:"action,omitempty"`
	Resource    *Entity            `json:"resource,omitempty"`
	Context     json.RawMessage    `json:"context,omitempty"`
	Evaluations []PartEvaluation   `json:"evaluations,omitempty" description:"left out: one evaluation is asked, of what stands at the top"`
	Options     *EvaluationsOption `json:"options,omitempty"`
}

// PartEvaluation is one of many evaluations.
type PartEvaluation struct {
	Unread   string          `json:"-"` // why it cannot be read; empty: it can
	Subject  *Entity         `json:"subject,omitempty"`
	Action   *Action         `json:"action,omitempty"`
	Resource *Entity         `json:"resource,omitempty"`
	Context  json.RawMessage `json:"context,omitempty"`
}

// EvaluationsOption says whether many evaluations end early.
type EvaluationsOption struct {
	Semantic string `json:"evaluations_semantic,omitempty" enum:"execute_all,deny_on_first_deny,permit_on_first_permit"`
}

// Decisions are the answers to [Evaluations], in their order.
type Decisions struct {
	Evaluations []Decision `json:"evaluations"`
}

// Decided is how [Evaluations] are answered: as [Decisions], or, where one evaluation was asked, as a [Decision].
type Decided struct {
	Evaluations []Decision       `json:"evaluations,omitempty"`
	Decision    bool             `json:"decision,omitempty"`
	Context     *DecisionContext `json:"context,omitempty"`
}

// Search is a request of the AuthZEN search interfaces.
type Search struct {
	Subject  SearchEntity   `json:"subject"`
	Action   *Action        `json:"action,omitempty"`
	Resource SearchEntity   `json:"resource"`
	Context  map[string]any `json:"context,omitempty"`
	Page     *SearchPage    `json:"page,omitempty"`
}

// SearchEntity is an [Entity]; that which is looked for has no id.
type SearchEntity struct {
	Type       string         `json:"type"`
	ID         string         `json:"id,omitempty"`
	Properties map[string]any `json:"properties,omitempty"`
}

// SearchPage asks for a page.
type SearchPage struct {
	Token string `json:"token,omitempty"`
	Limit int    `json:"limit,omitempty" description:"1 to 1,000; left out: 100"`
}

// SearchResult is a page of what a search found.
type SearchResult struct {
	Page    SearchNext       `json:"page"`
	Results []map[string]any `json:"results"`
}

// SearchNext tells of the other pages.
type SearchNext struct {
	Next  string `json:"next_token" description:"empty: this is the last page"`
	Count int    `json:"count"`
	Total int    `json:"total"`
}

// AuthZEN describes the endpoints, as /.well-known/authzen-configuration gives it.
type AuthZEN struct {
	Point          string `json:"policy_decision_point"`
	Evaluation     string `json:"access_evaluation_endpoint"`
	Evaluations    string `json:"access_evaluations_endpoint"`
	SearchSubject  string `json:"search_subject_endpoint"`
	SearchResource string `json:"search_resource_endpoint"`
	SearchAction   string `json:"search_action_endpoint"`
}

// Belongs is a group that a user or a device is in, and why.
type Belongs struct {
	Group   Named      `json:"group"`
	Why     string     `json:"why" enum:"listed,rule,within,includes" description:"listed: by itself; rule: the group fills itself with it; within: a group below has it; includes: the group includes one that lists the user"`
	Through *Named     `json:"through,omitempty" description:"the group below, or included"`
	Enabled bool       `json:"enabled" description:"false: the group gives nothing"`
	From    *time.Time `json:"from,omitempty" description:"of a membership"`
	Until   *time.Time `json:"until,omitempty" description:"of a membership"`
}

// Today is the first look: what is open, what ends, what is held back, what happened last, and what is still to be done.
type Today struct {
	At        time.Time      `json:"at"`
	Zone      string         `json:"zone" description:"of the settings, by whose clock a day is one"`
	Schedules []OpenNow      `json:"schedules" description:"those that lines of grants use, the next to change first"`
	Ending    []Ending       `json:"ending" description:"rights that end within a week, the next first"`
	Endings   int            `json:"endings" description:"how many there are"`
	Lockouts  []LockedOut    `json:"lockouts" description:"in force now"`
	Invited   []Named        `json:"invited" description:"people who have not come yet"`
	Invitees  int            `json:"invitees" description:"how many there are"`
	Revisions []Happened     `json:"revisions" description:"the last, newest first"`
	Look      []ToLook       `json:"look" description:"what needs a look"`
	Counts    map[string]int `json:"counts" description:"records by type"`
}

// OpenNow is a schedule, whether it is open, and until when that stays so.
type OpenNow struct {
	ID    string     `json:"id"`
	Name  string     `json:"name"`
	Open  bool       `json:"open"`
	Until *time.Time `json:"until,omitempty" description:"left out: within a year"`
	Zone  string     `json:"zone"`
}

// Ending is a right that ends: somebody's time in a group, an account, a grant, or a token that nobody has made another for.
type Ending struct {
	Kind  string    `json:"kind" enum:"membership,account,grant,token"`
	At    time.Time `json:"at"`
	User  *Named    `json:"user,omitempty"`
	Group *Named    `json:"group,omitempty"`
	Grant *Named    `json:"grant,omitempty"`
	Token string    `json:"token,omitempty" description:"name of a token, for whoever sees the policy as a whole"`
}

// LockedOut is a device that is locked out.
type LockedOut struct {
	Device Named      `json:"device"`
	Reason string     `json:"reason,omitempty"`
	Since  *time.Time `json:"since,omitempty"`
	Until  *time.Time `json:"until,omitempty"`
	Zone   string     `json:"zone"`
}

// Happened is a revision, and the first records that it changed.
type Happened struct {
	Revision uint64    `json:"revision"`
	At       time.Time `json:"at"`
	By       Named     `json:"by"`
	Note     string    `json:"note,omitempty"`
	Records  []Touched `json:"records"`
	All      int       `json:"all" description:"how many records it changed"`
}

// Touched is a record that a revision changed.
type Touched struct {
	Op   string `json:"op" enum:"added,changed,removed"`
	Type string `json:"type"`
	ID   string `json:"id"`
	Name string `json:"name"`
}

// ToLook is something that may not be meant so, and how many there are of it.
type ToLook struct {
	Kind  string `json:"kind" description:"sources, vanished, hooks, machines, drafts, drafts_failed, reviews, reviews_over, unmet, or a kind of finding"`
	Count int    `json:"count"`
}
