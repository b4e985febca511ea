package policy

import (
	"cmp"
	"fmt"
	"strings"
)

// Fault is one thing that is wrong with a record, and what would mend it.
type Fault struct {
	Type    Type
	ID      string // of the record; empty where it has none
	Index   int    // of the record in its list of a document; -1 where it came by itself
	Field   string // within the record, such as lines[0].on.sites[1]; empty: the record itself
	Problem Said
}

// Path names the place of the fault: grants[3].lines[0].when[0] in a document,
// grants/night-watch.lines[0].when[0] elsewhere.
func (f Fault) Path() string {
	path := f.Type.String()
	switch {
	case f.Type == SettingsType:
	case f.Index >= 0:
		path += fmt.Sprintf("[%d]", f.Index)
	default:
		path += "/" + f.ID
	}
	if f.Field != "" {
		path += "." + f.Field
	}
	return path
}

func (f Fault) String() string { return f.Path() + ": " + f.Problem.Error() }

// compareFaults orders faults by type, place and id.
func compareFaults(a, b Fault) int {
	return cmp.Or(cmp.Compare(a.Type, b.Type), cmp.Compare(a.Index, b.Index), cmp.Compare(a.ID, b.ID))
}

// Faults are all that is wrong with a change; as an error, one line each.
type Faults []Fault

func (fs Faults) Error() string {
	lines := make([]string, len(fs))
	for i, f := range fs {
		lines[i] = f.String()
	}
	return strings.Join(lines, "\n")
}

// checker gathers the faults of one record.
type checker struct {
	faults *Faults
	typ    Type
	id     string
	index  int
}

func (c *checker) fault(field, form string, args ...any) {
	*c.faults = append(*c.faults, Fault{c.typ, c.id, c.index, field, Say(form, args...)})
}
