package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"sentier/internal/audit"
	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/survey"
	"sentier/internal/wire"
)

// Bounds of requests.
const (
	mostReason   = 1000               // characters
	mostOpen     = 20                 // of one user
	requestLasts = 7 * 24 * time.Hour // without an answer
	requestShown = 30 * 24 * time.Hour
	mostRequests = 200
	mostUntil    = 400 * 24 * time.Hour
)

// Mine tells what a caller can do by themselves with what is theirs: "Doing something oneself".
func (s *Service) Mine(ctx context.Context, c Caller) (wire.Mine, error) {
	st, now := s.State(), s.borders.Clock()
	out := wire.Mine{Groups: []wire.OwnGroup{}, Grants: []wire.Named{}, MayJoin: []wire.Joinable{}}
	in := st.Compiled.Groups(c.User, now)
	for g := range policy.Each[*policy.UserGroup](st.Policy) {
		for _, m := range g.Members {
			if m.User == c.User && !isOver(m.Until, now) {
				own := wire.OwnGroup{ID: string(g.ID), Name: g.Title()}
				own.From, own.Until = instant(m.From), instant(m.Until)
				out.Groups = append(out.Groups, own)
			}
		}
		if mayJoin(g, in) && !slices.Contains(in, g.ID) {
			out.MayJoin = append(out.MayJoin, wire.Joinable{ID: string(g.ID), Name: g.Title(), Note: g.Note, Minutes: g.Join.Minutes, Approval: string(g.Join.Approval)})
		}
	}
	for g := range policy.Each[*policy.Grant](st.Policy) {
		if g.Effect != policy.Deny && slices.Contains(g.To.Users, c.User) {
			out.Grants = append(out.Grants, wire.Named{ID: string(g.ID), Name: g.Title()})
		}
	}
	list, err := s.borders.Requests.Requests(ctx, string(c.User), "", now.Add(-requestShown), mostRequests)
	out.Requests = s.wireRequests(st, c, list)
	return out, err
}

// isOver tells whether an end, where there is one, has come.
func isOver(until, now time.Time) bool { return !until.IsZero() && !until.After(now) }

func instant(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}

// mayJoin tells whether somebody who is in some groups may join one by themselves.
func mayJoin(g *policy.UserGroup, in []policy.UserGroupID) bool {
	return g.Join != nil && g.Enabled != policy.Off && slices.ContainsFunc(g.Join.Groups, func(id policy.UserGroupID) bool { return slices.Contains(in, id) })
}

// ownChange makes a change that a caller may make without a mandate, as it is about what is theirs.
func (s *Service) ownChange(ctx context.Context, c Caller, way Way, note string, build func(now *State) ([]policy.Change, error)) (wire.Saved, error) {
	return answerOf(s.edit(ctx, c, &EditOptions{way: way, Note: note}, func(now *State) ([]policy.Change, error) {
		if !s.Rights(now, c).SignedIn() {
			return nil, ErrCredential
		}
		return build(now)
	}))
}

// GiveBack ends a membership, or a grant by name, of the caller's own: never so that they, or anybody, would have more by it, as where a group
// keeps its members from something.
func (s *Service) GiveBack(ctx context.Context, c Caller, in wire.GiveBack) (wire.Saved, error) {
	if (in.Group == "") == (in.Grant == "") {
		return wire.Saved{}, Wrong("group", "give either a group or a grant")
	}
	return s.ownChange(ctx, c, WayGiveBack, cmp.Or(strings.TrimSpace(in.Note), "given back"), func(now *State) ([]policy.Change, error) {
		changes, err := givenBack(now.Policy, c.User, in)
		if err == nil && in.Group != "" {
			changes, err = s.withJoined(ctx, c, now.Policy, changes)
		}
		if err != nil {
			return nil, err
		}
		next, done, err := now.Policy.Apply(changes)
		if err != nil {
			return nil, err
		}
		at := s.borders.Clock()
		if d := survey.Compare(now.Compiled, now.Compiled.Next(next, done), done, survey.Circumstances{At: at}, 1); d.Gained.All() > 0 {
			return nil, &ForbiddenError{Missing: policy.Say("somebody with a mandate: to end this would give somebody more than they have")}
		}
		return changes, nil
	})
}

