package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"sentier/internal/audit"
	"sentier/internal/authority"
	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// Bounds of reviews.
const (
	mostReviews    = 200    // that are told
	mostReviewed   = 20_000 // things held of one review
	mostAnswers    = 1000   // at once
	mostReviewName = 200    // characters
)

// review is a review with what is held, as the policy is.
type review struct {
	store.Review
	scope wire.NewReview
	items []store.ReviewItem
}

// NewReview begins a review of what is held now.
func (s *Service) NewReview(ctx context.Context, c Caller, in wire.NewReview) (wire.Review, error) {
	st, now := s.State(), s.borders.Clock()
	if err := s.Permit(st, c, Manage, ""); err != nil {
		return wire.Review{}, err
	}
	in.Name, in.Reason = strings.TrimSpace(in.Name), strings.TrimSpace(in.Reason)
	if n := len([]rune(in.Name)); n == 0 || n > mostReviewName {
		return wire.Review{}, Wrong("name", "has %d characters: give it a name of 1 to %d", n, mostReviewName)
	}
	if len([]rune(in.Reason)) > mostReason {
		return wire.Review{}, Wrong("reason", "is longer than %d characters", mostReason)
	}
	if !slices.Contains([]string{unansweredTold, store.ReviewSuspended, store.ReviewTaken}, in.Unanswered) {
		return wire.Review{}, Wrong("unanswered", "%q is none of told, suspended and taken", Clip(in.Unanswered))
	}
	due, err := s.hourOf("due", in.Due, now)
	if err != nil {
		return wire.Review{}, err
	}
	if due == nil {
		return wire.Review{}, Wrong("due", "is missing: say by when it is answered")
	}
	in.Groups, in.Sites = once(in.Groups), once(in.Sites)
	items, err := heldIn(st, in, now)
	if err != nil {
		return wire.Review{}, err
	}
	scope, err := json.Marshal(in)
	if err != nil {
		return wire.Review{}, fmt.Errorf("write the review %s: %w", in.Name, err)
	}
	s.reviewing.Lock()
	defer s.reviewing.Unlock()
	r := &review{Review: store.Review{Name: in.Name, Reason: in.Reason, Author: string(c.User), Mandate: string(c.Mandate), Scope: scope, Due: *due, Unanswered: in.Unanswered,
		State: store.ReviewOpen, CreatedAt: now.UTC(), Version: 1}, scope: in, items: items}
	var failed error
	r.ID = policy.MakeID(in.Name, func(id string) bool {
		_, err := s.borders.Reviews.ReviewOfID(ctx, id)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			failed = err
		}
		return err == nil
	})
	if failed != nil {
		return wire.Review{}, failed
	}
	for i := range r.items {
		r.items[i].Review = r.ID
	}
	if err := s.kept(s.borders.Reviews.AddReview(ctx, r.Review, r.items)); err != nil {
		return wire.Review{}, err
	}
	s.noteReview(c, r, audit.Made, details{"items": len(items), "due": due.UTC(), "unanswered": in.Unanswered, "reason": in.Reason})
	s.wakeHours()
	return s.wireReview(st, c, r), nil
}

// once lists what is given several times once, in its order.
func once(list []string) (out []string) {
	for _, x := range list {
		if !slices.Contains(out, x) {
			out = append(out, x)
		}
	}
	return out
}

// unansweredTold is that nothing becomes of what nobody has answered, but that it is told.
const unansweredTold = "told"

