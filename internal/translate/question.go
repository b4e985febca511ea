// Package translate stands between the core's values and what travels: questions come in, changes go out.
package translate

import (
	"net/netip"
	"time"

	"sentier/internal/decision"
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

// InputError is that a request cannot be understood; Field names the place.
type InputError struct {
	Field   string
	Problem policy.Said
}

func (e *InputError) Error() string { return e.Field + ": " + e.Problem.Error() }

// Wrong makes an [InputError]; an error is not told otherwise than the sentence that it is made of.
func Wrong(field, form string, args ...any) *InputError {
	return &InputError{field, policy.Say(form, args...)}
}

// Question reads a question as it is asked over the wire. The error is of type [*InputError].
func Question(p *policy.Policy, in wire.Check, now time.Time) (decision.Question, error) {
	q := decision.Question{User: policy.UserID(in.User), Right: policy.RightID(in.Right), At: now.UTC().Truncate(time.Microsecond)}
	var point bool
	if q.Device, q.Point, point = policy.SplitPoint(in.Device); !point {
		q.Device, q.Point = policy.DeviceID(in.Device), "" // with a slash too many it is no device either
	}
	if in.At != "" {
		at, err := document.ParseInstant(in.At, now, deviceZone(p, q.Device))
		if err != nil {
			return q, Wrong("at", "%v", err)
		}
		q.At = at
	}
	if in.Context.IP != "" {
		ip, err := netip.ParseAddr(in.Context.IP)
		if err != nil {
			return q, Wrong("context.ip", "%q is no address: write it as 10.20.0.7 or 2001:db8::7", in.Context.IP)
		}
		q.Context.IP = ip
	}
	q.Context.Place = policy.SiteID(in.Context.Place)
	q.Context.StrongSignIn = decision.TriOf(in.Context.StrongSignIn)
	q.Context.Attended = decision.TriOf(in.Context.Attended)
	return q, nil
}

// deviceZone is the zone of a device's site; that of the settings for a device that is not there.
func deviceZone(p *policy.Policy, id policy.DeviceID) *time.Location {
	var site policy.SiteID
	if d, ok := policy.Find[*policy.Device](p, string(id)); ok {
		site = d.Site
	}
	zone, err := policy.LoadZone(decision.SiteZone(p, site))
	if err != nil {
		return time.UTC // cannot be: the policy's zones are checked
	}
	return zone
}

// Evaluation reads a question as the AuthZEN Authorization API asks it. The error is of type [*InputError].
func Evaluation(in *wire.Evaluation, now time.Time) (decision.Question, error) {
	q, err := EvaluationParts(&in.Subject, &in.Action, &in.Resource)
	if err != nil {
		return q, err
	}
	q.At, q.Context, err = EvaluationContext(in.Context, now)
	return q, err
}

// EvaluationParts is [Evaluation] without the context.
func EvaluationParts(subject *wire.Entity, action *wire.Action, resource *wire.Entity) (decision.Question, error) {
	q := decision.Question{User: policy.UserID(subject.ID), Right: policy.RightID(action.Name)}
	switch {
	case subject.Type != "user":
		return q, Wrong("subject.type", "%q is not answered about: write user", subject.Type)
	case subject.ID == "":
		return q, Wrong("subject.id", "is missing")
	case action.Name == "":
		return q, Wrong("action.name", "is missing: name a right")
	case resource.ID == "":
		return q, Wrong("resource.id", "is missing")
	}
	switch resource.Type {
	case "device":
		q.Device = policy.DeviceID(resource.ID)
	case "point":
		var ok bool
		if q.Device, q.Point, ok = policy.SplitPoint(resource.ID); !ok {
			return q, Wrong("resource.id", "%q names no point: write device/point", resource.ID)
		}
	default:
		return q, Wrong("resource.type", "%q is not answered about: write device or point", resource.Type)
	}
	return q, nil
}

// EvaluationContext takes the members of a context that bear on a decision; the others are for others. The error is of type
// [*InputError].
func EvaluationContext(context map[string]any, now time.Time) (time.Time, decision.Context, error) {
	q := decision.Question{At: now.UTC().Truncate(time.Microsecond)}
	err := readContext(&q, context)
	return q.At, q.Context, err
}

// ContextNames are what a context may say that bears on a decision: the time, and a value for each circumstance that a line can ask for.
var ContextNames = func() []string {
	out := []string{"time"}
	for _, k := range decision.Circumstances {
		if k.Context != "" {
			out = append(out, k.Context)
		}
	}
	return out
}()

func readContext(q *decision.Question, context map[string]any) error {
	for _, name := range ContextNames { // in order, so that of several faults the same is told each time
		value := context[name]
		if value == nil {
			continue
		}
		var ok bool
		var problem policy.Said
		switch name {
		case "time":
			var text string
			if text, ok = value.(string); ok {
				at, err := document.Moment(text)
				if ok = err == nil; ok {
					q.At = at
				} else {
					problem = policy.SaidBy(err)
				}
			} else {
				problem = policy.Say("is no instant: write it as in RFC 3339")
			}
		case "ip":
			var text string
			if text, ok = value.(string); ok {
				var err error
				q.Context.IP, err = netip.ParseAddr(text)
				ok = err == nil
			}
			problem = policy.Say("is no address: write it as 10.20.0.7 or 2001:db8::7")
		case "place":
			var text string
			text, ok = value.(string)
			problem, q.Context.Place = policy.Say("is no text: give the id of a site"), policy.SiteID(text)
		case "strong_sign_in":
			problem, ok = policy.Say("is neither true nor false"), readTri(&q.Context.StrongSignIn, value)
		case "attended":
			problem, ok = policy.Say("is neither true nor false"), readTri(&q.Context.Attended, value)
		default:
			problem = policy.Say("is not known here")
		}
		if !ok {
			return &InputError{"context." + name, problem}
		}
	}
	return nil
}

func readTri(into *decision.Tri, value any) bool {
	b, ok := value.(bool)
	if ok {
		*into = decision.TriOf(&b)
	}
	return ok
}
