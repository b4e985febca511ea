package service

import (
	"context"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"

	"sentier/internal/audit"
	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/survey"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// ApprovalError is that a change needs a second person.
type ApprovalError struct{ Needed []string }

func (e *ApprovalError) Error() string { return e.In(wording.English) }

// In says it in a language.
func (e *ApprovalError) In(words wording.Catalogue) string {
	var why []string
	for _, n := range e.Needed {
		why = append(why, words.Say("approval."+n))
	}
	return words.Say("problem.approval", "why", strings.Join(why, ", "))
}

// The rules of the settings by which a change needs a second person.
const (
	ruleControl    = "control"
	ruleLimits     = "limits"
	ruleEveryone   = "everyone"
	ruleEverything = "everything"
	ruleMandates   = "mandates"
	rulePeople     = "people"
	ruleService    = "service" // falls under the setting for mandates
)

// secondPerson refuses a change for which the settings ask for a second person, unless one agreed to it: "The second person". That one agreed is
// looked up, by the way of the change.
func (m *making) secondPerson() error {
	rules, err := m.rules()
	if err != nil || len(rules) == 0 {
		return err
	}
	agreed := ways[m.o.way].agreed
	if agreed == nil {
		err = &ApprovalError{rules}
	} else {
		err = agreed(m, rules)
	}
	if err != nil {
		m.refuse(err)
		return err
	}
	m.given = nil // two have given it
	return nil
}

// refuse enters in the audit log that a change was refused for want of a second person.
func (m *making) refuse(why error) {
	var about []string
	for _, c := range m.done[:min(len(m.done), mostTouched)] {
		about = append(about, c.Record().Type().String()+"/"+c.Record().Key())
	}
	m.Refused(m.caller, Refusal{What: "a second person", Route: string(m.o.way), About: strings.Join(about, " "), Missing: policy.SaidBy(why).Error()})
}

// rules tells for which of the rules that are set a change needs a second person. What only takes away needs none.
func (m *making) rules() ([]string, error) {
	set := m.settings.Load().Approval
	out := []string{}
	if !set.Asks() {
		return out, nil
	}
	m.compile(m.now)
	at := m.borders.Clock()
	w, err := weigh(m.now, &m.step)
	if err != nil {
		return nil, err
	}
	var found survey.Differences
	for _, from := range w.windows(at) {
		d := survey.Compare(w.before, w.after, w.done, survey.Circumstances{At: from}, 0)
		found.Control += d.Control
		found.ControlLimit += d.ControlLimit
		found.Gainers = max(found.Gainers, d.Gainers)
		found.Mandates = append(found.Mandates, d.Mandates...)
	}
	people := false
	if set.MoreThan > 0 && found.Gainers > 0 {
		if people = found.Gainers > set.MoreThan; !people {
			if people, err = m.tooMany(&w, at, set.MoreThan); err != nil {
				return nil, err
			}
		}
	}
	for _, rule := range []struct {
		name string
		met  bool
	}{
		{ruleControl, set.Control && found.Control > 0},
		{ruleLimits, set.Limits && found.ControlLimit > 0},
		{ruleEveryone, set.Everyone && slices.ContainsFunc(m.done, func(c policy.RecordChange) bool { return widens(c, toEveryone) })},
		{ruleEverything, set.Everything && slices.ContainsFunc(m.done, func(c policy.RecordChange) bool { return widens(c, onEverything) })},
		{ruleMandates, set.Mandates && slices.ContainsFunc(found.Mandates, func(d survey.MandateDifference) bool { return d.Gained })},
		{rulePeople, people},
	} {
		if rule.met {
			out = append(out, rule.name)
		}
	}
	return out, nil
}

// rulesOf is [making.rules] of what a draft does.
func (s *Service) rulesOf(ctx context.Context, now *State, c Caller, on held) ([]string, error) {
	if len(on.done) == 0 {
		return []string{}, nil
	}
	m := &making{Service: s, ctx: ctx, now: now, caller: c, o: &EditOptions{way: WayDraft}, step: step{policy: on.Policy, compiled: on.Compiled, done: on.done}}
	return m.rules()
}

// tooMany tells whether those who gain something, with all to whom the same person alone has given something within the last day, are more than some.
func (m *making) tooMany(w *weighed, at time.Time, most int) (bool, error) {
	all := map[string]bool{}
	lately, err := m.borders.Agreements.GivenBy(m.ctx, string(m.caller.User), at.Add(-store.GivenFor))
	if err != nil {
		return false, err
	}
	for _, g := range lately {
		all[g.UserID] = true
	}
	gainers := map[policy.UserID]bool{}
	for _, from := range w.windows(at) {
		survey.Gains(w.before, w.after, w.done, survey.Circumstances{At: from}, func(g survey.Gain) {
			if len(g.Rights) > 0 {
				for id := range g.Users.All {
					gainers[id], all[string(id)] = true, true
				}
			}
		})
	}
	m.given = nil
	for id := range gainers {
		m.given = append(m.given, id)
	}
	slices.Sort(m.given)
	return len(all) > most, nil
}

// weighed is a change as it is weighed: as if everybody who is invited had come in, and everybody had joined each group that they may join by themselves.
type weighed struct {
	before, after *decision.Compiled
	done          []policy.RecordChange
}

// weigh makes the two policies between which a change is weighed.
func weigh(now *State, st *step) (weighed, error) {
	before, err := laidReady(now.Policy)
	if err != nil {
		return weighed{}, err
	}
	after, err := laidReady(st.policy)
	if err != nil {
		return weighed{}, err
	}
	if before == now.Policy && after == st.policy {
		return weighed{now.Compiled, st.compiled, st.done}, nil
	}
	w := weighed{before: now.Compiled, done: before.Compare(after)}
	if before != now.Policy {
		w.before = now.Compiled.Next(before, now.Policy.Compare(before))
	}
	w.after = w.before.Next(after, w.done)
	return w, nil
}

// laidReady is a policy in which all who are invited are active, and whoever may join a group by themself is in it. It is the same value where nobody is
// invited, and no group can be joined so.
func laidReady(p *policy.Policy) (*policy.Policy, error) {
	var changes []policy.Change
	for u := range policy.Each[*policy.User](p) {
		if u.Status == policy.Invited {
			active := *u
			active.Status = policy.Active
			changes = append(changes, policy.Change{Op: policy.Put, Type: policy.Users, ID: u.Key(), Record: &active})
		}
	}
	next := p
	if len(changes) > 0 {
		var err error
		if next, _, err = p.Apply(changes); err != nil {
			return nil, err
		}
	}
	for g := range policy.Each[*policy.UserGroup](p) {
		if g.Join == nil || g.Join.Approval != policy.ApprovalNone || g.Enabled == policy.Off {
			continue
		}
		wider, _ := policy.Find[*policy.UserGroup](next, g.Key())
		joined := *wider
		joined.Includes = slices.Clone(wider.Includes)
		for _, id := range g.Join.Groups {
			if id != g.ID && !slices.Contains(joined.Includes, id) {
				joined.Includes = append(joined.Includes, id)
			}
		}
		with, _, err := next.Apply([]policy.Change{{Op: policy.Put, Type: policy.UserGroups, ID: g.Key(), Record: &joined}})
		if err != nil { // one of those includes this one: its members join by name
			joined.Includes, joined.Members = wider.Includes, slices.Clone(wider.Members)
			seen := map[policy.UserGroupID]bool{}
			for _, id := range g.Join.Groups {
				decision.MembersOf(next, id, seen, func(member policy.Member) {
					if !slices.Contains(joined.Members, member) {
						joined.Members = append(joined.Members, member)
					}
				})
			}
			if with, _, err = next.Apply([]policy.Change{{Op: policy.Put, Type: policy.UserGroups, ID: g.Key(), Record: &joined}}); err != nil {
				return nil, err
			}
		}
		next = with
	}
	return next, nil
}

// windows are the instants from which on the 400 days after them are looked at, so that all is seen that a change can give, however far ahead it begins.
func (w *weighed) windows(at time.Time) []time.Time {
	const span = time.Duration(decision.AnswerHorizon) * time.Microsecond
	out := []time.Time{at}
	var far []time.Time
	for _, p := range []*policy.Policy{w.before.Policy(), w.after.Policy()} {
		for t := range p.Bounds {
			if t.Sub(at) > span {
				far = append(far, t)
			}
		}
	}
	slices.SortFunc(far, time.Time.Compare)
	for _, t := range far {
		if t.Sub(out[len(out)-1]) > span {
			out = append(out, t)
		}
	}
	return out
}

func toEveryone(g *policy.Grant) bool { return g.To.Everyone }

func onEverything(g *policy.Grant) bool {
	return slices.ContainsFunc(g.Lines, func(l policy.Line) bool { return l.On.Everything })
}

// widens tells whether a change leaves an allowing grant of a far reach that did not give just that before.
func widens(c policy.RecordChange, far func(*policy.Grant) bool) bool {
	g, ok := c.After.(*policy.Grant)
	if !ok || g.Effect == policy.Deny || g.Enabled == policy.Off || !far(g) {
		return false
	}
	was, ok := c.Before.(*policy.Grant)
	if !ok {
		return true
	}
	bare := func(g policy.Grant) policy.Grant {
		g.Name, g.Common = "", policy.Common{}
		return g
	}
	return !reflect.DeepEqual(bare(*was), bare(*g))
}

// wayInFor is for how long a way in that somebody was handed out keeps them from being the second person of who handed it out.
const wayInFor = 7 * 24 * time.Hour

// mayAgree tells whether a caller can be the second person of a change that was begun at an instant by some people: "The second person". Whether they may
// make the change is another question. The error is a [ForbiddenError].
func (s *Service) mayAgree(ctx context.Context, c Caller, hands []string, begun time.Time) error {
	u, ok := policy.Find[*policy.User](s.State().Policy, string(c.User))
	switch {
	case !c.SignedIn() || !ok || u.Kind == policy.Service:
		return &ForbiddenError{Missing: policy.Say("a person who is signed in: nobody agrees by a token")}
	case slices.Contains(hands, string(c.User)):
		return &ForbiddenError{Missing: policy.Say("somebody else: whoever has made a change, asked for it or put anything into it cannot agree to it")}
	}
	return s.ownDoor(ctx, string(c.User), hands, begun)
}

// ownDoor refuses somebody whose way in was handed out by one of some people of late, or since an instant: whoever comes in may be the one who handed it out.
func (s *Service) ownDoor(ctx context.Context, user string, hands []string, begun time.Time) error {
	since := s.borders.Clock().Add(-wayInFor)
	if !begun.IsZero() && begun.Before(since) {
		since = begun
	}
	list, err := s.borders.Agreements.HandedOutTo(ctx, user, since)
	if err != nil {
		return err
	}
	for _, h := range list {
		if slices.Contains(hands, h.By) {
			name := func(id string) string { return s.State().Policy.Title(policy.Users, id) }
			return &ForbiddenError{Missing: policy.Say("somebody whose way in was not handed out by one of those whose change it is: %s was given one by %s less than a week ago, or since the change was begun", name(user), name(h.By))}
		}
	}
	return nil
}

// handOut keeps that a caller hands a way in to somebody. It is called before: what is not kept is not handed out.
func (s *Service) handOut(ctx context.Context, c Caller, user, what string) error {
	if user == string(c.User) {
		return nil
	}
	return s.kept(s.borders.Agreements.HandOut(ctx, store.HandedOut{UserID: user, By: string(c.User), What: what, At: s.borders.Clock()}))
}

// VoidError is that an approval does not hold any more.
type VoidError struct {
	Draft string // its name
	Why   policy.Said
}

func (e *VoidError) Error() string { return e.Unwrap().Error() }

// Unwrap is the sentence that it is told as.
func (e *VoidError) Unwrap() error {
	return policy.Say("the approval of the draft %q is void: %s. Ask for it again", e.Draft, e.Why)
}

// draftAgreed looks up whether somebody has agreed to the draft that a change carries out.
func (m *making) draftAgreed(rules []string) error {
	kept, err := m.borders.Drafts.DraftOfID(m.ctx, m.o.about)
	if err != nil {
		return err
	}
	d, err := readDraft(kept)
	if err != nil {
		return err
	}
	return m.agreed(m.ctx, m.now, d, held{State: &State{Policy: m.policy, Compiled: m.compile(m.now)}, done: m.done}, rules)
}

// agreed tells whether what a draft does to a state is what somebody has agreed to, who may agree to it still, and for the rules for which it is needed. The error is
// an [ApprovalError] where nobody has, and a [VoidError] where it holds no more.
func (s *Service) agreed(ctx context.Context, now *State, d *draft, on held, rules []string) error {
	if d.approvedBy() == "" {
		return &ApprovalError{rules}
	}
	void := func(why policy.Said) error { return &VoidError{d.Name, why} }
	asked := strings.Fields(d.ApprovedFor)
	for _, rule := range rules {
		if !slices.Contains(asked, rule) {
			return void(policy.Say("it was given when fewer rules asked for it"))
		}
	}
	by := Caller{User: policy.UserID(d.ApprovedBy)}
	r := s.Rights(now, by)
	if len(d.acts) > 0 && r.May(Manage, "") != nil || !r.SignedIn() || slices.Contains(strings.Fields(d.Hands), d.ApprovedBy) || r.Change(now.Policy, on.Policy, on.done) != nil {
		return void(policy.Say("%s, who gave it, may not agree to this any more", now.Policy.Title(policy.Users, d.ApprovedBy)))
	}
	if now.Revision.Number == d.ApprovedOn {
		return nil
	}
	base, err := s.Past(ctx, d.ApprovedOn)
	if err != nil {
		return err
	}
	shown := d.onto(base)
	if shown.faults != nil || len(shown.conflicts) > 0 {
		return void(policy.Say("the policy has changed so much that it cannot be told any more what was agreed to"))
	}
	if more := s.gainsMore(base, shown, now, on); more != "" {
		return void(policy.Say("it would give %s more than %s was shown", more, now.Policy.Title(policy.Users, d.ApprovedBy)))
	}
	return nil
}

// mostHeld is how many pairs of users and devices are held one by one against what was shown. Where more gain something, an approval holds for the revision
// on which it was given.
const mostHeld = 2_000_000

// gainsMore names somebody who gains more by a change of one state than was shown of it on another; empty: nobody does.
func (s *Service) gainsMore(base *State, shown held, now *State, on held) string {
	type pair struct {
		user   policy.UserID
		device policy.DeviceID
		point  policy.PointID
		right  policy.RightID
		limits bool // of the right are loosened
	}
	if len(on.done) == 0 {
		return ""
	}
	at := s.borders.Clock().UTC().Truncate(time.Microsecond)
	in := survey.Circumstances{At: at}
	is, err := weigh(now, &step{policy: on.Policy, compiled: on.Compiled, done: on.done})
	was, err2 := weigh(base, &step{policy: shown.Policy, compiled: shown.Compiled, done: shown.done})
	if err != nil || err2 != nil {
		return "somebody"
	}
	gains := func(w weighed, visit func(pair, survey.Degree)) (mandates []survey.MandateDifference, ok bool) {
		all := 0
		mandates = survey.Gains(w.before, w.after, w.done, in, func(g survey.Gain) {
			if all += g.Pairs; all > mostHeld {
				return
			}
			for _, device := range g.Devices() {
				for user := range g.Users.All {
					for _, x := range g.Rights {
						visit(pair{user, device, g.Point, x.Right, false}, x.Degree)
					}
					for _, x := range g.Looser {
						visit(pair{user, device, g.Point, x.Right, true}, x.Degree)
					}
				}
			}
		})
		return mandates, all <= mostHeld
	}
	known := map[pair]survey.Degree{}
	old, ok := gains(was, func(p pair, d survey.Degree) { known[p] = d })
	if !ok {
		return "somebody"
	}
	// What is possible after it now and was not possible after it as it was shown: an end that is later, or fewer circumstances that it takes.
	later := map[pair]bool{}
	between := weighed{was.after, is.after, was.after.Policy().Compare(is.after.Policy())}
	if _, ok := gains(between, func(p pair, _ survey.Degree) { later[p] = true }); !ok {
		return "somebody"
	}
	more := map[string]bool{}
	fresh, ok := gains(is, func(p pair, d survey.Degree) {
		if known[p] < d || later[p] {
			more[string(p.user)] = true
		}
	})
	if !ok {
		return "somebody"
	}
	for _, m := range fresh {
		same := func(o survey.MandateDifference) bool {
			return o.User == m.User && o.Mandate.Role == m.Mandate.Role && reflect.DeepEqual(o.Mandate, m.Mandate)
		}
		if !slices.ContainsFunc(old, same) {
			more[string(m.User)] = true
		}
	}
	if len(more) == 0 {
		return ""
	}
	var names []string
	for id := range more {
		names = append(names, now.Policy.Title(policy.Users, id))
	}
	slices.Sort(names)
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d others", strings.Join(names[:3], ", "), len(names)-3)
	}
	return strings.Join(names, ", ")
}

