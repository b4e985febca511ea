package scim

import (
	"reflect"
	"slices"
	"strings"

	"sentier/internal/policy"

	parser "github.com/scim2/filter-parser/v2"
)

// mostPatches is how many operations a PATCH has at most.
const mostPatches = 1000

// Patch gives a resource with the operations of a PATCH made to it (RFC 7644, 3.5.2), or an [*Error] and nothing. The resource itself stays as it is.
func Patch(schema string, r, body Resource) (Resource, error) {
	ops, ok := get(body, "Operations")
	list, isList := ops.([]any)
	if !ok || !isList || len(list) == 0 {
		return nil, Wrong(InvalidSyntax, "the body has no Operations")
	}
	if len(list) > mostPatches {
		return nil, Wrong(TooMany, "the body has %d operations: keep it to %d", len(list), mostPatches)
	}
	out := copied(r).(Resource)
	for _, x := range list {
		op, ok := x.(Resource)
		if !ok {
			return nil, Wrong(InvalidSyntax, "an operation is no object")
		}
		value, _ := get(op, "value")
		if err := patch(schema, out, strings.ToLower(Text(op, "op")), Text(op, "path"), copied(value)); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// copied is a value whose parts nobody else has.
func copied(v any) any {
	switch v := v.(type) {
	case Resource:
		out := make(Resource, len(v))
		for k, x := range v {
			out[k] = copied(x)
		}
		return out
	case []any:
		out := make([]any, len(v))
		for i, x := range v {
			out[i] = copied(x)
		}
		return out
	}
	return v
}

func patch(schema string, r Resource, op, path string, value any) error {
	if op != "add" && op != "replace" && op != "remove" {
		return Wrong(InvalidSyntax, "%q is no operation: write add, replace or remove", policy.Clip(op))
	}
	if path == "" {
		if op == "remove" {
			return Wrong(NoTarget, "remove has no path: say what is removed")
		}
		inner, ok := value.(Resource)
		if !ok {
			return Wrong(InvalidValue, "%s without a path takes an object", op)
		}
		for key, x := range inner { // each attribute by itself; some clients write paths as names
			if err := patch(schema, r, op, key, x); err != nil && !unknown(schema, key) {
				return err
			}
		}
		return nil
	}
	switch uri, rest, ok := cutSchema(path); {
	case ok && uri == EnterpriseSchema && schema == UserSchema:
		return enterprise(r, op, rest, value)
	case ok && uri == schema && rest == "":
		return patch(schema, r, op, "", value)
	}
	p, err := parser.ParsePath([]byte(path))
	if err != nil || len(path) > mostFilter {
		return Wrong(InvalidPath, "the path %q cannot be read", policy.Clip(path))
	}
	name := p.AttributePath.AttributeName
	sub := p.AttributePath.SubAttributeName()
	if sub == "" {
		sub = p.SubAttributeName()
	}
	if isPassedOver(schema, name) {
		return nil
	}
	a, ok := find(schema, name, "")
	if !ok {
		return Wrong(InvalidPath, "%q is no attribute", policy.Clip(path))
	}
	if a.Mutability == "readOnly" {
		return Wrong(Mutability, "%s cannot be written", a.Name)
	}
	if sub != "" {
		if _, ok := find(schema, name, sub); !ok {
			return Wrong(InvalidPath, "%q is no attribute", policy.Clip(path))
		}
	}
	if p.ValueExpression != nil {
		return a.among(schema, r, op, p.ValueExpression, sub, value)
	}
	return a.whole(r, op, sub, value)
}

// enterprise changes an attribute of the enterprise extension (RFC 7643, 4.3), which stands in an object of its name.
func enterprise(r Resource, op, name string, value any) error {
	inner, _ := r[EnterpriseSchema].(Resource)
	if inner == nil {
		inner = Resource{}
	}
	if name == "" && op == "remove" {
		delete(r, EnterpriseSchema)
		return nil
	}
	if name == "manager" { // some providers give the id alone
		if id, ok := value.(string); ok {
			value = Resource{"value": id}
		}
	}
	if err := patch(EnterpriseSchema, inner, op, name, value); err != nil {
		return err
	}
	if delete(r, EnterpriseSchema); len(inner) > 0 {
		r[EnterpriseSchema] = inner
	}
	return nil
}

// unknown tells whether an attribute is none of a schema: what no schema knows is passed over.
func unknown(schema, key string) bool {
	name, _, _ := strings.Cut(bare(key), ".")
	name, _, _ = strings.Cut(name, "[")
	a, ok := find(schema, name, "")
	return !ok || a.Mutability == "readOnly"
}

// among changes those values of an attribute that a filter means.
func (a *attribute) among(schema string, r Resource, op string, which parser.Expression, sub string, value any) error {
	f := &Filter{schema, which}
	if err := f.check(which, a.Name); err != nil {
		return &Error{400, InvalidPath, err.(*Error).Why}
	}
	list, _ := r[a.Name].([]any)
	met := false
	var left []any
	for _, x := range list {
		v, ok := x.(Resource)
		if !ok || !f.holds(which, v, a.Name) {
			left = append(left, x)
			continue
		}
		met = true
		switch {
		case op == "remove" && sub == "":
			continue
		case op == "remove":
			delete(v, subName(a, sub))
		case sub != "":
			v[subName(a, sub)] = value
		default:
			more, ok := value.(Resource)
			if !ok {
				return Wrong(InvalidValue, "%s takes an object", a.Name)
			}
			if op == "replace" {
				v = more
			} else {
				for k, y := range more {
					v[k] = y
				}
			}
		}
		left = append(left, v)
	}
	if !met {
		if op == "remove" { // it is so already
			return nil
		}
		made, ok := a.made(which)
		if !ok && a.decidesNothing() { // which holds nothing else of the request up
			return nil
		}
		if !ok || op != "add" && !a.decidesNothing() { // RFC 7644, 3.5.2.3
			return Wrong(NoTarget, "no value of %s is meant by the path", a.Name)
		}
		if sub != "" {
			made[subName(a, sub)] = value
		} else if more, ok := value.(Resource); ok {
			for k, y := range more {
				made[k] = y
			}
		}
		left = append(left, made)
	}
	return put(r, a, left)
}

// decidesNothing tells whether an attribute is only kept as it is told.
func (a *attribute) decidesNothing() bool {
	return slices.Contains([]string{"phoneNumbers", "addresses", "roles", "entitlements"}, a.Name)
}

// made is the value that a path means where there is none: emails[type eq "work"] is one of that type.
func (a *attribute) made(which parser.Expression) (Resource, bool) {
	e, ok := which.(*parser.AttributeExpression)
	if !ok || !strings.EqualFold(string(e.Operator), string(parser.EQ)) || a.Name == "members" {
		return nil, false
	}
	value := e.CompareValue
	if s, ok := value.(string); ok {
		value = unescaped(s)
	}
	return Resource{subName(a, e.AttributePath.AttributeName): value}, true
}

// subName is the name that the schema gives to a part.
func subName(a *attribute, sub string) string {
	for _, s := range a.SubAttributes {
		if strings.EqualFold(s.Name, sub) {
			return s.Name
		}
	}
	return sub
}

// whole changes an attribute, or a part of one.
func (a *attribute) whole(r Resource, op, sub string, value any) error {
	if op == "remove" && value == nil || value == nil {
		if sub == "" {
			if a.Required {
				return Wrong(Mutability, "%s must stay", a.Name)
			}
			delete(r, a.Name)
			return nil
		}
		for _, v := range Values(r, a.Name) {
			delete(v, subName(a, sub))
		}
		return nil
	}
	switch {
	case sub != "" && a.MultiValued:
		for _, v := range Values(r, a.Name) {
			v[subName(a, sub)] = value
		}
		return nil
	case sub != "":
		inner, ok := r[a.Name].(Resource)
		if !ok {
			inner = Resource{}
			r[a.Name] = inner
		}
		inner[subName(a, sub)] = value
		return nil
	case a.MultiValued:
		clean, err := a.clean(value)
		if err != nil {
			return err
		}
		more, _ := clean.([]any)
		have, _ := r[a.Name].([]any)
		switch op {
		case "replace":
			have = more
		case "add":
			have = a.joined(have, more)
		default: // some clients remove members by their values
			have = slices.DeleteFunc(slices.Clone(have), func(x any) bool {
				return slices.ContainsFunc(more, func(y any) bool { return a.same(x, y) })
			})
		}
		return put(r, a, have)
	case a.Type == "complex":
		clean, err := a.one(value)
		if err != nil {
			return err
		}
		more, _ := clean.(Resource)
		inner, ok := r[a.Name].(Resource)
		if !ok {
			inner = Resource{}
		}
		for k, v := range more {
			inner[k] = v
		}
		r[a.Name] = inner
		return nil
	}
	if op == "remove" {
		delete(r, a.Name)
		return nil
	}
	clean, err := a.one(value)
	if err == nil {
		r[a.Name] = clean
	}
	return err
}

// joined adds values to others, each once. Where one that is added is the primary, no other is.
func (a *attribute) joined(have, more []any) []any {
	seen := map[string]bool{}
	key := func(x any) string {
		v, _ := x.(Resource)
		return Text(v, "value")
	}
	for _, x := range have {
		seen[key(x)] = true
	}
	out := slices.Clone(have)
	for _, x := range more {
		if a.Name == "members" && seen[key(x)] || slices.ContainsFunc(have, func(y any) bool { return reflect.DeepEqual(x, y) }) {
			continue
		}
		seen[key(x)] = true
		if v, ok := x.(Resource); ok && v["primary"] == true {
			for _, y := range out {
				if other, ok := y.(Resource); ok {
					delete(other, "primary")
				}
			}
		}
		out = append(out, x)
	}
	return out
}

func (a *attribute) same(x, y any) bool {
	v, _ := x.(Resource)
	w, _ := y.(Resource)
	return Text(v, "value") != "" && Text(v, "value") == Text(w, "value")
}

func put(r Resource, a *attribute, list []any) error {
	if len(list) == 0 {
		delete(r, a.Name)
		return nil
	}
	r[a.Name] = list
	return nil
}
