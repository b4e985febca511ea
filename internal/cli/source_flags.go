package cli

import (
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"sentier/internal/source"
	"sentier/internal/wire"
)

// sourceFlags are how a source is set up in the terminal: what is said is laid over the settings as they are.
type sourceFlags struct {
	set                     []sourceFlag
	authority               string
	maps                    []string
	prefix, pattern         []string
	under, suffix           []string
	makes                   bool
	daysOf, daysNamed, days []string
	columns                 map[string]string
}

// sourceFlag is a flag, and what it does to settings.
type sourceFlag struct {
	name string
	lay  func(*wire.NewSource)
}

// flagAt adds a flag whose value belongs somewhere in the settings.
func flagAt[T any](f *sourceFlags, register func(*T, string, T, string), name, help string, at func(*wire.NewSource) *T) {
	var value, zero T
	register(&value, name, zero, help)
	f.set = append(f.set, sourceFlag{name, func(s *wire.NewSource) { *at(s) = value }})
}

// The settings of a kind, made where a flag asks for them: the service tells whoever mixes kinds.
func directoryOf(s *wire.NewSource) *source.Directory {
	if s.Directory == nil {
		s.Directory = &source.Directory{}
	}
	return s.Directory
}

func signOnOf(s *wire.NewSource) *source.SignOn {
	if s.SignOn == nil {
		s.SignOn = &source.SignOn{}
	}
	return s.SignOn
}

func calendarOf(s *wire.NewSource) *source.CalendarFeed {
	if s.Calendar == nil {
		s.Calendar = &source.CalendarFeed{}
	}
	return s.Calendar
}

func inventoryOf(s *wire.NewSource) *source.Inventory {
	if s.Inventory == nil {
		s.Inventory = &source.Inventory{}
	}
	return s.Inventory
}

// feedOf is from where a source is read by HTTP; nil: it is not.
func feedOf(s *wire.NewSource) *source.Feed {
	switch {
	case s.Calendar != nil:
		return &s.Calendar.Feed
	case s.Inventory != nil:
		return &s.Inventory.Feed
	case s.SCIM != nil:
		return s.SCIM
	}
	return nil
}

// secretOf is where the name of a source's secret stands.
func secretOf(s *wire.NewSource) *string {
	switch {
	case s.SignOn != nil:
		return &s.SignOn.Secret
	case feedOf(s) != nil:
		return &feedOf(s).Secret
	}
	return &directoryOf(s).Secret
}

// authorityOf is where the certificate of a source's authority stands.
func authorityOf(s *wire.NewSource) *string {
	switch {
	case s.SignOn != nil:
		return &s.SignOn.Authority
	case feedOf(s) != nil:
		return &feedOf(s).Authority
	}
	return &directoryOf(s).Authority
}

