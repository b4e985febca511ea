package scim

import (
	"encoding/json"
	"strings"

	"sentier/internal/policy"

	parser "github.com/scim2/filter-parser/v2"
)

// Filter tells which resources are meant: RFC 7644, 3.4.2.2.
type Filter struct {
	schema string
	root   parser.Expression
}

const (
	mostFilter = 4096 // bytes
	mostNested = 20   // brackets, and not and and
)

// ParseFilter reads a filter on resources of a schema. The error is an [*Error].
func ParseFilter(schema, text string) (*Filter, error) {
	if len(text) > mostFilter || strings.Count(text, "(") > mostNested || strings.Count(text, "[") > mostNested || strings.Count(strings.ToLower(text), " and ")+strings.Count(strings.ToLower(text), " or ") > 4*mostNested {
		return nil, Wrong(InvalidFilter, "the filter is longer, or more nested, than is read here")
	}
	root, err := parser.ParseFilter([]byte(text))
	if err != nil {
		return nil, Wrong(InvalidFilter, "the filter %q cannot be read: write userName eq \"x\"", policy.Clip(text))
	}
	f := &Filter{schema, root}
	return f, f.check(root, "")
}

// check finds attributes that are none, and comparisons that mean nothing.
func (f *Filter) check(e parser.Expression, within string) error {
	switch e := e.(type) {
	case *parser.LogicalExpression:
		if err := f.check(e.Left, within); err != nil {
			return err
		}
		return f.check(e.Right, within)
	case *parser.NotExpression:
		return f.check(e.Expression, within)
	case *parser.ValuePath:
		if within != "" {
			return Wrong(InvalidFilter, "a filter on values stands within another")
		}
		if a, ok := find(f.schema, e.AttributePath.AttributeName, ""); !ok || a.Type != "complex" {
			return Wrong(InvalidFilter, "%q is no attribute with values of several parts", policy.Clip(e.AttributePath.AttributeName))
		}
		return f.check(e.ValueFilter, e.AttributePath.AttributeName)
	case *parser.AttributeExpression:
		name, sub := e.AttributePath.AttributeName, e.AttributePath.SubAttributeName()
		if within != "" {
			name, sub = within, name
		}
		a, ok := find(f.schema, name, sub)
		if !ok {
			return Wrong(InvalidFilter, "%q is no attribute", policy.Clip(e.AttributePath.String()))
		}
		_, isText := e.CompareValue.(string)
		if a.Type == "boolean" && e.Operator != parser.PR && e.Operator != parser.EQ && e.Operator != parser.NE || !isText && (e.Operator == parser.CO || e.Operator == parser.SW || e.Operator == parser.EW) {
			return Wrong(InvalidFilter, "%s cannot be compared by %s", a.Name, strings.ToLower(string(e.Operator)))
		}
		return nil
	}
	return Wrong(InvalidFilter, "the filter cannot be read")
}

// Holds tells whether a resource is meant.
func (f *Filter) Holds(r Resource) bool { return f.holds(f.root, r, "") }

func (f *Filter) holds(e parser.Expression, r Resource, within string) bool {
	switch e := e.(type) {
	case *parser.LogicalExpression:
		if strings.EqualFold(string(e.Operator), string(parser.AND)) {
			return f.holds(e.Left, r, within) && f.holds(e.Right, r, within)
		}
		return f.holds(e.Left, r, within) || f.holds(e.Right, r, within)
	case *parser.NotExpression:
		return !f.holds(e.Expression, r, within)
	case *parser.ValuePath:
		for _, v := range Values(r, e.AttributePath.AttributeName) {
			if f.holds(e.ValueFilter, v, e.AttributePath.AttributeName) {
				return true
			}
		}
		return false
	case *parser.AttributeExpression:
		return f.compare(e, r, within)
	}
	return false
}

// compare holds an attribute against a value: of several values, one has to be it.
func (f *Filter) compare(e *parser.AttributeExpression, r Resource, within string) bool {
	name, sub := e.AttributePath.AttributeName, e.AttributePath.SubAttributeName()
	about, part := name, sub
	if within != "" {
		about, part = within, name
	}
	a, _ := find(f.schema, about, part)
	v, _ := get(r, name)
	values := []any{v}
	if list, ok := v.([]any); ok {
		values = list
	}
	not := strings.EqualFold(string(e.Operator), string(parser.NE))
	any := false
	for _, x := range values {
		if inner, ok := x.(Resource); ok {
			if sub == "" {
				sub = "value"
			}
			if a.Type == "complex" { // members eq "x" is of their values
				a, _ = find(f.schema, about, sub)
			}
			x, _ = get(inner, sub)
		}
		any = any || a.is(x, e)
	}
	if not {
		return !any
	}
	return any
}

// is compares one value; of ne, whether they are equal.
func (a *attribute) is(v any, e *parser.AttributeExpression) bool {
	op := parser.CompareOperator(strings.ToLower(string(e.Operator)))
	if op == parser.PR {
		s, isText := v.(string)
		return v != nil && !(isText && s == "")
	}
	want := e.CompareValue
	if s, ok := want.(string); ok {
		want = unescaped(s)
	}
	x, isText := v.(string)
	y, wantText := want.(string)
	if !isText || !wantText {
		if b, ok := v.(bool); ok && wantText { // "true" as some clients write it
			return (op == parser.EQ || op == parser.NE) && strings.EqualFold(y, map[bool]string{true: "true", false: "false"}[b])
		}
		return (op == parser.EQ || op == parser.NE) && v == want
	}
	if !a.CaseExact {
		x, y = strings.ToLower(x), strings.ToLower(y)
	}
	switch op {
	case parser.EQ, parser.NE:
		return x == y
	case parser.CO:
		return strings.Contains(x, y)
	case parser.SW:
		return strings.HasPrefix(x, y)
	case parser.EW:
		return strings.HasSuffix(x, y)
	case parser.GT:
		return x > y
	case parser.GE:
		return x >= y
	case parser.LT:
		return x < y
	case parser.LE:
		return x <= y
	}
	return false
}

// unescaped is a text as JSON means it, which the parser leaves as it is written.
func unescaped(s string) string {
	var out string
	if strings.ContainsRune(s, '\\') && json.Unmarshal([]byte(`"`+s+`"`), &out) == nil {
		return out
	}
	return s
}

// Exactly is the text that an attribute has to be, where the filter says no more than that.
func (f *Filter) Exactly(attribute string) (value string, ok bool) {
	if f == nil {
		return "", false
	}
	e, ok := f.root.(*parser.AttributeExpression)
	if !ok || !strings.EqualFold(string(e.Operator), string(parser.EQ)) || e.AttributePath.SubAttribute != nil || !strings.EqualFold(e.AttributePath.AttributeName, attribute) {
		return "", false
	}
	value, ok = e.CompareValue.(string)
	return unescaped(value), ok
}
