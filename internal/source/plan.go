package source

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"sentier/internal/policy"
)

// Matched is what a mapping, or a rule, comes to: whether the source has the group, and how many people are in it.
type Matched struct {
	Outside  string // as it is mapped, or as the group is called that a rule fits
	Place    string
	Group    string // ours
	Calendar string // or that calendar of ours
	Rule     bool
	Make     bool // it is to be made
	Found    bool
	Members  int
	Near     string // the group that was probably meant, where there is none
	NearBy   int    // how many people are in that
	Why      string // of a mapping that is not found: "", "missing" or "ambiguous"
}

// Plan is what comes of what a source holds.
type Plan struct {
	Changes []policy.Change
	Origins []Origin // that are new, or other than they were
	Lost    []Origin
	Joined  []Member
	Left    []Member
	Told    []Problem
	Matched []Matched // the mappings, and what the rules fit
	Loose   []Matched // groups of the source that nothing maps
	People  int       // who come
	Faults  []Problem // why nothing of it counts

	Calendars []CalendarDays

	NewUsers, ChangedUsers, GoneUsers, BackUsers int
	UsersBefore, MembersBefore                   int
	NewDays, GoneDays, DaysBefore                int // of calendars, from the first day of the span on

	ThingsRead, NewThings, ChangedThings, GoneThings, ThingsBefore int // devices and sites
	share                                                          int
}

// TooMany tells whether more would go at once than the settings let.
func (p *Plan) TooMany() bool {
	over := func(gone, of int) bool { return gone > alwaysMay && gone*100 > of*p.share }
	return over(p.GoneUsers, p.UsersBefore) || over(len(p.Left), p.MembersBefore) || over(p.GoneDays, p.DaysBefore) || over(p.GoneThings, p.ThingsBefore)
}

// Going is what would go by a source, as far as it bears on whether that is too many.
func Going(set *Intake, people, ofPeople, members, ofMembers int) *Plan {
	return &Plan{GoneUsers: people, UsersBefore: ofPeople, Left: make([]Member, members), MembersBefore: ofMembers, share: cmp.Or(set.Share, DefaultShare)}
}

// planner works a plan out.
type planner struct {
	Plan
	policy   *policy.Policy
	known    *Known
	source   string
	settings *Intake
	held     *Held

	users map[string]string // by outside id: our id of those who come
	mails map[string]int    // how many people have an address once all have come
	gone  map[string]bool   // users who are removed
	left  *policy.Policy    // without those who are removed

	// Of devices and sites.
	made      map[thing]string                    // our ids
	taken     map[record]bool                     // by those that come
	names     map[policy.Type]map[string][]string // ids of records, by their ids and names
	withSites *policy.Policy                      // with those sites that come
	newSites  []policy.Change                     // that are not in it yet
}

// Make works out what comes of what a source holds.
func Make(p *policy.Policy, known *Known, source string, settings *Intake, held *Held) Plan {
	w := &planner{policy: p, known: known, source: source, settings: settings, held: held, users: map[string]string{}, gone: map[string]bool{}, mails: map[string]int{}, left: p}
	w.share = cmp.Or(settings.Share, DefaultShare)
	w.Told = slices.Clone(held.Told)
	n := known.Counts(source)
	w.UsersBefore, w.MembersBefore = n.Users, n.Members
	feeds := w.match()
	w.people(feeds)
	w.members(feeds)
	w.calendars()
	w.things()
	return w.Plan
}

func (w *planner) tell(place, form string, args ...any) {
	w.Told = append(w.Told, Problem{place, policy.Say(form, args...)})
}

// feed is that a group of the source feeds one of ours.
type feed struct {
	from *Group
	to   string
}