func (f *sourceFlags) add(cmd *cobra.Command) {
	x := cmd.Flags()
	text := func(name, help string, at func(*wire.NewSource) *string) { flagAt(f, x.StringVar, name, help, at) }
	text("url", "where it is: ldaps://host or ldap://host of a directory, https://host/path of what else is read", func(s *wire.NewSource) *string {
		if at := feedOf(s); at != nil {
			return &at.URL
		}
		return &directoryOf(s).URL
	})
	x.StringVar(&f.authority, "ca", "", "the certificate of the authority that vouches for it")
	text("secret", "the name of the secret with its password or token: a file in the folder secrets beside the data, or a variable SENTIER_SECRET_… of the service", secretOf)
	text("bind", "the name as whom the service reads; left out: as nobody", func(s *wire.NewSource) *string { return &directoryOf(s).Bind })
	text("schema", "how people and groups are kept there; left out: group-of-names", func(s *wire.NewSource) *string { return &directoryOf(s).Schema })
	text("people", "the branch under which people stand", func(s *wire.NewSource) *string { return &directoryOf(s).People.Base })
	text("groups", "the branch under which groups stand", func(s *wire.NewSource) *string { return &directoryOf(s).Groups.Base })
	text("people-filter", "which entries are people; left out: as the schema says", func(s *wire.NewSource) *string { return &directoryOf(s).People.Filter })
	text("groups-filter", "which entries are groups; left out: as the schema says", func(s *wire.NewSource) *string { return &directoryOf(s).Groups.Filter })
	text("id-attribute", "of people: the attribute that our id is made of; left out: as the schema says", func(s *wire.NewSource) *string { return &directoryOf(s).People.ID })
	text("email-attribute", "of people: the attribute with the address; left out: as the schema says", func(s *wire.NewSource) *string { return &directoryOf(s).People.Email })
	flagAt(f, x.BoolVar, "directory-sign-in", "those who come from here sign in with the directory's password", func(s *wire.NewSource) *bool { return &directoryOf(s).SignIn })
	flagAt(f, x.IntVar, "seconds", "after which a reading is given up; 0: 60", func(s *wire.NewSource) *int { return &directoryOf(s).Seconds })
	x.StringArrayVar(&f.maps, "map", nil, "a group there and the group here that it feeds: Bridge crew=bridge-crew; several times")
	x.StringArrayVar(&f.prefix, "map-prefix", nil, "groups whose name begins so, and the group here, with * for what is left: nav-=crew-*; several times")
	x.StringArrayVar(&f.suffix, "map-suffix", nil, "likewise, of names that end so")
	x.StringArrayVar(&f.pattern, "map-pattern", nil, "likewise, of names that fit, with * for any letters")
	x.StringArrayVar(&f.under, "map-under", nil, "likewise, of groups under this branch; the two apart by the last =")
	x.BoolVar(&f.makes, "make-groups", false, "those rules make the groups that are not here")
	text("issuer", "of a provider of sign-on: its address, to the letter as it writes it itself", func(s *wire.NewSource) *string { return &signOnOf(s).Issuer })
	text("client-id", "of a provider of sign-on: as which it knows this service", func(s *wire.NewSource) *string { return &signOnOf(s).ClientID })
	flagAt(f, x.StringSliceVar, "scope", "of a provider of sign-on: what is asked for beside openid; left out: profile and email", func(s *wire.NewSource) *[]string { return &signOnOf(s).Scopes })
	text("groups-claim", "of a provider of sign-on: the claim with the groups; left out: groups", func(s *wire.NewSource) *string { return &signOnOf(s).GroupsClaim })
	text("id-claim", "of a provider of sign-on: the claim that the id of somebody new is made of; left out: preferred_username", func(s *wire.NewSource) *string { return &signOnOf(s).IDClaim })
	flagAt(f, x.StringSliceVar, "strong", "of a provider of sign-on: values of acr that stand for a second factor", func(s *wire.NewSource) *[]string { return &signOnOf(s).Strong })
	text("audience", "of a provider of sign-on: bearer tokens of it for this audience are taken from programs, with --mandate", func(s *wire.NewSource) *string { return &signOnOf(s).Audience })
	text("mandate", "of a provider of sign-on: the only mandate that counts for such tokens", func(s *wire.NewSource) *string { return &signOnOf(s).Mandate })
	text("zone", "of a calendar: in which days begin and end for events with a time of day; left out: that of the settings", func(s *wire.NewSource) *string { return &calendarOf(s).Zone })
	text("timed", "of a calendar: what events with a time of day come to; left out: each day that they touch", func(s *wire.NewSource) *string { return &calendarOf(s).Timed })
	x.StringArrayVar(&f.daysOf, "days-of", nil, "of a calendar: a category, and the calendar here that its events give days: Closed=closures; several times")
	x.StringArrayVar(&f.daysNamed, "days-named", nil, "likewise, of events by their name, with * for any letters: Regatta*=regatta; several times")
	x.StringArrayVar(&f.days, "days", nil, "likewise, of all events that fit none before: closures")
	x.StringToStringVar(&f.columns, "column", nil, "of an inventory: our name of a field, and how it is called there: name=label; several times")
	flagAt(f, x.BoolVar, "same", "of an inventory: what is here already under an id of it is the same thing", func(s *wire.NewSource) *bool { return &s.Bring.Same })
	flagAt(f, x.BoolVar, "everybody", "everybody comes whom the source holds, and not those alone who are in a group that is mapped", func(s *wire.NewSource) *bool { return &s.Bring.Everybody })
	text("gone", "what becomes of people who come no more; left out: suspended", func(s *wire.NewSource) *string { return &s.Bring.Gone })
	flagAt(f, x.IntVar, "share", "per cent: where more would go at once, nothing is done until somebody has looked; 0: 20", func(s *wire.NewSource) *int { return &s.Bring.Share })
	text("undo", "whether a reading can be taken back, until the next; left out: refused", func(s *wire.NewSource) *string { return &s.Bring.Undo })
	flagAt(f, x.IntVar, "every", "after how many minutes it is read again; 0: by hand", func(s *wire.NewSource) *int { return &s.Every })
	flagAt(f, x.BoolVar, "paused", "it is not read by itself, for the time being", func(s *wire.NewSource) *bool { return &s.Paused })
}