// withJoined adds to changes by which somebody leaves a group that they leave those as well that they have joined by it, and could not join any more.
func (s *Service) withJoined(ctx context.Context, c Caller, p *policy.Policy, changes []policy.Change) ([]policy.Change, error) {
	at := s.borders.Clock()
	list, err := s.borders.Requests.Requests(ctx, string(c.User), store.RequestJoined, at.Add(-24*time.Hour), mostJoined)
	if err != nil {
		return nil, err
	}
	for range list { // one may have been joined by another
		next, _, err := p.Apply(changes)
		if err != nil {
			return nil, err
		}
		more := false
		for _, r := range list {
			g, ok := policy.Find[*policy.UserGroup](next, r.GroupID)
			if !ok || g.Join == nil || !slices.ContainsFunc(g.Members, func(m policy.Member) bool { return m.User == c.User && m.Until.After(at) }) {
				continue
			}
			if _, may := entitled(next, c.User, g, at); !may {
				more = true
				changes = append(changes, policy.Change{Op: policy.Drop, Type: policy.UserGroups, ID: r.GroupID, List: "members", Entry: policy.Entry{Value: string(c.User)}})
				break
			}
		}
		if !more {
			break
		}
	}
	return changes, nil
}

func givenBack(p *policy.Policy, user policy.UserID, in wire.GiveBack) ([]policy.Change, error) {
	if in.Group != "" {
		g, ok := policy.Find[*policy.UserGroup](p, in.Group)
		if !ok || !slices.ContainsFunc(g.Members, func(m policy.Member) bool { return m.User == user }) {
			return nil, ErrNotFound
		}
		return takenAway(p, []store.ReviewItem{{Type: policy.UserGroups.String(), Record: in.Group, User: string(user)}})
	}
	g, ok := policy.Find[*policy.Grant](p, in.Grant)
	if !ok || g.Effect == policy.Deny || !slices.Contains(g.To.Users, user) {
		return nil, ErrNotFound
	}
	return takenAway(p, []store.ReviewItem{{Type: policy.Grants.String(), Record: in.Grant, User: string(user)}})
}

// JoinGroup joins a group for a time, at once where nobody has to agree; otherwise it is asked for.
func (s *Service) JoinGroup(ctx context.Context, c Caller, in wire.JoinGroup) (wire.Request, error) {
	reason, err := reasonOf(in.Reason)
	if err != nil {
		return wire.Request{}, err
	}
	now := s.borders.Clock()
	st := s.State()
	g, err := s.joinable(st, c, in)
	if err != nil {
		return wire.Request{}, err
	}
	r := store.Request{Kind: store.RequestJoin, GroupID: in.Group, Minutes: in.Minutes, Reason: reason}
	if g.Join.Approval != policy.ApprovalNone {
		return s.request(ctx, c, r)
	}
	s.answering.Lock() // so that the minutes of a day are counted once
	defer s.answering.Unlock()
	if err := s.minutesLeft(ctx, c, g, in.Minutes); err != nil {
		return wire.Request{}, err
	}
	saved, err := s.ownChange(ctx, c, WayJoin, "joined for a time: "+reason, func(now *State) ([]policy.Change, error) {
		g, err := s.joinable(now, c, in)
		if err != nil {
			return nil, err
		}
		return membership(c.User, in.Group, joinedUntil(now.Policy, c.User, g, s.borders.Clock(), in.Minutes)), nil
	})
	if err != nil {
		return wire.Request{}, err
	}
	r.State, r.Revision = store.RequestJoined, saved.Revision
	r.AnsweredAt = &now
	return s.keepRequest(ctx, c, r)
}

