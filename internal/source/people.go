package source

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"unicode"

	"sentier/internal/policy"
)

// people finds who comes, who is other than before, and who comes no more.
func (w *planner) people(feeds []feed) {
	comes := map[string]bool{}
	for _, f := range feeds {
		for _, outside := range f.from.Members {
			comes[outside] = true
		}
	}
	byID, ours := map[string][]*Person{}, map[string]bool{}
	for i := range w.held.People {
		p := &w.held.People[i]
		if !w.settings.Everybody && !comes[p.Outside] {
			continue
		}
		w.People++
		if id := UserID(p.ID); id != "" {
			byID[id] = append(byID[id], p)
		}
		if mail := mailOf(p); mail != "" {
			w.mails[mail]++
		}
		if id, ok := w.known.Stands(w.source, policy.Users, p.Outside); ok {
			ours[id] = true
		}
		ours[w.settings.Links[p.Outside]] = true
	}
	for u := range policy.Each[*policy.User](w.policy) {
		if u.Email != "" && !ours[u.Key()] {
			w.mails[strings.ToLower(u.Email)]++
		}
	}
	seen := map[string]bool{}
	for i := range w.held.People {
		p := &w.held.People[i]
		if !w.settings.Everybody && !comes[p.Outside] {
			continue
		}
		seen[p.Outside] = true
		w.person(p, byID)
	}
	for _, o := range w.known.things(w.source, policy.Users) {
		if !seen[o.Outside] {
			w.goes(o)
		}
	}
	if w.left != w.policy {
		w.Changes = append(w.Changes, policy.Changes(w.policy.Compare(w.left))...)
	}
}

// mailOf is by what somebody's address is told from others.
func mailOf(p *Person) string { return strings.ToLower(Plain(p.Email)) }

// address is somebody's address, or none where others have it as well: one person has one account.
func (w *planner) address(p *Person) string {
	if w.mails[mailOf(p)] < 2 {
		return Plain(p.Email)
	}
	w.tell(p.Place, "%s has the address %s, which somebody else has: nobody gets it", p.Name, policy.Clip(p.Email))
	return ""
}

// UserID is the id that a user gets of that by which a person is known; empty: none can be made of it.
func UserID(known string) string {
	id := strings.ToLower(strings.TrimSpace(known))
	if !policy.ValidID(id) {
		return ""
	}
	return id
}

// person finds what comes of somebody who comes.
func (w *planner) person(p *Person, byID map[string][]*Person) {
	if id, ok := w.known.Stands(w.source, policy.Users, p.Outside); ok {
		if u, there := policy.Find[*policy.User](w.policy, id); there {
			w.comesAgain(p, u)
			return
		}
	}
	if id := w.settings.Links[p.Outside]; id != "" {
		u, there := policy.Find[*policy.User](w.policy, id)
		o, other := w.known.Origin(policy.Users, id)
		switch {
		case !there:
			w.tell(p.Place, "%s is linked to the user %q, who is not there", p.Name, id)
		case other && (o.Source != w.source || o.Outside != p.Outside):
			w.tell(p.Place, "%s is linked to the user %q, who is somebody else: %s keeps them", p.Name, id, w.known.Name(o.Source))
		default:
			w.comesAgain(p, u)
			return
		}
		return
	}
	id := UserID(p.ID)
	switch {
	case strings.TrimSpace(p.ID) == "":
		w.tell(p.Place, "%s has no id there: nothing could be made of it here", cmp.Or(p.Name, p.Place))
		return
	case id == "":
		w.tell(p.Place, "%q cannot be an id here: small letters, digits and . _ @ + -, up to %d", policy.Clip(p.ID), policy.MaxID)
		return
	case len(byID[id]) > 1:
		if byID[id][0] == p {
			w.tell(p.Place, "%d people there are known as %q: none of them comes", len(byID[id]), id)
		}
		return
	}
	if u, there := policy.Find[*policy.User](w.policy, id); there {
		if o, kept := w.known.Origin(policy.Users, id); kept {
			w.tell(p.Place, "there is a user %q already, whom %s keeps as somebody else", id, w.known.Name(o.Source))
			return
		}
		w.tell(p.Place, "there is a user %q already (%s): link them if they are the same", id, u.Title())
		return
	}
	u := &policy.User{ID: policy.UserID(id), Name: Plain(p.Name), Email: w.address(p), Kind: policy.Person, Status: policy.Active}
	if !w.sound(p.Place, policy.Empty(), u) {
		return
	}
	w.NewUsers++
	w.users[p.Outside] = id
	w.Changes = append(w.Changes, policy.Change{Op: policy.Put, Type: policy.Users, ID: id, Record: u})
	w.Origins = append(w.Origins, Origin{Source: w.source, Type: policy.Users, Outside: p.Outside, Record: id, Place: p.Place})
}

