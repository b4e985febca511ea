package policy

import (
	"reflect"
	"strconv"
	"strings"
)

// Reference is a mention of one record, or of a point, by another.
type Reference struct {
	at      place   // where it stands in the record that refers
	Type    Type    // of the record referred to
	ID      string  // of the record referred to
	Point   PointID // of the device referred to; empty: the device itself
	ToPoint bool    // it stands where points are named
}

// Field is the path of the mention in the record that refers: lines[0].on.sites[1].
func (r Reference) Field() string { return r.at.String() }

// place is where something stands in a record, step by step: it is made for every mention of every record, and written for few.
type place struct {
	steps [deepest]step
	depth int8
}

// deepest is how many fields lie within each other in a record at most.
const deepest = 4

// step is a field, and in a list the number from 1 of one of its items.
type step struct {
	field string
	item  int32
}

func (p place) within(field string) place {
	p.steps[p.depth].field = field
	p.depth++
	return p
}

func (p place) item(i int) place {
	p.steps[p.depth-1].item = int32(i + 1)
	return p
}

func (p place) String() string {
	var out strings.Builder
	for i, s := range p.steps[:p.depth] {
		if i > 0 {
			out.WriteByte('.')
		}
		if out.WriteString(s.field); s.item > 0 {
			out.WriteString("[" + strconv.Itoa(int(s.item-1)) + "]")
		}
	}
	return out.String()
}

// target is what is referred to, without where.
type target struct {
	Type  Type
	ID    string
	Point PointID
}

func (r Reference) target() target { return target{r.Type, r.ID, r.Point} }

// SplitPoint takes a reference to a point apart; ok is false where it does not name both a device and a point.
func SplitPoint(ref string) (d DeviceID, p PointID, ok bool) {
	device, point, _ := strings.Cut(ref, "/")
	return DeviceID(device), PointID(point), device != "" && point != ""
}

type visitor func(Reference)

// References calls visit for every mention of another record in r; nil has none.
func References(r Record, visit func(Reference)) {
	if r == nil {
		return
	}
	if find := descriptors[r.Type()].mentions; find != nil {
		find(reflect.ValueOf(r).Elem(), place{}, visit)
	}
}

// mentions visits the mentions in a value that stands at a path; nil where values of its type have none.
type mentions func(v reflect.Value, at place, visit visitor)

// mentionsOf finds where values of a type can mention records: once for each type, as records come by the million.
func mentionsOf(t reflect.Type) mentions {
	if refer := reference(t); refer != nil {
		return func(v reflect.Value, at place, visit visitor) {
			if ref := refer(v); ref.ID != "" {
				ref.at = at
				visit(ref)
			}
		}
	}
	switch t.Kind() {
	case reflect.Slice:
		return mentionsIn(t.Elem())
	case reflect.Pointer:
		if find := mentionsOf(t.Elem()); find != nil {
			return func(v reflect.Value, at place, visit visitor) {
				if !v.IsNil() {
					find(v.Elem(), at, visit)
				}
			}
		}
	case reflect.Struct:
		return mentionsWithin(t)
	}
	return nil
}

// reference reads values of a type that are a mention by themselves; nil where they are none.
func reference(t reflect.Type) func(v reflect.Value) Reference {
	of, isID := idTypes[t]
	switch {
	case isID:
		return func(v reflect.Value) Reference { return Reference{Type: of, ID: v.String()} }
	case t == reflect.TypeFor[PointRef]():
		return func(v reflect.Value) Reference {
			device, point, _ := SplitPoint(v.String())
			return Reference{Type: Devices, ID: string(device), Point: point, ToPoint: true}
		}
	case t == reflect.TypeFor[Member](): // which may be written as the user's id alone
		return func(v reflect.Value) Reference { return Reference{Type: Users, ID: v.Field(0).String()} }
	}
	return nil
}

// mentionsIn finds the mentions in lists of a type.
func mentionsIn(t reflect.Type) mentions {
	if refer := reference(t); refer != nil {
		return func(v reflect.Value, at place, visit visitor) {
			for i := range v.Len() {
				ref := refer(v.Index(i))
				ref.at = at.item(i)
				visit(ref)
			}
		}
	}
	find := mentionsOf(t)
	if find == nil {
		return nil
	}
	return func(v reflect.Value, at place, visit visitor) {
		for i := range v.Len() {
			find(v.Index(i), at.item(i), visit)
		}
	}
}

// mentionsWithin finds the mentions in the fields of a struct. A record's own id is none.
func mentionsWithin(t reflect.Type) mentions {
	type part struct {
		index int
		name  string
		find  mentions
	}
	var parts []part
	for i := range t.NumField() {
		f := t.Field(i)
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "id" {
			continue
		}
		if find := mentionsOf(f.Type); find != nil {
			parts = append(parts, part{i, name, find})
		}
	}
	if len(parts) == 0 {
		return nil
	}
	return func(v reflect.Value, at place, visit visitor) {
		for _, p := range parts {
			p.find(v.Field(p.index), at.within(p.name), visit)
		}
	}
}

// referrers are the types whose records can mention a type.
var referrers = func() (out [typeCount][]Type) {
	for t := range descriptors {
		seen := map[Type]bool{}
		refersTo(descriptors[t].Fields, func(to Type) {
			if !seen[to] {
				seen[to] = true
				out[to] = append(out[to], Type(t))
			}
		})
	}
	return out
}()

func refersTo(fields []Field, visit func(Type)) {
	for _, f := range fields {
		switch f.Kind {
		case RefField:
			visit(f.Ref)
		case PointField:
			visit(Devices)
		}
		refersTo(f.Fields, visit)
	}
}

// Mention is a record and where in it another is mentioned.
type Mention struct {
	By    Record
	Field string
}

// Mentions finds every mention of a record in the others.
func (p *Policy) Mentions(t Type, id string) []Mention {
	var out []Mention
	for _, from := range referrers[t] {
		for r := range p.tables[from].All() {
			References(r, func(ref Reference) {
				if ref.Type == t && ref.ID == id {
					out = append(out, Mention{r, ref.Field()})
				}
			})
		}
	}
	return out
}