// match finds which groups of the source feed which of ours.
func (w *planner) match() (out []feed) {
	byName, byPlace := map[string][]*Group{}, map[string]*Group{}
	var names []string
	for i := range w.held.Groups {
		g := &w.held.Groups[i]
		name := policy.FoldName(g.Name)
		byName[name] = append(byName[name], g)
		names = append(names, g.Name)
		byPlace[foldPlace(g.Place)] = g
	}
	mapped := map[*Group]bool{}
	for _, m := range w.settings.Groups {
		row := Matched{Outside: m.Outside, Group: m.Group}
		found := byName[policy.FoldName(m.Outside)]
		if g := byPlace[foldPlace(m.Outside)]; g != nil && foldPlace(m.Outside) != "" {
			found = []*Group{g}
		}
		switch len(found) {
		case 1:
			row.Found, row.Place, row.Members = true, found[0].Place, len(found[0].Members)
			mapped[found[0]] = true
			out = append(out, feed{found[0], m.Group})
		case 0:
			row.Why, row.Near = "missing", nearName(m.Outside, names)
			if row.Near != "" {
				row.NearBy = len(byName[policy.FoldName(row.Near)][0].Members)
			}
		default:
			row.Why = "ambiguous"
		}
		w.Matched = append(w.Matched, row)
	}
	made := map[string]string{} // by id of a group that a rule makes: its name
	for i := range w.held.Groups {
		g := &w.held.Groups[i]
		if mapped[g] {
			continue
		}
		row, to, ok := w.byRule(g, made)
		if ok {
			out = append(out, feed{g, to})
		}
		if row.Group != "" {
			w.Matched = append(w.Matched, row)
		} else {
			w.Loose = append(w.Loose, row)
		}
	}
	return out
}

// byRule finds the first rule that a group fits.
func (w *planner) byRule(g *Group, made map[string]string) (row Matched, to string, ok bool) {
	row = Matched{Outside: g.Name, Place: g.Place, Members: len(g.Members), Found: true}
	for _, rule := range w.settings.Rules {
		rest, fits := rule.fits(g)
		if !fits {
			continue
		}
		to := strings.Replace(rule.Group, "*", policy.MakeID(rest, func(string) bool { return false }), 1)
		row.Group, row.Rule = to, true
		if _, there := policy.Find[*policy.UserGroup](w.policy, to); there || made[to] != "" {
			return row, to, true
		}
		if !rule.Make {
			row.Found, row.Why = false, "missing"
			w.tell(g.Place, "%s fits a rule, but there is no user group %q: make it, or let the rule make it", g.Name, to)
			return row, to, false
		}
		group := &policy.UserGroup{ID: policy.UserGroupID(to), Name: Plain(g.Name), Enabled: policy.On}
		if !w.sound(g.Place, w.policy, group) {
			row.Found = false
			return row, to, false
		}
		row.Make, made[to] = true, g.Name
		w.Changes = append(w.Changes, policy.Change{Op: policy.Put, Type: policy.UserGroups, ID: to, Record: group})
		w.Origins = append(w.Origins, Origin{Source: w.source, Type: policy.UserGroups, Outside: g.Outside, Record: to, Place: g.Place, Made: true})
		return row, to, true
	}
	return row, "", false
}

// sound tells whether a record can be put beside those of a policy, and says why where it cannot.
func (w *planner) sound(place string, beside *policy.Policy, r policy.Record) bool {
	_, _, err := beside.Apply([]policy.Change{{Op: policy.Put, Type: r.Type(), ID: r.Key(), Record: r}})
	if err == nil {
		return true
	}
	w.tell(place, "%v", policy.SaidBy(err))
	return false
}

// nearName finds the name that was probably meant: letter by letter, or but for spaces and hyphens.
func nearName(name string, names []string) string {
	plain := func(s string) string {
		return strings.Map(func(r rune) rune {
			if strings.ContainsRune(" -_.", r) {
				return -1
			}
			return r
		}, policy.FoldName(s))
	}
	for _, other := range names {
		if plain(other) == plain(name) {
			return other
		}
	}
	return policy.Nearest(name, names)
}

// String tells a problem in English.
func (p Problem) String() string { return fmt.Sprintf("%s: %s", p.Place, p.Why.Error()) }
