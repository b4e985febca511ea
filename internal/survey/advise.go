package survey

import (
	"cmp"
	"slices"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/schedule"
)

// Advice is a change that turns an answer, with what else it changes.
type Advice struct {
	Kind    AdviceKind
	Group   policy.UserGroupID // joined or left
	Grant   policy.GrantID     // changed or made
	Line    int                // of the grant, from 0
	First   []AdviceKind       // what has to be done as well, before it: AdviseUser, AdviseDevice
	Changes []policy.Change
	Impact  Differences // all that changes, the answer itself included
	Else    int         // rights of users on devices that change, or limits of them, beside the one that was asked for

	itself bool // the impact tells of the answer itself
}

// AdviceKind says what an advice does.
type AdviceKind string

// What can be advised: first what gives, then what takes away.
const (
	AdviseUser       AdviceKind = "user"        // make the user active and valid
	AdviseDevice     AdviceKind = "device"      // put the device into service, release its lockout
	AdviseJoin       AdviceKind = "join"        // add the user to a group
	AdviseEnable     AdviceKind = "enable"      // put a grant in force
	AdviseWiden      AdviceKind = "widen"       // give the right in a line that reaches the user already
	AdviseLine       AdviceKind = "line"        // a new line in a grant that reaches the user already
	AdviseGrant      AdviceKind = "grant"       // a new grant of just this
	AdviseLeave      AdviceKind = "leave"       // drop the user from a group
	AdviseStrike     AdviceKind = "strike"      // take the user out of a grant
	AdviseDisable    AdviceKind = "disable"     // disable a grant
	AdviseDisableAll AdviceKind = "disable-all" // disable all grants that decide
	AdviseLeaveAll   AdviceKind = "leave-all"   // drop the user from all groups that decide
	AdviseDenyGrant  AdviceKind = "deny"        // a new grant that denies just this
)

// mostTried bounds how many changes of each kind are tried out.
const mostTried = 6

// Advise finds the changes that would turn the answer to a question, the one that changes least beside it first.
// until, where it is not zero, is when all that it gives has ended again; nothing is advised where that is past.
func (c Survey) Advise(q decision.Question, until time.Time, most int) []Advice {
	answer := c.Explain(q)
	user, known := policy.Find[*policy.User](c.Policy(), string(q.User))
	if !known || answer.Reason <= decision.UnknownRight || !until.IsZero() && !until.After(q.At) {
		return nil
	}
	device, _ := policy.Find[*policy.Device](c.Policy(), string(q.Device))
	w := &adviser{c: c.Compiled, q: q, until: until, answer: answer, user: user, device: device}
	if answer.Allowed {
		w.take()
	} else {
		w.give()
	}
	slices.SortStableFunc(w.out, func(a, b Advice) int {
		return cmp.Or(cmp.Compare(a.Else, b.Else), cmp.Compare(len(a.Changes), len(b.Changes)))
	})
	return w.out[:min(most, len(w.out))]
}

type adviser struct {
	c      *decision.Compiled
	q      decision.Question
	until  time.Time
	answer decision.Answer
	user   *policy.User
	device *policy.Device
	tried  map[AdviceKind]int
	out    []Advice

	base  *decision.Compiled // as it is, where changes that have to come first were made of it; nil: c is
	first []AdviceKind       // what those do
	begin []policy.Change    // those
}

// try keeps an advice whose changes are possible and turn the answer.
func (w *adviser) try(a Advice) {
	if w.tried == nil {
		w.tried = map[AdviceKind]int{}
	}
	if w.tried[a.Kind]++; w.tried[a.Kind] > mostTried {
		return
	}
	base := w.c
	if w.base != nil {
		base, a.First, a.Changes = w.base, w.first, slices.Concat(w.begin, a.Changes)
	}
	p, done, err := base.Policy().Apply(a.Changes)
	if err != nil || len(done) == 0 {
		return
	}
	next := base.Next(p, done)
	if next.Decide(&w.q).Allowed == w.answer.Allowed || w.outlasts(base, next) {
		return
	}
	device := w.q
	device.Point = ""
	a.itself = w.q.Point == "" || base.Decide(&device).Allowed == next.Decide(&device).Allowed // what a point shares with its device is told of that
	a.Tell(Compare(base, next, done, Circumstances{At: w.q.At, Context: w.q.Context}, 20))
	w.out = append(w.out, a)
}

// Tell takes what an advice changes, all of it or what somebody may see, and counts what that is beside the answer itself.
func (a *Advice) Tell(d Differences) {
	a.Impact = d
	a.Else = max(0, d.Gained.All()+d.Lost.All()+d.Loosened.All()+d.Tightened.All()-decision.Bit(a.itself))
}

// outlasts tells whether a change gives what was asked for beyond the end that it is to have.
func (w *adviser) outlasts(base, next *decision.Compiled) bool {
	if w.until.IsZero() || w.answer.Allowed {
		return false
	}
	at := w.q
	at.At = w.until
	horizon := w.until.Add(schedule.Horizon)
	before, _ := Of(base).Stretches(at, horizon)
	after, _ := Of(next).Stretches(at, horizon)
	return slices.ContainsFunc(after, func(s Stretch) bool {
		return s.Allowed && !slices.ContainsFunc(before, func(b Stretch) bool { return b.Allowed && !b.From.After(s.From) && !b.Until.Before(s.Until) })
	})
}

