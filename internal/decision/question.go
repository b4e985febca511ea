// Package decision answers what a policy means: may this user do this to that device at that instant,
// why, and until when? It compiles a [policy.Policy] once and answers from that; the compiled value never
// changes and serves any number of callers. Time is always an argument.
package decision

import (
	"math"
	"net/netip"
	"time"

	"sentier/internal/policy"
)

// Question is what is asked. Point is empty for the device itself.
type Question struct {
	User    policy.UserID
	Right   policy.RightID
	Device  policy.DeviceID
	Point   policy.PointID
	At      time.Time
	Context Context
}

// Context is what is known of the circumstances; its zero value is that nothing is.
type Context struct {
	IP           netip.Addr    // invalid: not known
	Place        policy.SiteID // at which the user is; empty, or none of the policy: not known
	StrongSignIn Tri
	Attended     Tri // someone is present at the device
}

// Tri is true, false or not known.
type Tri int8

// The values of a [Tri].
const (
	NotKnown Tri = iota
	True
	False
)

// TriOf turns an optional boolean into a [Tri].
func TriOf(b *bool) Tri {
	switch {
	case b == nil:
		return NotKnown
	case *b:
		return True
	}
	return False
}

// Reason is the code of the step at which a decision ended; see "The decision" in the semantics.
type Reason uint8

// The reasons, in the order of the steps; the four nearest misses in the order in which they win.
const (
	UnknownUser Reason = iota
	UnknownDevice
	UnknownPoint
	UnknownRight
	UserSuspended
	UserInvited
	UserNotYetValid
	UserExpired
	DeviceRetired
	RightNotApplicable
	DeviceLockedOut
	Denied
	Granted
	OutsideSchedule
	ConditionNotMet
	GrantNotInForce
	RightNotGranted
	NoGrant
)

var reasonNames = [...]string{
	"unknown_user", "unknown_device", "unknown_point", "unknown_right",
	"user_suspended", "user_invited", "user_not_yet_valid", "user_expired",
	"device_retired", "right_not_applicable", "device_locked_out", "denied", "granted",
	"outside_schedule", "condition_not_met", "grant_not_in_force", "right_not_granted", "no_grant",
}

// String is the reason's code, such as "outside_schedule".
func (r Reason) String() string { return reasonNames[r] }

// Outcome is the plain answer.
type Outcome struct {
	Allowed bool
	Reason  Reason
}

// Moment is an instant in microseconds since 1970; what lies beyond is cut to the ends.
type Moment int64

const (
	beginning Moment = math.MinInt64
	End       Moment = math.MaxInt64
)

const microsPerSecond = 1_000_000

// MomentOf is an instant in the steps that decisions are made in.
func MomentOf(t time.Time) Moment {
	s := t.Unix()
	if uint64(s+lastSecond) < 2*lastSecond {
		return Moment(s*microsPerSecond + int64(t.Nanosecond())/1000)
	}
	if s < 0 {
		return beginning
	}
	return End
}

// lastSecond bounds, on both sides of 1970, the seconds that fit into a moment.
const lastSecond = math.MaxInt64 / microsPerSecond

// Time is the moment as an instant in UTC.
func (m Moment) Time() time.Time { return time.UnixMicro(int64(m)).UTC() }

// seconds rounds down.
func (m Moment) seconds() int64 {
	s := int64(m) / microsPerSecond
	if int64(m)%microsPerSecond < 0 {
		s--
	}
	return s
}

func ofSeconds(s int64) Moment {
	if s >= math.MaxInt64/microsPerSecond {
		return End
	}
	return Moment(s * microsPerSecond)
}

// Period is a half-open range of moments.
type Period struct{ From, Until Moment }

// Always is the period that holds at every moment.
var Always = Period{beginning, End}

// PeriodOf is the period of a span.
func PeriodOf(s policy.Span) Period {
	p := Always
	if !s.From.IsZero() {
		p.From = MomentOf(s.From)
	}
	if !s.Until.IsZero() {
		p.Until = MomentOf(s.Until)
	}
	return p
}

// Holds tells whether a moment lies in the period.
func (p Period) Holds(at Moment) bool { return p.From <= at && at < p.Until }

// Next is the first end of the period after at.
func (p Period) Next(at Moment) Moment {
	switch {
	case p.From > at:
		return p.From
	case p.Until > at:
		return p.Until
	}
	return End
}

// And is the time that is in both periods.
func (p Period) And(q Period) Period { return Period{max(p.From, q.From), min(p.Until, q.Until)} }