// heldIn lists what is held in the scope of a review at an instant: memberships of its groups, and grants that name somebody.
func heldIn(st *State, in wire.NewReview, now time.Time) ([]store.ReviewItem, error) {
	if len(in.Groups)+len(in.Sites) == 0 && !in.Everything {
		return nil, Wrong("groups", "is empty: say what is looked at, by groups, by sites, or everything")
	}
	groups, grants, err := scopeOfReview(st, in)
	if err != nil {
		return nil, err
	}
	var out []store.ReviewItem
	members := map[policy.UserID]bool{}
	for g := range policy.Each[*policy.UserGroup](st.Policy) {
		if !groups[g.ID] {
			continue
		}
		for _, m := range g.Members {
			if m.Until.IsZero() || m.Until.After(now) {
				if last := len(out) - 1; last < 0 || out[last].Record != string(g.ID) || out[last].User != string(m.User) { // for several times, it is held once
					out = append(out, store.ReviewItem{Type: policy.UserGroups.String(), Record: string(g.ID), User: string(m.User)})
				}
				members[m.User] = true
			}
		}
	}
	for g := range policy.Each[*policy.Grant](st.Policy) {
		if g.Effect == policy.Deny || !g.Valid.Until.IsZero() && !g.Valid.Until.After(now) {
			continue
		}
		for _, id := range g.To.Users {
			if grants[g.ID] || len(in.Groups) > 0 && members[id] {
				out = append(out, store.ReviewItem{Type: policy.Grants.String(), Record: string(g.ID), User: string(id)})
			}
		}
	}
	switch n := len(out); {
	case n == 0:
		return nil, Wrong("groups", "nobody holds anything there")
	case n > mostReviewed:
		return nil, Wrong("groups", "%d things are held there: a review has %d at most, look at fewer groups or sites at a time", n, mostReviewed)
	}
	return out, nil
}

// scopeOfReview finds the groups of which the members are looked at, those that they include among them, and the grants of which all who are named are.
func scopeOfReview(st *State, in wire.NewReview) (groups map[policy.UserGroupID]bool, grants map[policy.GrantID]bool, err error) {
	groups, grants = map[policy.UserGroupID]bool{}, map[policy.GrantID]bool{}
	var add func(id policy.UserGroupID)
	add = func(id policy.UserGroupID) {
		if g, ok := policy.Find[*policy.UserGroup](st.Policy, string(id)); ok && !groups[id] {
			groups[id] = true
			for _, other := range g.Includes {
				add(other)
			}
		}
	}
	for _, id := range in.Groups {
		if _, ok := st.Policy.Get(policy.UserGroups, id); !ok {
			return nil, nil, Wrong("groups", "there is no user group %q", Clip(id))
		}
		add(policy.UserGroupID(id))
	}
	inSites := map[policy.SiteID]bool{}
	for _, id := range in.Sites {
		if _, ok := st.Policy.Get(policy.Sites, id); !ok {
			return nil, nil, Wrong("sites", "there is no site %q", Clip(id))
		}
		inSites[policy.SiteID(id)] = true
	}
	for i := range st.Compiled.Lines {
		l := &st.Compiled.Lines[i]
		if l.Deny || !in.Everything && !st.coversAny(l, inSites) {
			continue
		}
		grants[l.Grant.ID] = true
		for _, id := range l.Grant.To.Groups {
			add(id)
		}
	}
	if in.Everything {
		for g := range policy.Each[*policy.UserGroup](st.Policy) {
			groups[g.ID] = true
		}
	}
	return groups, grants, nil
}

// coversAny tells whether a line covers any device at some sites, or below one.
func (st *State) coversAny(l *decision.Line, sites map[policy.SiteID]bool) bool {
	if len(sites) == 0 {
		return false
	}
	return slices.ContainsFunc(l.On, func(t decision.Target) bool {
		return slices.ContainsFunc(st.Compiled.Covered(t), func(n int32) bool {
			return slices.ContainsFunc(st.Compiled.Places.Chains[st.Compiled.Devices.Classes.At(n).Facts.Site], func(id string) bool { return sites[policy.SiteID(id)] })
		})
	})
}

func (s *Service) noteReview(c Caller, r *review, outcome string, more details) {
	if more == nil {
		more = details{}
	}
	more["review"], more["name"] = r.ID, r.Name
	s.note(c, audit.Review, outcome, "", more)
}

// reviewShown is how long a review that is over is among the others.
const reviewShown = 14 * 24 * time.Hour

// Reviews lists the reviews of which a caller sees anything: those that are open, or ended of late, or all.
func (s *Service) Reviews(ctx context.Context, c Caller, all bool) ([]wire.ReviewHead, error) {
	st := s.State()
	if err := s.Permit(st, c, Read, ""); err != nil {
		return nil, err
	}
	since := s.borders.Clock().Add(-reviewShown)
	if all {
		since = time.Time{}
	}
	list, err := s.borders.Reviews.Reviews(ctx, since, mostReviews)
	if err != nil {
		return nil, err
	}
	out := []wire.ReviewHead{}
	for _, kept := range list {
		r, err := s.readReview(ctx, kept)
		if err != nil {
			return nil, err
		}
		if told := s.wireReview(st, c, r); told.Counts.Total > 0 {
			out = append(out, told.ReviewHead)
		}
	}
	return out, nil
}