// ended is the end that a thing may have that had another: no later than the one asked for.
func (w *adviser) ended(until time.Time) time.Time {
	if !until.IsZero() && !w.q.At.Before(until) {
		until = time.Time{} // it has ended, and begins again
	}
	if until.IsZero() || !w.until.IsZero() && w.until.Before(until) {
		return w.until
	}
	return until
}

// endsInTime tells whether a grant has ended by the end that what is advised is to have.
func (w *adviser) endsInTime(g *policy.Grant) bool {
	return w.until.IsZero() || !g.Valid.Until.IsZero() && !g.Valid.Until.After(w.until)
}

// after advises what else has to be done once changes are made that have to come first.
func (w *adviser) after(kind AdviceKind, changes ...policy.Change) {
	p, done, err := w.c.Policy().Apply(changes)
	if err != nil || len(done) == 0 || slices.Contains(w.first, kind) {
		return
	}
	next := w.c.Next(p, done)
	if next.Decide(&w.q).Allowed == w.answer.Allowed {
		base := w
		if w.base == nil {
			base = &adviser{base: w.c}
		}
		then := &adviser{c: next, q: w.q, until: w.until, answer: next.Explain(w.q), base: base.base, first: append(slices.Clip(w.first), kind), begin: slices.Concat(w.begin, changes)}
		then.user, _ = policy.Find[*policy.User](p, string(w.q.User))
		then.device, _ = policy.Find[*policy.Device](p, string(w.q.Device))
		then.give()
		w.out = append(w.out, then.out...)
	}
}

func putRecord(r policy.Record) policy.Change {
	return policy.Change{Op: policy.Put, Type: r.Type(), ID: r.Key(), Record: r}
}

func (w *adviser) give() {
	switch w.answer.Reason {
	case decision.UserSuspended, decision.UserInvited, decision.UserNotYetValid, decision.UserExpired:
		u := *w.user
		u.Status, u.Valid.Until = policy.Active, w.ended(u.Valid.Until)
		if w.q.At.Before(u.Valid.From) {
			u.Valid.From = w.q.At
		}
		w.try(Advice{Kind: AdviseUser, Changes: []policy.Change{putRecord(&u)}})
		w.after(AdviseUser, putRecord(&u))
	case decision.DeviceRetired, decision.DeviceLockedOut:
		d := *w.device
		if d.State == policy.Retired {
			d.State = policy.InService
		}
		d.Lockout = nil
		w.try(Advice{Kind: AdviseDevice, Changes: []policy.Change{putRecord(&d)}})
		w.after(AdviseDevice, putRecord(&d))
	case decision.Denied:
		if w.until.IsZero() { // what denies cannot be suspended for a while
			w.undo(w.answer.Because)
		}
	case decision.RightNotApplicable:
	default:
		w.join()
		w.changeGrants()
		w.newGrant(AdviseGrant, policy.Allow)
	}
}

func (w *adviser) take() {
	w.undo(w.answer.Because)
	w.newGrant(AdviseDenyGrant, policy.Deny)
}

// undo takes the user out of what decided: one by one where one decides, and all together.
func (w *adviser) undo(trails []decision.Trail) {
	var leave, disable []policy.Change
	left, off := map[policy.UserGroupID]bool{}, map[policy.GrantID]bool{}
	for _, t := range trails {
		if !off[t.Grant.ID] {
			off[t.Grant.ID] = true
			g := *t.Grant
			g.Enabled = policy.Off
			disable = append(disable, putRecord(&g))
			w.try(Advice{Kind: AdviseDisable, Grant: g.ID, Line: t.Line, Changes: disable[len(disable)-1:]})
		}
		switch t.Via {
		case decision.ViaGroup:
			if first := t.Membership.Groups[0]; !left[first] {
				left[first] = true
				leave = append(leave, policy.Change{Op: policy.Drop, Type: policy.UserGroups, ID: string(first), List: "members", Entry: policy.Entry{Value: string(w.q.User)}})
				w.try(Advice{Kind: AdviseLeave, Group: first, Grant: t.Grant.ID, Line: t.Line, Changes: leave[len(leave)-1:]})
			}
		case decision.ViaUser:
			g := *t.Grant
			g.To.Users = slices.DeleteFunc(slices.Clone(g.To.Users), func(id policy.UserID) bool { return id == w.q.User })
			w.try(Advice{Kind: AdviseStrike, Grant: g.ID, Line: t.Line, Changes: []policy.Change{putRecord(&g)}})
		}
	}
	if len(leave) > 1 && len(leave) == len(off) {
		w.try(Advice{Kind: AdviseLeaveAll, Changes: leave})
	}
	if len(disable) > 1 {
		w.try(Advice{Kind: AdviseDisableAll, Changes: disable})
	}
}

