// Package source works out what comes of the things that are kept outside, in an organisation's directory or its calendars: who comes, into which of our groups,
// on which days is closed, and what is changed by it. It reads no directory itself, and changes nothing: what it gives is a change like any other.
package source

import (
	"slices"
	"strings"

	"sentier/internal/policy"
)

// Held is what a source holds, as it was read in full.
type Held struct {
	People []Person
	Groups []Group
	Things []Thing
	Events []Event
	Span   Span      // of the events
	Told   []Problem // what could not be understood of single things
}

// Span is a span of days, both included.
type Span struct{ First, Last policy.Date }

// Event is one time at which something takes place at a source: on which days, both included.
type Event struct {
	Outside    string // the id there, the same for all times of it
	Name       string
	Categories []string
	Span
	Timed  bool         // not on whole days
	Line   int          // on which it begins there
	Broken *policy.Said // why it cannot be said when it takes place; nil: it can
}

// Person is somebody as a source knows them.
type Person struct {
	Outside string // the id there, which stays when they are renamed
	Place   string // where they stand there: a distinguished name
	ID      string // by which they are known; our id is made of it
	Name    string
	Email   string
}

// Group is a group as a source knows it.
type Group struct {
	Outside string
	Place   string
	Name    string
	Members []string // outside ids of the people in it, those in groups within it among them, each once and in order
}

// Nest is a group while it is read: who is in it by itself, and which of the groups that are read with it are.
type Nest struct {
	Group
	People []string // outside ids
	Within []int
}

// Closed is a group with all who are in it, those of groups within it among them, each once and in order; loops are the groups within it that hold it in turn.
func Closed(all []Nest, at int) (out Group, loops []int) {
	out = all[at].Group
	seen, in := map[int]bool{at: true}, map[string]bool{}
	for todo := []int{at}; len(todo) > 0; todo = todo[1:] {
		for _, p := range all[todo[0]].People {
			in[p] = true
		}
		for _, g := range all[todo[0]].Within {
			if g == at {
				loops = append(loops, todo[0])
			}
			if !seen[g] {
				seen[g] = true
				todo = append(todo, g)
			}
		}
	}
	for p := range in {
		out.Members = append(out.Members, p)
	}
	slices.Sort(out.Members)
	return out, loops
}

// Problem is what could not be done for one thing of a source, and where it stands there.
type Problem struct {
	Place string
	Why   policy.Said
}

// Intake says what comes of the things of a source.
type Intake struct {
	Groups    []Mapping         `json:"groups,omitempty" description:"which groups of the source feed which of ours"`
	Rules     []MappingRule     `json:"rules,omitempty" description:"for groups that are mapped by none: the first rule that fits"`
	Everybody bool              `json:"everybody,omitempty" description:"everybody comes whom the source holds; else those who are in a group that is mapped"`
	Gone      string            `json:"gone,omitempty" enum:"suspended,removed,kept" description:"what becomes of people who come no more; suspended where it is not said"`
	Share     int               `json:"share,omitempty" description:"per cent: where more of the people or of the memberships would go at once, nothing is done until somebody has looked; 20 where it is not said"`
	Undo      string            `json:"undo,omitempty" enum:"refused,until_next" description:"whether a reading can be taken back, until the next; refused where it is not said"`
	Calendars []CalendarRule    `json:"calendars,omitempty" description:"which events of the source give our calendars their days: of each, the first rule that it fits"`
	Same      bool              `json:"same,omitempty" description:"of devices and sites: what is here already under an id of the source is the same thing, and the source keeps it from then on"`
	Things    bool              `json:"-"` // devices and sites are what the source holds
	Links     map[string]string `json:"links,omitempty" description:"by outside id: the user who was here before, and is that person"`
}

// Mapping is that a group of a source feeds one of ours.
type Mapping struct {
	Outside string `json:"outside" sentier:"required" description:"its name there, or where it stands"`
	Group   string `json:"group" sentier:"required" description:"id of the user group"`
}

