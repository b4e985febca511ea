package answers

import (
	"encoding/json"
	"net/http"
	"slices"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/service"
	"sentier/internal/survey"
	"sentier/internal/translate"
	"sentier/internal/wire"
)

// MaxEvaluations is how many evaluations one request can have.
const MaxEvaluations = 10_000

// MaxOwnEvaluations is how many one request can have of whoever may ask about themself alone.
const MaxOwnEvaluations = 500

// EvaluateMany answers many questions of one AuthZEN request, in their order, until its semantics end it.
func (s Service) EvaluateMany(c service.Caller, in *wire.Evaluations) (wire.Decisions, error) {
	out := wire.Decisions{Evaluations: []wire.Decision{}}
	if len(in.Evaluations) > MaxEvaluations {
		return out, service.Wrong("evaluations", "has %d: one request has up to %d", len(in.Evaluations), MaxEvaluations)
	}
	st := s.State()
	own := s.own(st, c)
	if own && len(in.Evaluations) > MaxOwnEvaluations {
		return out, service.Wrong("evaluations", "has %d: about oneself one request has up to %d", len(in.Evaluations), MaxOwnEvaluations)
	}
	semantic := ""
	if in.Options != nil {
		semantic = in.Options.Semantic
	}
	switch semantic {
	case "", "execute_all", "deny_on_first_deny", "permit_on_first_permit":
	default:
		return out, service.Wrong("options.evaluations_semantic", "%q is not known: write execute_all, deny_on_first_deny or permit_on_first_permit", semantic)
	}
	out.Evaluations = make([]wire.Decision, 0, len(in.Evaluations))
	asks := s.asker(st, c)
	asks.at, asks.context, asks.err = readContext(in.Context, s.Now())
	questions, faults := make([]decision.Question, len(in.Evaluations)), make([]error, len(in.Evaluations))
	read := 0
	var err error // that ends the request, unless its semantics end it before
	for read < len(in.Evaluations) && err == nil {
		if questions[read], faults[read], err = asks.part(in, &in.Evaluations[read]); err == nil {
			read++
		}
	}
	decided := make([]service.Decided, 0, read)
	for i, answer := range st.Compiled.AnswerMany(questions[:read]) {
		d := asks.toDecision(&questions[i], answer)
		if faults[i] != nil {
			d = unread(st, faults[i])
		} else {
			decided = append(decided, service.Decided{Question: &questions[i], Reason: d.Context.Reason})
		}
		out.Evaluations = append(out.Evaluations, d)
		if semantic == "deny_on_first_deny" && !d.Decision || semantic == "permit_on_first_permit" && d.Decision {
			return out, s.Decided(st, c, decided...)
		}
	}
	if err != nil {
		return out, err
	}
	return out, s.Decided(st, c, decided...)
}

func readContext(context json.RawMessage, now time.Time) (time.Time, decision.Context, error) {
	var members map[string]any
	if len(context) > 0 {
		if err := json.Unmarshal(context, &members); err != nil {
			return now, decision.Context{}, service.Wrong("context", "is no object")
		}
	}
	return translate.EvaluationContext(members, now)
}

// asker asks on behalf of a caller.
func (s Service) asker(st *service.State, c service.Caller) asker {
	out := asker{s: s.Service, st: st, caller: c, own: s.own(st, c)}
	if s.Rights(st, c).Bounded() {
		v := s.View(st, c)
		out.beyond = func(id policy.DeviceID) bool { return !v.Device(id) }
	}
	return out
}

// asker asks on behalf of one caller.
type asker struct {
	s      *service.Service
	st     *service.State
	caller service.Caller
	own    bool                       // they may ask about themself alone
	beyond func(policy.DeviceID) bool // what is not there, to them; nil: nothing

	// What the top of the request says of the circumstances, read once.
	at      time.Time
	context decision.Context
	err     error
}

func (a *asker) may(about policy.UserID) error {
	if !a.own {
		return nil
	}
	return a.s.Permit(a.st, a.caller, service.Ask, about)
}

// toDecision is an answer as the caller may hear it.
func (a *asker) toDecision(q *decision.Question, answer decision.Answer) wire.Decision {
	switch {
	case a.own:
		answer = a.st.Compiled.Own(*q, answer)
	case a.beyond == nil || !a.beyond(q.Device):
	case q.User == a.caller.User:
		answer = a.st.Compiled.Own(*q, answer)
	case answer.Reason != decision.UnknownUser:
		answer = decision.Answer{Outcome: decision.Outcome{Reason: decision.UnknownDevice}}
	}
	out := wire.Decision{Decision: answer.Allowed, Context: wire.DecisionContext{
		Reason: answer.Reason.String(), Limits: answer.Limits, Revision: a.st.Revision.Number,
	}}
	if until := answer.Until; !until.IsZero() { // a copy, so that the answer needs no room on the heap
		out.Context.Until = &until
	}
	return out
}

// part reads one of many: one that has a fault is denied with it, and the others are answered. The error ends the request.
func (a *asker) part(in *wire.Evaluations, e *wire.PartEvaluation) (q decision.Question, fault, err error) {
	if e.Unread != "" {
		return q, service.Wrong("evaluations", "%s", e.Unread), nil
	}
	subject, action, resource := first(e.Subject, in.Subject), first(e.Action, in.Action), first(e.Resource, in.Resource)
	if err := a.may(policy.UserID(subject.ID)); err != nil {
		return q, nil, err
	}
	if q, fault = translate.EvaluationParts(subject, action, resource); fault == nil {
		if q.At, q.Context, fault = a.at, a.context, a.err; len(e.Context) > 0 {
			q.At, q.Context, fault = readContext(e.Context, a.s.Now())
		}
	}
	return q, fault, nil
}