// joinable finds a group that a caller may join by themselves now.
func (s *Service) joinable(st *State, c Caller, in wire.JoinGroup) (*policy.UserGroup, error) {
	g, ok := policy.Find[*policy.UserGroup](st.Policy, in.Group)
	groups := st.Compiled.Groups(c.User, s.borders.Clock())
	if !ok || !mayJoin(g, groups) {
		return nil, ErrNotFound // the same as for what is not there
	}
	if slices.Contains(groups, g.ID) {
		return nil, Wrong("group", "is one that you are in already")
	}
	if in.Minutes < 1 || in.Minutes > g.Join.Minutes {
		return nil, Wrong("minutes", "%d is out of range: 1 to %d", in.Minutes, g.Join.Minutes)
	}
	return g, nil
}

// minutesLeft refuses to join a group for longer than is left of its minutes: they are for a day and a person, however often they join.
func (s *Service) minutesLeft(ctx context.Context, c Caller, g *policy.UserGroup, minutes int) error {
	lately, err := s.borders.Requests.Requests(ctx, string(c.User), store.RequestJoined, s.borders.Clock().Add(-24*time.Hour), mostJoined)
	if err != nil {
		return err
	}
	left := g.Join.Minutes
	for _, r := range lately {
		if r.GroupID == g.Key() {
			left -= r.Minutes
		}
	}
	if minutes > left {
		return Wrong("minutes", "%d is more than the %d that are left of %d within a day: ask somebody who administers the group", minutes, max(0, left), g.Join.Minutes)
	}
	return nil
}

// mostJoined is how many times within a day somebody can have joined groups: a minute each.
const mostJoined = 24 * 60

// entitled tells whether somebody holds a membership by which they may join a group, and when the last of those ends; zero: it has no end.
func entitled(p *policy.Policy, user policy.UserID, g *policy.UserGroup, at time.Time) (until time.Time, may bool) {
	seen := map[policy.UserGroupID]bool{}
	endless := false
	for _, id := range g.Join.Groups {
		decision.MembersOf(p, id, seen, func(m policy.Member) {
			if m.User != user || !m.Span().Holds(at) {
				return
			}
			may = true
			if endless = endless || m.Until.IsZero(); m.Until.After(until) {
				until = m.Until
			}
		})
	}
	if endless {
		return time.Time{}, may
	}
	return until, may
}

// joinedUntil is when somebody who joins a group for so many minutes leaves it: never later than the membership ends by which they may join.
func joinedUntil(p *policy.Policy, user policy.UserID, g *policy.UserGroup, at time.Time, minutes int) time.Time {
	until := at.Add(time.Duration(minutes) * time.Minute).UTC().Truncate(time.Second)
	if g.Join == nil {
		return until
	}
	if latest, _ := entitled(p, user, g, at); !latest.IsZero() && latest.Before(until) {
		return latest.UTC()
	}
	return until
}

// membership puts somebody into a group, from now on until an instant.
func membership(user policy.UserID, group string, until time.Time) []policy.Change {
	return []policy.Change{{Op: policy.Add, Type: policy.UserGroups, ID: group, List: "members", Entry: policy.Entry{Value: string(user), Until: until}, Beside: true}}
}

func reasonOf(text string) (string, error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return "", Wrong("reason", "is missing: say what it is for")
	}
	if len([]rune(text)) > mostReason {
		return "", Wrong("reason", "is longer than %d characters", mostReason)
	}
	return text, nil
}

// AskFor asks for a right on a device until an instant. It changes nothing by itself, and says nothing of what there is.
func (s *Service) AskFor(ctx context.Context, c Caller, in wire.AskFor) (wire.Request, error) {
	reason, err := reasonOf(in.Reason)
	if err != nil {
		return wire.Request{}, err
	}
	for field, text := range map[string]string{"right": in.Right, "device": in.Device} {
		if text = strings.TrimSpace(text); text == "" || len(text) > 2*policy.MaxID {
			return wire.Request{}, Wrong(field, "is missing, or longer than any")
		}
	}
	until, err := policy.ParseInstant(in.Until)
	if err != nil {
		return wire.Request{}, Wrong("until", "%q %v", policy.Clip(in.Until), err)
	}
	if now := s.borders.Clock(); !until.After(now) || until.Sub(now) > mostUntil {
		return wire.Request{}, Wrong("until", "is out of range: give a time from now to 400 days from now")
	}
	return s.request(ctx, c, store.Request{Kind: store.RequestAccess, Right: strings.TrimSpace(in.Right), Device: strings.TrimSpace(in.Device), Until: &until, Reason: reason})
}