// unagreed keeps with a draft that its approval is void, where that is what an error says, and gives the error.
func (s *Service) unagreed(ctx context.Context, d *draft, why error) error {
	if void, ok := why.(*VoidError); ok {
		d.ApprovedBy, d.ApprovedAt, d.Approved, d.ApprovedFor, d.ApprovedOn = "", nil, nil, "", 0
		d.AppliedBy, d.Mandate, d.Override, d.Until = "", "", "", nil
		d.Problem = void.Error()
		if err := s.keepDraft(ctx, d); err != nil {
			return err
		}
		s.noteDraft(Caller{Via: viaDraft}, d, audit.Refused)
	}
	return why
}

// requestAgreed tells whether a change grants a request as it was asked: then who asked and who grants are the two people.
func (m *making) requestAgreed(rules []string) error {
	r, err := m.borders.Requests.RequestOfID(m.ctx, m.o.about)
	if err != nil {
		return err
	}
	if r.State != store.RequestOpen || !r.InSession {
		return &ApprovalError{rules}
	}
	if err := m.mayAgree(m.ctx, m.caller, []string{r.UserID}, r.CreatedAt); err != nil {
		return err
	}
	if err := m.ownDoor(m.ctx, r.UserID, []string{string(m.caller.User)}, r.CreatedAt); err != nil {
		return err
	}
	if !m.asAsked(&r) {
		return &ApprovalError{rules}
	}
	return nil
}