// MappingRule maps the groups whose name begins or ends with a text or fits a pattern, or that stand under a branch.
type MappingRule struct {
	Match string `json:"match" sentier:"required" enum:"prefix,suffix,pattern,under"`
	Text  string `json:"text" sentier:"required" description:"the beginning, the end, the pattern with * for any letters, or the branch"`
	Group string `json:"group" sentier:"required" description:"id of the user group, with * for what is left of the name, as an id: crew-*"`
	Make  bool   `json:"make,omitempty" description:"make the groups that are not there"`
}

// CalendarRule is that events give one of our calendars its days: all of them, those of a category, or those whose name fits a pattern.
type CalendarRule struct {
	Match    string `json:"match" sentier:"required" enum:"all,category,name"`
	Text     string `json:"text,omitempty" description:"the category, or the name with * for any letters"`
	Calendar string `json:"calendar" sentier:"required" description:"id of the calendar"`
}

// fits tells whether an event is meant by a rule.
func (r CalendarRule) fits(e *Event) bool {
	text := policy.FoldName(r.Text)
	switch r.Match {
	case "category":
		return slices.ContainsFunc(e.Categories, func(c string) bool { return policy.FoldName(c) == text })
	case "name":
		return wild(policy.FoldName(e.Name), text)
	}
	return r.Match == "all"
}

// Feed is where something is read by HTTP.
type Feed struct {
	URL       string `json:"url,omitempty" description:"https://host/path, or http on this very machine; left out: what was brought last, by sentier source bring or at the desk"`
	Authority string `json:"authority,omitempty" description:"the certificate of the authority that vouches for it, in PEM; left out: those that the machine trusts"`
	Secret    string `json:"secret,omitempty" description:"the name of the secret with the token as whose bearer it is read; left out: as nobody"`
}

// CalendarFeed says where a calendar is, in iCalendar (RFC 5545), and how its events become days.
type CalendarFeed struct {
	Feed
	Zone  string `json:"zone,omitempty" sentier:"zone" description:"the zone in which days begin and end for events with a time of day; left out: that of the settings"`
	Timed string `json:"timed,omitempty" enum:"days,left_out" description:"what events with a time of day come to: each day that they touch, or nothing; days where it is not said"`
}

// Inventory says where a list of devices and sites is, and how it is written.
type Inventory struct {
	Feed
	Format  string            `json:"format" sentier:"required" enum:"csv,jsonl" description:"csv: the first line names the columns; jsonl: a JSON object a line"`
	Columns map[string]string `json:"columns,omitempty" description:"by our name of a field (type, id, name, kind, site, tags, address, parent, zone): how it is called there, where that is another"`
}

// Directory says where a directory is, and how it keeps people and groups.
type Directory struct {
	URL       string `json:"url" sentier:"required" description:"ldaps://host or ldap://host; with ldap the connection is encrypted before anything is said (StartTLS), but on this very machine"`
	Authority string `json:"authority,omitempty" description:"the certificate of the authority that vouches for the directory, in PEM; left out: those that the machine trusts"`
	Bind      string `json:"bind,omitempty" description:"the name as whom the service reads; left out: as nobody"`
	Secret    string `json:"secret,omitempty" description:"the name of the secret with the password: a file in the folder secrets beside the data, or the variable SENTIER_SECRET_… of the service"`
	Schema    string `json:"schema,omitempty" enum:"group-of-names,rfc2307,rfc2307bis,in-chain" description:"how people and groups are kept there; what stands below is taken from it where it is left out"`
	People    Branch `json:"people,omitzero" description:"where people stand"`
	Groups    Branch `json:"groups,omitzero" description:"where groups stand"`
	SignIn    bool   `json:"sign_in,omitempty" description:"those who come from here sign in with the directory's password"`
	Seconds   int    `json:"seconds,omitempty" description:"after which a reading is given up: 60 where it is not said"`
}

// Branch is where some entries stand, and what of them is read.
type Branch struct {
	Base    string `json:"base,omitempty" description:"the branch: ou=people,dc=example"`
	Filter  string `json:"filter,omitempty" description:"which entries, as RFC 4515 writes it"`
	Outside string `json:"outside,omitempty" description:"the attribute that stays when an entry is renamed"`
	ID      string `json:"id,omitempty" description:"of people: the attribute that our id is made of"`
	Name    string `json:"name,omitempty" description:"the attribute with the name; of several apart by commas, the first that is there"`
	Email   string `json:"email,omitempty" description:"of people: the attribute with the address"`
	Member  string `json:"member,omitempty" description:"of groups: the attribute with the members"`
}