// request keeps a request that somebody has to answer.
func (s *Service) request(ctx context.Context, c Caller, r store.Request) (wire.Request, error) {
	list, err := s.borders.Requests.Requests(ctx, string(c.User), store.RequestOpen, s.borders.Clock().Add(-requestLasts), mostOpen)
	if err != nil {
		return wire.Request{}, err
	}
	if len(list) >= mostOpen {
		return wire.Request{}, Wrong("reason", "is one of too many: take a request back first, or wait for an answer")
	}
	r.State = store.RequestOpen
	return s.keepRequest(ctx, c, r)
}

func (s *Service) keepRequest(ctx context.Context, c Caller, r store.Request) (wire.Request, error) {
	id, err := uuid.NewV7()
	if err != nil {
		return wire.Request{}, err
	}
	r.ID, r.UserID, r.CreatedAt, r.InSession = id.String(), string(c.User), s.borders.Clock().UTC(), c.SignedIn()
	if err := s.borders.Requests.AddRequest(ctx, r); err != nil {
		return wire.Request{}, s.kept(err)
	}
	s.noteRequest(c, r, map[string]string{store.RequestOpen: audit.Made, store.RequestJoined: audit.Done}[r.State])
	return s.wireRequest(s.State(), c, r), nil
}

func (s *Service) noteRequest(c Caller, r store.Request, outcome string) {
	more := details{"request": r.ID, "kind": r.Kind, "reason": r.Reason}
	for name, text := range map[string]string{"group": r.GroupID, "right": r.Right, "device": r.Device, "answer": r.Answer} {
		if text != "" {
			more[name] = text
		}
	}
	if r.Until != nil {
		more["until"] = r.Until.UTC()
	}
	if r.Minutes > 0 {
		more["minutes"] = r.Minutes
	}
	s.note(c, audit.Request, outcome, r.UserID, more)
}

// Requests lists the open requests that a caller may answer, and what was joined at once of late where they may change its members, newest first.
func (s *Service) Requests(ctx context.Context, c Caller) ([]wire.Request, error) {
	st, now := s.State(), s.borders.Clock()
	open, err := s.borders.Requests.Requests(ctx, "", store.RequestOpen, now.Add(-requestLasts), mostRequests)
	if err != nil {
		return nil, err
	}
	joined, err := s.borders.Requests.Requests(ctx, "", store.RequestJoined, now.Add(-requestLasts), mostRequests)
	out := slices.DeleteFunc(s.wireRequests(st, c, append(open, joined...)), func(r wire.Request) bool { return !r.May || r.State == "ended" })
	return out, err
}

// covers tells whether a caller may answer a request: nobody their own, an owner any, a delegate what their mandate covers.
func (s *Service) covers(st *State, c Caller, r store.Request) bool {
	rights := s.Rights(st, c)
	if r.UserID == string(c.User) || rights.May(Write, "") != nil {
		return false
	}
	if !rights.Bounded() {
		return true
	}
	if r.Kind == store.RequestJoin {
		g, ok := policy.Find[*policy.UserGroup](st.Policy, r.GroupID)
		return ok && rights.Acts(st.Policy, g).Members
	}
	device, _ := meant(st.Policy, r.Device)
	return device != "" && s.View(st, c).Device(policy.DeviceID(device))
}

