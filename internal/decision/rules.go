package decision

import (
	"cmp"
	"slices"

	"sentier/internal/policy"
)

// rules are the lines of all grants, by whom they are given to and what they cover.
type rules struct {
	lines     []line
	bySubject [][]rule  // sorted by target; the subject 0 has none
	marks     []marks   // of the targets of each subject's lines
	nearby    uint      // targets whose numbers differ in their last so many bits are neighbours
	byTarget  [][]offer // by target, for what is nearest to a grant; the target 0 has none
	subjects  map[subjectKey]subject
	targets   map[targetKey]target
}

type (
	subject int32
	target  int32
)

// rule says that a line covers a target.
type rule struct {
	target target
	line   int32
}

// offer is an allow line on a target.
type offer struct {
	rights   uint64 // of the line, sixty-four of which share a bit
	line     int32
	toGroups int32 // 1 where the grant is given to groups: the way to it has one stop more
}

// subjectKey names a subject: a user, a group, or, where both are empty, everyone.
type subjectKey struct {
	user  policy.UserID
	group policy.UserGroupID
}

// targetKey names a target: its type, its id and whether what lies below is covered too. The
// zero key is everything.
type targetKey struct {
	typ   policy.Type
	id    string
	point policy.PointID
	below bool
}

type line struct {
	grant   *policy.Grant
	number  int // in the grant, from 0
	deny    bool
	valid   period
	rights  rightSet // given, or taken
	when    []*schedules
	ifs     *policy.If
	limited bool
	to      []subject // those whom the grant is given to
	on      []target
}

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
func (r *rules) mark(t target) uint16 { return uint16(t>>r.nearby) + everywhere + 1 }

func (c *Compiled) compileRules() *rules {
	r := &rules{
		subjects: map[subjectKey]subject{}, targets: map[targetKey]target{},
		bySubject: make([][]rule, 1), byTarget: make([][]offer, 1),
	}
	for g := range policy.Each[*policy.Grant](c.policy) {
		subjects := r.grantSubjects(g)
		for i := range g.Lines {
			n := int32(len(r.lines))
			r.lines = append(r.lines, c.compileLine(g, i))
			r.lines[n].to = subjects
			r.lines[n].on = r.lineTargets(&g.Lines[i])
			for _, t := range r.lines[n].on {
				if l := &r.lines[n]; !l.deny {
					r.byTarget[t] = append(r.byTarget[t], offer{l.rights.folded(), n, int32(min(1, len(g.To.Groups)))})
				}
				for _, s := range subjects {
					r.bySubject[s] = append(r.bySubject[s], rule{t, n})
				}
			}
		}
	}
	for len(r.targets)>>r.nearby >= neighbourhoods-1 {
		r.nearby++
	}
	r.marks = make([]marks, len(r.bySubject))
	for s, list := range r.bySubject {
		for _, rule := range list {
			r.marks[s].add(r.mark(rule.target))
		}
		slices.SortFunc(list, func(a, b rule) int { return cmp.Or(cmp.Compare(a.target, b.target), cmp.Compare(a.line, b.line)) })
	}
	return r
}

func (c *Compiled) compileLine(g *policy.Grant, i int) line {
	l := &g.Lines[i]
	out := line{
		grant: g, number: i, deny: g.Effect == policy.Deny, valid: periodOf(g.Valid),
		rights: c.lineRights(g, l), limited: len(l.Limits) > 0,
	}
	if g.Enabled == policy.Off {
		out.valid = period{}
	}
	if len(l.If.Networks)+len(l.If.Places)+len(l.If.States) > 0 || l.If.StrongSignIn != nil || l.If.Attended != nil {
		out.ifs = &l.If
	}
	for _, id := range l.When {
		out.when = append(out.when, c.schedules[id])
	}
	return out
}

func (c *Compiled) lineRights(g *policy.Grant, l *policy.Line) rightSet {
	out := make(rightSet, c.words)
	add := func(ids []policy.RightID) {
		for _, id := range ids {
			n, _ := c.right(id)
			if g.Effect == policy.Deny {
				out.addAll(c.rightList[n].takenBy)
			} else {
				out.addAll(c.rightList[n].gives)
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

// grantSubjects numbers those that a grant is given to.
func (r *rules) grantSubjects(g *policy.Grant) []subject {
	var out []subject
	add := func(k subjectKey) {
		s, ok := r.subjects[k]
		if !ok {
			s = subject(len(r.bySubject))
			r.subjects[k] = s
			r.bySubject = append(r.bySubject, nil)
		}
		out = append(out, s)
	}
	if g.To.Everyone {
		add(subjectKey{})
	}
	for _, id := range g.To.Groups {
		add(subjectKey{group: id})
	}
	for _, id := range g.To.Users {
		add(subjectKey{user: id})
	}
	return out
}

// lineTargets numbers what a line covers.
func (r *rules) lineTargets(l *policy.Line) []target {
	var out []target
	add := func(k targetKey) {
		if r.targets[k] == 0 {
			r.targets[k] = target(len(r.byTarget))
			r.byTarget = append(r.byTarget, nil)
		}
		out = append(out, r.targets[k])
	}
	below := l.Depth != policy.Here
	if l.On.Everything {
		add(targetKey{})
	}
	for _, id := range l.On.Sites {
		add(targetKey{typ: policy.Sites, id: string(id), below: below})
	}
	for _, id := range l.On.DeviceGroups {
		add(targetKey{typ: policy.DeviceGroups, id: string(id), below: below})
	}
	for _, id := range l.On.Devices {
		add(deviceTarget(id, ""))
	}
	for _, ref := range l.On.Points {
		d, p, _ := policy.SplitPoint(string(ref))
		add(deviceTarget(d, p))
	}
	return out
}

func deviceTarget(id policy.DeviceID, p policy.PointID) targetKey {
	return targetKey{typ: policy.Devices, id: string(id), point: p}
}
