package document

import (
	"bytes"
	"regexp"
	"strconv"
	"strings"
)

// emitter writes trees as YAML 1.2: lists of plain values on one line, all else in blocks.
type emitter struct{ out bytes.Buffer }

func (e *emitter) indent(depth int) {
	for range depth {
		e.out.WriteString("  ")
	}
}

// fields writes an object's fields; the first follows on the line begun where it is inside a list.
func (e *emitter) fields(n *node, depth int, inLine bool) {
	for i, f := range n.fields {
		if i > 0 || !inLine {
			e.indent(depth)
		}
		e.out.WriteString(quote(f.name) + ":")
		e.value(f.value, depth)
	}
}

func (e *emitter) value(n *node, depth int) {
	switch {
	case n.kind == object && len(n.fields) > 0:
		e.out.WriteByte('\n')
		e.fields(n, depth+1, false)
	case n.kind == list && !n.plain():
		e.out.WriteByte('\n')
		for _, item := range n.items {
			e.item(item, depth)
		}
	default:
		e.out.WriteString(" " + n.inline() + "\n")
	}
}

// item writes an entry of a list that lies so deep.
func (e *emitter) item(n *node, depth int) {
	e.indent(depth + 1)
	e.out.WriteString("-")
	if n.kind == object && len(n.fields) > 0 {
		e.out.WriteByte(' ')
		e.fields(n, depth+2, true)
		return
	}
	e.value(n, depth+1)
}

// plain tells whether a list fits on one line.
func (n *node) plain() bool {
	for _, item := range n.items {
		if item.kind >= list {
			return false
		}
	}
	return true
}

func (n *node) inline() string {
	switch n.kind {
	case null:
		return "null"
	case text:
		return quote(n.scalar)
	case list:
		items := make([]string, len(n.items))
		for i, item := range n.items {
			items[i] = item.inline()
		}
		return "[" + strings.Join(items, ", ") + "]"
	case object:
		return "{}"
	}
	return n.scalar
}

var (
	bare     = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_./@+-]*( [A-Za-z0-9_./@+-]+)*$`)
	reserved = regexp.MustCompile(`(?i)^(true|false|null|yes|no|on|off|y|n)$`)
)

// quote writes a text so that every reader of YAML 1.1 or 1.2 takes it for that text.
func quote(s string) string {
	if bare.MatchString(s) && !reserved.MatchString(s) {
		return s
	}
	if !strings.ContainsFunc(s, func(r rune) bool {
		return r < ' ' || r == '\'' || r == 0x7f || r > 0xfffd || r == 0x85 || r == 0x2028 || r == 0x2029 || r == 0xfeff
	}) {
		return "'" + s + "'"
	}
	return strconv.QuoteToASCII(s)
}
