package document

import (
	"encoding"
	"fmt"
	"math"
	"net/netip"
	"reflect"
	"strconv"
	"strings"
	"time"

	"sentier/internal/policy"
)

// decoder fills Go values from a tree, by the names in their json tags. Fields that the type does not
// have, values of the wrong kind and required fields that are missing are faults; what can be read is
// read all the same, so that all faults come to light at once.
type decoder struct{ faults Faults }

func (d *decoder) fault(n *node, path, format string, args ...any) {
	d.faults = append(d.faults, Fault{n.line, n.column, path, fmt.Sprintf(format, args...)})
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
	d.decode(root, reflect.ValueOf(into).Elem(), "")
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

func (d *decoder) decode(n *node, v reflect.Value, path string) {
	if n.kind == null {
		return // the same as not given
	}
	switch v.Type() {
	case timeType, prefixType:
		d.scalar(n, v, path)
		return
	case memberType:
		if n.kind == text {
			v.Set(reflect.ValueOf(policy.Member{User: policy.UserID(n.scalar)}))
			return
		}
	case limitType:
		d.limit(n, v, path)
		return
	case switchType:
		if d.want(n, boolean, path) && n.scalar == "false" {
			v.Set(reflect.ValueOf(policy.Off))
		}
		return
	}
	if _, ok := v.Addr().Interface().(encoding.TextUnmarshaler); ok {
		d.scalar(n, v, path)
		return
	}
	switch v.Kind() {
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		d.decode(n, v.Elem(), path)
	case reflect.Struct:
		d.object(n, v, path)
	case reflect.Slice:
		if d.want(n, list, path) {
			v.Set(reflect.MakeSlice(v.Type(), len(n.items), len(n.items)))
			for i, item := range n.items {
				if item.kind == null {
					d.fault(item, fmt.Sprintf("%s[%d]", path, i), "is empty: take it out, or give it a value")
				}
				d.decode(item, v.Index(i), fmt.Sprintf("%s[%d]", path, i))
			}
		}
	case reflect.Map:
		if d.want(n, object, path) {
			v.Set(reflect.MakeMap(v.Type()))
			d.twice(n, path)
			for _, f := range n.fields {
				value := reflect.New(v.Type().Elem()).Elem()
				d.decode(f.value, value, join(path, f.name))
				v.SetMapIndex(reflect.ValueOf(f.name), value)
			}
		}
	case reflect.String:
		if n.loose || d.want(n, text, path) {
			v.SetString(n.scalar)
		}
	case reflect.Bool:
		if d.want(n, boolean, path) {
			v.SetBool(n.scalar == "true")
		}
	case reflect.Int:
		i, err := strconv.Atoi(n.scalar)
		if d.want(n, number, path) && err != nil {
			d.fault(n, path, "%s is no whole number", n.scalar)
		}
		v.SetInt(int64(i))
	default:
		panic("document: cannot decode into " + v.Type().String())
	}
}

// want faults a value of the wrong kind.
func (d *decoder) want(n *node, kind nodeKind, path string) bool {
	if n.kind == kind {
		return true
	}
	switch {
	case kind == list && n.kind < list:
		d.fault(n, path, "is %s, but a list belongs here: write [%s]", n.kind, n.scalar)
	case kind == text && n.kind < list:
		d.fault(n, path, "is %s, but a text belongs here: put it in quotes", n.kind)
	default:
		d.fault(n, path, "is %s, but %s belongs here", n.kind, kind)
	}
	return false
}

// scalar reads what has a written form of its own: times, networks, clocks, dates.
func (d *decoder) scalar(n *node, v reflect.Value, path string) {
	if !n.loose && !d.want(n, text, path) {
		return
	}
	switch target := v.Addr().Interface().(type) {
	case *time.Time:
		t, err := policy.ParseInstant(n.scalar)
		if err != nil {
			d.fault(n, path, "%q %v", n.scalar, err)
			return
		}
		*target = t
	case *netip.Prefix:
		p, err := netip.ParsePrefix(n.scalar)
		if err != nil {
			if a, e := netip.ParseAddr(n.scalar); e == nil {
				d.fault(n, path, "%q is an address: write the network as %s/%d", n.scalar, a, a.BitLen())
				return
			}
			d.fault(n, path, "%q is no network: write it as 10.20.0.0/16 or 2001:db8::/32", n.scalar)
			return
		}
		*target = p
	case encoding.TextUnmarshaler:
		if err := target.UnmarshalText([]byte(n.scalar)); err != nil {
			d.fault(n, path, "%v", err)
		}
	}
}

func (d *decoder) limit(n *node, v reflect.Value, path string) {
	var l policy.Limit
	switch n.kind {
	case number:
		f, err := strconv.ParseFloat(n.scalar, 64)
		if err != nil || math.IsInf(f, 0) || math.IsNaN(f) {
			d.fault(n, path, "%s is no number that can be kept", n.scalar)
		}
		l.Number = f
	case list:
		l.Texts = []string{}
		d.decode(n, reflect.ValueOf(&l.Texts).Elem(), path)
	default:
		d.fault(n, path, "is %s, but a number or a list of texts belongs here", n.kind)
	}
	v.Set(reflect.ValueOf(l))
}

func (d *decoder) object(n *node, v reflect.Value, path string) {
	if !d.want(n, object, path) {
		return
	}
	d.twice(n, path)
	known := make([]string, 0, v.NumField())
	given := map[string]*node{}
	for _, f := range n.fields {
		given[f.name] = f.value
	}
	for i := range v.NumField() {
		t := v.Type().Field(i)
		name, _, _ := strings.Cut(t.Tag.Get("json"), ",")
		if name == "" || name == "-" {
			continue
		}
		known = append(known, name)
		value, ok := given[name]
		if (!ok || value.kind == null) && t.Tag.Get("sentier") == "required" {
			d.fault(n, join(path, name), "is missing")
		}
		if ok {
			d.decode(value, v.Field(i), join(path, name))
		}
		delete(given, name)
	}
	for _, f := range n.fields {
		if given[f.name] == nil {
			continue
		}
		at := &node{line: f.line, column: f.column}
		if near := policy.Nearest(f.name, known); near != "" {
			d.fault(at, join(path, f.name), "is not known here: did you mean %q?", near)
		} else {
			d.fault(at, join(path, f.name), "is not known here: the fields are %s", strings.Join(known, ", "))
		}
	}
}

// twice faults fields that an object has more than once.
func (d *decoder) twice(n *node, path string) {
	first := map[string]int{}
	for _, f := range n.fields {
		if line, ok := first[f.name]; ok {
			d.fault(&node{line: f.line, column: f.column}, join(path, f.name), "is given twice, first on line %d: keep one", line)
			continue
		}
		first[f.name] = f.line
	}
}

func join(path, name string) string {
	if path == "" {
		return name
	}
	return path + "." + name
}
