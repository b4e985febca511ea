package policy

import (
	"encoding/json"
	"net/netip"
	"reflect"
	"slices"
	"time"
)

// Record is one of the types of record, by pointer, or *Settings. A record that is in
// a [Policy] is never changed; change a copy and put that.
type Record interface {
	// Type is the record's type.
	Type() Type
	// Key is the record's id.
	Key() string
	// Title is the record's name, or its id where it has none.
	Title() string

	common() *Common
	check(f *checker)
	normalize() Record
}

// Common is what every record has beside what makes it one of its type.
type Common struct {
	Note string `json:"note,omitempty" sentier:"search,long"` // text for people, which decides nothing
}

func (c *Common) common() *Common { return c }

// Combine says how grants to a user and grants to the user's groups add up.
type Combine string

// The two ways; see "The decision" in the semantics.
const (
	Sum         Combine = "sum"
	DirectFirst Combine = "direct-first"
)

// Settings hold for the whole policy.
type Settings struct {
	Combine Combine `json:"combine,omitempty"`
	Zone    string  `json:"zone,omitempty" sentier:"zone"` // IANA zone of sites that have none; default UTC
	Common
}

// Right is something that can be done to a device. The rights view and control are built in.
type Right struct {
	ID      RightID   `json:"id" sentier:"required"`
	Name    string    `json:"name,omitempty"`
	Implies []RightID `json:"implies,omitempty"`
	Kinds   []KindID  `json:"kinds,omitempty"` // empty: every kind
	Common
}

// The built-in rights; control implies view.
const (
	View    RightID = "view"
	Control RightID = "control"
)

// Role is a bundle of rights.
type Role struct {
	ID     RoleID    `json:"id" sentier:"required"`
	Name   string    `json:"name,omitempty"`
	Rights []RightID `json:"rights,omitempty"`
	Common
}

// Kind is a kind of device.
type Kind struct {
	ID   KindID `json:"id" sentier:"required"`
	Name string `json:"name,omitempty"`
	Common
}

// Site is a place, within another where it has a parent.
type Site struct {
	ID     SiteID `json:"id" sentier:"required"`
	Name   string `json:"name,omitempty"`
	Parent SiteID `json:"parent,omitempty"`
	Zone   string `json:"zone,omitempty" sentier:"zone"` // IANA zone; empty: the nearest ancestor's
	Common
}

// State is the state of a device.
type State string

// The states of a device.
const (
	InService   State = "in-service"
	Maintenance State = "maintenance"
	Retired     State = "retired"
)

// Device is a piece of equipment.
type Device struct {
	ID      DeviceID `json:"id" sentier:"required"`
	Name    string   `json:"name,omitempty"`
	Kind    KindID   `json:"kind,omitempty"`
	Site    SiteID   `json:"site,omitempty"` // empty: not sorted yet
	Tags    []string `json:"tags,omitempty" sentier:"search"`
	State   State    `json:"state,omitempty"`
	Points  []Point  `json:"points,omitempty"`
	Lockout *Lockout `json:"lockout,omitempty" sentier:"own"`
	Address string   `json:"address,omitempty"`
	Common
}

// Point is a part of a device that can be granted by itself: a channel, a port, an actuator.
type Point struct {
	ID   PointID `json:"id" sentier:"required"`
	Name string  `json:"name,omitempty"`
}

// Lockout keeps everybody from controlling a device while it is in force: in [From, Until).
type Lockout struct {
	By     string    `json:"by,omitempty"`
	Reason string    `json:"reason,omitempty"`
	From   time.Time `json:"from,omitzero"`
	Until  time.Time `json:"until,omitzero"`
}

// Span is the time in which the lockout is in force.
func (l *Lockout) Span() Span { return Span{l.From, l.Until} }

// DeviceGroup gathers devices: those listed and those that match.
type DeviceGroup struct {
	ID      DeviceGroupID `json:"id" sentier:"required"`
	Name    string        `json:"name,omitempty"`
	Parent  DeviceGroupID `json:"parent,omitempty"`
	Devices []DeviceID    `json:"devices,omitempty"`
	Match   *Match        `json:"match,omitempty"`
	Common
}