// join adds the user to the groups to which a line that is in force gives the right on the resource.
func (w *adviser) join() {
	a := decision.Inquiry{Question: w.q}
	if _, known := w.c.Resolve(&w.q, &a.ResolvedQuery); !known {
		return
	}
	type option struct {
		group policy.UserGroupID
		size  int
		grant policy.GrantID
		line  int
	}
	var options []option
	seen := map[policy.UserGroupID]bool{}
	for _, t := range append(slices.Clip(a.What.Facts.Targets), a.PointTarget) {
		for _, o := range w.c.ByTarget[t] {
			l := &w.c.Lines[o.Line]
			if w.c.Unmet(l, &a.ResolvedQuery) != 0 {
				continue
			}
			for _, id := range l.Grant.To.Groups {
				if g, _ := policy.Find[*policy.UserGroup](w.c.Policy(), string(id)); !seen[id] && g.Enabled != policy.Off {
					seen[id] = true
					options = append(options, option{id, len(w.c.BySubject[w.c.Subjects[decision.SubjectKey{Group: id}]]), l.Grant.ID, l.Number})
				}
			}
		}
	}
	// Groups with few lines are likely to give little else.
	slices.SortFunc(options, func(a, b option) int { return cmp.Or(cmp.Compare(a.size, b.size), cmp.Compare(a.group, b.group)) })
	for _, o := range options {
		member := policy.Member{User: w.q.User, Until: w.until}
		g, _ := policy.Find[*policy.UserGroup](w.c.Policy(), string(o.group))
		// A membership of another time stays beside the new one.
		also := slices.ContainsFunc(g.Members, func(m policy.Member) bool { return m.User == w.q.User })
		w.try(Advice{Kind: AdviseJoin, Group: o.group, Grant: o.grant, Line: o.line, Changes: []policy.Change{
			{Op: policy.Add, Type: policy.UserGroups, ID: string(o.group), List: "members", Entry: policy.EntryOf(member), Beside: also},
		}})
	}
}

// changeGrants changes the grants that reach the user: puts one in force, gives the right in a line, adds a line.
func (w *adviser) changeGrants() {
	a := decision.Inquiry{Question: w.q}
	if _, known := w.c.Resolve(&w.q, &a.ResolvedQuery); !known {
		return
	}
	for _, t := range w.c.Trails(&a, func(l *decision.Line, m decision.UnmetConditions) bool {
		return !l.Deny && (m == decision.MissesRight || m == decision.MissesForce)
	}) {
		g := *t.Grant
		g.Lines = slices.Clone(g.Lines)
		if t.Misses[0] == decision.GrantNotInForce {
			g.Enabled = policy.On
			g.Valid.Until = w.ended(g.Valid.Until)
			if w.q.At.Before(g.Valid.From) {
				g.Valid.From = w.q.At
			}
			w.try(Advice{Kind: AdviseEnable, Grant: g.ID, Line: t.Line, Changes: []policy.Change{putRecord(&g)}})
			continue
		}
		if !w.endsInTime(&g) {
			continue
		}
		l := &g.Lines[t.Line]
		l.Rights = append(slices.Clone(l.Rights), w.q.Right)
		w.try(Advice{Kind: AdviseWiden, Grant: g.ID, Line: t.Line, Changes: []policy.Change{putRecord(&g)}})
	}
	for g := range policy.Each[*policy.Grant](w.c.Policy()) {
		if g.Effect == policy.Allow && g.Enabled != policy.Off && g.Valid.Holds(w.q.At) && slices.Contains(g.To.Users, w.q.User) && w.endsInTime(g) {
			next := *g
			next.Lines = append(slices.Clone(g.Lines), w.line())
			w.try(Advice{Kind: AdviseLine, Grant: g.ID, Line: len(g.Lines), Changes: []policy.Change{putRecord(&next)}})
		}
	}
}

// line is the line of just what was asked for.
func (w *adviser) line() policy.Line {
	l := policy.Line{Rights: []policy.RightID{w.q.Right}}
	if w.q.Point != "" {
		l.On.Points = []policy.PointRef{policy.PointRef(string(w.q.Device) + "/" + string(w.q.Point))}
	} else {
		l.On.Devices = []policy.DeviceID{w.q.Device}
	}
	return l
}

func (w *adviser) newGrant(kind AdviceKind, effect policy.Effect) {
	name := w.user.Title() + ": " + string(w.q.Right) + " " + w.device.Title()
	if effect == policy.Deny {
		name = w.user.Title() + ": no " + string(w.q.Right) + " " + w.device.Title()
	}
	id := policy.MakeID(name, func(id string) bool { _, taken := w.c.Policy().Get(policy.Grants, id); return taken })
	w.try(Advice{Kind: kind, Grant: policy.GrantID(id), Changes: []policy.Change{putRecord(&policy.Grant{
		ID: policy.GrantID(id), Name: name, Effect: effect, To: policy.To{Users: []policy.UserID{w.q.User}},
		Valid: policy.Span{Until: w.until}, Lines: []policy.Line{w.line()},
	})}})
}