// Review is a review as a whole, as far as a caller sees it.
func (s *Service) Review(ctx context.Context, c Caller, id string) (wire.Review, error) {
	st := s.State()
	if err := s.Permit(st, c, Read, ""); err != nil {
		return wire.Review{}, err
	}
	r, err := s.reviewOf(ctx, id)
	if err != nil {
		return wire.Review{}, err
	}
	out := s.wireReview(st, c, r)
	if out.Counts.Total == 0 {
		return wire.Review{}, ErrNotFound
	}
	return out, nil
}

func (s *Service) reviewOf(ctx context.Context, id string) (*review, error) {
	kept, err := s.borders.Reviews.ReviewOfID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	return s.readReview(ctx, kept)
}

// readReview reads what is held in a review; of one that is open, once for all who look at it as it is. Nobody changes the items.
func (s *Service) readReview(ctx context.Context, kept store.Review) (*review, error) {
	if last, ok := s.openReviews.Load(kept.ID); ok && last.(*review).Version == kept.Version {
		return &review{kept, last.(*review).scope, last.(*review).items}, nil
	}
	r := &review{Review: kept}
	if err := json.Unmarshal(kept.Scope, &r.scope); err != nil {
		return nil, fmt.Errorf("read the review %s: %w", kept.ID, err)
	}
	var err error
	if r.items, err = s.borders.Reviews.ReviewItems(ctx, kept.ID); err != nil {
		return nil, err
	}
	if kept.State == store.ReviewOpen {
		s.openReviews.Store(kept.ID, &review{kept, r.scope, r.items})
	} else {
		s.openReviews.Delete(kept.ID)
	}
	return r, nil
}

// responsible tells who answers for what is held of a record, found once for all who hold it.
type responsible struct {
	s      *Service
	st     *State
	at     time.Time
	rights authority.Rights
	whole  bool
	by     map[policy.Record]*covering
}

type covering struct {
	mandates []*policy.Mandate // of delegates
	may      bool              // the caller
}

func (s *Service) responsible(st *State, c Caller) *responsible {
	return &responsible{s, st, s.borders.Clock(), s.Rights(st, c), s.View(st, c).Whole(), map[policy.Record]*covering{}}
}

func (a *responsible) of(record policy.Record) *covering {
	if c, ok := a.by[record]; ok {
		return c
	}
	out := &covering{}
	for m := range policy.Each[*policy.Mandate](a.st.Policy) {
		if m.Role == policy.Delegate && m.Enabled != policy.Off && m.Valid.Holds(a.at) && authority.Covers(m, a.st.Policy, record, a.at) {
			out.mandates = append(out.mandates, m)
		}
	}
	acts := a.rights.Acts(a.st.Policy, record)
	out.may = acts.Members && record.Type() == policy.UserGroups || acts.Edit && record.Type() == policy.Grants
	a.by[record] = out
	return out
}

// stillHeld finds the record by which somebody holds an item still, and until when; nil where they do no more.
func stillHeld(p *policy.Policy, item *store.ReviewItem, now time.Time) (record policy.Record, until time.Time) {
	user := policy.UserID(item.User)
	if item.Type == policy.Grants.String() {
		if g, ok := policy.Find[*policy.Grant](p, item.Record); ok && slices.Contains(g.To.Users, user) && (g.Valid.Until.IsZero() || g.Valid.Until.After(now)) {
			return g, g.Valid.Until
		}
		return nil, until
	}
	g, ok := policy.Find[*policy.UserGroup](p, item.Record)
	if !ok {
		return nil, until
	}
	for _, m := range g.Members {
		if m.User != user || !m.Until.IsZero() && !m.Until.After(now) {
			continue
		}
		if record == nil || m.Until.IsZero() || !until.IsZero() && m.Until.After(until) {
			record, until = g, m.Until
		}
	}
	return record, until
}