// Match selects devices for which each of its lists that is not empty holds. One with
// nothing in it selects none.
type Match struct {
	Kinds []KindID `json:"kinds,omitempty"`
	Tags  []string `json:"tags,omitempty"` // all of them
	Sites []SiteID `json:"sites,omitempty"`
}

// UserKind tells people from services.
type UserKind string

// The kinds of user.
const (
	Person  UserKind = "person"
	Service UserKind = "service"
)

// Status says whether a user can do anything at all.
type Status string

// The statuses of a user.
const (
	Active    Status = "active"
	Invited   Status = "invited"
	Suspended Status = "suspended"
)

// User is somebody, or some program, that asks.
type User struct {
	ID     UserID   `json:"id" sentier:"required"`
	Name   string   `json:"name,omitempty"`
	Email  string   `json:"email,omitempty" sentier:"search,own"`
	Kind   UserKind `json:"kind,omitempty"`
	Status Status   `json:"status,omitempty"`
	Valid  Span     `json:"valid,omitzero"`
	Common
}

// UserGroup gathers users: its members, and those of the groups that it includes.
type UserGroup struct {
	ID       UserGroupID   `json:"id" sentier:"required"`
	Name     string        `json:"name,omitempty"`
	Enabled  Switch        `json:"enabled"`
	Includes []UserGroupID `json:"includes,omitempty"`
	Members  []Member      `json:"members,omitempty"`
	SignIn   *SignIn       `json:"sign_in,omitempty"`
	Join     *Join         `json:"join,omitempty"`
	Common
}

// Member is a membership in [From, Until). Written as the user's id alone where both are open.
type Member struct {
	User  UserID    `json:"user" sentier:"required"`
	From  time.Time `json:"from,omitzero"`
	Until time.Time `json:"until,omitzero"`
}

// Span is the time in which the membership holds.
func (m Member) Span() Span { return Span{m.From, m.Until} }

// MarshalJSON writes the user's id alone where the membership has no ends.
func (m Member) MarshalJSON() ([]byte, error) {
	if m.From.IsZero() && m.Until.IsZero() {
		return json.Marshal(string(m.User))
	}
	type plain Member
	return json.Marshal(plain(m))
}

// UnmarshalJSON reads a user's id, or an object with user, from and until.
func (m *Member) UnmarshalJSON(b []byte) error {
	*m = Member{}
	if len(b) > 0 && b[0] == '"' {
		return json.Unmarshal(b, &m.User)
	}
	type plain Member
	return json.Unmarshal(b, (*plain)(m))
}

// SecondFactor says whether a group's members need a second factor to sign in.
type SecondFactor string

// The two possibilities; the strictest of a user's groups holds.
const (
	Optional SecondFactor = "optional"
	Required SecondFactor = "required"
)

// SignIn is how the members of a group sign in.
type SignIn struct {
	SecondFactor SecondFactor `json:"second_factor,omitempty"`
	PasswordDays int          `json:"password_days,omitempty"` // days until a password must be changed; 0: never
}

// Approval says whether somebody has to agree before a person joins a group for a time.
type Approval string

// The two possibilities.
const (
	ApprovalMandate Approval = "mandate" // whoever may change the members
	ApprovalNone    Approval = "none"
)

// Join is who may join a group by themselves, for a time: "Doing something oneself".
type Join struct {
	Groups   []UserGroupID `json:"groups,omitempty"`   // whose members may; none: nobody
	Minutes  int           `json:"minutes"`            // for at most so long
	Approval Approval      `json:"approval,omitempty"` // mandate where it is not said
}

// MaxJoin is for how long somebody can join a group by themselves at most, in minutes: 31 days.
const MaxJoin = 31 * 24 * 60

// Calendar is a set of days.
type Calendar struct {
	ID   CalendarID    `json:"id" sentier:"required"`
	Name string        `json:"name,omitempty"`
	Days []CalendarDay `json:"days,omitempty"`
	Common
}

// CalendarDay is one Date, or the days From to To, both included.
type CalendarDay struct {
	Date Date   `json:"date,omitzero"`
	From Date   `json:"from,omitzero"`
	To   Date   `json:"to,omitzero"`
	Name string `json:"name,omitempty"`
}

