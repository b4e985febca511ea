package decision

import (
	"cmp"
	"slices"

	"sentier/internal/policy"
)

// rules are the lines of all grants, by whom they are given to and what they cover.
type rules struct {
	Lines     []Line
	BySubject [][]rule  // sorted by target; the subject 0 has none
	marks     []marks   // of the targets of each subject's lines
	nearby    uint      // targets whose numbers differ in their last so many bits are neighbours
	ByTarget  [][]offer // by target, for what is nearest to a grant; the target 0 has none
	Subjects  map[SubjectKey]Subject
	Targets   map[TargetKey]Target

	Expectations []Expectation // in the order of their ids

	kin kin
}

type (
	Subject int32
	Target  int32
)

// rule says that a line covers a target.
type rule struct {
	Target Target
	Line   int32
}

// offer is an allow line on a target.
type offer struct {
	rights   uint64 // of the line, sixty-four of which share a bit
	Line     int32
	toGroups int32 // 1 where the grant is given to groups: the way to it has one stop more
}

// SubjectKey names a subject: a user, a group, or, where both are empty, everyone.
type SubjectKey struct {
	user  policy.UserID
	Group policy.UserGroupID
}

// TargetKey names a target: its type, its id and whether what lies below is covered too. The
// zero key is everything.
type TargetKey struct {
	typ   policy.Type
	id    string
	point policy.PointID
	below bool
}

// Line is a line of a grant, compiled.
type Line struct {
	Grant   *policy.Grant
	Number  int // in the grant, from 0
	Deny    bool
	Valid   Period
	Rights  RightSet // given, or taken
	When    []*Schedules
	Ifs     *policy.If
	limited bool
	To      []Subject // those whom the grant is given to
	On      []Target
}

// Limits are those that the line carries; nil for none.
func (l *Line) Limits() map[string]policy.Limit { return l.Grant.Lines[l.Number].Limits }

// marks is a set of neighbourhoods of targets. It rules out most pairs of a user and a device without
// looking at any rule: targets are numbered as grants name them, so that those with close numbers tend
// to concern the same people, and few neighbourhoods hold all that somebody has to do with.
type marks [8]uint64

// neighbourhoods is how many marks tells apart.
const neighbourhoods = 512

// everywhere is a neighbourhood without targets that is in the marks of every user: what lies there is always
// looked at closer.
const everywhere uint16 = 0

// allMarks are the marks of whom every question has to be looked at closer.
var allMarks = func() (m marks) {
	for i := range m {
		m[i] = ^uint64(0)
	}
	return m
}()

func (m *marks) add(b uint16)      { m[b>>6] |= 1 << (b & 63) }
func (m *marks) has(b uint16) bool { return m[b>>6&7]>>(b&63)&1 != 0 }

// vicinity is the marks of what has few: those of three words, which hold most that lie together.
type vicinity struct {
	words [3]uint64
	at    [3]uint8 // their places in the marks
}

// vicinity gives the marks in short; everywhere, where they lie too far apart for that.
func (m *marks) vicinity() (out vicinity) {
	n := 0
	for i, word := range m {
		switch {
		case word == 0:
		case n == len(out.words):
			return vicinity{words: [3]uint64{1 << everywhere}}
		default:
			out.words[n], out.at[n] = word, uint8(i)
			n++
		}
	}
	return out
}

// meet tells whether any of a few neighbourhoods is in the set.
func (m *marks) meet(n *vicinity) bool {
	return m[n.at[0]&7]&n.words[0]|m[n.at[1]&7]&n.words[1]|m[n.at[2]&7]&n.words[2] != 0
}

// fold is a set of neighbourhoods in one word, thirty-two of which share a bit: enough where there are few.
type fold uint32

func (m *marks) fold() fold {
	word := uint64(0)
	for _, w := range m {
		word |= w
	}
	return fold(word | word>>32)
}

// mark is the neighbourhood of a target.
func (r *rules) mark(t Target) uint16 { return uint16(t>>r.nearby) + everywhere + 1 }