// asAsked tells whether nobody gains anything by a change but who asked, and they no more than they asked for, nor for longer.
func (m *making) asAsked(r *store.Request) bool {
	at := m.borders.Clock()
	end := at.Add(time.Duration(r.Minutes) * time.Minute)
	if r.Until != nil {
		end = *r.Until
	}
	w, err := weigh(m.now, &m.step)
	if err != nil {
		return false
	}
	asked := map[policy.RightID]bool{}
	for _, id := range m.compiled.Implied(policy.RightID(r.Right)) {
		asked[id] = true
	}
	device, point := meant(m.now.Policy, r.Device)
	within := true
	mandates := survey.Gains(w.before, w.after, w.done, survey.Circumstances{At: at}, func(g survey.Gain) {
		if len(g.Rights)+len(g.Looser) == 0 {
			return
		}
		only := g.Users.Size == 1 && string(g.Users.From("", 1)[0]) == r.UserID
		if r.Kind == store.RequestAccess && only {
			devices := g.Devices()
			only = len(devices) == 1 && string(devices[0]) == device && (point == "" || string(g.Point) == point) &&
				!slices.ContainsFunc(g.Rights, func(x survey.Possibility) bool { return !asked[x.Right] }) &&
				!slices.ContainsFunc(g.Looser, func(x survey.LimitChange) bool { return !asked[x.Right] })
		}
		within = within && only
	})
	if !within || len(mandates) > 0 {
		return false
	}
	after := false // something is left of it when its time is over
	for _, from := range w.windows(end.Add(time.Second)) {
		for range survey.Gains(w.before, w.after, w.done, survey.Circumstances{At: from}, func(g survey.Gain) { after = after || len(g.Rights)+len(g.Looser) > 0 }) {
			after = true
		}
	}
	return !after
}

