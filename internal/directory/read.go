package directory

import (
	"context"
	"fmt"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"sentier/internal/policy"
	"sentier/internal/source"
)

// Read reads all people and groups of a directory. Nothing is given where it did not say all.
func (s Settings) Read(ctx context.Context, secret string) (*source.Held, error) {
	s = s.Full()
	c, err := s.open(ctx, secret)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { _ = c.Close() }) // what waits for the directory ends with an error
	defer stop()
	r := reading{settings: s, conn: c, byPlace: map[string]int{}, byID: map[string]int{}}
	if err := r.people(s.People.Filter); err != nil {
		return nil, err
	}
	if err := r.groups(s.Groups.Filter); err != nil {
		return nil, err
	}
	return &r.held, nil
}

// reading is a directory while it is read.
type reading struct {
	settings Settings
	conn     *conn
	held     source.Held
	byPlace  map[string]int // people, by where they stand
	byID     map[string]int // people, by what they are known as
}

func (r *reading) tell(place, form string, args ...any) {
	r.held.Told = append(r.held.Told, source.Problem{Place: clean(place), Why: policy.Say(form, args...)})
}

func (r *reading) people(filter string) error {
	b := r.settings.People
	return r.conn.search(b, filter, attributes(b.Outside, b.ID, b.Name, b.Email), func(e *ldap.Entry) error {
		p := source.Person{Outside: outside(e, b.Outside), Place: e.DN, ID: first(e, b.ID), Name: first(e, b.Name), Email: first(e, b.Email)}
		if p.Outside == "" {
			r.tell(e.DN, "has no %s, by which it would be known again", b.Outside)
			return nil
		}
		n := len(r.held.People)
		r.held.People = append(r.held.People, p)
		r.byPlace[placeKey(e.DN)] = n
		if p.ID != "" {
			r.byID[strings.ToLower(p.ID)] = n
		}
		return nil
	})
}

// placeKey is the same for the same distinguished name, however it is written (RFC 4514).
func placeKey(dn string) string {
	parsed, err := ldap.ParseDN(dn)
	if err != nil {
		return strings.ToLower(dn)
	}
	return strings.ToLower(parsed.String())
}

// node is a group while it is read: with the members as they are written there.
type node struct {
	source.Nest
	members []string
}

// groups reads the groups and who is in them, at any depth.
func (r *reading) groups(filter string) error {
	b := r.settings.Groups
	var nodes []node
	byPlace := map[string]int{}
	total := 0
	err := r.conn.search(b, filter, attributes(b.Outside, b.Name, b.Member), func(e *ldap.Entry) error {
		n := node{Nest: source.Nest{Group: source.Group{Outside: outside(e, b.Outside), Place: e.DN, Name: first(e, b.Name)}}}
		if n.Outside == "" || n.Name == "" {
			r.tell(e.DN, "has no %s or no %s: it is no group that could be mapped", b.Outside, b.Name)
			return nil
		}
		byPlace[placeKey(e.DN)] = len(nodes)
		for _, name := range attributes(b.Member) {
			values, err := r.values(e, name)
			if err != nil {
				return err
			}
			n.members = append(n.members, values...)
		}
		if total += len(n.members); total > mostMembers {
			return fault(nil, "the directory has more than %d memberships: narrow the branch or the filter of groups", mostMembers)
		}
		nodes = append(nodes, n)
		return nil
	})
	if err != nil {
		return err
	}
	for i := range nodes {
		r.resolve(&nodes[i], byPlace)
	}
	nests := make([]source.Nest, len(nodes))
	for i := range nodes {
		nests[i] = nodes[i].Nest
	}
	for i := range nests {
		group, loops := source.Closed(nests, i)
		for _, g := range loops {
			r.tell(group.Place, "%s is in itself, through %s: whoever is in one is in both", group.Name, nests[g].Name)
		}
		r.held.Groups = append(r.held.Groups, group)
	}
	return nil
}

// resolve finds which people and which groups the members of a group are. Others, of another branch, are no concern of ours.
func (r *reading) resolve(n *node, groups map[string]int) {
	for _, m := range n.members {
		key := placeKey(m)
		if i, ok := groups[key]; ok {
			n.Within = append(n.Within, i)
		} else if i, ok := r.byPlace[key]; ok {
			n.People = append(n.People, r.held.People[i].Outside)
		} else if i, ok := r.byID[strings.ToLower(m)]; ok {
			n.People = append(n.People, r.held.People[i].Outside)
		}
	}
	n.members = nil
}

// values are all values of an attribute: a directory may give the first alone, and say so in the attribute's name (member;range=0-1499).
func (r *reading) values(e *ldap.Entry, name string) ([]string, error) {
	out := e.GetEqualFoldAttributeValues(name)
	from := 0
	for {
		values, last, ranged := rangeOf(e, name, from)
		if !ranged {
			return out, nil
		}
		if out = append(out, values...); last || len(values) == 0 {
			return out, nil
		}
		from += len(values)
		if from > mostMembers {
			return nil, fault(nil, "the directory has more than %d memberships: narrow the branch or the filter of groups", mostMembers)
		}
		request := ldap.NewSearchRequest(e.DN, ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false, "(objectClass=*)", []string{rangeName(name, from)}, nil)
		got, err := r.conn.Search(request)
		if err != nil || len(got.Entries) != 1 {
			if err == nil {
				return nil, fault(nil, "the directory did not say all members of %s", clean(e.DN))
			}
			return nil, fault(err, "the directory did not say all members of %s: %s", clean(e.DN), reason(err))
		}
		e = got.Entries[0]
	}
}

// rangeName asks for the values of an attribute from one on.
func rangeName(name string, from int) string { return fmt.Sprintf("%s;range=%d-*", name, from) }

// rangeOf are the values of an attribute from one on, where the directory gave them so, and whether they are the last.
func rangeOf(e *ldap.Entry, name string, from int) (values []string, last, ok bool) {
	begin := strings.ToLower(fmt.Sprintf("%s;range=%d-", name, from))
	for _, a := range e.Attributes {
		if end, found := strings.CutPrefix(strings.ToLower(a.Name), begin); found {
			return a.Values, end == "*", true
		}
	}
	return nil, false, false
}