func (c *Compiled) compileRules() *rules {
	r := &rules{
		Subjects: map[SubjectKey]Subject{}, Targets: map[TargetKey]Target{},
		BySubject: make([][]rule, 1), ByTarget: make([][]offer, 1),
	}
	for g := range policy.Each[*policy.Grant](c.policy) {
		subjects := r.subjects(&g.To)
		for i := range g.Lines {
			n := int32(len(r.Lines))
			r.Lines = append(r.Lines, c.compileLine(g, i))
			r.Lines[n].To = subjects
			r.Lines[n].On = r.targets(&g.Lines[i].On, g.Lines[i].Depth)
			for _, t := range r.Lines[n].On {
				if l := &r.Lines[n]; !l.Deny {
					r.ByTarget[t] = append(r.ByTarget[t], offer{l.Rights.folded(), n, int32(min(1, len(g.To.Groups)))})
				}
				for _, s := range subjects {
					r.BySubject[s] = append(r.BySubject[s], rule{t, n})
				}
			}
		}
	}
	for e := range policy.Each[*policy.Expectation](c.policy) { // after the grants, so that what lies together stays so
		r.Expectations = append(r.Expectations, c.compileExpectation(r, e))
	}
	for len(r.Targets)>>r.nearby >= neighbourhoods-1 {
		r.nearby++
	}
	r.marks = make([]marks, len(r.BySubject))
	for s, list := range r.BySubject {
		for _, rule := range list {
			r.marks[s].add(r.mark(rule.Target))
		}
		slices.SortFunc(list, func(a, b rule) int { return cmp.Or(cmp.Compare(a.Target, b.Target), cmp.Compare(a.Line, b.Line)) })
	}
	return r
}

func (c *Compiled) compileLine(g *policy.Grant, i int) Line {
	l := &g.Lines[i]
	out := Line{
		Grant: g, Number: i, Deny: g.Effect == policy.Deny, Valid: PeriodOf(g.Valid),
		Rights: c.lineRights(g, l), limited: len(l.Limits) > 0,
	}
	if g.Enabled == policy.Off {
		out.Valid = Period{}
	}
	if len(l.If.Networks)+len(l.If.Places)+len(l.If.States) > 0 || l.If.StrongSignIn != nil || l.If.Attended != nil {
		out.Ifs = &l.If
	}
	out.When = c.schedulesOf(l.When)
	return out
}

func (c *Compiled) schedulesOf(ids []policy.ScheduleID) []*Schedules {
	var out []*Schedules
	for _, id := range ids {
		out = append(out, c.schedules[id])
	}
	return out
}

func (c *Compiled) lineRights(g *policy.Grant, l *policy.Line) RightSet {
	out := make(RightSet, c.Words)
	add := func(ids []policy.RightID) {
		for _, id := range ids {
			n, _ := c.Right(id)
			if g.Effect == policy.Deny {
				out.AddAll(c.RightList[n].takenBy)
			} else {
				out.AddAll(c.RightList[n].gives)
			}
		}
	}
	add(l.Rights)
	for _, id := range l.Roles {
		role, _ := policy.Find[*policy.Role](c.policy, string(id))
		add(role.Rights)
	}
	return out
}

// subjects numbers those whom a grant is given to, or whom an expectation is about.
func (r *rules) subjects(to *policy.To) []Subject {
	var out []Subject
	add := func(k SubjectKey) {
		s, ok := r.Subjects[k]
		if !ok {
			s = Subject(len(r.BySubject))
			r.Subjects[k] = s
			r.BySubject = append(r.BySubject, nil)
		}
		out = append(out, s)
	}
	if to.Everyone {
		add(SubjectKey{})
	}
	for _, id := range to.Groups {
		add(SubjectKey{Group: id})
	}
	for _, id := range to.Users {
		add(SubjectKey{user: id})
	}
	return out
}

// targets numbers what a line, or an expectation, covers.
func (r *rules) targets(on *policy.Where, depth policy.Depth) []Target {
	var out []Target
	add := func(k TargetKey) {
		if r.Targets[k] == 0 {
			r.Targets[k] = Target(len(r.ByTarget))
			r.ByTarget = append(r.ByTarget, nil)
		}
		out = append(out, r.Targets[k])
	}
	below := depth != policy.Here
	if on.Everything {
		add(TargetKey{})
	}
	for _, id := range on.Sites {
		add(TargetKey{typ: policy.Sites, id: string(id), below: below})
	}
	for _, id := range on.DeviceGroups {
		add(TargetKey{typ: policy.DeviceGroups, id: string(id), below: below})
	}
	for _, id := range on.Devices {
		add(deviceTarget(id, ""))
	}
	for _, ref := range on.Points {
		d, p, _ := policy.SplitPoint(string(ref))
		add(deviceTarget(d, p))
	}
	return out
}

func deviceTarget(id policy.DeviceID, p policy.PointID) TargetKey {
	return TargetKey{typ: policy.Devices, id: string(id), point: p}
}