// sourceAgreed tells whether a reading of a source was looked at by a second person: whoever has it read, and has looked at just what it changes.
func (m *making) sourceAgreed(rules []string) error {
	if m.o.digest == "" { // nobody has looked
		return &ApprovalError{rules}
	}
	k, err := m.sourceOf(m.ctx, m.o.about)
	if err != nil {
		return err
	}
	hands := append(strings.Fields(k.Hands), k.Author)
	if k.way() == WayContent {
		content, err := m.borders.Sources.Content(m.ctx, k.ID)
		if err != nil {
			return err
		}
		hands = append(hands, content.By)
	}
	if err := m.mayAgree(m.ctx, m.caller, hands, time.Time{}); err != nil {
		return &HeldError{policy.SaidBy(err)}
	}
	return nil
}

// agreement tells what stands of an approval of a draft that can still be applied, for whoever looks at it.
func (s *Service) agreement(ctx context.Context, c Caller, now *State, d *draft, on held, out *wire.Approval) error {
	by := d.approvedBy()
	if by == "" {
		return nil
	}
	var void *VoidError
	if on.State != nil {
		switch err := s.agreed(ctx, now, d, on, out.Needed).(type) {
		case nil, *ApprovalError:
		case *VoidError:
			void = err
		default:
			return err
		}
	}
	out.By, out.At = &wire.Named{ID: by, Name: now.Policy.Title(policy.Users, by)}, d.ApprovedAt
	if void != nil {
		out.By, out.At, out.Void = nil, nil, wording.Accepted(c.Language).Put(policy.SaidBy(void))
	}
	return nil
}
