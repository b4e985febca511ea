package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/scim"
	"sentier/internal/source"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// kindSCIM is the kind of a source that brings people and groups by itself, over SCIM.
const kindSCIM = "scim"

// scimTypes are the types of resource, by the name of their path.
var scimTypes = map[string]struct {
	Type   policy.Type
	Schema string
	Name   string
}{"Users": {policy.Users, scim.UserSchema, "User"}, "Groups": {policy.UserGroups, scim.GroupSchema, "Group"}}

// SCIMOperation is one change by SCIM.
type SCIMOperation struct {
	Method string // POST, PUT, PATCH or DELETE
	Path   string // Users or Groups
	ID     string // of the resource; none with POST
	Match  []string
	Body   scim.Resource
	BulkID string
}

// SCIMResult is what became of one.
type SCIMResult struct {
	ID  string
	Err error // nil: it was done
}

// toldSCIM is what a source says of a thing, beside what the record has.
type toldSCIM struct {
	Attributes scim.Resource `json:"attributes"`
	Created    time.Time     `json:"created"`
	Changed    time.Time     `json:"changed"`
}

// scimSource is the source that a caller brings people and groups of.
func (s *Service) scimSource(ctx context.Context, c Caller) (*keptSource, error) {
	if c.Source == "" {
		return nil, &ForbiddenError{Missing: policy.Say("a token of a source, which is made on its page")}
	}
	k, err := s.sourceOf(ctx, c.Source)
	if errors.Is(err, ErrNotFound) || err == nil && k.Kind != kindSCIM {
		return nil, ErrCredential
	}
	if err != nil {
		return nil, err
	}
	if k.Paused {
		return nil, &ForbiddenError{Missing: policy.Say("a source that is not paused")}
	}
	return k, s.Permit(s.State(), c, Manage, "")
}

// scimWork is a number of operations while they are worked out on a policy.
type scimWork struct {
	source *keptSource
	policy *policy.Policy
	known  *source.Known
	now    time.Time
	base   string

	changes []policy.Change
	plan    source.Plan
	bulk    map[string]string // ids by bulkId

	// Users of many operations are put into the policy at once: one by one each would take as long as reading it. Where one of them cannot be, all
	// operations are worked out again, each by itself, so that each counts or fails.
	gathers  bool
	gathered []policy.Change
	users    map[string]*policy.User // by id, among what is gathered
}

// errGathered is that not all that was gathered can be put into the policy.
var errGathered = errors.New("one of many operations fails")

// settle puts what is gathered into the policy.
func (w *scimWork) settle() error {
	if len(w.gathered) == 0 {
		return nil
	}
	next, _, err := w.policy.Apply(w.gathered)
	if err != nil {
		return errGathered
	}
	w.policy, w.gathered, w.users = next, nil, nil
	return nil
}

// found finds a user, as they are after what is gathered.
func (w *scimWork) found(id string) (*policy.User, bool) {
	if u, ok := w.users[id]; ok {
		return u, true
	}
	return policy.Find[*policy.User](w.policy, id)
}

// ChangeSCIM makes changes by SCIM: each by itself counts or fails, and all that count are one revision. After some failures no more are tried; 0: all are.
// The error is that none could be made.
func (s *Service) ChangeSCIM(ctx context.Context, c Caller, ops []SCIMOperation, most int) ([]SCIMResult, error) {
	k, err := s.scimSource(ctx, c)
	if err != nil {
		return nil, err
	}
	var results []SCIMResult
	o := EditOptions{way: WaySCIM, about: k.ID, Note: "from the source “" + k.Name + "”", rows: len(ops)}
	saved, err := answerOf(s.change(ctx, c, &o, func(now *State) (step, error) {
		w := &scimWork{source: k, now: s.borders.Clock().UTC().Truncate(time.Millisecond)}
		results = w.all(s.known.Load(), now.Policy, ops, most)
		o.plan = &w.plan
		next, done, err := now.Policy.Apply(w.changes)
		if err == nil {
			err = s.leaving.mayGo(k, s.known.Load(), done, &w.plan, s.borders.Clock())
		}
		return step{policy: next, done: done}, err
	}))
	var held *HeldError
	if errors.As(err, &held) && s.leaving.tell(k.ID, s.borders.Clock()) {
		run := store.SourceRun{Source: k.ID, At: s.borders.Clock().UTC(), Outcome: store.RunHeld}
		told := toldRun{Why: keepSaid(held.Why)}
		var broken error
		if run.Told, broken = json.Marshal(told); broken != nil {
			return nil, broken
		}
		if err := s.keepRun(context.WithoutCancel(ctx), c, k, &run, &told); err != nil {
			return nil, err
		}
	}
	if err != nil {
		return nil, err
	}
	s.leaving.went(k.ID)
	return results, s.learn(ctx, saved, o.plan)
}

