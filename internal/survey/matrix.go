package survey

import (
	"encoding/binary"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Who is a row of a matrix: a user, or somebody who is in a group and in no other.
type Who struct {
	User  policy.UserID
	Group policy.UserGroupID
}

// What is a column of a matrix: a device, or all devices of a device group or a site and below.
type What struct {
	Device policy.DeviceID
	Group  policy.DeviceGroupID
	Site   policy.SiteID
}

// Cell is what a row may do in a column.
type Cell struct {
	Rights []policy.RightID // on all devices of the column
	Some   []policy.RightID // on some of them but not on all
	Later  []policy.RightID // on none now, but on some of them later
	If     []policy.RightID // on none now or later, but on some of them in other circumstances
}

// Matrix is rows by columns. As few cells differ, each is given as a number into Kinds.
type Matrix struct {
	Kinds []Cell
	Cells [][]int32 // by row and column; rows that agree share one list
}

// Matrix finds the rights of every row in every column, in the degrees that are asked for. A row or column that is not there has none.
func (c Survey) Matrix(rows []Who, columns []What, in Circumstances) Matrix {
	m := &matrix{c: c, in: in, numbers: map[string]int32{}, nothing: -1}
	m.wanted, _ = c.wanted(in.Right)
	m.survey = c.survey(in, m.wanted)
	m.sheet = newSheet(c, in)
	m.layOut(columns)
	m.makeRoom()
	known := map[int32][]int32{}
	for _, row := range rows {
		var who *decision.UserClass
		number := int32(-1)
		if row.Group != "" {
			who = c.MemberOf(row.Group)
		} else if s := c.Users.Where.Find(string(row.User)); s != nil {
			who, number = c.Users.Classes.At(s.Class), s.Class
		}
		cells, ok := known[number]
		if !ok || number < 0 {
			cells = m.row(who)
			known[number] = cells
		}
		m.out.Cells = append(m.out.Cells, cells)
	}
	return m.out
}

type matrix struct {
	c        Survey
	in       Circumstances
	wanted   decision.RightSet
	sheet    *sheet
	classes  []int32   // of devices, each once
	columns  [][]int32 // places in classes
	numbers  map[string]int32
	survey   *survey
	key      []byte
	devices  []*decision.DeviceClass // by place in classes
	covers   [][]int32               // places in classes, by the targets that cover them
	visit    []int32                 // of the row at hand: the places that any of its lines covers
	possible decision.RightSet       // by place in classes
	have     decision.RightSet       // of the row at hand, by place in classes
	then     decision.RightSet       // later
	could    decision.RightSet       // in other circumstances
	some     []bool                  // whether there is anything in them
	nothing  int32                   // the number of the empty cell; -1: not known yet
	out      Matrix
}

// layOut finds the classes of devices in each column.
func (m *matrix) layOut(columns []What) {
	place := map[int32]int32{}
	within := m.insides(columns)
	for _, column := range columns {
		var list []int32
		switch {
		case column.Group != "":
			list = within.groups[column.Group]
		case column.Site != "":
			list = within.sites[column.Site]
		default:
			if s := m.c.Devices.Where.Find(string(column.Device)); s != nil {
				list = []int32{s.Class}
			}
		}
		var at []int32
		for _, n := range list {
			i, ok := place[n]
			if !ok {
				i = int32(len(m.classes))
				place[n] = i
				m.classes = append(m.classes, n)
			}
			at = append(at, i)
		}
		m.columns = append(m.columns, at)
	}
}

type insides struct {
	groups map[policy.DeviceGroupID][]int32
	sites  map[policy.SiteID][]int32
}

// insides lists the classes of devices in the groups and sites that are columns.
func (m *matrix) insides(columns []What) insides {
	out := insides{map[policy.DeviceGroupID][]int32{}, map[policy.SiteID][]int32{}}
	for _, column := range columns {
		if column.Group != "" {
			out.groups[column.Group] = nil
		}
		if column.Site != "" {
			out.sites[column.Site] = nil
		}
	}
	if len(out.groups)+len(out.sites) == 0 {
		return out
	}
	for n := range m.c.Devices.Inhabited {
		facts := m.c.Devices.Classes.At(n).Facts
		for _, id := range m.c.Places.Chains[facts.Site] {
			if list, ok := out.sites[policy.SiteID(id)]; ok {
				out.sites[policy.SiteID(id)] = append(list, n)
			}
		}
		for _, id := range m.c.GroupsOf(facts) {
			if list, ok := out.groups[id]; ok {
				out.groups[id] = append(list, n)
			}
		}
	}
	return out
}

// makeRoom prepares what is the same for all rows.
func (m *matrix) makeRoom() {
	words, n := m.c.Words, len(m.classes)
	m.have, m.then, m.could, m.possible = make(decision.RightSet, words*n), make(decision.RightSet, words*n), make(decision.RightSet, words*n), make(decision.RightSet, words*n)
	m.some = make([]bool, n)
	m.covers = make([][]int32, len(m.c.ByTarget))
	for i, number := range m.classes {
		what := m.c.Devices.Classes.At(number)
		m.devices = append(m.devices, what)
		m.c.exercisable(what, m.sheet.question.Moment, m.wanted, m.possible[i*words:(i+1)*words])
		for _, t := range what.Facts.Targets {
			m.covers[t] = append(m.covers[t], int32(i))
		}
	}
}

func (m *matrix) row(who *decision.UserClass) []int32 {
	cells := make([]int32, len(m.columns))
	if who == nil {
		nothing := m.empty()
		for i := range cells {
			cells[i] = nothing
		}
		return cells
	}
	m.sheet.begin(who)
	words := m.c.Words
	nothing := m.empty()
	have, later, could, some := m.have, m.then, m.could, m.some
	for _, i := range m.visit {
		some[i] = false
	}
	m.visits(who)
	for _, at := range m.visit { // the others have nothing to do with each other
		i := int(at)
		some[i] = false
		what := m.devices[i]
		given, hope := m.sheet.rights(what, m.possible[i*words:(i+1)*words])
		if given == nil {
			continue
		}
		some[i] = true
		clear(later[i*words : (i+1)*words])
		clear(could[i*words : (i+1)*words])
		copy(have[i*words:], given)
		if m.in.Degrees == 0 || hope.Within(given) {
			continue
		}
		for k, p := range m.survey.prospects(m.sheet.asked(what)) {
			switch p.Degree {
			case Later:
				later[i*words:].Add(k)
			case If:
				could[i*words:].Add(k)
			}
		}
	}
	set := newCells(words)
	for col, at := range m.columns {
		any := false
		for _, i := range at {
			any = any || some[i]
		}
		if !any {
			cells[col] = nothing
			continue
		}
		set.begin()
		for _, i := range at {
			if !some[i] {
				clear(set.all)
				continue
			}
			at := int(i) * words
			set.add(have[at:at+words], later[at:at+words], could[at:at+words])
		}
		set.end()
		cells[col] = m.number(set.all, set.some, set.later, set.could)
	}
	return cells
}

// visits finds the places that lines of a user cover, at some time.
func (m *matrix) visits(who *decision.UserClass) {
	m.visit = m.visit[:0]
	for _, h := range who.Held {
		last := decision.Target(0)
		for _, r := range m.c.BySubject[h.Subject] {
			if r.Target == last {
				continue
			}
			last = r.Target
			for _, i := range m.covers[r.Target] {
				if !m.some[i] {
					m.some[i] = true
					m.visit = append(m.visit, i)
				}
			}
		}
	}
}

// cellSets gathers what holds in the classes of a column.
type cellSets struct{ all, some, later, could decision.RightSet }

func newCells(words int) *cellSets {
	return &cellSets{make(decision.RightSet, words), make(decision.RightSet, words), make(decision.RightSet, words), make(decision.RightSet, words)}
}

func (s *cellSets) begin() {
	for w := range s.all {
		s.all[w], s.some[w], s.later[w], s.could[w] = ^uint64(0), 0, 0, 0
	}
}

func (s *cellSets) add(have, later, could decision.RightSet) {
	for w := range s.all {
		s.all[w] &= have[w]
		s.some[w] |= have[w]
		s.later[w] |= later[w]
		s.could[w] |= could[w]
	}
}

func (s *cellSets) end() {
	for w := range s.all {
		s.later[w] &^= s.some[w]
		s.could[w] &^= s.some[w] | s.later[w]
		s.some[w] &^= s.all[w]
	}
}

// empty gives the number of the cell with nothing in it.
func (m *matrix) empty() int32 {
	if m.nothing < 0 {
		m.nothing = m.number(make(decision.RightSet, m.c.Words), nil, nil, nil)
	}
	return m.nothing
}

// number gives the number of a cell like this one.
func (m *matrix) number(all, some, later, could decision.RightSet) int32 {
	key := m.key[:0]
	for _, set := range []decision.RightSet{all, some, later, could} {
		for w := range all { // nil is the empty set
			word := uint64(0)
			if set != nil {
				word = set[w]
			}
			key = binary.LittleEndian.AppendUint64(key, word)
		}
	}
	m.key = key
	n, ok := m.numbers[string(key)]
	if !ok {
		n = int32(len(m.out.Kinds))
		m.numbers[string(key)] = n
		cell := Cell{Rights: m.c.rightIDs(all)}
		if some != nil {
			cell.Some, cell.Later, cell.If = m.c.rightIDs(some), m.c.rightIDs(later), m.c.rightIDs(could)
		}
		m.out.Kinds = append(m.out.Kinds, cell)
	}
	return n
}

// sheet finds the rights of one user after the other on many devices: what lines give and take is laid out by
// target once a user, so that a device costs a look at each of its targets.
type sheet struct {
	c        Survey
	question decision.ResolvedQuery
	in       Circumstances
	force    map[climate][]bool // lines that are in force but for the right, by climate
	room     map[climate]*targets
	set      sets
	hope     decision.RightSet

	last        *targets
	lastClimate climate
}

// climate is what of a device decides whether a line is in force.
type climate struct {
	clock uint16
	state policy.State
}

// targets is what the lines of one user give and take, by target.
type targets struct {
	given, taken decision.RightSet // words of all targets, one after the other
	hope         decision.RightSet // what lines give at some time
	marked       []decision.Target
	ready        bool
}

func newSheet(c Survey, in Circumstances) *sheet {
	return &sheet{c: c, question: *c.asking(in), in: in, force: map[climate][]bool{}, room: map[climate]*targets{}, set: c.newSets(), hope: make(decision.RightSet, c.Words)}
}

// begin turns to another user.
func (s *sheet) begin(who *decision.UserClass) {
	s.question.Who = who
	for _, t := range s.room {
		t.ready = false
	}
}

func (s *sheet) asked(what *decision.DeviceClass) *decision.ResolvedQuery {
	s.question.What, s.question.PointTarget = what, 0
	return &s.question
}

// rights gives what the user may do on a device, and what lines would give at some time; nil where no line concerns both.
// Both last until the next call.
// possible are the rights that can be exercised on the device, as [Compiled.exercisable] finds them.
func (s *sheet) rights(what *decision.DeviceClass, possible decision.RightSet) (given, hope decision.RightSet) {
	c, a := s.c, &s.question
	a.What, a.PointTarget = what, 0
	if !a.Prefilter() {
		return nil, nil
	}
	clear(s.set.given)
	clear(s.set.taken)
	clear(s.hope)
	k := climate{what.Clock, what.Facts.State}
	if s.last == nil || s.lastClimate != k || !s.last.ready { // most devices share one
		s.last, s.lastClimate = s.laidOut(k), k
	}
	t := s.last
	for _, target := range what.Facts.Targets {
		for w := range s.hope {
			i := int(target)*c.Words + w
			s.set.given[w] |= t.given[i]
			s.set.taken[w] |= t.taken[i]
			s.hope[w] |= t.hope[i]
		}
	}
	_, barred := a.Who.Barred(a.Moment)
	switch {
	case barred || what.Retired:
		clear(s.set.given)
	case c.DirectFirst && a.Who.Self != 0: // which lines count depends on the device
		c.allowed(a, possible, &s.set)
	default:
		for w := range possible {
			s.set.given[w] &= possible[w] &^ s.set.taken[w]
		}
	}
	return s.set.given, s.hope
}

func (s *sheet) laidOut(k climate) *targets {
	c := s.c
	t := s.room[k]
	if t == nil {
		n := c.Words * (len(c.Targets) + 1)
		t = &targets{given: make(decision.RightSet, n), taken: make(decision.RightSet, n), hope: make(decision.RightSet, n)}
		s.room[k] = t
	}
	if t.ready {
		return t
	}
	for _, m := range t.marked {
		for i := int(m) * c.Words; i < int(m+1)*c.Words; i++ {
			t.given[i], t.taken[i], t.hope[i] = 0, 0, 0
		}
	}
	t.marked, t.ready = t.marked[:0], true
	force := s.inForce(k)
	for _, h := range s.question.Who.Held {
		now := h.Period.Holds(s.question.Moment)
		for _, r := range c.BySubject[h.Subject] {
			l := &c.Lines[r.Line]
			t.marked = append(t.marked, r.Target)
			for w, word := range l.Rights {
				i := int(r.Target)*c.Words + w
				switch {
				case !l.Deny:
					t.hope[i] |= word
					if now && force[r.Line] {
						t.given[i] |= word
					}
				case now && force[r.Line]:
					t.taken[i] |= word
				}
			}
		}
	}
	return t
}

func (s *sheet) inForce(k climate) []bool {
	if out, ok := s.force[k]; ok {
		return out
	}
	out := make([]bool, len(s.c.Lines))
	a := s.question
	for i := range s.c.Lines {
		l := &s.c.Lines[i]
		out[i] = l.Valid.Holds(a.Moment) && (len(l.When) == 0 || s.c.Open(l, &a)) && (l.Ifs == nil || s.c.ConditionsMet(l, &a))
	}
	s.force[k] = out
	return out
}
