package cli

import (
	"cmp"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"sentier/internal/client"
	"sentier/internal/policy"
	"sentier/internal/source"
	"sentier/internal/wire"
)

func (a *app) source() *cobra.Command {
	cmd := &cobra.Command{
		Use: "source", Short: "Sources: people and groups that come from a directory",
		Long: "A source is a directory in which people and groups are kept already. Names of its groups are mapped to ours before anybody comes;\n" +
			"what it says is a change like any other, with its impact, its record and, where it is set so, an undo.",
		Example: "  sentier source add \"Larkmere directory\" --url ldaps://directory.larkmere.example --people ou=people,dc=larkmere,dc=example --groups ou=groups,dc=larkmere,dc=example --map \"Bridge crew=bridge-crew\"\n" +
			"  sentier source look larkmere-directory\n  sentier source sync larkmere-directory",
	}
	cmd.AddCommand(a.sourceList(), a.sourceShow(), a.sourceAdd(), a.sourceEdit(), a.sourceTest(), a.sourceFind(), a.sourceLook(), a.sourceSync(), a.sourceBring(), a.sourceLink(), a.sourceToken(), a.sourceRemove())
	return cmd
}

func sourcePath(id string, more ...string) string {
	return "/api/v1/sources/" + url.PathEscape(id) + strings.Join(more, "")
}

func (a *app) sourceList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "All sources, and how each last went", Args: cobra.NoArgs, Example: "  sentier source list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			out := []wire.Source{}
			if err := c.Do(cmd.Context(), "GET", "/api/v1/sources", nil, nil, &out); err != nil {
				return err
			}
			s := sheet{head: []string{"SOURCE", "NAME", "BRINGS", "LAST", "AS OF", "NEXT"}}
			for i := range out {
				x := &out[i]
				last := "not read yet"
				if x.Last != nil {
					last = x.Last.Outcome
				}
				next := "by hand"
				switch {
				case x.Paused:
					next = "paused"
				case x.Kind == "scim":
					last, next = "–", "brings by itself"
				case x.Kind == "sign_on":
					last, next = "–", "people sign in there"
				case x.Next != nil:
					next = used(x.Next)
				}
				s.rows = append(s.rows, []string{x.ID, x.Name, broughtBy(x), last, used(x.Good), next})
			}
			return a.print(out, s)
		},
	}
}

func (a *app) sourceShow() *cobra.Command {
	return &cobra.Command{
		Use: "show SOURCE", Short: "How a source is set up, and its last readings", Args: exactly("SOURCE"), Example: "  sentier source show larkmere-directory",
		RunE: func(cmd *cobra.Command, args []string) error {
			out, err := a.sourceOf(cmd, args[0])
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "%s: %s; on behalf of %s\n", out.Name, broughtBy(&out), out.Author.Name)
			if out.Good != nil {
				fmt.Fprintf(a.Err, "  as of %s\n", used(out.Good))
			}
			if o := out.SignOn; o != nil {
				fmt.Fprintf(a.Err, "  people sign in at %s\n", o.Issuer)
			}
			if at := feedOf(&out.NewSource); at != nil {
				from := cmp.Or(at.URL, "a file that was brought "+cmp.Or(used(out.Content), "never yet"))
				switch {
				case out.SCIM != nil:
					fmt.Fprintf(a.Err, "  read by SCIM from %s\n", from)
				case out.Calendar != nil:
					fmt.Fprintf(a.Err, "  a calendar from %s; days by the clock of %s\n", from, cmp.Or(out.Calendar.Zone, "the settings"))
				default:
					fmt.Fprintf(a.Err, "  a list in %s from %s\n", out.Inventory.Format, from)
				}
			}
			for _, v := range out.Vanished {
				fmt.Fprintf(a.Err, "  no longer in the list: %s (%s)\n", v.Name, v.ID)
			}
			for _, r := range out.Bring.Calendars {
				fmt.Fprintf(a.Err, "  %s give %s its days\n", strings.TrimSpace(map[string]string{"all": "all events", "category": "events of the category", "name": "events named"}[r.Match]+" "+r.Text), r.Calendar)
			}
			if d := out.Directory; d != nil {
				fmt.Fprintf(a.Err, "  %s, people under %s, groups under %s\n", d.URL, d.People.Base, d.Groups.Base)
			}
			for _, m := range out.Bring.Groups {
				fmt.Fprintf(a.Err, "  %s feeds %s\n", m.Outside, m.Group)
			}
			for _, r := range out.Bring.Rules {
				fmt.Fprintf(a.Err, "  %s %s feeds %s\n", r.Match, r.Text, r.Group)
			}
			s := sheet{head: []string{"READING", "AT", "BY", "OUTCOME", "REVISION", "NEW", "GONE", "JOINED", "LEFT", "WHY"}}
			for i := range out.Runs {
				r := &out.Runs[i]
				by, revision := "the clock", ""
				if r.By != nil {
					by = r.By.Name
				}
				if r.Revision > 0 {
					revision = fmt.Sprint(r.Revision)
				}
				s.rows = append(s.rows, []string{fmt.Sprint(r.Number), used(&r.At), by, r.Outcome, revision, fmt.Sprint(r.Counts.New + r.Counts.NewDays + r.Counts.NewThings), fmt.Sprint(r.Counts.Gone + r.Counts.GoneDays + r.Counts.GoneThings), fmt.Sprint(r.Counts.Joined), fmt.Sprint(r.Counts.Left), r.Why})
			}
			if err := a.print(out, s); err != nil || out.Last == nil {
				return err
			}
			a.printSourceProblems(out.Last.Problems, out.Last.More)
			return nil
		},
	}
}

