// Package icalendar reads calendars as RFC 5545 writes them, to find on which days their events take place, and writes feeds that others read. It takes no
// zone's name on trust, and nothing that recurs without an end keeps it busy.
package icalendar

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"sentier/internal/outbound"
)

// Bounds of what is read of one calendar.
const (
	mostBytes      = 16 << 20
	mostLine       = 64 << 10 // bytes, unfolded
	mostComponents = 50_000
	deepest        = 4
)

// property is one content line (RFC 5545, 3.1).
type property struct {
	name   string // in capitals
	params map[string]string
	value  string
	line   int // the first that it stands on
}

// component is what stands between BEGIN and END.
type component struct {
	name       string
	line       int
	properties []property
	parts      []*component
}

// first is the first property of a name.
func (c *component) first(name string) (property, bool) {
	for _, p := range c.properties {
		if p.name == name {
			return p, true
		}
	}
	return property{}, false
}

// text is the text of a property, without its escapes (RFC 5545, 3.3.11); empty: there is none.
func (c *component) text(name string) string {
	p, _ := c.first(name)
	return unescape(p.value)
}

func unescape(value string) string {
	if !strings.Contains(value, `\`) {
		return strings.TrimSpace(value)
	}
	var out strings.Builder
	for i := 0; i < len(value); i++ {
		if value[i] != '\\' || i+1 == len(value) {
			out.WriteByte(value[i])
			continue
		}
		i++
		switch value[i] {
		case 'n', 'N':
			out.WriteByte(' ')
		default:
			out.WriteByte(value[i])
		}
	}
	return strings.TrimSpace(out.String())
}

// texts are the texts of all properties of a name that may hold several, apart by commas.
func (c *component) texts(name string) (out []string) {
	for _, p := range c.properties {
		if p.name != name {
			continue
		}
		start := 0
		for i := 0; i <= len(p.value); i++ {
			if i < len(p.value) && p.value[i] == '\\' {
				i++
				continue
			}
			if i >= len(p.value) || p.value[i] == ',' {
				if text := unescape(p.value[start:min(i, len(p.value))]); text != "" {
					out = append(out, text)
				}
				start = i + 1
			}
		}
	}
	return out
}

// parse reads a calendar into its components. The error names the line.
func parse(text []byte) (*component, error) {
	if len(text) > mostBytes {
		return nil, outbound.Fault(nil, "there is more than %d kB of it", mostBytes>>10)
	}
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	var root *component
	var open []*component
	count := 0
	for at, line := range unfolded(text) {
		if line == "" {
			continue
		}
		if len(line) > mostLine {
			return nil, outbound.Fault(nil, "line %d is longer than %d kB", at, mostLine>>10)
		}
		p, ok := contentLine(line)
		if !ok {
			return nil, outbound.Fault(nil, "line %d is none of a calendar: a name, a colon and a value are wanted", at)
		}
		p.line = at
		switch name := strings.ToUpper(strings.TrimSpace(p.value)); {
		case root != nil && len(open) == 0:
			return nil, outbound.Fault(nil, "line %d stands after the end of the calendar", at)
		case p.name == "BEGIN":
			c := &component{name: name, line: at}
			if count++; count > mostComponents || len(open) == deepest {
				return nil, outbound.Fault(nil, "line %d begins more than is read: %d components, %d within each other", at, mostComponents, deepest)
			}
			if len(open) == 0 {
				if root = c; name != "VCALENDAR" {
					return nil, outbound.Fault(nil, "this is no calendar: it begins with %s and not with BEGIN:VCALENDAR", outbound.Clean(line, 40))
				}
			} else {
				in := open[len(open)-1]
				in.parts = append(in.parts, c)
			}
			open = append(open, c)
		case len(open) == 0:
			return nil, outbound.Fault(nil, "this is no calendar: it begins with %s and not with BEGIN:VCALENDAR", outbound.Clean(line, 40))
		case p.name == "END":
			if in := open[len(open)-1]; in.name != name {
				return nil, outbound.Fault(nil, "line %d ends %s, but %s of line %d is open", at, outbound.Clean(name, 40), in.name, in.line)
			}
			open = open[:len(open)-1]
		default:
			in := open[len(open)-1]
			in.properties = append(in.properties, p)
		}
	}
	switch {
	case root == nil:
		return nil, outbound.Fault(nil, "there is nothing in it: a calendar begins with BEGIN:VCALENDAR")
	case len(open) > 0:
		return nil, outbound.Fault(nil, "it breaks off: %s of line %d has no end", open[len(open)-1].name, open[len(open)-1].line)
	}
	return root, nil
}

// unfolded gives the lines with those joined that were folded, each with the number of the first of its lines.
func unfolded(text []byte) func(func(int, string) bool) {
	return func(yield func(int, string) bool) {
		number, begin := 0, 0
		var whole []byte
		for len(text) > 0 {
			line, rest, _ := bytes.Cut(text, []byte("\n"))
			text = rest
			line = bytes.TrimSuffix(line, []byte("\r"))
			number++
			if begin > 0 && len(line) > 0 && (line[0] == ' ' || line[0] == '\t') {
				if len(whole) <= mostLine {
					whole = append(whole, line[1:]...)
				}
				continue
			}
			if begin > 0 && !yield(begin, valid(whole)) {
				return
			}
			begin, whole = number, append(whole[:0], line...)
		}
		if begin > 0 {
			yield(begin, valid(whole))
		}
	}
}

func valid(text []byte) string {
	if utf8.Valid(text) {
		return string(text)
	}
	return strings.ToValidUTF8(string(text), "�")
}

// contentLine parts a line into its name, its parameters and its value.
func contentLine(line string) (p property, ok bool) {
	i := strings.IndexAny(line, ";:")
	if i <= 0 {
		return p, false
	}
	p.name, line = strings.ToUpper(line[:i]), line[i:]
	for strings.HasPrefix(line, ";") {
		name, rest, found := strings.Cut(line[1:], "=")
		if !found || name == "" || strings.ContainsAny(name, ";:") {
			return p, false
		}
		value := ""
		for { // one or several values, each in quotation marks or not
			part := ""
			if strings.HasPrefix(rest, `"`) {
				if part, rest, found = strings.Cut(rest[1:], `"`); !found {
					return p, false
				}
			} else {
				end := strings.IndexAny(rest, ";:,\"")
				if end < 0 || rest[end] == '"' {
					return p, false
				}
				part, rest = rest[:end], rest[end:]
			}
			value += part
			if !strings.HasPrefix(rest, ",") {
				break
			}
			value, rest = value+",", rest[1:]
		}
		if p.params == nil {
			p.params = map[string]string{}
		}
		p.params[strings.ToUpper(name)], line = value, rest
	}
	if !strings.HasPrefix(line, ":") {
		return p, false
	}
	p.value = line[1:]
	return p, true
}