// unread is the decision about what cannot be read.
func unread(st *service.State, fault error) wire.Decision {
	return wire.Decision{Context: wire.DecisionContext{Revision: st.Revision.Number,
		Error: &wire.EvaluationError{Status: http.StatusBadRequest, Message: fault.Error()}}}
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

// defaultSearch is how many results a page of a search has where nobody says.
const defaultSearch = 100

// SearchFor says what a search is for.
type SearchFor string

// What can be searched for.
const (
	SearchSubjects  SearchFor = "subject"
	SearchResources SearchFor = "resource"
	SearchActions   SearchFor = "action"
)

// Search answers an AuthZEN search: exactly those for which the decision is allowed, by id.
func (s Service) Search(c service.Caller, what SearchFor, in *wire.Search) (wire.SearchResult, error) {
	st := s.State()
	out := wire.SearchResult{Results: []map[string]any{}}
	about := policy.UserID(in.Subject.ID)
	if what == SearchSubjects {
		about = ""
	}
	if err := s.Permit(st, c, service.Ask, about); err != nil {
		return out, err
	}
	place := cursorOf("search", what, in.Subject, in.Action, in.Resource, in.Context)
	limit, after, err := searchPage(in.Page, place)
	if err != nil {
		return out, err
	}
	full := wire.Evaluation{Subject: wire.Entity(in.Subject), Resource: wire.Entity(in.Resource), Context: in.Context}
	if in.Action != nil {
		full.Action = *in.Action
	}
	// What is searched for has a type, and an id that does not count.
	switch what {
	case SearchSubjects:
		full.Subject.ID = "anybody"
	case SearchResources:
		full.Resource.ID = "any/thing"
	case SearchActions:
		full.Action.Name = "any"
	}
	q, err := translate.Evaluation(&full, s.Now())
	if err != nil {
		return out, err
	}
	in2 := survey.Circumstances{At: q.At, Context: q.Context, Right: q.Right, Sites: s.sites(st, c, about)} // now
	if in2.Sites != nil && what != SearchResources && s.beyond(st, c, q.Device) {
		return out, nil
	}
	switch what {
	case SearchSubjects:
		found, _ := survey.Of(st.Compiled).UsersOf(q.Device, q.Point, in2)
		for _, r := range found.Page(after, limit) {
			out.Results = append(out.Results, map[string]any{"type": "user", "id": string(r.ID)})
		}
		out.Page.Total = found.Total
	case SearchResources:
		s.searchResources(st, q, in2, in.Resource.Type, after, limit, &out)
	case SearchActions:
		in2.Right = ""
		for r := range policy.Each[*policy.Right](st.Policy) {
			q.Right = r.ID
			if st.Compiled.Decide(&q).Allowed {
				out.Page.Total++
				if string(r.ID) > after && len(out.Results) < limit {
					out.Results = append(out.Results, map[string]any{"name": string(r.ID)})
				}
			}
		}
	}
	out.Page.Count = len(out.Results)
	if n := len(out.Results); n == limit {
		last, _ := out.Results[n-1]["id"].(string)
		if what == SearchActions {
			last, _ = out.Results[n-1]["name"].(string)
		}
		out.Page.Next = place.after(last)
	}
	return out, nil
}

// searchResources finds devices, or all points on which the right is allowed.
func (s Service) searchResources(st *service.State, q decision.Question, in survey.Circumstances, kind, after string, limit int, out *wire.SearchResult) {
	if kind == "device" {
		found, _ := survey.Of(st.Compiled).DevicesOf(q.User, in)
		// Points that are granted by themselves are no devices.
		for _, r := range found.Devices(after, limit) {
			out.Results = append(out.Results, map[string]any{"type": "device", "id": string(r.ID)})
		}
		out.Page.Total = found.DeviceTotal()
		return
	}
	for d := range policy.Each[*policy.Device](st.Policy) {
		if in.Sites != nil && !in.Sites(d.Site) {
			continue
		}
		for _, id := range sortedPoints(d) {
			q.Device, q.Point = d.ID, id
			if !st.Compiled.Decide(&q).Allowed {
				continue
			}
			out.Page.Total++
			if key := string(d.ID) + "/" + string(id); key > after && len(out.Results) < limit {
				out.Results = append(out.Results, map[string]any{"type": "point", "id": key})
			}
		}
	}
}

// sortedPoints lists a device's points in the order in which pages tell them.
func sortedPoints(d *policy.Device) []policy.PointID {
	out := make([]policy.PointID, len(d.Points))
	for i, p := range d.Points {
		out[i] = p.ID
	}
	slices.Sort(out)
	return out
}

func searchPage(p *wire.SearchPage, place cursor) (limit int, after string, err error) {
	if p == nil {
		return defaultSearch, "", nil
	}
	if limit = p.Limit; limit == 0 {
		limit = defaultSearch
	}
	if limit < 1 || limit > MaxPage {
		return 0, "", service.Wrong("page.limit", "%d is out of range: 1 to %d", limit, MaxPage)
	}
	after, err = place.read("page.token", p.Token)
	return limit, after, err
}