// becameOf is what has become of an item.
func becameOf(item *store.ReviewItem, record policy.Record) string {
	switch {
	case item.Answer == store.ReviewTaken || item.Answer == store.ReviewSuspended:
		return item.Answer
	case record == nil:
		return "gone"
	case item.Answer == "":
		return "waiting"
	}
	return item.Answer
}

func count(c *wire.ReviewCount, answer string) {
	c.Total++
	switch answer {
	case store.ReviewKept:
		c.Kept++
	case store.ReviewTaken:
		c.Taken++
	case store.ReviewSuspended:
		c.Suspended++
	case "gone":
		c.Gone++
	default:
		c.Waiting++
	}
}

// wireReview tells of a review what a caller sees of it: all of it, or what is theirs to answer.
func (s *Service) wireReview(st *State, c Caller, r *review) wire.Review {
	p, who := st.Policy, s.responsible(st, c)
	named := func(t policy.Type, id string) wire.Named { return wire.Named{ID: id, Name: p.Title(t, id)} }
	out := wire.Review{ReviewHead: wire.ReviewHead{
		ID: r.ID, Name: r.Name, Reason: r.Reason, Author: named(policy.Users, r.Author), State: r.State, Created: r.CreatedAt, Due: r.Due, Ended: r.EndedAt,
		Unanswered: r.Unanswered, Scope: wire.ReviewScope{Groups: []wire.Named{}, Sites: []wire.Named{}, Everything: r.scope.Everything}, Problem: r.Problem,
	}, At: who.at.UTC(), Parts: []wire.ReviewPart{}, Items: []wire.ReviewItem{}}
	for _, id := range r.scope.Groups {
		out.Scope.Groups = append(out.Scope.Groups, named(policy.UserGroups, id))
	}
	for _, id := range r.scope.Sites {
		out.Scope.Sites = append(out.Scope.Sites, named(policy.Sites, id))
	}
	parts := map[policy.MandateID]*wire.ReviewPart{}
	part := func(m *policy.Mandate) *wire.ReviewPart {
		id := policy.MandateID("")
		if m != nil {
			id = m.ID
		}
		if parts[id] == nil {
			parts[id] = &wire.ReviewPart{People: s.holdersOf(st, m)}
			if m != nil {
				name := named(policy.Mandates, string(id))
				parts[id].Mandate = &name
			}
		}
		return parts[id]
	}
	for i := range r.items {
		item := &r.items[i]
		record, until := stillHeld(p, item, who.at)
		of := &covering{}
		if t, ok := policy.TypeNamed(item.Type); ok {
			if there, ok := p.Get(t, item.Record); ok {
				of = who.of(there)
			}
		}
		if !who.whole && !of.may {
			continue
		}
		t, _ := policy.TypeNamed(item.Type)
		told := wire.ReviewItem{User: named(policy.Users, item.User), Type: item.Type, Record: named(t, item.Record), Until: instant(until), Mandates: []wire.Named{},
			Answer: becameOf(item, record), At: item.At, Note: item.Note, Revision: item.Revision}
		if u, ok := policy.Find[*policy.User](p, item.User); ok {
			told.Status = string(u.Status)
		}
		if item.By != "" {
			by := named(policy.Users, item.By)
			told.By = &by
		}
		told.May = r.State == store.ReviewOpen && of.may && item.User != string(c.User) && (told.Answer == "waiting" || told.Answer == store.ReviewKept)
		count(&out.Counts, told.Answer)
		if told.May && told.Answer == "waiting" {
			out.Mine++
		}
		for _, m := range of.mandates {
			told.Mandates = append(told.Mandates, named(policy.Mandates, string(m.ID)))
			count(&part(m).Counts, told.Answer)
		}
		if len(of.mandates) == 0 {
			count(&part(nil).Counts, told.Answer)
		}
		out.Items = append(out.Items, told)
	}
	for m := range policy.Each[*policy.Mandate](p) {
		if x := parts[m.ID]; x != nil {
			out.Parts = append(out.Parts, *x)
		}
	}
	if x := parts[""]; x != nil {
		out.Parts = append(out.Parts, *x)
	}
	out.MayStop = r.State == store.ReviewOpen && who.rights.May(Manage, "") == nil
	return out
}