// meant finds the device that was asked for, by its id or its name; point is one of it.
func meant(p *policy.Policy, text string) (device, point string) {
	id, point, _ := strings.Cut(text, "/")
	if _, ok := p.Get(policy.Devices, id); ok {
		return id, point
	}
	for d := range policy.Each[*policy.Device](p) {
		if strings.EqualFold(d.Title(), text) {
			return string(d.ID), ""
		}
	}
	return "", ""
}

func (s *Service) wireRequests(st *State, c Caller, list []store.Request) []wire.Request {
	out := []wire.Request{}
	for _, r := range list {
		out = append(out, s.wireRequest(st, c, r))
	}
	return out
}

func (s *Service) wireRequest(st *State, c Caller, r store.Request) wire.Request {
	name := func(t policy.Type, id string) *wire.Named {
		if id == "" {
			return nil
		}
		return &wire.Named{ID: id, Name: st.Policy.Title(t, id)}
	}
	out := wire.Request{
		ID: r.ID, Kind: r.Kind, User: *name(policy.Users, r.UserID), Group: name(policy.UserGroups, r.GroupID), Right: r.Right, Minutes: r.Minutes,
		Reason: r.Reason, State: r.State, Created: r.CreatedAt.UTC(), By: name(policy.Users, r.AnsweredBy), Answer: r.Answer, Until: r.Until, Answered: r.AnsweredAt,
		May: s.covers(st, c, r),
	}
	if r.Device != "" {
		out.Device = &wire.Named{Name: r.Device}
		if out.May { // only whoever sees the device is told which one is meant
			if device, point := meant(st.Policy, r.Device); device != "" {
				out.Device = &wire.Named{ID: strings.TrimSuffix(device+"/"+point, "/"), Name: st.Policy.Title(policy.Devices, device)}
			}
		}
	}
	if now := s.borders.Clock(); r.State == store.RequestOpen && (now.Sub(r.CreatedAt) > requestLasts || r.Until != nil && !r.Until.After(now)) {
		out.State = "ended"
	}
	return out
}

// WithdrawRequest takes a request of the caller's own back.
func (s *Service) WithdrawRequest(ctx context.Context, c Caller, id string) error {
	r, err := s.borders.Requests.RequestOfID(ctx, id)
	if err != nil || r.UserID != string(c.User) {
		return ErrNotFound
	}
	r.State = store.RequestWithdrawn
	_, err = s.answerRequest(ctx, c, r, "", 0)
	if err == nil {
		s.noteRequest(c, r, audit.Ended)
	}
	return err
}

func (s *Service) answerRequest(ctx context.Context, c Caller, r store.Request, answer string, revision uint64) (store.Request, error) {
	now := s.borders.Clock().UTC()
	r.AnsweredAt, r.AnsweredBy, r.Answer, r.Revision = &now, string(c.User), answer, revision
	answered, err := s.borders.Requests.AnswerRequest(ctx, r)
	if err == nil && !answered {
		err = ErrAnswered
	}
	return r, s.kept(err)
}

// ErrAnswered is that a request is open no more.
var ErrAnswered error = Wrong("request", "was answered already, or taken back")

// AnswerRequest agrees to a request, by which what was asked for is granted, or says no. Only a caller whose mandate covers it may, and nobody
// to their own.
func (s *Service) AnswerRequest(ctx context.Context, c Caller, id string, in wire.AnswerRequest) (wire.Request, error) {
	r, err := s.borders.Requests.RequestOfID(ctx, id)
	st := s.State()
	if err != nil || !s.covers(st, c, r) {
		return wire.Request{}, ErrNotFound
	}
	if s.wireRequest(st, c, r).State != store.RequestOpen {
		return wire.Request{}, ErrAnswered
	}
	if len([]rune(in.Note)) > mostReason {
		return wire.Request{}, Wrong("note", "is longer than %d characters", mostReason)
	}
	s.answering.Lock() // so that nobody grants what another refuses
	defer s.answering.Unlock()
	if again, err := s.borders.Requests.RequestOfID(ctx, id); err != nil || again.State != store.RequestOpen {
		return wire.Request{}, ErrAnswered
	}
	outcome := audit.Refused
	r.State = store.RequestRefused
	revision := uint64(0)
	if in.Agree {
		saved, err := s.grantRequest(ctx, c, r, in)
		if err != nil {
			return wire.Request{}, err
		}
		r.State, outcome, revision = store.RequestGranted, audit.Done, saved.Revision
	}
	if r, err = s.answerRequest(ctx, c, r, strings.TrimSpace(in.Note), revision); err != nil {
		return wire.Request{}, err
	}
	s.noteRequest(c, r, outcome)
	return s.wireRequest(s.State(), c, r), nil
}

