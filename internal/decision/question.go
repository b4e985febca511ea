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

// moment is an instant in microseconds since 1970; what lies beyond is cut to the ends.
type moment int64

const (
	beginning moment = math.MinInt64
	end       moment = math.MaxInt64
)

const microsPerSecond = 1_000_000

func momentOf(t time.Time) moment {
	s := t.Unix()
	if uint64(s+lastSecond) < 2*lastSecond {
		return moment(s*microsPerSecond + int64(t.Nanosecond())/1000)
	}
	if s < 0 {
		return beginning
	}
	return end
}

// lastSecond bounds, on both sides of 1970, the seconds that fit into a moment.
const lastSecond = math.MaxInt64 / microsPerSecond

func (m moment) time() time.Time { return time.UnixMicro(int64(m)).UTC() }

// seconds rounds down.
func (m moment) seconds() int64 {
	s := int64(m) / microsPerSecond
	if int64(m)%microsPerSecond < 0 {
		s--
	}
	return s
}

func ofSeconds(s int64) moment {
	if s >= math.MaxInt64/microsPerSecond {
		return end
	}
	return moment(s * microsPerSecond)
}

// period is a half-open range of moments.
type period struct{ from, until moment }

var always = period{beginning, end}

func periodOf(s policy.Span) period {
	p := always
	if !s.From.IsZero() {
		p.from = momentOf(s.From)
	}
	if !s.Until.IsZero() {
		p.until = momentOf(s.Until)
	}
	return p
}

func (p period) holds(at moment) bool { return p.from <= at && at < p.until }

// next is the first end of the period after at.
func (p period) next(at moment) moment {
	switch {
	case p.from > at:
		return p.from
	case p.until > at:
		return p.until
	}
	return end
}

func (p period) and(q period) period { return period{max(p.from, q.from), min(p.until, q.until)} }
