package policy

import (
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // zones are part of what a policy means, wherever the program runs
	"unicode"
	"unicode/utf8"
)

// Bounds of texts, in characters.
const (
	maxName    = 200
	maxNote    = 2000 // "Records" in the semantics
	maxReason  = 4000 // of a lock-out
	maxTag     = 64
	maxAddress = 500
)

// check checks what every record has.
func (r *Common) check(c *checker) { c.text("note", r.Note, maxNote) }

func (s *Settings) check(c *checker) {
	oneOf(c, "combine", s.Combine)
	c.zone("zone", s.Zone)
}

func (r *Right) check(c *checker) {
	c.named(string(r.ID), r.Name)
	if (r.ID == View || r.ID == Control) && len(r.Kinds) > 0 {
		c.fault("kinds", "%s is built in and holds for every kind: leave kinds out", r.ID)
	}
}

func (r *Role) check(c *checker) {
	c.named(string(r.ID), r.Name)
}

func (k *Kind) check(c *checker) { c.named(string(k.ID), k.Name) }

func (s *Site) check(c *checker) {
	c.named(string(s.ID), s.Name)
	c.zone("zone", s.Zone)
}

func (d *Device) check(c *checker) {
	c.named(string(d.ID), d.Name)
	c.text("address", d.Address, maxAddress)
	oneOf(c, "state", d.State)
	c.tags("tags", d.Tags)
	seen := map[PointID]bool{}
	for i, p := range d.Points {
		field := fmt.Sprintf("points[%d]", i)
		c.ident(field+".id", string(p.ID))
		c.text(field+".name", p.Name, maxName)
		if seen[p.ID] {
			c.fault(field+".id", "point %q is there twice: give each point an id of its own", p.ID)
		}
		seen[p.ID] = true
	}
	if l := d.Lockout; l != nil {
		c.text("lockout.by", l.By, maxName)
		c.text("lockout.reason", l.Reason, maxReason)
		c.span("lockout", l.Span())
	}
}

func (g *DeviceGroup) check(c *checker) {
	c.named(string(g.ID), g.Name)
	if g.Match != nil {
		c.tags("match.tags", g.Match.Tags)
	}
}

func (u *User) check(c *checker) {
	c.named(string(u.ID), u.Name)
	oneOf(c, "kind", u.Kind)
	oneOf(c, "status", u.Status)
	c.span("valid", u.Valid)
	c.text("email", u.Email, maxName)
	if at := strings.Index(u.Email, "@"); u.Email != "" && (at < 1 || at == len(u.Email)-1 || strings.ContainsAny(u.Email, " <>,;")) {
		c.fault("email", "%q is no e-mail address: write it as name@place", u.Email)
	}
}

func (g *UserGroup) check(c *checker) {
	c.named(string(g.ID), g.Name)
	for i, m := range g.Members {
		c.span(fmt.Sprintf("members[%d]", i), m.Span())
	}
	if s := g.SignIn; s != nil {
		oneOf(c, "sign_in.second_factor", s.SecondFactor)
		if s.PasswordDays < 0 || s.PasswordDays > 3650 {
			c.fault("sign_in.password_days", "%d is out of range: give 1 to 3650 days, or 0 for never", s.PasswordDays)
		}
	}
	if g.Join != nil {
		g.Join.check(c)
	}
}

func (j *Join) check(c *checker) {
	oneOf(c, "join.approval", j.Approval)
	if j.Minutes < 1 || j.Minutes > MaxJoin {
		c.fault("join.minutes", "%d is out of range: give 1 to %d minutes", j.Minutes, MaxJoin)
	}
}

func (k *Calendar) check(c *checker) {
	c.named(string(k.ID), k.Name)
	for i, d := range k.Days {
		field := fmt.Sprintf("days[%d]", i)
		c.text(field+".name", d.Name, maxName)
		switch {
		case !d.Date.IsZero() && (!d.From.IsZero() || !d.To.IsZero()):
			c.fault(field, "has both date and from/to: keep one of the two")
		case d.Date.IsZero() && (d.From.IsZero() || d.To.IsZero()):
			c.fault(field, "has no day: give date, or from and to")
		case d.Date.IsZero() && d.To.Days() < d.From.Days():
			c.fault(field+".to", "%s is before %s: the first day comes first", d.To, d.From)
		}
	}
}

func (s *Schedule) check(c *checker) {
	c.named(string(s.ID), s.Name)
	if s.Zone != SiteZone {
		c.zone("zone", s.Zone)
	}
	for i, w := range s.Windows {
		c.window(fmt.Sprintf("windows[%d]", i), w.From)
	}
	if d := s.Dates; d != nil && !d.From.IsZero() && !d.To.IsZero() && d.To.Days() < d.From.Days() {
		c.fault("dates.to", "%s is before %s: the first day comes first", d.To, d.From)
	}
	for i, special := range s.Special {
		for j, w := range special.Windows {
			c.window(fmt.Sprintf("special[%d].windows[%d]", i, j), w.From)
		}
	}
}