// grantRequest makes the change that grants a request, as one of whoever agrees: their mandate is what it is judged by.
func (s *Service) grantRequest(ctx context.Context, c Caller, r store.Request, in wire.AnswerRequest) (wire.Saved, error) {
	edits := in.Edits
	if r.Kind == store.RequestJoin {
		at := s.borders.Clock()
		p := s.State().Policy
		g, ok := policy.Find[*policy.UserGroup](p, r.GroupID)
		if !ok {
			g = &policy.UserGroup{} // the edit says that it is not there
		}
		until := joinedUntil(p, policy.UserID(r.UserID), g, at, r.Minutes)
		edits = []wire.Edit{{Op: "add", Type: policy.UserGroups.String(), ID: r.GroupID, List: "members", Value: r.UserID, Until: until.Format(time.RFC3339), Beside: true}}
	}
	if len(edits) == 0 {
		return wire.Saved{}, Wrong("edits", "are missing: say by which change it is granted")
	}
	return s.Edit(ctx, c, wire.Edits{Changes: edits}, EditOptions{way: WayRequest, about: r.ID, Note: fmt.Sprintf("asked for by %s: %s", r.UserID, r.Reason)})
}

// Addressee is somebody whom mail can reach.
type Addressee struct {
	Name, Email string
	Words       Words  // in their language
	Zone        string // by whose clock they are told of times
	What        string // they are told of
}

// Addressee finds how mail reaches somebody; without an address where it does not.
func (s *Service) Addressee(ctx context.Context, id string) Addressee {
	st := s.State()
	u, ok := policy.Find[*policy.User](st.Policy, id)
	if !ok {
		return Addressee{}
	}
	out := Addressee{Name: u.Title(), Email: u.Email, Words: English, Zone: st.Policy.Settings().Zone}
	if own, err := s.Preferences(ctx, Caller{User: u.ID}); err == nil { // without them it is told in English
		out.Words, out.Zone = Accepted(own.Language), cmp.Or(own.Zone, out.Zone)
	}
	return out
}

// Answerers are those whom mail reaches who may answer a request, or look after the group that was joined.
func (s *Service) Answerers(ctx context.Context, id string) []Addressee {
	r, err := s.borders.Requests.RequestOfID(ctx, id)
	if err != nil {
		return nil
	}
	st, now := s.State(), s.borders.Clock()
	// Whoever asks again and again fills nobody's mailbox: it stands on the first page all the same.
	if lately, err := s.borders.Requests.Requests(ctx, r.UserID, "", now.Add(-24*time.Hour), mostTold); err != nil || len(lately) >= mostTold {
		return nil
	}
	seen := map[policy.UserID]bool{}
	var out []Addressee
	tell := func(user policy.UserID) {
		if seen[user] || len(out) >= mostTold {
			return
		}
		seen[user] = true
		if _, ok := st.Compiled.MaySignIn(user, now); !ok || !s.covers(st, Caller{User: user}, r) {
			return
		}
		to := s.Addressee(ctx, string(user))
		if to.Email == "" {
			return
		}
		to.What = to.Words.Asked(st.Policy, r.Kind, r.GroupID, r.Right, r.Device, r.Minutes)
		out = append(out, to)
	}
	s.eachHolder(st, now, func(_ *policy.Mandate, user policy.UserID) { tell(user) })
	return out
}

// mostTold bounds how many are told of a request by mail, and of how many requests of one user in a day.
const mostTold = 20
