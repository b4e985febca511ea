package document

import (
	"net/netip"
	"reflect"
	"time"

	"sentier/internal/policy"
)

// ExpectFormat is the format of files of expectations.
const ExpectFormat = "sentier-expect/1"

// Expectations are questions with the answers that they must have.
type Expectations struct {
	Checks []Expectation `json:"checks" sentier:"required"`
}

// Expectation is one question. Reason and Until are compared only where they are given.
type Expectation struct {
	User    policy.UserID  `json:"user" sentier:"required"`
	Right   policy.RightID `json:"right" sentier:"required"`
	Device  string         `json:"device" sentier:"required"` // device or device/point
	At      time.Time      `json:"at,omitzero" sentier:"required"`
	Context Context        `json:"context,omitzero"`
	Expect  string         `json:"expect" sentier:"required"` // allow or deny
	Reason  string         `json:"reason,omitempty"`
	Until   string         `json:"until,omitempty"` // RFC 3339, or never
	Note    string         `json:"note,omitempty"`
}

// Context is what a question may say of the circumstances.
type Context struct {
	IP           netip.Addr    `json:"ip,omitzero"`
	Place        policy.SiteID `json:"place,omitempty"`
	StrongSignIn *bool         `json:"strong_sign_in,omitempty"`
	Attended     *bool         `json:"attended,omitempty"`
}

// Never is the Until of an answer that does not change within 400 days.
const Never = "never"

// ReadExpectations reads a file of expectations, JSON or YAML. The error is of type [Faults].
func ReadExpectations(data []byte) (*Expectations, error) {
	root, faults := parse(data)
	if root == nil {
		return nil, faults
	}
	d := &decoder{faults: faults}
	format, rest := root.without("format")
	d.format(root, format, ExpectFormat)
	out := &Expectations{}
	d.decode(rest, reflect.ValueOf(out).Elem(), nil)
	for i, c := range out.Checks {
		at := (*place)(nil).field("checks").item(i)
		line, column := root.locate(at.String())
		if c.Expect != "allow" && c.Expect != "deny" && c.Expect != "" {
			d.fault(&node{line: line, column: column}, at.field("expect"), "%q is no answer: write allow or deny", c.Expect)
		}
		if c.Until != "" && c.Until != Never {
			if _, err := time.Parse(time.RFC3339, c.Until); err != nil {
				d.fault(&node{line: line, column: column}, at.field("until"), "%q is no instant: write it as in RFC 3339, or %s", c.Until, Never)
			}
		}
	}
	if len(d.faults) > 0 {
		return nil, d.faults.sorted()
	}
	return out, nil
}
