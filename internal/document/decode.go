package document

import (
	"encoding"
	"math"
	"net/netip"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"sentier/internal/policy"
)

// decoder fills Go values from a tree, by the names in their json tags. Fields that the type does not
// have, values of the wrong kind and required fields that are missing are faults; what can be read is
// read all the same, so that all faults come to light at once.
type decoder struct {
	faults  Faults
	partial bool // fields that are required may be left out, but in the entries of lists, which are given whole
}

func (d *decoder) fault(n *node, at *place, form string, args ...any) {
	d.faults = append(d.faults, Fault{n.line, n.column, at.String(), policy.Say(form, args...)})
}

// place is where a value stands, as a path that is written only for faults; nil is the document as a whole.
type place struct {
	in    *place
	name  string // of a field
	index int    // in a list, where there is no name
}

func (p *place) field(name string) *place { return &place{in: p, name: name} }
func (p *place) item(index int) *place    { return &place{in: p, index: index} }

func (p *place) String() string {
	switch {
	case p == nil:
		return ""
	case p.name == "":
		return p.in.String() + "[" + strconv.Itoa(p.index) + "]"
	}
	if in := p.in.String(); in != "" {
		return in + "." + p.name
	}
	return p.name
}

// mostNodes bounds the values of one question or record.
const mostNodes = 250_000

// DecodeJSON reads a JSON value strictly into a struct that into points to. The error is of type [Faults].
func DecodeJSON(data []byte, into any) error { return DecodeJSONWith(data, into, "", "") }

// DecodeJSONWith reads like [DecodeJSON] an object that may leave out the text field name, which is value then.
func DecodeJSONWith(data []byte, into any, name, value string) error {
	root, faults := parseJSON(data, mostNodes)
	if root == nil {
		return faults
	}
	if given, _ := root.without(name); given == nil && root.kind == object && name != "" && value != "" {
		root.fields = append(root.fields, field{name, root.line, root.column, &node{kind: text, scalar: value, line: root.line, column: root.column}})
	}
	d := &decoder{faults: faults}
	d.decode(root, reflect.ValueOf(into).Elem(), nil)
	if len(d.faults) > 0 {
		return d.faults.sorted()
	}
	return nil
}

var (
	timeType   = reflect.TypeFor[time.Time]()
	prefixType = reflect.TypeFor[netip.Prefix]()
	memberType = reflect.TypeFor[policy.Member]()
	limitType  = reflect.TypeFor[policy.Limit]()
	switchType = reflect.TypeFor[policy.Switch]()
)

func (d *decoder) decode(n *node, v reflect.Value, at *place) {
	if n.kind == null {
		return // the same as not given
	}
	switch v.Type() {
	case timeType, prefixType:
		d.scalar(n, v, at)
		return
	case memberType:
		if n.kind == text {
			v.Set(reflect.ValueOf(policy.Member{User: policy.UserID(n.scalar)}))
			return
		}
	case limitType:
		d.limit(n, v, at)
		return
	case switchType:
		if d.want(n, boolean, at) && n.scalar == "false" {
			v.Set(reflect.ValueOf(policy.Off))
		}
		return
	}
	if _, ok := v.Addr().Interface().(encoding.TextUnmarshaler); ok {
		d.scalar(n, v, at)
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		d.decode(n, v.Elem(), at)
	case reflect.Struct:
		d.object(n, v, at)
	case reflect.Slice:
		if d.want(n, list, at) {
			partial := d.partial
			d.partial = false
			v.Set(reflect.MakeSlice(v.Type(), len(n.items), len(n.items)))
			for i, item := range n.items {
				if item.kind == null {
					d.fault(item, at.item(i), "is empty: take it out, or give it a value")
				}
				d.decode(item, v.Index(i), at.item(i))
			}
			d.partial = partial
		}
	case reflect.Map:
		if d.want(n, object, at) {
			v.Set(reflect.MakeMap(v.Type()))
			d.twice(n, at)
			for _, f := range n.fields {
				value := reflect.New(v.Type().Elem()).Elem()
				d.decode(f.value, value, at.field(f.name))
				v.SetMapIndex(reflect.ValueOf(f.name), value)
			}
		}
	case reflect.String:
		if n.loose || d.want(n, text, at) {
			v.SetString(n.scalar)
		}
	case reflect.Bool:
		if d.want(n, boolean, at) {
			v.SetBool(n.scalar == "true")
		}
	case reflect.Int:
		i, err := strconv.Atoi(n.scalar)
		if d.want(n, number, at) && err != nil {
			d.fault(n, at, "%s is no whole number", n.scalar)
		}
		v.SetInt(int64(i))
	case reflect.Uint64:
		i, err := strconv.ParseUint(n.scalar, 10, 64)
		if d.want(n, number, at) && err != nil {
			d.fault(n, at, "%s is no whole number", n.scalar)
		}
		v.SetUint(i)
	default:
		panic("document: cannot decode into " + v.Type().String())
	}
}

// want faults a value of the wrong kind.
func (d *decoder) want(n *node, kind nodeKind, at *place) bool {
	if n.kind == kind {
		return true
	}
	switch {
	case kind == list && n.kind < list:
		d.fault(n, at, "is %s, but a list belongs here: write [%s]", policy.Say(n.kind.String()), n.scalar)
	case kind == text && n.kind < list:
		d.fault(n, at, "is %s, but a text belongs here: put it in quotes", policy.Say(n.kind.String()))
	default:
		d.fault(n, at, "is %s, but %s belongs here", policy.Say(n.kind.String()), policy.Say(kind.String()))
	}
	return false
}

