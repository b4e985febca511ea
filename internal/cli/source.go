package cli

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"

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
	cmd.AddCommand(a.sourceList(), a.sourceShow(), a.sourceAdd(), a.sourceEdit(), a.sourceTest(), a.sourceFind(), a.sourceLook(), a.sourceSync(), a.sourceLink(), a.sourceToken(), a.sourceRemove())
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
			s := sheet{head: []string{"SOURCE", "NAME", "USERS", "MEMBERSHIPS", "LAST", "AS OF", "NEXT"}}
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
				s.rows = append(s.rows, []string{x.ID, x.Name, fmt.Sprint(x.Users), fmt.Sprint(x.Members), last, used(x.Good), next})
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
			fmt.Fprintf(a.Err, "%s: %d users, %d memberships; on behalf of %s\n", out.Name, out.Users, out.Members, out.Author.Name)
			if out.Good != nil {
				fmt.Fprintf(a.Err, "  as of %s\n", used(out.Good))
			}
			if o := out.SignOn; o != nil {
				fmt.Fprintf(a.Err, "  people sign in at %s\n", o.Issuer)
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
				s.rows = append(s.rows, []string{fmt.Sprint(r.Number), used(&r.At), by, r.Outcome, revision, fmt.Sprint(r.Counts.New), fmt.Sprint(r.Counts.Gone), fmt.Sprint(r.Counts.Joined), fmt.Sprint(r.Counts.Left), r.Why})
			}
			if err := a.print(out, s); err != nil || out.Last == nil {
				return err
			}
			a.printSourceProblems(out.Last.Problems, out.Last.More)
			return nil
		},
	}
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

// sourceFlags are how a source is set up in the terminal.
type sourceFlags struct {
	in              wire.NewSource
	authority       string
	maps            []string
	prefix, pattern []string
	under, suffix   []string
	makes           bool
	signOn          source.SignOn
}

func (f *sourceFlags) add(cmd *cobra.Command) {
	f.in.Directory = &source.Directory{}
	d, b, x := f.in.Directory, &f.in.Bring, cmd.Flags()
	x.StringVar(&d.URL, "url", "", "where the directory is: ldaps://host or ldap://host")
	x.StringVar(&f.authority, "ca", "", "the certificate of the authority that vouches for the directory")
	x.StringVar(&d.Bind, "bind", "", "the name as whom the service reads; left out: as nobody")
	x.StringVar(&d.Secret, "secret", "", "the name of the secret with its password: a file in the folder secrets beside the data, or a variable SENTIER_SECRET_… of the service")
	x.StringVar(&d.Schema, "schema", "", "how people and groups are kept there; left out: group-of-names")
	x.StringVar(&d.People.Base, "people", "", "the branch under which people stand")
	x.StringVar(&d.Groups.Base, "groups", "", "the branch under which groups stand")
	x.StringVar(&d.People.Filter, "people-filter", "", "which entries are people; left out: as the schema says")
	x.StringVar(&d.Groups.Filter, "groups-filter", "", "which entries are groups; left out: as the schema says")
	x.StringVar(&d.People.ID, "id-attribute", "", "of people: the attribute that our id is made of; left out: as the schema says")
	x.StringVar(&d.People.Email, "email-attribute", "", "of people: the attribute with the address; left out: as the schema says")
	x.BoolVar(&d.SignIn, "directory-sign-in", false, "those who come from here sign in with the directory's password")
	x.IntVar(&d.Seconds, "seconds", 0, "after which a reading is given up; 0: 60")
	x.StringArrayVar(&f.maps, "map", nil, "a group there and the group here that it feeds: Bridge crew=bridge-crew; several times")
	x.StringArrayVar(&f.prefix, "map-prefix", nil, "groups whose name begins so, and the group here, with * for what is left: nav-=crew-*; several times")
	x.StringArrayVar(&f.suffix, "map-suffix", nil, "likewise, of names that end so")
	x.StringArrayVar(&f.pattern, "map-pattern", nil, "likewise, of names that fit, with * for any letters")
	x.StringArrayVar(&f.under, "map-under", nil, "likewise, of groups under this branch; the two apart by the last =")
	o := &f.signOn
	x.StringVar(&o.Issuer, "issuer", "", "of a provider of sign-on: its address, to the letter as it writes it itself")
	x.StringVar(&o.ClientID, "client-id", "", "of a provider of sign-on: as which it knows this service")
	x.StringSliceVar(&o.Scopes, "scope", nil, "of a provider of sign-on: what is asked for beside openid; left out: profile and email")
	x.StringVar(&o.GroupsClaim, "groups-claim", "", "of a provider of sign-on: the claim with the groups; left out: groups")
	x.StringVar(&o.IDClaim, "id-claim", "", "of a provider of sign-on: the claim that the id of somebody new is made of; left out: preferred_username")
	x.StringSliceVar(&o.Strong, "strong", nil, "of a provider of sign-on: values of acr that stand for a second factor")
	x.StringVar(&o.Audience, "audience", "", "of a provider of sign-on: bearer tokens of it for this audience are taken from programs, with --mandate")
	x.StringVar(&o.Mandate, "mandate", "", "of a provider of sign-on: the only mandate that counts for such tokens")
	x.BoolVar(&f.makes, "make-groups", false, "those rules make the groups that are not here")
	x.BoolVar(&b.Everybody, "everybody", false, "everybody comes whom the source holds, and not those alone who are in a group that is mapped")
	x.StringVar(&b.Gone, "gone", "", "what becomes of people who come no more; left out: suspended")
	x.IntVar(&b.Share, "share", 0, "per cent: where more would go at once, nothing is done until somebody has looked; 0: 20")
	x.StringVar(&b.Undo, "undo", "", "whether a reading can be taken back, until the next; left out: refused")
	x.IntVar(&f.in.Every, "every", 0, "after how many minutes it is read again; 0: by hand")
	x.BoolVar(&f.in.Paused, "paused", false, "it is not read by itself, for the time being")
}

