package translate

import (
	"encoding/json"
	"errors"
	"net/http"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/strict"
	"sentier/internal/wire"
)

// The semantics of several evaluations: AuthZEN Authorization API 1.0, 7.1.2.
const (
	ExecuteAll          = "execute_all"
	DenyOnFirstDeny     = "deny_on_first_deny"
	PermitOnFirstPermit = "permit_on_first_permit"
)

// ReadEvaluation reads an evaluation of the AuthZEN Authorization API, wherever it comes in: at the service, at a gate, over MQTT. Members that are not known
// are passed over, as the standard has it. The error is an [*InputError] or a [*strict.Error].
func ReadEvaluation(body []byte, now time.Time) (decision.Question, error) {
	var in wire.Evaluation
	if err := strict.ReadOpen(body, &in); err != nil {
		return decision.Question{}, err
	}
	return Evaluation(&in, now)
}

// ReadEvaluations reads several evaluations of one request. One that cannot be read says so by itself.
func ReadEvaluations(body []byte) (wire.Evaluations, error) {
	var in wire.Evaluations
	if strict.ReadOpen(body, &in) == nil {
		return in, nil
	}
	parts, err := strict.Members(body)
	if err != nil {
		return in, err
	}
	list := parts["evaluations"]
	delete(parts, "evaluations")
	top, err := json.Marshal(parts)
	if err != nil {
		return in, err
	}
	in = wire.Evaluations{}
	if err := strict.ReadOpen(top, &in); err != nil || list == nil {
		return in, err
	}
	each, err := strict.Elements(list)
	if err != nil {
		var why *strict.Error
		if errors.As(err, &why) {
			err = &strict.Error{Field: "evaluations", Why: why.Why}
		}
		return in, err
	}
	in.Evaluations = make([]wire.PartEvaluation, len(each))
	for i, one := range each {
		if err := strict.ReadOpen(one, &in.Evaluations[i]); err != nil {
			in.Evaluations[i] = wire.PartEvaluation{Unread: err.Error()}
		}
	}
	return in, nil
}

// Batch is several evaluations, each a question of its own. What one leaves out is that of the top; a context of its own takes the place of the top's.
type Batch struct {
	in *wire.Evaluations

	now      time.Time
	at       time.Time // what the top says of the circumstances, read once
	context  decision.Context
	err      error
	semantic string
}

// NewBatch prepares several evaluations, at most so many. The error is an [*InputError].
func NewBatch(in *wire.Evaluations, most int, now time.Time) (*Batch, error) {
	if len(in.Evaluations) > most {
		return nil, Wrong("evaluations", "has %d: one request has up to %d", len(in.Evaluations), most)
	}
	b := &Batch{in: in, now: now}
	if in.Options != nil {
		b.semantic = in.Options.Semantic
	}
	switch b.semantic {
	case "", ExecuteAll, DenyOnFirstDeny, PermitOnFirstPermit:
	default:
		return nil, Wrong("options.evaluations_semantic", "%q is not known: write execute_all, deny_on_first_deny or permit_on_first_permit", b.semantic)
	}
	b.at, b.context, b.err = readRawContext(in.Context, now)
	return b, nil
}

// Len is how many there are; 0: the request is one evaluation, of what stands at the top: see [Batch.Alone].
func (b *Batch) Len() int { return len(b.in.Evaluations) }

// Alone is the question of what stands at the top alone.
func (b *Batch) Alone() (decision.Question, error) { return b.question(&wire.PartEvaluation{}) }

// Subject is about whom one is; empty where it does not say.
func (b *Batch) Subject(i int) policy.UserID {
	if e := &b.in.Evaluations[i]; e.Unread == "" {
		return policy.UserID(first(e.Subject, b.in.Subject).ID)
	}
	return ""
}

// Unread tells whether one could not be read at all.
func (b *Batch) Unread(i int) bool { return b.in.Evaluations[i].Unread != "" }

// Question reads one; the fault is why it is denied by itself.
func (b *Batch) Question(i int) (q decision.Question, fault error) {
	e := &b.in.Evaluations[i]
	if e.Unread != "" {
		return q, Wrong("evaluations", "%s", e.Unread)
	}
	return b.question(e)
}

func (b *Batch) question(e *wire.PartEvaluation) (q decision.Question, fault error) {
	if q, fault = EvaluationParts(first(e.Subject, b.in.Subject), first(e.Action, b.in.Action), first(e.Resource, b.in.Resource)); fault != nil {
		return q, fault
	}
	if q.At, q.Context, fault = b.at, b.context, b.err; len(e.Context) > 0 {
		q.At, q.Context, fault = readRawContext(e.Context, b.now)
	}
	return q, fault
}

// Stops tells whether no more is answered after a decision.
func (b *Batch) Stops(allowed bool) bool {
	return b.semantic == DenyOnFirstDeny && !allowed || b.semantic == PermitOnFirstPermit && allowed
}

// NotRead is the decision about what cannot be read.
func NotRead(revision uint64, fault error) wire.Decision {
	return wire.Decision{Context: wire.DecisionContext{Revision: revision, Error: &wire.EvaluationError{Status: http.StatusBadRequest, Message: fault.Error()}}}
}

func readRawContext(context []byte, now time.Time) (time.Time, decision.Context, error) {
	var members map[string]any
	if len(context) > 0 {
		if err := strict.ReadOpen(context, &members); err != nil {
			var why *strict.Error
			if errors.As(err, &why) && why.Field != "" {
				return now, decision.Context{}, &InputError{"context." + why.Field, why.Why}
			}
			return now, decision.Context{}, Wrong("context", "is no object")
		}
	}
	return EvaluationContext(members, now)
}

// first is what a part says, or else the top.
func first[T any](part, top *T) *T {
	switch {
	case part != nil:
		return part
	case top != nil:
		return top
	}
	return new(T)
}