// leaving is how many people, and memberships, each provider has taken away of late, so that one that takes many away at once is held as a reading is.
type leaving struct {
	mu sync.Mutex
	of map[string]*left
}

type left struct {
	since           time.Time // from when on it is counted
	people, members int       // that went since then
	before          source.Counts
	more            [2]int    // that go with the change that is on its way
	let             time.Time // until when somebody has let more go
	told            time.Time // when it was last told that more were held
}

// leavingFor is for how long what goes by a provider is counted together, and for how long more may go that somebody has let go.
const leavingFor = time.Hour

func (l *leaving) at(id string, now time.Time) *left {
	if l.of == nil {
		l.of = map[string]*left{}
	}
	one := l.of[id]
	if one == nil {
		one = &left{since: now}
		l.of[id] = one
	}
	if age := now.Sub(one.since); age >= leavingFor || age < 0 {
		one.since, one.people, one.members, one.before = now, 0, 0, source.Counts{}
	}
	return one
}

// mayGo refuses a change by which more would have gone within an hour than the settings of the source let go at once.
func (l *leaving) mayGo(k *keptSource, known *source.Known, done []policy.RecordChange, plan *source.Plan, now time.Time) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	one, gone := l.at(k.ID, now), 0
	counts := known.Counts(k.ID)
	one.before.Users, one.before.Members = max(one.before.Users, counts.Users), max(one.before.Members, counts.Members)
	for _, c := range done {
		was, _ := c.Before.(*policy.User)
		is, _ := c.After.(*policy.User)
		gone += decision.Bit(was != nil && was.Status == policy.Active && (is == nil || is.Status != policy.Active))
	}
	one.more = [2]int{gone, len(plan.Left)}
	sum := source.Going(&k.set.Bring, one.people+gone, one.before.Users, one.members+len(plan.Left), one.before.Members)
	if now.Before(one.let) || gone+len(plan.Left) == 0 || !sum.TooMany() {
		return nil
	}
	return &HeldError{policy.Say("%d of %d people and %d of %d memberships of %q would go within an hour: look at it, and let it go on with a reason if it is meant", sum.GoneUsers, sum.UsersBefore, len(sum.Left), sum.MembersBefore, k.Name)}
}

// went counts what has gone with the change that was on its way.
func (l *leaving) went(id string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if one := l.of[id]; one != nil {
		one.people, one.members, one.more = one.people+one.more[0], one.members+one.more[1], [2]int{}
	}
}

// tell tells whether it is to be told that something is held: once a minute.
func (l *leaving) tell(id string, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	one := l.at(id, now)
	if now.Sub(one.told).Abs() < time.Minute {
		return false
	}
	one.told = now
	return true
}

// letGo lets a provider take away more people than its settings let go at once, for an hour.
func (l *leaving) letGo(id string, now time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.at(id, now).let = now.Add(leavingFor)
}

// all makes all operations on a policy.
func (w *scimWork) all(known *source.Known, p *policy.Policy, ops []SCIMOperation, most int) []SCIMResult {
	for _, w.gathers = range []bool{len(ops) > 1, false} {
		w.policy, w.known, w.bulk = p, known.Fork(), map[string]string{}
		w.changes, w.plan, w.gathered, w.users = nil, source.Plan{}, nil, nil
		if out, ok := w.try(slices.Clone(ops), most); ok {
			return out
		}
	}
	return nil // one by one, each has a result
}

// try makes the operations; ok is false where one fails that is not known.
func (w *scimWork) try(ops []SCIMOperation, most int) (out []SCIMResult, ok bool) {
	failed := 0
	for i := range ops {
		if most > 0 && failed >= most {
			break
		}
		op := &ops[i]
		var r SCIMResult
		r.ID, r.Err = w.one(op)
		if errors.Is(r.Err, errGathered) {
			return nil, false
		}
		if r.Err != nil {
			failed++
		}
		if op.BulkID != "" && r.Err == nil {
			w.bulk[op.BulkID] = r.ID
		}
		out = append(out, r)
	}
	return out, w.settle() == nil
}