// Bounds are the first and the last day.
func (d CalendarDay) Bounds() (first, last Date) {
	if !d.Date.IsZero() {
		return d.Date, d.Date
	}
	return d.From, d.To
}

// SiteZone is the zone of a schedule that is judged by the clock of the device's site.
const SiteZone = "site"

// Schedule says when: weekly windows, within a season and dates, but for closed and special days.
type Schedule struct {
	ID      ScheduleID   `json:"id" sentier:"required"`
	Name    string       `json:"name,omitempty"`
	Zone    string       `json:"zone,omitempty" sentier:"zone"` // SiteZone or an IANA zone
	Windows []Window     `json:"windows,omitempty"`
	Season  *Season      `json:"season,omitempty"`
	Dates   *Dates       `json:"dates,omitempty"`
	Closed  []CalendarID `json:"closed,omitempty"`
	Special []Special    `json:"special,omitempty"`
	Common
}

// Window opens at From on each of Days (empty: every day) and runs to To, on the
// next day where To is not later than From. From is included, To is not.
type Window struct {
	Days []Weekday `json:"days,omitempty"`
	From Clock     `json:"from" sentier:"required"`
	To   Clock     `json:"to" sentier:"required"`
}

// Season is a part of every year, both ends included; it runs over the new year
// where From is later than To.
type Season struct {
	From MonthDay `json:"from" sentier:"required"`
	To   MonthDay `json:"to" sentier:"required"`
}

// Dates are the days From to To, both included; either may be left out.
type Dates struct {
	From Date `json:"from,omitzero"`
	To   Date `json:"to,omitzero"`
}

// Special gives the days of a calendar windows of their own.
type Special struct {
	Calendar CalendarID      `json:"calendar" sentier:"required"`
	Windows  []SpecialWindow `json:"windows"`
}

// SpecialWindow is a [Window] without weekdays.
type SpecialWindow struct {
	From Clock `json:"from" sentier:"required"`
	To   Clock `json:"to" sentier:"required"`
}

// Effect is what a grant does.
type Effect string

// The effects. A deny wins.
const (
	Allow Effect = "allow"
	Deny  Effect = "deny"
)

// Grant gives rights to, or takes them from, those it is given to.
type Grant struct {
	ID      GrantID `json:"id" sentier:"required"`
	Name    string  `json:"name,omitempty"`
	Effect  Effect  `json:"effect,omitempty"`
	Enabled Switch  `json:"enabled"`
	To      To      `json:"to,omitzero"`
	Valid   Span    `json:"valid,omitzero"`
	Lines   []Line  `json:"lines,omitempty"`
	Common
}

// To names those that a grant reaches. Grants alone can be given to everyone.
type To struct {
	Groups   []UserGroupID `json:"groups,omitempty"`
	Users    []UserID      `json:"users,omitempty"`
	Everyone bool          `json:"everyone,omitempty"`
}

// Depth says whether a line covers what lies below its sites and device groups.
type Depth string

// The depths.
const (
	All  Depth = "all"
	Here Depth = "here"
)

// Line is one what × where × when × only if of a grant.
type Line struct {
	Rights []RightID        `json:"rights,omitempty"`
	Roles  []RoleID         `json:"roles,omitempty"`
	On     Where            `json:"on,omitzero"`
	Depth  Depth            `json:"depth,omitempty"`
	When   []ScheduleID     `json:"when,omitempty"` // any of them; empty: always
	If     If               `json:"if,omitzero"`
	Limits map[string]Limit `json:"limits,omitempty"`
}

// Where names what a line covers.
type Where struct {
	Everything   bool            `json:"everything,omitempty"`
	Sites        []SiteID        `json:"sites,omitempty"`
	DeviceGroups []DeviceGroupID `json:"device_groups,omitempty"`
	Devices      []DeviceID      `json:"devices,omitempty"`
	Points       []PointRef      `json:"points,omitempty"`
}

// If holds conditions, all of which must be met.
type If struct {
	Networks     []netip.Prefix `json:"networks,omitempty"`
	Places       []SiteID       `json:"places,omitempty"` // where the user is: one of them, or below one
	States       []State        `json:"states,omitempty"`
	StrongSignIn *bool          `json:"strong_sign_in,omitempty"`
	Attended     *bool          `json:"attended,omitempty"`
}