// broughtBy says what a source has brought that is there still.
func broughtBy(s *wire.Source) string {
	switch {
	case s.Calendar != nil:
		var names []string
		for _, k := range s.Keeps {
			names = append(names, k.Name)
		}
		if len(names) == 0 {
			return "no days yet"
		}
		return "days of " + strings.Join(names, ", ")
	case s.Inventory != nil:
		return fmt.Sprintf("%d devices, %d sites", s.Devices, s.Sites)
	}
	return fmt.Sprintf("%d users, %d memberships", s.Users, s.Members)
}

func (a *app) sourceOf(cmd *cobra.Command, id string) (out wire.Source, err error) {
	c, err := a.client()
	if err != nil {
		return out, err
	}
	return out, c.Do(cmd.Context(), "GET", sourcePath(id), nil, nil, &out)
}

func (a *app) printSourceProblems(list []wire.SourceProblem, more int) {
	for _, p := range list {
		fmt.Fprintf(a.Err, "  %s: %s\n", p.Place, p.Text)
	}
	if more > 0 {
		fmt.Fprintf(a.Err, "  and %d more\n", more)
	}
}

func (a *app) sourceAdd() *cobra.Command {
	var f sourceFlags
	var scim, calendar bool
	var inventory string
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Set a source up; nothing is read yet", Args: exactly("NAME"),
		Example: "  sentier source add \"Larkmere directory\" --url ldaps://directory.larkmere.example --people ou=people,dc=larkmere,dc=example --groups ou=groups,dc=larkmere,dc=example --map \"Bridge crew=bridge-crew\" --every 30\n" +
			"  sentier source add \"Office calendar\" --calendar --url https://office.larkmere.example/navigation.ics --zone Europe/Lisbon --days-of \"Closed=closures\" --days-named \"Regatta*=regatta\" --every 720\n" +
			"  sentier source add \"Plant register\" --inventory csv --url https://plant.larkmere.example/devices.csv --column id=asset --column name=label --same --every 60",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			in := wire.NewSource{Name: args[0]}
			switch {
			case scim && cmd.Flags().Changed("url"):
				in.Kind, in.SCIM = "scim_read", &source.Feed{}
			case scim:
				in.Kind = "scim"
			case calendar:
				in.Kind, in.Calendar = "calendar", &source.CalendarFeed{}
			case inventory != "":
				in.Kind, in.Inventory = "inventory", &source.Inventory{Format: inventory}
			case cmd.Flags().Changed("issuer"):
				in.Kind, in.SignOn = "sign_on", &source.SignOn{}
			default:
				in.Kind, in.Directory = "directory", &source.Directory{}
			}
			if err := f.apply(cmd, &in); err != nil {
				return err
			}
			var out wire.Source
			if err := c.Do(cmd.Context(), "POST", "/api/v1/sources", nil, in, &out); err != nil {
				return err
			}
			switch {
			case in.Kind == "scim":
				fmt.Fprintf(a.Err, "Set up. “sentier source token %s” makes the token with which it brings people and groups to /scim/v2.\n", out.ID)
			case in.SignOn != nil:
				fmt.Fprintf(a.Err, "Set up. The provider sends people back to …/sign-on/%[1]s/callback, and tells log-outs to …/sign-on/%[1]s/logout.\n", out.ID)
			case feedOf(&in) != nil && feedOf(&in).URL == "":
				fmt.Fprintf(a.Err, "Set up. “sentier source bring %[1]s FILE” brings it a file, and “sentier source look %[1]s” shows what would come of it.\n", out.ID)
			default:
				fmt.Fprintf(a.Err, "Set up. Nothing was read yet: “sentier source look %s” shows what would come of it.\n", out.ID)
			}
			return nil
		},
	}
	f.add(cmd)
	cmd.Flags().BoolVar(&scim, "scim", false, "people and groups over SCIM 2.0: brought to this service, or with --url read from another")
	cmd.Flags().BoolVar(&calendar, "calendar", false, "it is a calendar in iCalendar: read from --url, or brought as a file")
	cmd.Flags().StringVar(&inventory, "inventory", "", "it is a list of devices and sites, written so: read from --url, or brought as a file")
	return cmd
}