func (g *Grant) check(c *checker) {
	c.named(string(g.ID), g.Name)
	oneOf(c, "effect", g.Effect)
	c.span("valid", g.Valid)
	for i, l := range g.Lines {
		field := fmt.Sprintf("lines[%d].", i)
		oneOf(c, field+"depth", l.Depth)
		for j, s := range l.If.States {
			oneOf(c, fmt.Sprintf("%sif.states[%d]", field, j), s)
		}
		if g.Effect == Deny && len(l.Limits) > 0 {
			c.fault(field+"limits", "a deny carries no limits: leave them out")
		}
		for name, limit := range l.Limits {
			c.ident(field+"limits."+name, name)
			if math.IsNaN(limit.Number) || math.IsInf(limit.Number, 0) {
				c.fault(field+"limits."+name, "is no finite number")
			}
		}
	}
}

// MaxAtLeast is how many people an expectation can ask for at most.
const MaxAtLeast = 1000

func (e *Expectation) check(c *checker) {
	c.named(string(e.ID), e.Name)
	oneOf(c, "depth", e.Depth)
	oneOf(c, "expect", e.Expect)
	if e.Expect == "" {
		c.fault("expect", "is missing: write %s", Choice(choices[reflect.TypeFor[Expect]()]))
	}
	if !e.Who.Everyone && len(e.Who.Groups)+len(e.Who.Users) == 0 {
		c.fault("who", "names nobody: give groups or users, or everyone")
	}
	if len(e.Rights) == 0 {
		c.fault("rights", "is empty: name the rights that it is about")
	}
	if e.On.count() == 0 {
		c.fault("on", "names nothing: give devices, points, device groups or sites, or everything")
	}
	switch {
	case e.AtLeast != 0 && e.Expect != Someone:
		c.fault("at_least", "is said of someone alone: leave it out")
	case e.AtLeast < 0 || e.AtLeast > MaxAtLeast:
		c.fault("at_least", "%d is out of range: give 1 to %d people", e.AtLeast, MaxAtLeast)
	}
}

// count is how many places are named, everything counting as one.
func (w Where) count() int {
	n := len(w.Sites) + len(w.DeviceGroups) + len(w.Devices) + len(w.Points)
	if w.Everything {
		n++
	}
	return n
}

func (m *Mandate) check(c *checker) {
	c.named(string(m.ID), m.Name)
	c.span("valid", m.Valid)
	oneOf(c, "role", m.Role)
	if m.Role != Delegate && len(m.Sites)+len(m.Groups)+len(m.Rights) > 0 {
		c.fault("role", "sites, groups and rights bound a delegate: leave them out for a mandate of role %q", m.Role)
	}
}

// named checks what all records with an id and a name have.
func (c *checker) named(id, name string) {
	c.ident("id", id)
	c.text("name", name, maxName)
}

func (c *checker) ident(field, id string) {
	switch {
	case id == "":
		c.fault(field, "is missing: give an id of small letters, digits and . _ @ + -")
	case !ValidID(id):
		c.fault(field, "%q is no id: use up to 128 small letters, digits and . _ @ + -, beginning with a letter or a digit", id)
	}
}

func (c *checker) text(field, text string, limit int) {
	switch {
	case !utf8.ValidString(text):
		c.fault(field, "is no valid UTF-8")
	case utf8.RuneCountInString(text) > limit:
		c.fault(field, "has %d characters: keep it to %d", utf8.RuneCountInString(text), limit)
	case strings.ContainsFunc(text, func(r rune) bool {
		return unicode.IsControl(r) && !(limit >= maxNote && (r == '\n' || r == '\t'))
	}):
		c.fault(field, "holds a control character: take it out")
	}
}

func (c *checker) tags(field string, tags []string) {
	for i, t := range tags {
		at := fmt.Sprintf("%s[%d]", field, i)
		if strings.TrimSpace(t) == "" || strings.TrimSpace(t) != t {
			c.fault(at, "%q is no tag: a tag is a text without spaces at its ends", t)
		}
		c.text(at, t, maxTag)
	}
}

// oneOf faults a text that is none of those that its type can be.
func oneOf[T ~string](c *checker, field string, value T) {
	allowed := choices[reflect.TypeFor[T]()]
	if value == "" || slices.Contains(allowed, string(value)) {
		return // empty: the default
	}
	if near := Nearest(string(value), allowed); near != "" {
		c.fault(field, "%q is not known: did you mean %q?", value, near)
		return
	}
	c.fault(field, "%q is not known: write %s", value, Choice(allowed))
}

func (c *checker) span(field string, s Span) {
	if !s.From.IsZero() && !s.Until.IsZero() && !s.From.Before(s.Until) {
		c.fault(field+".until", "%s is not after %s: an end comes after its beginning",
			s.Until.Format(time.RFC3339), s.From.Format(time.RFC3339))
	}
}

func (c *checker) window(field string, from Clock) {
	if from == Midnight {
		c.fault(field+".from", "a window cannot open at 24:00: write 00:00 of the next day")
	}
}

func (c *checker) zone(field, zone string) {
	if zone == "" {
		return
	}
	if _, err := LoadZone(zone); err != nil {
		c.fault(field, "%v", err)
	}
}

const noZone = "%q is no zone of the IANA time zone database: write one such as Europe/Lisbon, or UTC"

// LoadZone finds an IANA zone by name. "Local" is no zone: it would differ from machine to machine.
func LoadZone(name string) (*time.Location, error) {
	if name == "" || name == "Local" {
		return nil, Say(noZone, name)
	}
	loc, err := time.LoadLocation(name)
	if err != nil {
		return nil, Say(noZone, name)
	}
	return loc, nil
}