// Expect is what an expectation says of those whom it is about.
type Expect string

// What can be expected; see "Expectations" in the semantics.
const (
	Never   Expect = "never"   // nobody of them is allowed it, in any circumstances
	Always  Expect = "always"  // everybody of them who could sign in is, with nothing known of the circumstances
	Someone Expect = "someone" // somebody of them is, in some circumstances
)

// Expectation is a statement that must hold of the policy. It decides nothing: changes are held against it before they are saved.
type Expectation struct {
	ID      ExpectationID `json:"id" sentier:"required"`
	Name    string        `json:"name,omitempty"`
	Who     To            `json:"who,omitzero"`
	Except  Holders       `json:"except,omitzero"` // of Who, those whom it is not about
	Rights  []RightID     `json:"rights,omitempty"`
	On      Where         `json:"on,omitzero"`
	Depth   Depth         `json:"depth,omitempty"`
	When    []ScheduleID  `json:"when,omitempty"` // any of them; empty: always
	Expect  Expect        `json:"expect" sentier:"required"`
	AtLeast int           `json:"at_least,omitempty"` // with Someone: how many people; 1 where it is not said
	Common
}

// MandateRole is what a mandate lets its holders do with the service itself.
type MandateRole string

// The roles of a mandate; see "Who may administer" in the semantics.
const (
	Owner       MandateRole = "owner"
	Delegate    MandateRole = "delegate"
	Auditor     MandateRole = "auditor"
	Enforcement MandateRole = "enforcement"
)

// Mandate lets users administer the service. Sites, Groups and Rights bound a delegate.
type Mandate struct {
	ID      MandateID     `json:"id" sentier:"required"`
	Name    string        `json:"name,omitempty"`
	Enabled Switch        `json:"enabled"`
	To      Holders       `json:"to,omitzero"`
	Valid   Span          `json:"valid,omitzero"`
	Role    MandateRole   `json:"role" sentier:"required"`
	Sites   []SiteID      `json:"sites,omitempty"`
	Groups  []UserGroupID `json:"groups,omitempty"`
	Rights  []RightID     `json:"rights,omitempty"`
	Common
}

// Holders are those that hold a mandate, or that an expectation is not about.
type Holders struct {
	Groups []UserGroupID `json:"groups,omitempty"`
	Users  []UserID      `json:"users,omitempty"`
}

// Records are the lists of a policy document, in its order.
type Records struct {
	Settings     Settings      `json:"settings"`
	Rights       []Right       `json:"rights,omitempty"`
	Roles        []Role        `json:"roles,omitempty"`
	Kinds        []Kind        `json:"kinds,omitempty"`
	Sites        []Site        `json:"sites,omitempty"`
	Devices      []Device      `json:"devices,omitempty"`
	DeviceGroups []DeviceGroup `json:"device_groups,omitempty"`
	Users        []User        `json:"users,omitempty"`
	UserGroups   []UserGroup   `json:"user_groups,omitempty"`
	Calendars    []Calendar    `json:"calendars,omitempty"`
	Schedules    []Schedule    `json:"schedules,omitempty"`
	Grants       []Grant       `json:"grants,omitempty"`
	Expectations []Expectation `json:"expectations,omitempty"`
	Mandates     []Mandate     `json:"mandates,omitempty"`
}

// New makes an empty record of a type, to be decoded into.
func New(t Type) Record { return reflect.New(descriptors[t].record).Interface().(Record) }

// list is the list of the records of a type.
func (r *Records) list(t Type) reflect.Value {
	return reflect.ValueOf(r).Elem().Field(int(t)) // which are in the order of the types
}

// All lists the records by pointer into the lists, in document order, the settings first.
func (r *Records) All() []Record {
	out := []Record{&r.Settings}
	for _, t := range Types() {
		list := r.list(t)
		out = slices.Grow(out, list.Len())
		for i := range list.Len() {
			out = append(out, list.Index(i).Addr().Interface().(Record))
		}
	}
	return out
}