func (a *app) sourceBring() *cobra.Command {
	return &cobra.Command{
		Use: "bring SOURCE FILE", Short: "Bring a source that has no address the file that it is read from; nothing counts yet", Args: exactly("SOURCE", "FILE"),
		Example: "  sentier source bring office-calendar navigation.ics",
		RunE: func(cmd *cobra.Command, args []string) error {
			src, err := a.sourceOf(cmd, args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			text, err := os.ReadFile(args[1])
			if err != nil {
				return err
			}
			var out wire.BroughtContent
			if err := c.Do(cmd.Context(), "PUT", sourcePath(args[0], "/content"), nil, client.Body{Type: feedMedia(&src), Data: text}, &out); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "Brought, %d bytes. Nothing counts yet: “sentier source look %s” shows what would come of it.\n", out.Bytes, args[0])
			return nil
		},
	}
}

func (a *app) sourceToken() *cobra.Command {
	var in wire.NewSourceToken
	cmd := &cobra.Command{
		Use: "token SOURCE", Short: "Make a token by which a source brings its people and groups, and that is good for nothing else", Args: exactly("SOURCE"),
		Example: "  sentier source token larkmere-people --days 365 --network 10.20.0.0/16",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var out wire.Token
			if err := c.Do(cmd.Context(), "POST", sourcePath(args[0], "/tokens"), nil, in, &out); err != nil {
				return err
			}
			fmt.Fprintln(a.Err, "Shown once, and kept as a hash alone:")
			return a.print(out, sheet{head: []string{"TOKEN"}, rows: [][]string{{out.Secret}}})
		},
	}
	f := cmd.Flags()
	f.StringVar(&in.Name, "name", "", "what it is for; left out: the name of the source")
	f.IntVar(&in.Days, "days", 0, "for how long; 0: 90")
	f.StringSliceVar(&in.Networks, "network", nil, "that it is good from; left out: any")
	return cmd
}

func (a *app) sourceEdit() *cobra.Command {
	var f sourceFlags
	cmd := &cobra.Command{
		Use: "edit SOURCE", Short: "Set a source up otherwise: what is not said stays as it is", Args: exactly("SOURCE"),
		Example: "  sentier source edit larkmere-directory --every 60\n  sentier source edit larkmere-directory --map \"bridge-crew=bridge-crew\" --map \"keepers=lock-keepers\"\n  sentier source edit larkmere-directory --paused",
		RunE: func(cmd *cobra.Command, args []string) error {
			was, err := a.sourceOf(cmd, args[0])
			if err != nil {
				return err
			}
			if err := f.apply(cmd, &was.NewSource); err != nil {
				return err
			}
			return a.act(cmd, "PUT", sourcePath(args[0]), was.NewSource, nil, func() string { return "Set up.\n" })
		},
	}
	f.add(cmd)
	return cmd
}

