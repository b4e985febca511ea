package answers

import (
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"sentier/internal/policy"
	"sentier/internal/service"
	"sentier/internal/survey"
	"sentier/internal/wire"
)

// Query selects a page of a list.
type Query struct {
	Limit  int    // 1 to MaxPage; 0: DefaultPage
	Cursor string // where the page before ended
	Search string // a word that the id, the name or another text of a record holds
	Sort   string // a field, with - before it from the end; empty: by id
	Filter map[string]string
	Short  bool // long lists are counted, not told
}

// Bounds of a page.
const (
	DefaultPage = 50
	MaxPage     = 1000
)

// filter is a question that can narrow a list down.
type filter func(st *service.State, r policy.Record, want string) bool

// filters are those of each type, by name: every field that a word can be held against, and what stands in moreFilters. What is one of few
// things or refers to a record has to be the word; a text has to hold it; of a list, one entry has to be it.
var filters = func() map[policy.Type]map[string]filter {
	out := map[policy.Type]map[string]filter{}
	for _, t := range policy.Types() {
		out[t] = map[string]filter{}
		for _, f := range policy.Describe(t).Fields {
			if test := filterOf(f); test != nil {
				out[t][f.Name] = test
			}
		}
		maps.Copy(out[t], moreFilters[t])
	}
	return out
}()

// filterOf is the question whether a field is, holds or lists a word; nil where it is nothing that one word says.
func filterOf(f policy.Field) filter {
	value := func(r policy.Record) reflect.Value { return f.In(reflect.ValueOf(r).Elem()) }
	one := map[policy.FieldKind]func(have reflect.Value, want string) bool{
		policy.ChoiceField: func(have reflect.Value, want string) bool { return have.String() == want },
		policy.RefField: func(have reflect.Value, want string) bool {
			return have.String() == want || want == Unsorted && have.String() == ""
		},
		policy.SwitchField: func(have reflect.Value, want string) bool {
			return strconv.FormatBool(have.Interface().(policy.Switch) == policy.On) == want
		},
		policy.BoolField: func(have reflect.Value, want string) bool { return strconv.FormatBool(have.Bool()) == want },
		policy.TextField: holds,
		policy.IDField:   holds,
		policy.ZoneField: holds,
	}[f.Kind]
	switch {
	case one == nil:
		return nil
	case !f.Many:
		return func(_ *service.State, r policy.Record, want string) bool { return one(value(r), want) }
	}
	return func(_ *service.State, r policy.Record, want string) bool {
		list := value(r)
		for i := range list.Len() {
			if entry := list.Index(i); entry.String() == want || f.Kind == policy.TextField && policy.FoldName(entry.String()) == policy.FoldName(want) {
				return true
			}
		}
		return false
	}
}

func holds(have reflect.Value, want string) bool {
	return strings.Contains(policy.FoldName(have.String()), policy.FoldName(want))
}

var moreFilters = map[policy.Type]map[string]filter{
	policy.Users: {
		"group": func(st *service.State, r policy.Record, want string) bool {
			g, ok := policy.Find[*policy.UserGroup](st.Policy, want)
			return ok && g.IsMember(r.(*policy.User).ID)
		},
	},
	policy.Devices: {
		"tag": func(_ *service.State, r policy.Record, want string) bool {
			return slices.Contains(r.(*policy.Device).Tags, want)
		},
		"site": func(st *service.State, r policy.Record, want string) bool {
			return want == Unsorted && r.(*policy.Device).Site == "" || liesIn(st.Policy, r.(*policy.Device).Site, want)
		},
		"group": func(st *service.State, r policy.Record, want string) bool {
			return st.Compiled.InGroup(r.(*policy.Device), policy.DeviceGroupID(want))
		},
	},
}

// Filters lists the names of the questions that can narrow the list of a type down.
func Filters(typeName string) []string {
	t, _ := policy.TypeNamed(typeName)
	return slices.Sorted(maps.Keys(filters[t]))
}

// Unsorted stands, among what a record may refer to, for nothing: devices of no site, sites within none.
const Unsorted = "-"

// Counts counts the devices of every site and device group.
func (s Service) Counts(c service.Caller) (survey.Counts, error) {
	st := s.State()
	if err := s.Permit(st, c, service.Read, ""); err != nil {
		return survey.Counts{}, err
	}
	out := survey.Of(st.Compiled).Count()
	v := s.View(st, c)
	maps.DeleteFunc(out.Sites, func(id policy.SiteID, _ survey.Count) bool { return !v.Site(id) })
	maps.DeleteFunc(out.DeviceGroups, func(id policy.DeviceGroupID, _ survey.Count) bool {
		_, seen := v.Get(policy.DeviceGroups, string(id))
		return !seen
	})
	if !v.Whole() {
		out.Unsorted = 0
	}
	return out, nil
}

// liesIn tells whether a site is another or lies below it.
func liesIn(p *policy.Policy, site policy.SiteID, other string) bool {
	for site != "" && string(site) != other {
		s, ok := policy.Find[*policy.Site](p, string(site))
		if !ok {
			return false
		}
		site = s.Parent
	}
	return site != ""
}

// List gives a page of the records of a type.
func (s Service) List(c service.Caller, typeName string, q Query) (wire.List[policy.Record], error) {
	out, err := s.list(c, typeName, q)
	if t, _ := policy.TypeNamed(typeName); err != nil || !q.Short || policy.Describe(t).LongList == "" {
		return out, err
	}
	out.Entries = map[string]int{}
	for i, r := range out.Items {
		out.Items[i] = policy.Short(r)
		if n := len(policy.LongEntries(r)); n > 0 {
			out.Entries[r.Key()] = n
		}
	}
	return out, nil
}