// SignOn says at which provider of OpenID Connect people sign in, and what is taken of what it says.
type SignOn struct {
	Issuer      string   `json:"issuer" sentier:"required" description:"the provider's address, to the letter as it writes it itself"`
	ClientID    string   `json:"client_id" sentier:"required" description:"as which the provider knows this service"`
	Secret      string   `json:"secret,omitempty" description:"the name of the secret that the provider gave; left out: there is none, and PKCE alone keeps the code"`
	Authority   string   `json:"authority,omitempty" description:"the certificate of the authority that vouches for the provider, in PEM; left out: those that the machine trusts"`
	Scopes      []string `json:"scopes,omitempty" description:"that are asked for beside openid; left out: profile and email"`
	IDClaim     string   `json:"id_claim,omitempty" description:"the claim that the id of somebody new is made of; left out: preferred_username"`
	GroupsClaim string   `json:"groups_claim,omitempty" description:"the claim with the groups; left out: groups"`
	Strong      []string `json:"strong,omitempty" description:"values of acr that stand for a second factor; amr with mfa, hwk or sc does as well"`
	Audience    string   `json:"audience,omitempty" description:"bearer tokens of the provider (RFC 9068) for this audience are taken from programs"`
	Mandate     string   `json:"mandate,omitempty" description:"with audience: the only mandate that counts for such tokens"`
}

// What can become of people who come no more.
const (
	GoneSuspended = "suspended"
	GoneRemoved   = "removed"
	GoneKept      = "kept"
)

// Whether a reading can be taken back.
const (
	UndoRefused   = "refused"
	UndoUntilNext = "until_next"
)

// DefaultShare is how many per cent may go at once where nothing else is set. A few always may.
const (
	DefaultShare = 20
	alwaysMay    = 3
)

// What a source keeps of a record is changed there, and not here.
var kept = map[policy.Type][]string{policy.Users: {"name", "email"}, policy.UserGroups: {"name"}, policy.Calendars: {"days"}}

// fits tells whether a rule is for a group, and what of its name is left.
func (r MappingRule) fits(g *Group) (rest string, ok bool) {
	name := strings.TrimSpace(g.Name)
	folded, text := strings.ToLower(name), strings.ToLower(strings.TrimSpace(r.Text))
	switch r.Match {
	case "prefix":
		if ok = len(folded) == len(name) && strings.HasPrefix(folded, text); ok {
			rest = name[len(text):]
		}
	case "suffix":
		if ok = len(folded) == len(name) && strings.HasSuffix(folded, text); ok {
			rest = name[:len(name)-len(text)]
		}
	case "pattern":
		rest, ok = name, wild(folded, text)
	case "under":
		place := foldPlace(g.Place)
		rest, ok = name, place != "" && strings.HasSuffix(place, ","+foldPlace(r.Text))
	}
	return rest, ok
}

// wild tells whether a text fits a pattern in which * stands for any letters.
func wild(text, pattern string) bool {
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return text == pattern
	}
	first, last := parts[0], parts[len(parts)-1]
	if !strings.HasPrefix(text, first) || !strings.HasSuffix(text[len(first):], last) {
		return false
	}
	text = text[len(first) : len(text)-len(last)]
	for _, part := range parts[1 : len(parts)-1] {
		at := strings.Index(text, part)
		if at < 0 {
			return false
		}
		text = text[at+len(part):]
	}
	return true
}

// foldPlace reduces where a thing stands to what tells places apart: not capitals, nor spaces around commas.
func foldPlace(place string) string {
	parts := strings.Split(strings.ToLower(place), ",")
	for i := range parts {
		parts[i] = strings.TrimSpace(parts[i])
	}
	return strings.Join(parts, ",")
}

