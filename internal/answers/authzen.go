package answers

import (
	"slices"

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
	batch, err := translate.NewBatch(in, MaxEvaluations, s.Now())
	if err != nil {
		return out, err
	}
	st := s.State()
	own := s.own(st, c)
	if own && batch.Len() > MaxOwnEvaluations {
		return out, service.Wrong("evaluations", "has %d: about oneself one request has up to %d", batch.Len(), MaxOwnEvaluations)
	}
	out.Evaluations = make([]wire.Decision, 0, batch.Len())
	asks := s.asker(st, c)
	questions, faults := make([]decision.Question, batch.Len()), make([]error, batch.Len())
	read := 0
	for read < batch.Len() && err == nil { // an error ends the request, unless its semantics end it before
		if !batch.Unread(read) {
			err = asks.may(batch.Subject(read))
		}
		if err == nil {
			questions[read], faults[read] = batch.Question(read)
			read++
		}
	}
	decided := make([]service.Decided, 0, read)
	for i, answer := range st.Compiled.AnswerMany(questions[:read]) {
		d := asks.toDecision(&questions[i], answer)
		if faults[i] != nil {
			d = translate.NotRead(st.Revision.Number, faults[i])
		} else {
			decided = append(decided, service.Decided{Question: &questions[i], Reason: d.Context.Reason})
		}
		out.Evaluations = append(out.Evaluations, d)
		if batch.Stops(d.Decision) {
			return out, s.Decided(st, c, decided...)
		}
	}
	if err != nil {
		return out, err
	}
	return out, s.Decided(st, c, decided...)
}

// EvaluateAlone answers a request for several evaluations that has none: it is one, of what stands at its top.
func (s Service) EvaluateAlone(c service.Caller, in *wire.Evaluations) (wire.Decision, error) {
	st := s.State()
	asks := s.asker(st, c)
	batch, err := translate.NewBatch(in, MaxEvaluations, s.Now())
	if err != nil {
		return wire.Decision{}, err
	}
	if in.Subject != nil {
		err = asks.may(policy.UserID(in.Subject.ID))
	} else {
		err = asks.may("")
	}
	if err != nil {
		return wire.Decision{}, err
	}
	q, err := batch.Alone()
	if err != nil {
		return wire.Decision{}, err
	}
	out := asks.toDecision(&q, st.Compiled.Answer(q))
	return out, s.Decided(st, c, service.Decided{Question: &q, Reason: out.Context.Reason})
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