func (a *app) sourceTest() *cobra.Command {
	return &cobra.Command{
		Use: "test SOURCE", Short: "Can it be read, and does the mapping fit it?", Args: exactly("SOURCE"), Example: "  sentier source test larkmere-directory",
		RunE: func(cmd *cobra.Command, args []string) error {
			was, err := a.sourceOf(cmd, args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			var out wire.SourceTest
			if err := c.Do(cmd.Context(), "POST", "/api/v1/sources/test", url.Values{"of": {args[0]}}, was.NewSource, &out); err != nil {
				return err
			}
			if !out.OK {
				return errors.New(out.Why)
			}
			switch {
			case was.Calendar != nil:
				fmt.Fprintf(a.Err, "It can be read: %d events in the next 400 days, in %.1f s.\n", out.Events, out.Took)
			case was.Inventory != nil:
				fmt.Fprintf(a.Err, "It can be read: %d devices and sites, in %.1f s.\n", out.Things, out.Took)
			default:
				fmt.Fprintf(a.Err, "It can be read: %d people, %d groups, in %.1f s.\n", out.People, out.Groups, out.Took)
			}
			a.printSourceProblems(out.Problems, out.More)
			return a.print(out, matches(out.Matched, out.Loose))
		},
	}
}

// matches is a mapping as a sheet: what does not match first, what nothing maps last.
func matches(matched, loose []wire.SourceMatch) sheet {
	s := sheet{head: []string{"THERE", "HERE", "COUNT", ""}}
	for _, m := range append(append([]wire.SourceMatch{}, matched...), loose...) {
		here, text := "–", m.Text
		if m.Group != nil {
			here = m.Group.ID
		}
		if m.Calendar != nil {
			here = m.Calendar.ID
		}
		switch {
		case text != "":
		case m.Make:
			text = "the group is made"
		case here == "–":
			text = "nothing maps it"
		}
		s.rows = append(s.rows, []string{m.Outside, here, fmt.Sprint(m.Members), text})
	}
	return s
}

func (a *app) sourceFind() *cobra.Command {
	return &cobra.Command{
		Use: "find SOURCE LETTERS", Short: "People and groups there by some letters, with who is in them", Args: exactly("SOURCE", "LETTERS"), Example: "  sentier source find larkmere-directory bridge",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var out wire.SourceFound
			if err := c.Do(cmd.Context(), "GET", sourcePath(args[0], "/find"), url.Values{"q": {args[1]}}, nil, &out); err != nil {
				return err
			}
			s := sheet{head: []string{"WHAT", "NAME", "ID", "HERE", "WHERE IT STANDS"}}
			for _, g := range out.Groups {
				s.rows = append(s.rows, []string{"group", g.Name, fmt.Sprintf("%d members", g.Count), "", g.Place})
				for _, m := range g.Members {
					s.rows = append(s.rows, append([]string{"  member"}, personRow(m)...))
				}
			}
			for _, p := range out.People {
				s.rows = append(s.rows, append([]string{"person"}, personRow(p)...))
			}
			return a.print(out, s)
		},
	}
}

func personRow(p wire.SourcePerson) []string {
	here := ""
	if p.User != nil {
		here = p.User.ID
	}
	return []string{p.Name, p.ID, here, p.Place}
}

func (a *app) printCounts(verb string, c wire.SourceCounts) {
	if c.Things > 0 || c.GoneThings > 0 {
		fmt.Fprintf(a.Err, "%s: %d devices and sites are in the list; %d new, %d changed, %d no longer in it.\n", verb, c.Things, c.NewThings, c.ChangedThings, c.GoneThings)
		return
	}
	if c == (wire.SourceCounts{}) {
		fmt.Fprintf(a.Err, "%s.\n", verb)
		return
	}
	if c.NewDays+c.GoneDays > 0 {
		fmt.Fprintf(a.Err, "%s: %d days come, %d go.\n", verb, c.NewDays, c.GoneDays)
		return
	}
	fmt.Fprintf(a.Err, "%s: %d people come; %d new, %d changed, %d back, %d gone; %d memberships come, %d go.\n", verb, c.People, c.New, c.Changed, c.Back, c.Gone, c.Joined, c.Left)
}

// printDays prints the days of a calendar as a source would have them, and those that would go.
func (a *app) printDays(d *wire.SourceDays) {
	comes := map[policy.Date]bool{}
	for _, day := range d.Comes {
		comes[day] = true
	}
	fmt.Fprintf(a.Err, "%s; events: %d\n", d.Calendar.Name, d.Events)
	line := func(mark string, day policy.CalendarDay) {
		first, last := day.Bounds()
		span := first.String()
		if first != last {
			span += " to " + last.String()
		}
		fmt.Fprintf(a.Err, "  %s %-24s %s\n", mark, span, day.Name)
	}
	for _, day := range d.Days {
		mark := " "
		first, last := day.Bounds()
		for at := first; at.Days() <= last.Days(); at = at.Add(1) {
			if comes[at] {
				mark = "+"
			}
		}
		line(mark, day)
	}
	for _, day := range d.Goes {
		line("-", day)
	}
}