// Check finds what is wrong with settings, by themselves and as a policy is.
func (s *Intake) Check(p *policy.Policy) (field string, problem *policy.Said) {
	wrong := func(field, form string, args ...any) (string, *policy.Said) {
		said := policy.Say(form, args...)
		return field, &said
	}
	if !slices.Contains([]string{"", GoneSuspended, GoneRemoved, GoneKept}, s.Gone) {
		return wrong("gone", "%q is none of suspended, removed and kept", s.Gone)
	}
	if !slices.Contains([]string{"", UndoRefused, UndoUntilNext}, s.Undo) {
		return wrong("undo", "%q is none of refused and until_next", s.Undo)
	}
	if s.Share < 0 || s.Share > 100 {
		return wrong("share", "%d is out of range: %d to %d", s.Share, 0, 100)
	}
	if n := len(s.Groups) + len(s.Rules) + len(s.Calendars); n > mostMappings {
		return wrong("groups", "has %d: keep it to %d", n, mostMappings)
	}
	for _, r := range s.Calendars {
		switch {
		case !slices.Contains([]string{"all", "category", "name"}, r.Match):
			return wrong("calendars", "%q is none of all, category and name", r.Match)
		case (r.Match == "all") != (strings.TrimSpace(r.Text) == ""):
			return wrong("calendars", "a category or a name goes with a text, and all with none")
		}
		if _, ok := policy.Find[*policy.Calendar](p, r.Calendar); !ok {
			return wrong("calendars", "there is no calendar %q: make it first", r.Calendar)
		}
	}
	for _, m := range s.Groups {
		if strings.TrimSpace(m.Outside) == "" {
			return wrong("groups", "one names no group of the source")
		}
		if _, ok := policy.Find[*policy.UserGroup](p, m.Group); !ok {
			var ids []string
			for g := range policy.Each[*policy.UserGroup](p) {
				ids = append(ids, g.Key())
			}
			if near := policy.Nearest(m.Group, ids); near != "" {
				return wrong("groups", "there is no user group %q; %q is one", m.Group, near)
			}
			return wrong("groups", "there is no user group %q", m.Group)
		}
	}
	for _, r := range s.Rules {
		switch {
		case !slices.Contains([]string{"prefix", "suffix", "pattern", "under"}, r.Match):
			return wrong("rules", "%q is none of prefix, suffix, pattern and under", r.Match)
		case strings.TrimSpace(r.Text) == "":
			return wrong("rules", "one says nothing that a group could fit")
		case !policy.ValidID(strings.Replace(r.Group, "*", "x", 1)):
			return wrong("rules", "%q cannot be the id of a user group: write small letters, digits and -, and * for what is left of the name", r.Group)
		case strings.Contains(r.Group, "*"):
		case r.Make:
		default:
			if _, ok := policy.Find[*policy.UserGroup](p, r.Group); !ok {
				return wrong("rules", "there is no user group %q", r.Group)
			}
		}
	}
	return "", nil
}

// mostMappings bounds the mappings and rules of a source.
const mostMappings = 2000

// Find gives the first people and groups whose name, id or address holds some letters, whatever their capitals.
func (h *Held) Find(letters string, most int) (people []Person, groups []Group) {
	letters = policy.FoldName(letters)
	holds := func(texts ...string) bool {
		return slices.ContainsFunc(texts, func(text string) bool { return strings.Contains(policy.FoldName(text), letters) })
	}
	for _, p := range h.People {
		if len(people) < most && holds(p.ID, p.Name, p.Email) {
			people = append(people, p)
		}
	}
	for _, g := range h.Groups {
		if len(groups) < most && holds(g.Name) {
			groups = append(groups, g)
		}
	}
	return people, groups
}

// Feeds is the group of ours that a group of a name feeds, by the mappings and then by the rules; empty: none.
func (s *Intake) Feeds(name string) string {
	for _, m := range s.Groups {
		if policy.FoldName(m.Outside) == policy.FoldName(name) {
			return m.Group
		}
	}
	for _, r := range s.Rules {
		if rest, ok := r.fits(&Group{Name: name}); ok {
			return strings.Replace(r.Group, "*", policy.MakeID(rest, func(string) bool { return false }), 1)
		}
	}
	return ""
}