// scalar reads what has a written form of its own: times, networks, clocks, dates.
func (d *decoder) scalar(n *node, v reflect.Value, at *place) {
	if !n.loose && !d.want(n, text, at) {
		return
	}
	switch target := v.Addr().Interface().(type) {
	case *time.Time:
		t, err := policy.ParseInstant(n.scalar)
		if err != nil {
			d.fault(n, at, "%q %v", n.scalar, err)
			return
		}
		*target, n.scalar = t, t.Format(time.RFC3339Nano)
	case *netip.Prefix:
		p, err := netip.ParsePrefix(n.scalar)
		if err != nil {
			if a, e := netip.ParseAddr(n.scalar); e == nil {
				d.fault(n, at, "%q is an address: write the network as %s/%d", n.scalar, a, a.BitLen())
				return
			}
			d.fault(n, at, "%q is no network: write it as 10.20.0.0/16 or 2001:db8::/32", n.scalar)
			return
		}
		*target = p
	case encoding.TextUnmarshaler:
		if err := target.UnmarshalText([]byte(n.scalar)); err != nil {
			d.fault(n, at, "%v", err)
		}
	}
}

func (d *decoder) limit(n *node, v reflect.Value, at *place) {
	var l policy.Limit
	switch n.kind {
	case number:
		f, err := strconv.ParseFloat(n.scalar, 64)
		if err != nil || math.IsInf(f, 0) || math.IsNaN(f) {
			d.fault(n, at, "%s is no number that can be kept", n.scalar)
		}
		l.Number = f
	case list:
		l.Texts = []string{}
		d.decode(n, reflect.ValueOf(&l.Texts).Elem(), at)
	default:
		d.fault(n, at, "is %s, but a number or a list of texts belongs here", policy.Say(n.kind.String()))
	}
	v.Set(reflect.ValueOf(l))
}

// known is a field that a type of struct has.
type known struct {
	name     string
	index    []int
	required bool
	text     bool // of a record: blanks around it are no part of it, by document, sheet and API alike
}

// recordPackage is that of the types of records.
var recordPackage = reflect.TypeFor[policy.User]().PkgPath()

// knownFields are the fields of types, found once for each.
var knownFields sync.Map // of reflect.Type to []known

func fieldsOf(t reflect.Type) []known {
	if found, ok := knownFields.Load(t); ok {
		return found.([]known)
	}
	var out []known
	for _, f := range reflect.VisibleFields(t) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name != "" && name != "-" {
			out = append(out, known{name, f.Index, strings.Contains(f.Tag.Get("sentier"), "required"), t.PkgPath() == recordPackage && f.Type == reflect.TypeFor[string]()})
		}
	}
	knownFields.Store(t, out)
	return out
}

func (d *decoder) object(n *node, v reflect.Value, at *place) {
	if !d.want(n, object, at) {
		return
	}
	d.twice(n, at)
	fields := fieldsOf(v.Type())
	taken := 0
	for _, k := range fields {
		var value *node
		for i := range n.fields {
			if n.fields[i].name == k.name {
				value = n.fields[i].value // of one that is given twice, the last
				taken++
			}
		}
		if k.required && (value == nil && !d.partial || value != nil && value.kind == null) {
			d.fault(n, at.field(k.name), "is missing")
		}
		if value != nil {
			if k.text && value.kind == text {
				value.scalar = strings.TrimSpace(value.scalar)
			}
			d.decode(value, v.FieldByIndex(k.index), at.field(k.name))
		}
	}
	if taken < len(n.fields) {
		d.unknown(n, fields, at)
	}
}

// unknown faults the fields of an object that its type does not have.
func (d *decoder) unknown(n *node, fields []known, at *place) {
	names := make([]string, len(fields))
	for i, k := range fields {
		names[i] = k.name
	}
	for _, f := range n.fields {
		if slices.Contains(names, f.name) {
			continue
		}
		where := &node{line: f.line, column: f.column}
		if near := policy.Nearest(f.name, names); near != "" {
			d.fault(where, at.field(f.name), "is not known here: did you mean %q?", near)
		} else {
			d.fault(where, at.field(f.name), "is not known here: the fields are %s", strings.Join(names, ", "))
		}
	}
}

// fewFields is how many fields are held against each other without a map.
const fewFields = 16

// twice faults fields that an object has more than once.
func (d *decoder) twice(n *node, at *place) {
	again := func(f field, first int) {
		d.fault(&node{line: f.line, column: f.column}, at.field(f.name), "is given twice, first on line %d: keep one", first)
	}
	if len(n.fields) <= fewFields {
		for i, f := range n.fields {
			if first := slices.IndexFunc(n.fields[:i], func(o field) bool { return o.name == f.name }); first >= 0 {
				again(f, n.fields[first].line)
			}
		}
		return
	}
	lines := map[string]int{}
	for _, f := range n.fields {
		if first, ok := lines[f.name]; ok {
			again(f, first)
			continue
		}
		lines[f.name] = f.line
	}
}