// one makes one operation, or none of it.
func (w *scimWork) one(op *SCIMOperation) (id string, err error) {
	of, ok := scimTypes[op.Path]
	if !ok {
		return "", ErrNotFound
	}
	if of.Type != policy.Users || op.Method != "POST" {
		if err := w.settle(); err != nil {
			return "", err
		}
	}
	if id = w.meant(op.ID); op.Method != "POST" {
		now, err := w.resource(op.Path, id)
		if err != nil {
			return id, err
		}
		if len(op.Match) > 0 && !slices.Contains(op.Match, "*") && !slices.Contains(op.Match, version(now)) {
			return id, &scim.Error{Status: 412, Why: policy.Say("the resource has been changed since it was read: read it again")}
		}
		switch op.Method {
		case "PATCH":
			if op.Body, err = scim.Patch(of.Schema, now, op.Body); err != nil {
				return id, err
			}
		case "DELETE":
			return id, w.remove(of.Type, id)
		}
	}
	clean, err := scim.Clean(of.Schema, op.Body)
	if err != nil {
		return id, err
	}
	if of.Type == policy.Users {
		return w.user(id, clean)
	}
	return w.group(id, clean)
}

// meant is an id, or that of the resource which an earlier operation has made: bulkId:x.
func (w *scimWork) meant(id string) string {
	if ref, ok := strings.CutPrefix(id, "bulkId:"); ok {
		return w.bulk[ref]
	}
	return id
}

// do carries an operation out, as far as the policy takes it.
func (w *scimWork) do(plan source.Plan) error {
	if u, ok := onlyUser(plan.Changes); ok && w.gathers {
		if w.users == nil {
			w.users = map[string]*policy.User{}
		}
		w.users[u.Key()], w.gathered = u, append(w.gathered, plan.Changes...)
	} else if len(plan.Changes) > 0 {
		if err := w.settle(); err != nil {
			return err
		}
		next, _, err := w.policy.Apply(plan.Changes)
		var faults policy.Faults
		if errors.As(err, &faults) {
			for _, f := range faults {
				if strings.HasSuffix(f.Path(), ".name") || strings.HasSuffix(f.Path(), ".email") {
					return &scim.Error{Status: 409, Type: scim.Uniqueness, Why: f.Problem}
				}
			}
			return scim.Wrong(scim.InvalidValue, "%v", policy.SaidBy(err))
		}
		if err != nil {
			return err
		}
		w.policy = next
	}
	w.known.Take(&plan)
	w.changes = append(w.changes, plan.Changes...)
	w.plan.Origins = append(w.plan.Origins, plan.Origins...)
	w.plan.Lost = append(w.plan.Lost, plan.Lost...)
	w.plan.Joined = append(w.plan.Joined, plan.Joined...)
	w.plan.Left = append(w.plan.Left, plan.Left...)
	return nil
}

// onlyUser is the user whom some changes put, where that is all that they do.
func onlyUser(changes []policy.Change) (*policy.User, bool) {
	if len(changes) != 1 || changes[0].Op != policy.Put {
		return nil, false
	}
	u, ok := changes[0].Record.(*policy.User)
	return u, ok
}

// origin is what is known of a resource of the source; false where it has none of that id.
func (w *scimWork) origin(t policy.Type, id string) (o source.Origin, told toldSCIM, ok bool) {
	o, ok = w.known.Origin(t, id)
	if !ok || o.Source != w.source.ID || o.Gone {
		return o, told, false
	}
	return o, told, json.Unmarshal([]byte(o.Told), &told) == nil
}

// origined is the origin of a resource with what is told of it.
func (w *scimWork) origined(t policy.Type, id, place string, attributes scim.Resource, created time.Time) source.Origin {
	text, err := json.Marshal(toldSCIM{attributes, created, w.now})
	if err != nil {
		text = []byte("{}") // which cannot be: it was read from JSON
	}
	return source.Origin{Source: w.source.ID, Type: t, Outside: id, Record: id, Place: place, Told: string(text)}
}