// read finishes what the flags say: over holds the settings as they are, for an edit.
func (f *sourceFlags) read(cmd *cobra.Command, over *wire.NewSource) error {
	if f.authority != "" {
		text, err := os.ReadFile(f.authority)
		if err != nil {
			return err
		}
		f.in.Directory.Authority = string(text)
	}
	if f.signOn.Issuer != "" || over != nil && over.SignOn != nil {
		f.signOn.Secret, f.signOn.Authority = f.in.Directory.Secret, f.in.Directory.Authority
		f.in.SignOn, f.in.Directory = &f.signOn, nil
	}
	for _, m := range f.maps {
		outside, group, ok := cutLast(m)
		if !ok {
			return fmt.Errorf("--map %q: write the group there, = and the id of the group here", m)
		}
		f.in.Bring.Groups = append(f.in.Bring.Groups, source.Mapping{Outside: outside, Group: group})
	}
	for match, list := range map[string][]string{"prefix": f.prefix, "suffix": f.suffix, "pattern": f.pattern, "under": f.under} {
		for _, r := range list {
			text, group, ok := cutLast(r)
			if !ok {
				return fmt.Errorf("--map-%s %q: write what is looked for, = and the id of the group here, with * for what is left of the name", match, r)
			}
			f.in.Bring.Rules = append(f.in.Bring.Rules, source.MappingRule{Match: match, Text: text, Group: group, Make: f.makes})
		}
	}
	if over == nil {
		return nil
	}
	// What was not said stays as it is.
	was, d, now := over.Directory, f.in.Directory, cmd.Flags()
	if was == nil {
		was = &source.Directory{}
	}
	if d == nil {
		d = &source.Directory{}
	}
	var wasAt source.SignOn
	if over.SignOn != nil {
		wasAt = *over.SignOn
	}
	keep := func(flag string, into, from any) {
		if now.Changed(flag) {
			return
		}
		switch into := into.(type) {
		case *string:
			*into = *from.(*string)
		case *int:
			*into = *from.(*int)
		case *bool:
			*into = *from.(*bool)
		case *[]string:
			*into = *from.(*[]string)
		}
	}
	for flag, pair := range map[string][2]any{
		"url": {&d.URL, &was.URL}, "ca": {&d.Authority, &was.Authority}, "bind": {&d.Bind, &was.Bind}, "secret": {&d.Secret, &was.Secret}, "schema": {&d.Schema, &was.Schema},
		"people": {&d.People.Base, &was.People.Base}, "groups": {&d.Groups.Base, &was.Groups.Base}, "people-filter": {&d.People.Filter, &was.People.Filter},
		"groups-filter": {&d.Groups.Filter, &was.Groups.Filter}, "id-attribute": {&d.People.ID, &was.People.ID}, "email-attribute": {&d.People.Email, &was.People.Email},
		"directory-sign-in": {&d.SignIn, &was.SignIn}, "seconds": {&d.Seconds, &was.Seconds}, "everybody": {&f.in.Bring.Everybody, &over.Bring.Everybody},
		"gone": {&f.in.Bring.Gone, &over.Bring.Gone}, "share": {&f.in.Bring.Share, &over.Bring.Share}, "undo": {&f.in.Bring.Undo, &over.Bring.Undo},
		"every": {&f.in.Every, &over.Every}, "paused": {&f.in.Paused, &over.Paused},
	} {
		keep(flag, pair[0], pair[1])
	}
	if at := f.in.SignOn; at != nil {
		for flag, pair := range map[string][2]any{
			"issuer": {&at.Issuer, &wasAt.Issuer}, "client-id": {&at.ClientID, &wasAt.ClientID}, "secret": {&at.Secret, &wasAt.Secret}, "ca": {&at.Authority, &wasAt.Authority}, "scope": {&at.Scopes, &wasAt.Scopes},
			"groups-claim": {&at.GroupsClaim, &wasAt.GroupsClaim}, "id-claim": {&at.IDClaim, &wasAt.IDClaim}, "strong": {&at.Strong, &wasAt.Strong}, "audience": {&at.Audience, &wasAt.Audience}, "mandate": {&at.Mandate, &wasAt.Mandate},
		} {
			keep(flag, pair[0], pair[1])
		}
	}
	d.People.Outside, d.People.Name, d.Groups.Outside, d.Groups.Name, d.Groups.Member = was.People.Outside, was.People.Name, was.Groups.Outside, was.Groups.Name, was.Groups.Member
	if len(f.maps) == 0 {
		f.in.Bring.Groups = over.Bring.Groups
	}
	if len(f.prefix)+len(f.suffix)+len(f.pattern)+len(f.under) == 0 {
		f.in.Bring.Rules = over.Bring.Rules
	}
	f.in.Bring.Links = over.Bring.Links
	f.in.Name, f.in.Kind, f.in.Version = over.Name, over.Kind, over.Version
	if over.Directory == nil {
		f.in.Directory = nil
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

func (a *app) sourceAdd() *cobra.Command {
	var f sourceFlags
	var scim bool
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Set a source up; nothing is read yet", Args: exactly("NAME"),
		Example: "  sentier source add \"Larkmere directory\" --url ldaps://directory.larkmere.example --people ou=people,dc=larkmere,dc=example --groups ou=groups,dc=larkmere,dc=example --map \"Bridge crew=bridge-crew\" --every 30",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := f.read(cmd, nil); err != nil {
				return err
			}
			switch f.in.Name, f.in.Kind = args[0], "directory"; {
			case scim:
				f.in.Kind, f.in.Directory = "scim", nil
			case f.in.SignOn != nil:
				f.in.Kind = "sign_on"
			}
			var out wire.Source
			if err := c.Do(cmd.Context(), "POST", "/api/v1/sources", nil, f.in, &out); err != nil {
				return err
			}
			if scim {
				fmt.Fprintf(a.Err, "Set up. “sentier source token %s” makes the token with which it brings people and groups to /scim/v2.\n", out.ID)
				return nil
			}
			if f.in.SignOn != nil {
				fmt.Fprintf(a.Err, "Set up. The provider sends people back to …/sign-on/%[1]s/callback, and tells log-outs to …/sign-on/%[1]s/logout.\n", out.ID)
				return nil
			}
			fmt.Fprintf(a.Err, "Set up. Nothing was read yet: “sentier source look %s” shows what would come of it.\n", out.ID)
			return nil
		},
	}
	f.add(cmd)
	cmd.Flags().BoolVar(&scim, "scim", false, "it brings people and groups by itself, over SCIM 2.0; nothing is read")
	return cmd
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
			if err := f.read(cmd, &was.NewSource); err != nil {
				return err
			}
			return a.act(cmd, "PUT", sourcePath(args[0]), f.in, nil, func() string { return "Set up.\n" })
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
			if err := c.Do(cmd.Context(), "POST", "/api/v1/sources/test", nil, was.NewSource, &out); err != nil {
				return err
			}
			if !out.OK {
				return errors.New(out.Why)
			}
			fmt.Fprintf(a.Err, "It can be read: %d people, %d groups, in %.1f s.\n", out.People, out.Groups, out.Took)
			a.printSourceProblems(out.Problems, out.More)
			return a.print(out, matches(out.Matched, out.Loose))
		},
	}
}

// matches is a mapping as a sheet: what does not match first, what nothing maps last.
func matches(matched, loose []wire.SourceMatch) sheet {
	s := sheet{head: []string{"THERE", "HERE", "MEMBERS", ""}}
	for _, m := range append(append([]wire.SourceMatch{}, matched...), loose...) {
		here, text := "–", m.Text
		if m.Group != nil {
			here = m.Group.ID
		}
		switch {
		case text != "":
		case m.Make:
			text = "the group is made"
		case m.Group == nil:
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
	fmt.Fprintf(a.Err, "%s: %d people come; %d new, %d changed, %d back, %d gone; %d memberships come, %d go.\n", verb, c.People, c.New, c.Changed, c.Back, c.Gone, c.Joined, c.Left)
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
			if err := a.print(out, matches(out.Matched, nil)); err != nil {
				return err
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
