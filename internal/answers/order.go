package answers

import (
	"cmp"
	"container/heap"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"sentier/internal/policy"
	"sentier/internal/service"
)

// order is how a list can be sorted: what a record has there, as a text that sorts as people read it.
type order func(p *policy.Policy, r policy.Record) string

// orders are those of each type, by field: what is one thing, by itself; what refers to a record, by that one's name; what has an
// end, by it; and of what there are many, by how many.
var orders = func() map[policy.Type]map[string]order {
	out := map[policy.Type]map[string]order{}
	for _, t := range policy.Types() {
		out[t] = map[string]order{}
		for _, f := range policy.Describe(t).Fields {
			out[t][f.Name] = orderBy(&f)
		}
		out[t]["name"] = func(_ *policy.Policy, r policy.Record) string { return r.Title() }
	}
	return out
}()

func orderBy(f *policy.Field) order {
	have := func(r policy.Record) reflect.Value { return f.In(reflect.ValueOf(r).Elem()) }
	switch {
	case f.Many:
		return func(_ *policy.Policy, r policy.Record) string { return fmt.Sprintf("%d", have(r).Len()) }
	case f.Kind == policy.RefField:
		return func(p *policy.Policy, r policy.Record) string {
			if other, ok := p.Get(f.Ref, have(r).String()); ok {
				return other.Title()
			}
			return ""
		}
	case f.Kind == policy.ChoiceField:
		return func(_ *policy.Policy, r policy.Record) string {
			return fmt.Sprintf("%d", slices.Index(f.Choices, have(r).String()))
		}
	case f.Kind == policy.ObjectField:
		for _, end := range f.Fields {
			if end.Name == "until" {
				return func(_ *policy.Policy, r policy.Record) string {
					object := reflect.Indirect(have(r))
					if !object.IsValid() {
						return ""
					}
					if t, ok := end.In(object).Interface().(time.Time); ok && !t.IsZero() {
						return t.UTC().Format(time.RFC3339Nano)
					}
					return ""
				}
			}
		}
		return func(_ *policy.Policy, r policy.Record) string { return fmt.Sprint(!have(r).IsZero()) }
	}
	return func(_ *policy.Policy, r policy.Record) string { return fmt.Sprint(have(r).Interface()) }
}

// placed is a record with its place in a sorted list.
type placed struct {
	Key, ID string
	record  policy.Record
}

// compareNatural compares texts as people read them: whatever the case and the accents, and numbers in them as numbers. Millions are
// compared for one page: nothing is copied.
func compareNatural(a, b string) int {
	for a != "" && b != "" {
		if na, nb := digits(a), digits(b); na > 0 && nb > 0 {
			x, y := strings.TrimLeft(a[:na], "0"), strings.TrimLeft(b[:nb], "0")
			if c := cmp.Or(cmp.Compare(len(x), len(y)), strings.Compare(x, y)); c != 0 {
				return c
			}
			a, b = a[na:], b[nb:]
			continue
		}
		x, nx := letter(a)
		y, ny := letter(b)
		if x != y {
			return cmp.Compare(x, y)
		}
		a, b = a[nx:], b[ny:]
	}
	return cmp.Compare(len(a), len(b))
}

// letter is what a text begins with, as it counts in an order, and how many bytes it has.
func letter(s string) (r rune, size int) {
	if c := s[0]; c < utf8.RuneSelf {
		if 'A' <= c && c <= 'Z' {
			c += 'a' - 'A'
		}
		return rune(c), 1
	}
	_, size = utf8.DecodeRuneInString(s)
	base, _ := utf8.DecodeRuneInString(norm.NFD.String(s[:size]))
	return unicode.ToLower(base), size
}

func digits(s string) int {
	n := 0
	for n < len(s) && s[n] >= '0' && s[n] <= '9' {
		n++
	}
	return n
}

// sorting takes the page of a sorted list that comes after a place: the first of all that it is shown, of which it keeps no more.
type sorting struct {
	of       order
	backward bool
	limit    int
	after    *placed

	first []placed // a heap, the last on top
	more  bool
}

// sortingOf reads by what a list is sorted: a field, with - before it from the end. The cursor is the place that one before wrote.
func sortingOf(t policy.Type, by, cursor string, limit int) (*sorting, error) {
	s := &sorting{limit: limit}
	by, s.backward = strings.CutPrefix(by, "-")
	if s.of = orders[t][by]; s.of == nil {
		return nil, service.Wrong("sort", "%s cannot be sorted by %q", t, policy.Clip(by))
	}
	if cursor != "" {
		s.after = &placed{}
		if err := json.Unmarshal([]byte(cursor), s.after); err != nil {
			return nil, service.Wrong("cursor", "was not given for this question: begin with the first page")
		}
	}
	return s, nil
}

func (s *sorting) compare(a, b *placed) int {
	c := cmp.Or(compareNatural(a.Key, b.Key), strings.Compare(a.ID, b.ID))
	if s.backward {
		return -c
	}
	return c
}

func (s *sorting) Len() int           { return len(s.first) }
func (s *sorting) Less(i, j int) bool { return s.compare(&s.first[i], &s.first[j]) > 0 }
func (s *sorting) Swap(i, j int)      { s.first[i], s.first[j] = s.first[j], s.first[i] }
func (s *sorting) Push(x any)         { s.first = append(s.first, x.(placed)) }

func (s *sorting) Pop() any {
	last := s.first[len(s.first)-1]
	s.first = s.first[:len(s.first)-1]
	return last
}

// show shows it a record of the list.
func (s *sorting) show(p *policy.Policy, r policy.Record) {
	x := placed{s.of(p, r), r.Key(), r}
	switch {
	case s.after != nil && s.compare(&x, s.after) <= 0:
	case len(s.first) < s.limit:
		heap.Push(s, x)
	default:
		s.more = true
		if s.compare(&x, &s.first[0]) < 0 {
			s.first[0] = x
			heap.Fix(s, 0)
		}
	}
}

// page gives the records in their order, and the place of the last where more follow.
func (s *sorting) page() (records []policy.Record, next string, err error) {
	slices.SortFunc(s.first, func(a, b placed) int { return s.compare(&a, &b) })
	for _, x := range s.first {
		records = append(records, x.record)
	}
	if !s.more {
		return records, "", nil
	}
	place, err := json.Marshal(s.first[len(s.first)-1])
	return records, string(place), err
}