// user makes somebody, or makes them what is told.
func (w *scimWork) user(id string, a scim.Resource) (string, error) {
	name := strings.TrimSpace(scim.Text(a, "userName"))
	if name == "" {
		return "", scim.Wrong(scim.InvalidValue, "userName is missing")
	}
	created := w.now
	if other, ok := w.known.At(w.source.ID, policy.Users, name); ok && other != id {
		if o, _, here := w.origin(policy.Users, other); here || id != "" {
			return "", &scim.Error{Status: 409, Type: scim.Uniqueness, Why: policy.Say("there is somebody with the userName %q already: %s", policy.Clip(name), o.Record)}
		}
	}
	u := &policy.User{Kind: policy.Person, Status: policy.Active}
	var before *policy.User
	o, told, known := w.origin(policy.Users, id)
	if id == "" {
		var err error
		if id, before, err = w.newcomer(name); err != nil {
			return "", err
		}
		o, _ = w.known.Origin(policy.Users, id)
	} else {
		if !known {
			return "", ErrNotFound
		}
		created = told.Created
		before, _ = w.found(id)
	}
	if before != nil {
		copied := *before
		u = &copied
	}
	u.ID, u.Name, u.Email = policy.UserID(id), scim.NameOf(a), scim.AddressOf(a)
	next := w.origined(policy.Users, id, name, a, created)
	next.Suspended = o.Suspended
	switch active := scim.Active(a); {
	case !active && u.Status == policy.Active:
		u.Status, next.Suspended = policy.Suspended, true
	case active && u.Status == policy.Suspended && o.Suspended:
		u.Status, next.Suspended = policy.Active, false
	}
	plan := source.Plan{Origins: []source.Origin{next}}
	if before == nil || before.Name != u.Name || before.Email != u.Email || before.Status != u.Status {
		plan.Changes = []policy.Change{{Op: policy.Put, Type: policy.Users, ID: id, Record: u}}
	}
	return id, w.do(plan)
}

// newcomer is the id of somebody who is new to the source, and who that is here already.
func (w *scimWork) newcomer(name string) (id string, before *policy.User, err error) {
	if linked := w.source.set.Bring.Links[name]; linked != "" {
		u, ok := w.found(linked)
		if _, other := w.known.Origin(policy.Users, linked); !ok || other {
			return "", nil, &scim.Error{Status: 409, Type: scim.Uniqueness, Why: policy.Say("%q is linked to the user %q, who is not there, or comes from elsewhere", policy.Clip(name), linked)}
		}
		return linked, u, nil
	}
	if gone, ok := w.known.At(w.source.ID, policy.Users, name); ok { // under which they went, whatever their id was made of
		if o, known := w.known.Origin(policy.Users, gone); known && o.Source == w.source.ID && o.Gone {
			if u, there := w.found(gone); there {
				return gone, u, nil
			}
		}
	}
	if id = source.UserID(name); id == "" {
		return "", nil, scim.Wrong(scim.InvalidValue, "%q cannot be an id here: small letters, digits and . _ @ + -, up to %d", policy.Clip(name), policy.MaxID)
	}
	u, there := w.found(id)
	if !there {
		return id, nil, nil
	}
	if o, ok := w.known.Origin(policy.Users, id); ok && o.Source == w.source.ID && o.Gone { // who was here before by this source
		return id, u, nil
	}
	return "", nil, &scim.Error{Status: 409, Type: scim.Uniqueness, Why: policy.Say("there is a user %q already (%s): link them if they are the same", id, u.Title())}
}