// comesAgain finds what of a user is other at the source than here.
func (w *planner) comesAgain(p *Person, u *policy.User) {
	w.users[p.Outside] = u.Key()
	o, known := w.known.Origin(policy.Users, u.Key())
	next := *u
	next.Name, next.Email = Plain(p.Name), w.address(p)
	back := known && o.Suspended && u.Status == policy.Suspended
	if back {
		next.Status = policy.Active
		w.BackUsers++
	}
	if next.Name != u.Name || next.Email != u.Email || back {
		if w.sound(p.Place, policy.Empty(), &next) {
			if !back {
				w.ChangedUsers++
			}
			w.Changes = append(w.Changes, policy.Change{Op: policy.Put, Type: policy.Users, ID: u.Key(), Record: &next})
		}
	}
	if !known || o.Gone || o.Place != p.Place {
		w.Origins = append(w.Origins, Origin{Source: w.source, Type: policy.Users, Outside: p.Outside, Record: u.Key(), Place: p.Place})
	}
}

// goes finds what becomes of somebody who comes no more.
func (w *planner) goes(o Origin) {
	u, there := policy.Find[*policy.User](w.policy, o.Record)
	if !there {
		w.Lost = append(w.Lost, o)
		return
	}
	if o.Gone {
		return
	}
	w.GoneUsers++
	gone := o
	gone.Gone = true
	switch cmp.Or(w.settings.Gone, GoneSuspended) {
	case GoneRemoved:
		left, _, err := w.left.Apply(w.left.Cascade(policy.Users, o.Record))
		if err != nil {
			w.tell(o.Place, "%v", policy.SaidBy(err))
			return
		}
		w.left, w.gone[o.Record] = left, true
		w.Lost = append(w.Lost, o)
		return
	case GoneSuspended:
		if u.Status == policy.Active { // else whoever suspended them had reasons of their own: they do not come back by themselves
			next := *u
			next.Status, gone.Suspended = policy.Suspended, true
			w.Changes = append(w.Changes, policy.Change{Op: policy.Put, Type: policy.Users, ID: o.Record, Record: &next})
		}
	}
	w.Origins = append(w.Origins, gone)
}

// members finds which memberships come and go.
func (w *planner) members(feeds []feed) {
	want := map[Member]bool{}
	for _, f := range feeds {
		for _, outside := range f.from.Members {
			if user, ok := w.users[outside]; ok {
				want[Member{w.source, f.to, user}] = true
			}
		}
	}
	for user, in := range w.known.members.All {
		for group, source := range in {
			if m := (Member{source, group, user}); source == w.source && !want[m] {
				w.Left = append(w.Left, m)
			}
		}
	}
	w.Left = inOrder(w.Left)
	for _, m := range w.Left {
		if g, ok := policy.Find[*policy.UserGroup](w.policy, m.Group); ok && Has(g, m.User) && !w.gone[m.User] {
			w.Changes = append(w.Changes, policy.Change{Op: policy.Drop, Type: policy.UserGroups, ID: m.Group, List: "members", Entry: policy.Entry{Value: m.User}, Beside: true})
		}
	}
	for _, m := range inOrder(slices.Collect(maps.Keys(want))) {
		source, brought := w.known.Brings(m.Group, m.User)
		g, there := policy.Find[*policy.UserGroup](w.policy, m.Group)
		if there && Has(g, m.User) {
			continue // it is so: by us, by hand, or by another source
		}
		if !brought || source != w.source {
			w.Joined = append(w.Joined, m)
		}
		w.Changes = append(w.Changes, policy.Change{Op: policy.Add, Type: policy.UserGroups, ID: m.Group, List: "members", Entry: policy.Entry{Value: m.User}, Beside: true})
	}
}

// Has tells whether somebody is a member of a group without an end.
func Has(g *policy.UserGroup, user string) bool {
	i, found := slices.BinarySearchFunc(g.Members, policy.Member{User: policy.UserID(user)}, policy.CompareMembers)
	return found && g.Members[i].Span() == policy.Span{}
}

func inOrder(list []Member) []Member {
	slices.SortFunc(list, func(a, b Member) int {
		return cmp.Or(strings.Compare(a.Group, b.Group), strings.Compare(a.User, b.User))
	})
	return list
}

// Plain is a text as somebody may read it: without what turns the direction of letters, or is not seen at all.
func Plain(text string) string {
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Cc, r) || unicode.Is(unicode.Bidi_Control, r) || r == unicode.ReplacementChar {
			return -1
		}
		return r
	}, text))
}
