// Package policy holds the records of an access policy, the immutable value
// that they form together, and the one function, [Policy.Apply], by which one
// such value becomes the next. It knows nothing of storage, of the network or of
// the time of day.
package policy

import "strings"

// Type names one of the types of record, or the settings.
type Type uint8

// The types, in the order in which a policy document lists them.
const (
	SettingsType Type = iota
	Rights
	Roles
	Kinds
	Sites
	Devices
	DeviceGroups
	Users
	UserGroups
	Calendars
	Schedules
	Grants
	Expectations
	Mandates
	typeCount
)

// Types lists the types of record in document order, without the settings.
func Types() []Type {
	out := make([]Type, 0, typeCount-1)
	for t := Rights; t < typeCount; t++ {
		out = append(out, t)
	}
	return out
}

// String is the type's key in a policy document: "user_groups".
func (t Type) String() string { return types[t].plural }

// MarshalText writes the type's key in a policy document.
func (t Type) MarshalText() ([]byte, error) { return []byte(t.String()), nil }

// Noun is the type's name in a sentence, in the singular: "user group".
func (t Type) Noun() string { return types[t].singular }

// TypeNamed finds a type by its document key.
func TypeNamed(plural string) (Type, bool) {
	for t := SettingsType; t < typeCount; t++ {
		if types[t].plural == plural {
			return t, true
		}
	}
	return 0, false
}

// The ids. Each matches [a-z0-9][a-z0-9._@+-]{0,127}; one type of id is never
// taken for another.
type (
	RightID       string
	RoleID        string
	KindID        string
	SiteID        string
	DeviceID      string
	PointID       string // within its device
	PointRef      string // "device/point"
	DeviceGroupID string
	UserID        string
	UserGroupID   string
	CalendarID    string
	ScheduleID    string
	GrantID       string
	ExpectationID string
	MandateID     string
)

// Device is the device that a point is of.
func (r PointRef) Device() DeviceID {
	device, _, _ := strings.Cut(string(r), "/")
	return DeviceID(device)
}

// MaxID bounds ids, in bytes.
const MaxID = 128

// ValidID tells whether s can be the id of a record: [a-z0-9][a-z0-9._@+-]{0,127}.
func ValidID(s string) bool {
	if s == "" || len(s) > MaxID {
		return false
	}
	for i := range len(s) {
		c := s[i]
		if 'a' <= c && c <= 'z' || '0' <= c && c <= '9' || i > 0 && strings.IndexByte("._@+-", c) >= 0 {
			continue
		}
		return false
	}
	return true
}