// group makes a group, or makes it what is told.
func (w *scimWork) group(id string, a scim.Resource) (string, error) {
	name := strings.TrimSpace(scim.Text(a, "displayName"))
	if name == "" {
		return "", scim.Wrong(scim.InvalidValue, "displayName is missing")
	}
	if other, ok := w.known.At(w.source.ID, policy.UserGroups, name); ok && other != id {
		return "", &scim.Error{Status: 409, Type: scim.Uniqueness, Why: policy.Say("there is a group with the displayName %q already: %s", policy.Clip(name), other)}
	}
	want := map[string]bool{}
	var inner []string // groups within the group
	for _, m := range scim.Values(a, "members") {
		member := w.meant(scim.Text(m, "value"))
		_, _, isUser := w.origin(policy.Users, member)
		_, _, isGroup := w.origin(policy.UserGroups, member)
		switch asGroup := strings.EqualFold(scim.Text(m, "type"), "Group"); {
		case isUser && !(asGroup && isGroup):
			want[member] = true
		case isGroup && member != id:
			inner = append(inner, member)
		default:
			return "", scim.Wrong(scim.InvalidValue, "there is no user and no group %q of this source", policy.Clip(scim.Text(m, "value")))
		}
	}
	delete(a, "members")
	var held []string // those that were within it before
	if id != "" {
		_, told, _ := w.origin(policy.UserGroups, id)
		held = heldGroups(told.Attributes)
	}
	if len(inner) > 0 {
		var list []any
		for _, g := range inner {
			list = append(list, scim.Resource{"value": g, "type": "Group"})
		}
		a["members"] = list
	}
	var plan source.Plan
	made, created := true, w.now
	if id == "" {
		if id, made = w.mapped(name); made {
			plan.Changes = append(plan.Changes, policy.Change{Op: policy.Put, Type: policy.UserGroups, ID: id, Record: &policy.UserGroup{ID: policy.UserGroupID(id), Name: name, Enabled: policy.On}})
		} else if o, ok := w.known.Origin(policy.UserGroups, id); ok {
			return "", &scim.Error{Status: 409, Type: scim.Uniqueness, Why: policy.Say("the group %q is fed by another group of the source %q already", id, w.known.Name(o.Source))}
		}
	} else {
		o, told, ok := w.origin(policy.UserGroups, id)
		if !ok {
			return "", ErrNotFound
		}
		made, created = o.Made, told.Created
		if g, ok := policy.Find[*policy.UserGroup](w.policy, id); ok && made && g.Name != name {
			next := *g
			next.Name = name
			plan.Changes = append(plan.Changes, policy.Change{Op: policy.Put, Type: policy.UserGroups, ID: id, Record: &next})
		}
	}
	o := w.origined(policy.UserGroups, id, name, a, created)
	o.Made = made
	plan.Origins = []source.Origin{o}
	w.includes(&plan, id, held, inner)
	if err := w.members(&plan, id, want); err != nil {
		return "", err
	}
	return id, w.do(plan)
}

// includes makes the groups within a group those that the source tells, so that their people come in. What was included by hand stays.
func (w *scimWork) includes(plan *source.Plan, id string, held, inner []string) {
	g, there := policy.Find[*policy.UserGroup](w.policy, id)
	at := slices.IndexFunc(plan.Changes, func(c policy.Change) bool { return c.Type == policy.UserGroups && c.ID == id && c.Op == policy.Put })
	if at >= 0 {
		g, there = plan.Changes[at].Record.(*policy.UserGroup), true
	}
	if !there {
		return
	}
	next := *g
	next.Includes = slices.DeleteFunc(slices.Clone(g.Includes), func(x policy.UserGroupID) bool {
		return slices.Contains(held, string(x)) && !slices.Contains(inner, string(x))
	})
	for _, x := range inner {
		if !slices.Contains(next.Includes, policy.UserGroupID(x)) {
			next.Includes = append(next.Includes, policy.UserGroupID(x))
		}
	}
	switch {
	case slices.Equal(next.Includes, g.Includes):
	case at >= 0:
		plan.Changes[at].Record = &next
	default:
		plan.Changes = append(plan.Changes, policy.Change{Op: policy.Put, Type: policy.UserGroups, ID: id, Record: &next})
	}
}

// mapped is the group of ours that a group of the source feeds, and whether it is made for it.
func (w *scimWork) mapped(name string) (id string, made bool) {
	if id = w.source.set.Bring.Feeds(name); id != "" {
		_, there := policy.Find[*policy.UserGroup](w.policy, id)
		return id, !there
	}
	return policy.MakeID(name, func(id string) bool { _, taken := w.policy.Get(policy.UserGroups, id); return taken }), true
}