func (a *app) sourceLook() *cobra.Command {
	return &cobra.Command{
		Use: "look SOURCE", Short: "What a reading would do, before it counts", Args: exactly("SOURCE"), Example: "  sentier source look larkmere-directory",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var out wire.SourceLook
			if err := c.Do(cmd.Context(), "POST", sourcePath(args[0], "/look"), nil, nil, &out); err != nil {
				return err
			}
			if len(out.Matched) > 0 || a.format == "json" {
				if err := a.print(out, matches(out.Matched, nil)); err != nil {
					return err
				}
			}
			for _, d := range out.Calendars {
				a.printDays(&d)
			}
			a.printSourceProblems(out.Problems, out.More)
			a.printCounts("Would do", out.Counts)
			a.printImpact(out.Would.Impact)
			if out.Held != "" {
				fmt.Fprintf(a.Err, "It does not count by itself. %s\n“sentier source sync %s --digest %s --accept --reason …” makes it count.\n", out.Held, args[0], out.Digest)
			}
			return nil
		},
	}
}

func (a *app) sourceSync() *cobra.Command {
	var in wire.ReadSource
	cmd := &cobra.Command{
		Use: "sync SOURCE", Short: "Read a source now, and make what it says count", Args: exactly("SOURCE"),
		Example: "  sentier source sync larkmere-directory",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var out wire.SourceRun
			if err := c.Do(cmd.Context(), "POST", sourcePath(args[0], "/read"), nil, in, &out); err != nil {
				return err
			}
			if a.format != "" && a.format != "table" {
				if err := a.print(out, sheet{}); err != nil {
					return err
				}
			}
			for _, m := range out.Missing {
				fmt.Fprintf(a.Err, "  %s\n", m.Text)
			}
			a.printSourceProblems(out.Problems, out.More)
			switch out.Outcome {
			case "failed":
				return errors.New(out.Why)
			case "held":
				return fmt.Errorf("%s “sentier source look %s” shows what it would do", out.Why, args[0])
			case "same":
				a.printCounts("Nothing is other than it was", out.Counts)
			default:
				a.printCounts(fmt.Sprintf("Revision %d", out.Revision), out.Counts)
			}
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&in.Digest, "digest", "", "of what “sentier source look” has shown: nothing else is done")
	f.BoolVar(&in.Accept, "accept", false, "more may go at once than the settings let; with --digest and --reason")
	f.StringSliceVar(&in.Override, "override", nil, "expectations in spite of which it is done; with --reason")
	f.StringVar(&in.Reason, "reason", "", "for the record")
	return cmd
}

func (a *app) sourceLink() *cobra.Command {
	var apart bool
	cmd := &cobra.Command{
		Use: "link SOURCE ID USER", Short: "Say that somebody there, by their id there, is a user who was here before", Args: exactly("SOURCE", "ID", "USER"),
		Example: "  sentier source link larkmere-directory tomas.field tomas.field\n  sentier source link larkmere-directory tomas.field tomas.field --apart",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var found wire.SourceFound
			if err := c.Do(cmd.Context(), "GET", sourcePath(args[0], "/find"), url.Values{"q": {args[1]}}, nil, &found); err != nil {
				return err
			}
			in := wire.LinkSource{User: args[2]}
			for _, p := range found.People {
				if strings.EqualFold(p.ID, args[1]) || p.Outside == args[1] {
					in.Outside = p.Outside
				}
			}
			if in.Outside == "" {
				return fmt.Errorf("there is nobody known as %q there: “sentier source find %s …” looks for people", args[1], args[0])
			}
			said := "Linked: from the next reading on, the source keeps their name and address.\n"
			if apart {
				in.User, said = "", "They are linked no more.\n"
			}
			return a.act(cmd, "POST", sourcePath(args[0], "/links"), in, nil, func() string { return said })
		},
	}
	cmd.Flags().BoolVar(&apart, "apart", false, "take the link back")
	return cmd
}

func (a *app) sourceRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove SOURCE", Short: "Take a source away; what it has brought stays, and is like any other record", Args: exactly("SOURCE"), Example: "  sentier source remove old-directory",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.act(cmd, "DELETE", sourcePath(args[0]), nil, nil, func() string { return "Taken away. What it has brought is here still, and can be changed by hand.\n" })
		},
	}
}

// feedMedia is as which media type a source takes a file.
func feedMedia(s *wire.Source) string {
	switch {
	case s.Inventory == nil:
		return "text/calendar"
	case s.Inventory.Format == "csv":
		return "text/csv"
	}
	return "application/x-ndjson"
}