// apply lays what the flags say over settings: what is not said stays as it is, and a mapping that is said takes the place of that before.
func (f *sourceFlags) apply(cmd *cobra.Command, s *wire.NewSource) error {
	for _, flag := range f.set {
		if cmd.Flags().Changed(flag.name) {
			flag.lay(s)
		}
	}
	if f.authority != "" {
		text, err := os.ReadFile(f.authority)
		if err != nil {
			return err
		}
		*authorityOf(s) = string(text)
	}
	if len(f.columns) > 0 {
		inventoryOf(s).Columns = f.columns
	}
	groups, rules, days := []source.Mapping(nil), []source.MappingRule(nil), []source.CalendarRule(nil)
	for _, m := range f.maps {
		outside, group, ok := cutLast(m)
		if !ok {
			return fmt.Errorf("--map %q: write the group there, = and the id of the group here", m)
		}
		groups = append(groups, source.Mapping{Outside: outside, Group: group})
	}
	for _, of := range []struct {
		match string
		list  []string
	}{{"prefix", f.prefix}, {"suffix", f.suffix}, {"pattern", f.pattern}, {"under", f.under}} {
		for _, r := range of.list {
			text, group, ok := cutLast(r)
			if !ok {
				return fmt.Errorf("--map-%s %q: write what is looked for, = and the id of the group here, with * for what is left of the name", of.match, r)
			}
			rules = append(rules, source.MappingRule{Match: of.match, Text: text, Group: group, Make: f.makes})
		}
	}
	for _, of := range []struct {
		flag, match string
		list        []string
	}{{"days-of", "category", f.daysOf}, {"days-named", "name", f.daysNamed}} {
		for _, r := range of.list {
			text, calendar, ok := cutLast(r)
			if !ok {
				return fmt.Errorf("--%s %q: write what is looked for, = and the id of the calendar here", of.flag, r)
			}
			days = append(days, source.CalendarRule{Match: of.match, Text: text, Calendar: calendar})
		}
	}
	for _, calendar := range f.days {
		days = append(days, source.CalendarRule{Match: "all", Calendar: strings.TrimSpace(calendar)})
	}
	if len(groups) > 0 {
		s.Bring.Groups = groups
	}
	if len(rules) > 0 {
		s.Bring.Rules = rules
	}
	if len(days) > 0 {
		s.Bring.Calendars = days
	}
	return nil
}

// cutLast parts a text at its last =, as distinguished names hold others.
func cutLast(text string) (before, after string, ok bool) {
	i := strings.LastIndexByte(text, '=')
	if i <= 0 || i == len(text)-1 {
		return "", "", false
	}
	return strings.TrimSpace(text[:i]), strings.TrimSpace(text[i+1:]), true
}