// holdersOf lists who holds a mandate now; without one, the owners.
func (s *Service) holdersOf(st *State, mandate *policy.Mandate) []wire.Named {
	now := s.borders.Clock()
	out := []wire.Named{}
	s.eachHolder(st, now, func(m *policy.Mandate, id policy.UserID) {
		if m != mandate && (mandate != nil || m.Role != policy.Owner) || slices.ContainsFunc(out, func(n wire.Named) bool { return n.ID == string(id) }) {
			return
		}
		if _, ok := st.Compiled.MaySignIn(id, now); ok {
			out = append(out, wire.Named{ID: string(id), Name: st.Policy.Title(policy.Users, string(id))})
		}
	})
	return out
}

// eachHolder visits everybody who holds a mandate of an owner or a delegate at an instant.
func (s *Service) eachHolder(st *State, now time.Time, visit func(m *policy.Mandate, id policy.UserID)) {
	for m := range policy.Each[*policy.Mandate](st.Policy) {
		if m.Role != policy.Owner && m.Role != policy.Delegate || m.Enabled == policy.Off || !m.Valid.Holds(now) {
			continue
		}
		for _, id := range m.To.Users {
			visit(m, id)
		}
		groups := map[policy.UserGroupID]bool{}
		for _, id := range m.To.Groups {
			decision.MembersOf(st.Policy, id, groups, func(member policy.Member) {
				if member.Span().Holds(now) {
					visit(m, member.User)
				}
			})
		}
	}
}

// openReview finds a review that can be answered still. The caller holds s.reviewing.
func (s *Service) openReview(ctx context.Context, id string) (*review, error) {
	r, err := s.reviewOf(ctx, id)
	if err != nil {
		return nil, err
	}
	if r.State != store.ReviewOpen {
		return nil, &DraftError{policy.Say("the review %q is over: begin another", r.Name)}
	}
	return r, nil
}

// keepReview keeps what became of a review and of some of its items.
func (s *Service) keepReview(ctx context.Context, r *review, items []store.ReviewItem) error {
	r.Version++
	kept, err := s.borders.Reviews.KeepReview(context.WithoutCancel(ctx), r.Review, items)
	if err == nil && !kept {
		err = &DraftError{policy.Say("somebody else has changed the review %q meanwhile: look at it again", r.Name)}
	}
	return s.kept(err)
}

// AnswerReview confirms or takes away what people hold: for whoever may change it, and nobody for themselves. What is taken away is one change, which is
// made as any other; with o.DryRun it is only looked at.
func (s *Service) AnswerReview(ctx context.Context, c Caller, id string, in wire.ReviewAnswers, o EditOptions) (wire.Reviewed, error) {
	s.reviewing.Lock()
	defer s.reviewing.Unlock()
	var out wire.Reviewed
	st := s.State()
	if err := s.Permit(st, c, Write, ""); err != nil {
		return out, err
	}
	r, err := s.openReview(ctx, id)
	if err != nil {
		return out, err
	}
	if s.wireReview(st, c, r).Counts.Total == 0 {
		return out, ErrNotFound // the same as for what is not there
	}
	if n := len(in.Answers); n == 0 || n > mostAnswers {
		return out, Wrong("answers", "are %d: give 1 to %d", n, mostAnswers)
	}
	now, who := s.borders.Clock(), s.responsible(st, c)
	var answered, taken []store.ReviewItem
	for i, a := range in.Answers {
		if slices.ContainsFunc(in.Answers[:i], func(b wire.ReviewAnswer) bool { return a.Type == b.Type && a.Record == b.Record && a.User == b.User }) {
			return out, Wrong(fmt.Sprintf("answers[%d]", i), "is about what was answered before in the same list")
		}
		item, err := s.answerable(st, c, r, who, a, now, fmt.Sprintf("answers[%d]", i))
		if err != nil {
			return out, err
		}
		at := now.UTC()
		item.Answer, item.By, item.At, item.Note = a.Answer, string(c.User), &at, strings.TrimSpace(a.Note)
		if answered = append(answered, item); a.Answer == store.ReviewTaken {
			taken = append(taken, item)
		}
	}
	out.Kept, out.Taken = len(answered)-len(taken), len(taken)
	if len(taken) > 0 {
		o.Note = "review “" + r.Name + "”" + o.Note
		saved, err := answerOf(s.edit(ctx, c, &o, func(now *State) ([]policy.Change, error) { return takenAway(now.Policy, taken) }))
		if err != nil {
			return out, err
		}
		out.Saved = &saved
		for i := range answered {
			if answered[i].Answer == store.ReviewTaken {
				answered[i].Revision = saved.Revision
			}
		}
	}
	if o.DryRun {
		return out, nil
	}
	if err := s.keepReview(ctx, r, answered); err != nil {
		return out, err
	}
	s.noteReview(c, r, audit.Done, details{"kept": out.Kept, "taken": out.Taken})
	return out, nil
}