// members makes the members of a group those that are wanted. What is a membership by hand stays.
func (w *scimWork) members(plan *source.Plan, group string, want map[string]bool) error {
	g, _ := policy.Find[*policy.UserGroup](w.policy, group)
	entry := func(op policy.Op, user string) {
		plan.Changes = append(plan.Changes, policy.Change{Op: op, Type: policy.UserGroups, ID: group, List: "members", Entry: policy.Entry{Value: user}, Beside: true})
	}
	if g != nil {
		for _, m := range g.Members {
			if m.Span() != (policy.Span{}) {
				continue
			}
			user := string(m.User)
			_, _, ours := w.origin(policy.Users, user)
			from, brought := w.known.Brings(group, user)
			switch {
			case want[user]:
				delete(want, user)
			case brought && from == w.source.ID:
				plan.Left = append(plan.Left, source.Member{Source: w.source.ID, Group: group, User: user})
				entry(policy.Drop, user)
			case ours:
				return &scim.Error{Status: 409, Type: scim.Mutability, Why: policy.Say("the membership of %s in %s was given by hand here: it is taken away here", user, g.Title())}
			}
		}
	}
	users := make([]string, 0, len(want))
	for user := range want {
		users = append(users, user)
	}
	slices.Sort(users)
	for _, user := range users {
		plan.Joined = append(plan.Joined, source.Member{Source: w.source.ID, Group: group, User: user})
		entry(policy.Add, user)
	}
	return nil
}

// remove takes a resource away: what becomes of a user says how the source is set; a group goes where the source has made it and nothing mentions it.
func (w *scimWork) remove(t policy.Type, id string) error {
	o, _, _ := w.origin(t, id)
	var plan source.Plan
	if t == policy.UserGroups {
		if err := w.members(&plan, id, map[string]bool{}); err != nil {
			return err
		}
		if o.Made && len(w.policy.Mentions(t, id)) == 0 {
			plan.Changes = append(plan.Changes, policy.Change{Op: policy.Remove, Type: t, ID: id})
		}
		plan.Lost = []source.Origin{o}
		return w.do(plan)
	}
	for _, group := range w.known.Memberships(w.source.ID, id) {
		plan.Left = append(plan.Left, source.Member{Source: w.source.ID, Group: group, User: id})
		plan.Changes = append(plan.Changes, policy.Change{Op: policy.Drop, Type: policy.UserGroups, ID: group, List: "members", Entry: policy.Entry{Value: id}, Beside: true})
	}
	o.Gone = true
	switch u, _ := policy.Find[*policy.User](w.policy, id); cmp.Or(w.source.set.Bring.Gone, source.GoneSuspended) {
	case source.GoneRemoved:
		plan.Changes, plan.Lost = w.policy.Cascade(t, id), []source.Origin{o}
		return w.do(plan)
	case source.GoneSuspended:
		if u != nil && u.Status == policy.Active {
			next := *u
			next.Status, o.Suspended = policy.Suspended, true
			plan.Changes = append(plan.Changes, policy.Change{Op: policy.Put, Type: t, ID: id, Record: &next})
		}
	}
	plan.Origins = []source.Origin{o}
	return w.do(plan)
}

// SourceToken makes a token by which a source brings its people and groups, and that is good for nothing else. It stands for whoever set the source up.
func (s *Service) SourceToken(ctx context.Context, c Caller, id string, in wire.NewSourceToken) (wire.Token, error) {
	st := s.State()
	if err := s.Permit(st, c, Manage, ""); err != nil {
		return wire.Token{}, err
	}
	k, err := s.sourceOf(ctx, id)
	if err != nil {
		return wire.Token{}, err
	}
	if k.Kind != kindSCIM {
		return wire.Token{}, Wrong("source", "%q is read by the service: it brings nothing by itself", k.Name)
	}
	made := wire.NewToken{User: k.Author, Name: cmp.Or(strings.TrimSpace(in.Name), k.Name), Days: in.Days, Networks: in.Networks}
	until, err := s.tokenEnd(st, made)
	if err != nil {
		return wire.Token{}, err
	}
	if err := s.checkScope(st, &made); err != nil {
		return wire.Token{}, err
	}
	return s.keepToken(ctx, c, store.Token{UserID: k.Author, Name: made.Name, CreatedBy: string(c.User), ExpiresAt: &until, Mandate: k.Mandate, Networks: strings.Join(made.Networks, " "), Source: k.ID}, Asked{})
}

// SourceOnly refuses a token of a source for all that is not SCIM.
func SourceOnly(c Caller) error {
	if c.Source == "" {
		return nil
	}
	return &ForbiddenError{Missing: policy.Say("a token of somebody: this one brings the people and groups of a source, and that is all it is good for")}
}