func (s Service) list(c service.Caller, typeName string, q Query) (out wire.List[policy.Record], err error) {
	out = wire.List[policy.Record]{Items: []policy.Record{}}
	st := s.State()
	t, known := policy.TypeNamed(typeName)
	if !known {
		return out, service.ErrNotFound
	}
	if err := s.Permit(st, c, service.Read, ""); err != nil {
		return out, err
	}
	if q.Limit == 0 {
		q.Limit = DefaultPage
	}
	if q.Limit < 1 || q.Limit > MaxPage {
		return out, service.Wrong("limit", "%d is out of range: a page has 1 to %d records", q.Limit, MaxPage)
	}
	place := cursorOf("list", typeName, q.Search, q.Filter, q.Sort)
	if q.Cursor, err = place.read("cursor", q.Cursor); err != nil {
		return out, err
	}
	defer func() {
		if out.Next != "" {
			out.Next = place.after(out.Next)
		}
	}()
	tests, err := selection(st, t, q)
	if err != nil {
		return out, err
	}
	v := s.View(st, c)
	if q.Sort != "" {
		sorted, err := sortingOf(t, q.Sort, q.Cursor, q.Limit)
		if err != nil {
			return out, err
		}
		for r := range v.All(t) {
			if passes(tests, r) {
				out.Total++
				sorted.show(st.Policy, r)
			}
		}
		records, next, err := sorted.page()
		out.Items, out.Next = append(out.Items, records...), next
		return out, err
	}
	if len(tests) == 0 {
		out.Total = v.Len(t)
		for r := range v.After(t, q.Cursor) {
			if len(out.Items) == q.Limit {
				out.Next = out.Items[q.Limit-1].Key()
				break
			}
			out.Items = append(out.Items, r)
		}
		return out, nil
	}
	for r := range v.All(t) {
		if passes(tests, r) {
			out.Total++
			switch {
			case r.Key() <= q.Cursor:
			case len(out.Items) < q.Limit:
				out.Items = append(out.Items, r)
			case out.Next == "":
				out.Next = out.Items[q.Limit-1].Key()
			}
		}
	}
	return out, nil
}

func passes(tests []func(policy.Record) bool, r policy.Record) bool {
	return !slices.ContainsFunc(tests, func(test func(policy.Record) bool) bool { return !test(r) })
}

func selection(st *service.State, t policy.Type, q Query) ([]func(policy.Record) bool, error) {
	var tests []func(policy.Record) bool
	for name, want := range q.Filter {
		test, ok := filters[t][name]
		if !ok {
			return nil, service.Wrong(name, "%s cannot be narrowed down by it", t)
		}
		tests = append(tests, func(r policy.Record) bool { return test(st, r, want) })
	}
	if q.Search != "" {
		word := policy.FoldName(q.Search)
		tests = append(tests, func(r policy.Record) bool {
			return slices.ContainsFunc(policy.Searchable(r), func(text string) bool { return strings.Contains(policy.FoldName(text), word) })
		})
	}
	return tests, nil
}

// Tag is the entity tag of a record as a whole, also where a caller is shown a part of it.
func (s Service) Tag(r policy.Record) string {
	if whole, ok := s.State().Policy.Get(r.Type(), r.Key()); ok {
		return service.Tag(whole)
	}
	return service.Tag(r)
}

// Get gives one record.
func (s Service) Get(c service.Caller, typeName, id string) (policy.Record, error) {
	st := s.State()
	t, known := policy.TypeNamed(typeName)
	if !known {
		return nil, service.ErrNotFound
	}
	r, ok := s.View(st, c).Get(t, id)
	if !ok { // or may not be seen, which is the same
		return nil, service.ErrNotFound
	}
	return r, nil
}

// Mentions lists what refers to a record.
func (s Service) Mentions(c service.Caller, typeName, id string) ([]wire.Mention, error) {
	r, err := s.Get(c, typeName, id)
	if err != nil {
		return nil, err
	}
	out := []wire.Mention{}
	st := s.State()
	v := s.View(st, c)
	for _, m := range st.Policy.Mentions(r.Type(), id) {
		if !v.Sees(m.By) {
			continue
		}
		out = append(out, wire.Mention{Type: m.By.Type().String(), ID: m.By.Key(), Name: m.By.Title(), Field: m.Field})
	}
	return out, nil
}

// maxNames is how many records of a type are few enough to name all at once.
const maxNames = 5000

// Names gives the names of some records, written type/id; of none, those of each type that has few: what a page needs to show what
// a record refers to.
func (s Service) Names(c service.Caller, of []string) (map[string]map[string]string, error) {
	st := s.State()
	if err := s.Permit(st, c, service.Read, ""); err != nil {
		return nil, err
	}
	out, v := map[string]map[string]string{}, s.View(st, c)
	if len(of) > MaxPage {
		return nil, service.Wrong("of", "names %d records: up to %d are named at once", len(of), MaxPage)
	}
	for _, ref := range of {
		typeName, id, _ := strings.Cut(ref, "/")
		t, known := policy.TypeNamed(typeName)
		if !known {
			return nil, service.Wrong("of", "%q is no type and id, such as devices/mill-bridge", policy.Clip(ref))
		}
		if r, ok := v.Get(t, id); ok {
			if out[typeName] == nil {
				out[typeName] = map[string]string{}
			}
			out[typeName][id] = r.Title()
		}
	}
	if len(of) > 0 {
		return out, nil
	}
	for _, t := range policy.Types() {
		if st.Policy.Table(t).Len() > maxNames {
			continue // there may be a million users: they are found by search
		}
		names := map[string]string{}
		for r := range v.All(t) {
			names[r.Key()] = r.Title()
		}
		out[t.String()] = names
	}
	return out, nil
}