// answerable finds the item that an answer is about, where the caller may answer it. The error names the field of the answer.
func (s *Service) answerable(st *State, c Caller, r *review, who *responsible, a wire.ReviewAnswer, now time.Time, field string) (item store.ReviewItem, err error) {
	i := slices.IndexFunc(r.items, func(x store.ReviewItem) bool { return x.Type == a.Type && x.Record == a.Record && x.User == a.User })
	var record policy.Record
	if i >= 0 {
		record, _ = stillHeld(st.Policy, &r.items[i], now)
	}
	if record == nil || !who.whole && !who.of(record).may {
		return item, Wrong(field, "is about nothing that %q holds still, and that is looked at here", Clip(a.User))
	}
	item = r.items[i]
	switch {
	case a.Answer != store.ReviewKept && a.Answer != store.ReviewTaken:
		return item, Wrong(field+".answer", "%q is neither kept nor taken", Clip(a.Answer))
	case len([]rune(a.Note)) > mostReason:
		return item, Wrong(field+".note", "is longer than %d characters", mostReason)
	case a.User == string(c.User):
		return item, &ForbiddenError{Missing: policy.Say("somebody else: nobody answers for themselves")}
	case !who.of(record).may:
		return item, &ForbiddenError{Missing: policy.Say("a mandate that covers it")}
	case becameOf(&item, record) == store.ReviewSuspended:
		return item, Wrong(field, "is about somebody who was suspended already")
	}
	return item, nil
}

// takenAway are the changes by which people hold some items no more.
func takenAway(p *policy.Policy, items []store.ReviewItem) ([]policy.Change, error) {
	var out []policy.Change
	grants := map[string]*policy.Grant{}
	var order []string
	for _, item := range items {
		user := policy.UserID(item.User)
		if item.Type == policy.UserGroups.String() {
			out = append(out, policy.Change{Op: policy.Drop, Type: policy.UserGroups, ID: item.Record, List: "members", Entry: policy.Entry{Value: item.User}})
			continue
		}
		g := grants[item.Record]
		if g == nil {
			was, ok := policy.Find[*policy.Grant](p, item.Record)
			if !ok {
				return nil, ErrNotFound
			}
			less := *was
			less.To.Users = slices.Clone(was.To.Users)
			g, order = &less, append(order, item.Record)
			grants[item.Record] = g
		}
		g.To.Users = slices.DeleteFunc(g.To.Users, func(id policy.UserID) bool { return id == user })
	}
	for _, id := range order {
		g := grants[id]
		if len(g.To.Users)+len(g.To.Groups) == 0 && !g.To.Everyone {
			out = append(out, policy.Change{Op: policy.Remove, Type: policy.Grants, ID: id})
		} else {
			out = append(out, policy.Change{Op: policy.Put, Type: policy.Grants, ID: id, Record: g})
		}
	}
	return out, nil
}

// StopReview gives a review up: what was answered stays as it was, and nothing becomes of the rest.
func (s *Service) StopReview(ctx context.Context, c Caller, id string) error {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return err
	}
	s.reviewing.Lock()
	defer s.reviewing.Unlock()
	r, err := s.openReview(ctx, id)
	if err != nil {
		return err
	}
	at := s.borders.Clock().UTC()
	r.State, r.EndedAt = store.ReviewStopped, &at
	if err := s.keepReview(ctx, r, nil); err != nil {
		return err
	}
	s.noteReview(c, r, audit.Ended, nil)
	return nil
}
