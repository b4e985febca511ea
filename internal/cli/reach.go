package cli

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/spf13/cobra"

	"sentier/internal/policy"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// reachFlags are the circumstances in which a reach is asked for.
type reachFlags struct {
	contextFlags
	at, right string
	degrees   []string
	all       bool
	limit     int
}

func (f *reachFlags) add(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.at, "at", "", "when: RFC 3339 or local time (default: now)")
	cmd.Flags().StringVar(&f.right, "right", "", "only this right")
	degreeFlag(cmd, &f.degrees)
	f.contextFlags.flags(cmd)
	cmd.Flags().IntVar(&f.limit, "limit", 50, "how many to show")
	cmd.Flags().BoolVar(&f.all, "all", false, "show all, however many")
}

func degreeFlag(cmd *cobra.Command, into *[]string) {
	cmd.Flags().StringSliceVar(into, "degree", nil, "how possible: now, later, or if (in other circumstances); by commas (default: all)")
}

func (f *reachFlags) query(cmd *cobra.Command) (url.Values, error) {
	q := url.Values{"limit": {fmt.Sprint(min(f.limit, 1000))}}
	for name, value := range map[string]string{"at": f.at, "right": f.right} {
		if value != "" {
			q.Set(name, value)
		}
	}
	if len(f.degrees) > 0 {
		q["degree"] = f.degrees
	}
	if f.all {
		q.Set("limit", "1000")
	}
	return q, f.contextFlags.query(cmd, q)
}

func (a *app) reach() *cobra.Command {
	cmd := &cobra.Command{
		Use: "reach", Short: "Who and what can be reached, with which rights, through what, until when",
		Long:    "List all that is possible: what a user or a user group reaches, or who reaches a device or one of its points.\n“now” is what is allowed in the circumstances given, “later” what will be within 400 days in the same,\n“if” what is in others, which are told. What is in none of the three is impossible under this policy.",
		Example: "  sentier reach user tomas.field\n  sentier reach device twin-bridge-north/deck --right control\n  sentier reach group bridge-crew --degree now,later",
	}
	for _, of := range []struct{ use, typeName, short, example string }{
		{"user USER", "users", "What a user reaches", "sentier reach user tomas.field --at \"2026-11-24 10:00\""},
		{"device DEVICE[/POINT]", "devices", "Who reaches a device or a point", "sentier reach device twin-bridge-north --right control --degree now,later"},
		{"group GROUP", "user_groups", "What a user group amounts to: what somebody reaches who is in it alone", "sentier reach group bridge-crew --degree now,later"},
	} {
		var f reachFlags
		part := &cobra.Command{
			Use: of.use, Short: of.short, Args: exactly(strings.Fields(of.use)[1]), Long: of.short + ".", Example: "  " + of.example,
			RunE: func(cmd *cobra.Command, args []string) error { return a.printReach(cmd, of.typeName, args[0], f) },
		}
		f.add(part)
		cmd.AddCommand(part)
	}
	return cmd
}

func (a *app) printReach(cmd *cobra.Command, typeName, id string, f reachFlags) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	q, err := f.query(cmd)
	if err != nil {
		return err
	}
	if device, point, ok := policy.SplitPoint(id); ok && typeName == "devices" {
		id = string(device)
		q.Set("point", string(point))
	}
	var all wire.Reach
	for {
		var page wire.Reach
		if err := c.Do(cmd.Context(), "GET", "/api/v1/reach/"+typeName+"/"+url.PathEscape(id), q, nil, &page); err != nil {
			return err
		}
		page.Items = append(all.Items, page.Items...)
		all = page
		if all.Next == "" || !f.all && len(all.Items) >= f.limit {
			break
		}
		q.Set("cursor", all.Next)
	}
	if err := a.print(all, reachSheet(all)); err != nil {
		return err
	}
	switch {
	case all.Barred != "":
		fmt.Fprintf(a.Err, "Nothing: %s.\n", wording.English.Say("code."+all.Barred))
	case len(all.Items) < all.Total:
		fmt.Fprintf(a.Err, "%d of %d: see more with --limit, or all with --all. %s\n", len(all.Items), all.Total, totalsText(all.Totals))
	case all.Total == 0 && len(f.degrees) == 0:
		fmt.Fprintln(a.Err, "Nothing, at no time within 400 days and in no circumstances.")
	default:
		fmt.Fprintf(a.Err, "%d in all. %s\n", all.Total, totalsText(all.Totals))
	}
	return nil
}

func totalsText(t wire.Totals) string {
	return fmt.Sprintf("Now: %d; later: %d; if: %d.", t.Now, t.Later, t.If)
}

// reachSheet has a row for each way in which something is reached: for each degree and what it takes.
func reachSheet(r wire.Reach) sheet {
	s := sheet{head: []string{"ID", "NAME", "HOW", "RIGHTS", "WHEN", "WHAT IT TAKES", "THROUGH"}}
	for _, item := range r.Items {
		for _, w := range waysOf(item, r.Zone) {
			s.rows = append(s.rows, []string{item.ID, item.Name, w.how, strings.Join(w.rights, " "), w.when, w.text, w.through})
		}
	}
	return s
}

// waysOf are the ways in which something is reached, the nearest degree first: rights that are had in the same way are told together.
func waysOf(item wire.Reached, zone string) []*reachRow {
	var rows []*reachRow
	for _, right := range item.Rights {
		through := right.Through
		if through == nil {
			through = item.Through
		}
		key := reachRow{how: right.Degree, when: whenText(right, zone), text: right.Text, through: throughText(through)}
		i := slices.IndexFunc(rows, func(o *reachRow) bool {
			return o.how == key.how && o.when == key.when && o.text == key.text && o.through == key.through
		})
		if i < 0 {
			i = len(rows)
			rows = append(rows, &key)
		}
		rows[i].rights = append(rows[i].rights, right.ID)
	}
	slices.SortStableFunc(rows, func(a, b *reachRow) int {
		return slices.Index(degreeOrder, a.how) - slices.Index(degreeOrder, b.how)
	})
	return rows
}

var degreeOrder = []string{"now", "later", "if"}

type reachRow struct {
	how, when, text, through string
	rights                   []string
}

// whenText says until when a right holds, or from when on.
func whenText(r wire.PossibleRight, zone string) string {
	switch {
	case r.Degree == "now" && r.Until == nil:
		return ""
	case r.Degree == "now":
		return "until " + wording.Time(*r.Until, zone)
	case r.When == "at" || r.Until == nil:
		return ""
	}
	return "from " + wording.Time(*r.Until, zone)
}

func throughText(way []wire.Ref) string {
	names := make([]string, len(way))
	for i, t := range way {
		names[i] = t.Name
	}
	return strings.Join(names, " → ")
}

// usedNouns are the types that lines of grants make use of.
var usedNouns = map[string]bool{"grants": true, "roles": true, "rights": true, "schedules": true, "sites": true, "device_groups": true, "user_groups": true}

func (a *app) nounUses(n noun) *cobra.Command {
	var f reachFlags
	cmd := &cobra.Command{
		Use: "uses ID", Short: "The lines of grants that make use of it: whom each reaches, and what it covers", Args: exactly("ID"),
		Example: fmt.Sprintf("  sentier %s uses ID", n.word),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			query, err := f.query(cmd)
			if err != nil {
				return err
			}
			query.Del("limit")
			var uses []wire.Use
			if err := c.Do(cmd.Context(), "GET", "/api/v1/uses/"+n.typeName()+"/"+url.PathEscape(args[0]), query, nil, &uses); err != nil {
				return err
			}
			if len(uses) == 0 {
				fmt.Fprintln(a.Err, "No line of a grant makes use of it.")
			}
			return a.print(uses, usesSheet(uses))
		},
	}
	cmd.Flags().StringVar(&f.at, "at", "", "when: RFC 3339 or local time (default: now)")
	degreeFlag(cmd, &f.degrees)
	f.contextFlags.flags(cmd)
	return cmd
}

func usesSheet(uses []wire.Use) sheet {
	s := sheet{head: []string{"GRANT", "LINE", "EFFECT", "IN FORCE", "WHAT IT TAKES", "RIGHTS", "USERS", "DEVICES"}}
	for _, u := range uses {
		s.rows = append(s.rows, []string{u.Grant.ID, fmt.Sprint(u.Line + 1), u.Effect, cmp.Or(u.Degree, "never"), u.Text, strings.Join(u.Rights, ", "), usersText(u.Users), fmt.Sprint(u.Devices)})
	}
	return s
}

// usersText counts those whom a line reaches, by when.
func usersText(t wire.Totals) string {
	var parts []string
	for i, n := range []int{t.Now, t.Later, t.If} {
		if n > 0 {
			parts = append(parts, fmt.Sprint(n, " ", degreeOrder[i]))
		}
	}
	if len(parts) == 0 {
		return "0"
	}
	return strings.Join(parts, ", ")
}

// asSeen shows the service as a user would meet it.
func (a *app) asSeen() *cobra.Command {
	var f reachFlags
	cmd := &cobra.Command{
		Use: "as-seen USER", Short: "As they see it: what a user reaches now and later, and why nothing where it is nothing", Args: exactly("USER"),
		Long:    "Show the service as a user would meet it, without being able to act as them. That you looked is recorded.",
		Example: "  sentier user as-seen noor.haddad",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			query, err := f.query(cmd)
			if err != nil {
				return err
			}
			var seen wire.Seen
			if err := c.Do(cmd.Context(), "GET", "/api/v1/seen/"+url.PathEscape(args[0]), query, nil, &seen); err != nil {
				return err
			}
			if a.format == "table" {
				fmt.Fprintf(a.Out, "%s\n", wrap(seen.Text, "", textWidth))
				if len(seen.Reach.Items) > 0 {
					fmt.Fprintln(a.Out)
				}
			}
			if len(seen.Reach.Items) == 0 && a.format == "table" {
				return nil
			}
			return a.print(seen, reachSheet(seen.Reach))
		},
	}
	f.add(cmd)
	return cmd
}

func (a *app) matrix() *cobra.Command {
	q := wire.MatrixQuestion{Rows: wire.Axis{Filter: map[string]string{}}, Columns: wire.Axis{Filter: map[string]string{}}}
	var users, groups, devices, deviceGroups, sites []string
	var inGroup, inSite string
	var context contextFlags
	cmd := &cobra.Command{
		Use: "matrix", Short: "Users or user groups against devices, device groups or sites, at a time", Args: cobra.NoArgs,
		Long: `Show who has which rights where, as a sheet, by the first letters of the rights; in
brackets what holds for some devices of a column only; after + what will be allowed
within 400 days, after ? what is in other circumstances. Without rows and columns: user groups against sites.`,
		Example: `  sentier matrix
  sentier matrix --in-group bridge-crew --in-site twin-bridges --at "2026-11-24 23:30"
  sentier matrix --user tomas.field,yusuf.demir --device-group bridges --format csv`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if inGroup != "" {
				q.Rows.Filter["group"] = inGroup
			}
			if inSite != "" {
				q.Columns.Filter["site"] = inSite
			}
			q.Rows.Type, q.Rows.IDs = "user_groups", groups
			if len(users) > 0 || inGroup != "" {
				q.Rows.Type, q.Rows.IDs = "users", users
			}
			q.Columns.Type, q.Columns.IDs = "sites", sites
			switch {
			case len(devices) > 0 || inSite != "":
				q.Columns.Type, q.Columns.IDs = "devices", devices
			case len(deviceGroups) > 0:
				q.Columns.Type, q.Columns.IDs = "device_groups", deviceGroups
			}
			var err error
			if q.Context, err = context.read(cmd); err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			var m wire.Matrix
			if err := c.Do(cmd.Context(), "POST", "/api/v1/matrix", nil, q, &m); err != nil {
				return err
			}
			if a.format == "table" {
				fmt.Fprintf(a.Out, "%s\n\n", "At "+wording.Time(m.At, m.Zone)+".")
			}
			s := matrixSheet(m, a.format == "csv")
			if a.format == "table" {
				err = s.grid(a.Out, a.width())
			} else {
				err = a.print(m, s)
			}
			if err != nil {
				return err
			}
			if a.format == "table" {
				fmt.Fprintf(a.Out, "\n%s\n", wrap(legend(m)+"; ( ) on some of it; + later; ? in other circumstances.", "", cmp.Or(a.width(), textWidth)))
			}
			if m.RowsOf > len(m.Rows) || m.ColsOf > len(m.Columns) {
				fmt.Fprintf(a.Err, "%d of %d rows and %d of %d columns: name fewer to see them all.\n", len(m.Rows), m.RowsOf, len(m.Columns), m.ColsOf)
			}
			return nil
		},
	}
	flags := cmd.Flags()
	flags.StringSliceVar(&users, "user", nil, "users as rows")
	flags.StringSliceVar(&groups, "group", nil, "user groups as rows (default: all)")
	flags.StringVar(&inGroup, "in-group", "", "the members of a user group as rows")
	flags.StringSliceVar(&devices, "device", nil, "devices as columns")
	flags.StringSliceVar(&deviceGroups, "device-group", nil, "device groups as columns")
	flags.StringSliceVar(&sites, "site", nil, "sites as columns (default: all)")
	flags.StringVar(&inSite, "in-site", "", "the devices in a site as columns")
	flags.StringVar(&q.At, "at", "", "when: RFC 3339 or local time (default: now)")
	degreeFlag(cmd, &q.Degree)
	context.flags(cmd)
	return cmd
}

func matrixSheet(m wire.Matrix, ids bool) sheet {
	s := sheet{head: []string{""}}
	for _, c := range m.Columns {
		if ids {
			s.head = append(s.head, c.ID)
		} else {
			s.head = append(s.head, c.Name)
		}
	}
	if ids {
		s.head[0] = "row"
	}
	for i, row := range m.Rows {
		line := []string{row.Name}
		if ids {
			line[0] = row.ID
		}
		for _, n := range m.Cells[i] {
			cell := m.Kinds[n]
			if ids {
				line = append(line, strings.Join(slices.Concat(cell.Rights, prefixed("some:", cell.Some), prefixed("later:", cell.Later), prefixed("if:", cell.If)), " "))
				continue
			}
			text := letters(cell.Rights)
			if len(cell.Some) > 0 {
				text += "(" + letters(cell.Some) + ")"
			}
			if len(cell.Later) > 0 {
				text += "+" + letters(cell.Later)
			}
			if len(cell.If) > 0 {
				text += "?" + letters(cell.If)
			}
			line = append(line, text)
		}
		s.rows = append(s.rows, line)
	}
	return s
}

// legend spells out the letters that a matrix shows.
func legend(m wire.Matrix) string {
	seen := map[string]bool{}
	for _, k := range m.Kinds {
		for _, r := range slices.Concat(k.Rights, k.Some, k.Later, k.If) {
			seen[r] = true
		}
	}
	var parts []string
	for _, r := range sortedKeys(seen) {
		parts = append(parts, letters([]string{r})+" "+r)
	}
	return strings.Join(parts, ", ")
}

// letters are the first letters of rights; view first, as all others imply it in most policies.
func letters(rights []string) string {
	var out strings.Builder
	for _, first := range []string{"view", "control"} {
		for _, r := range rights {
			if r == first {
				out.WriteString(strings.ToUpper(r[:1]))
			}
		}
	}
	for _, r := range rights {
		if r != "view" && r != "control" {
			out.WriteString(r[:1])
		}
	}
	return out.String()
}

// weekText draws the strip of each day: a mark every half hour.
func weekText(c wording.Catalogue, w wire.Week) string {
	loc, err := time.LoadLocation(w.Zone)
	if err != nil {
		loc = time.UTC
	}
	var out strings.Builder
	const marks = 48
	width := 0
	for _, day := range w.Days {
		width = max(width, lipgloss.Width(c.Day(day.From.In(loc))))
	}
	for _, r := range w.Rights {
		fmt.Fprintf(&out, "%s\n", r.Right.Name)
		fmt.Fprintf(&out, "  %*s  00    03    06    09    12    15    18    21    24\n", width, "")
		for _, day := range w.Days {
			var line strings.Builder
			for i := range marks {
				// By the wall clock, so that a mark stands under its hour on days of 23 and 25 hours too.
				at := time.Date(day.From.In(loc).Year(), day.From.In(loc).Month(), day.From.In(loc).Day(), i/2, 30*(i%2), 0, 0, loc)
				if allowedAt(r.Stretches, at) {
					line.WriteString("█")
				} else {
					line.WriteString("·")
				}
			}
			note := ""
			if day.Change != nil {
				note = "  " + c.Say("terminal.clock", "before", day.Change.Before, "after", day.Change.After)
			}
			name := c.Day(day.From.In(loc))
			fmt.Fprintf(&out, "  %s%s  %s%s\n", name, strings.Repeat(" ", width-lipgloss.Width(name)), line.String(), note)
		}
		for _, s := range r.Stretches {
			if s.Allowed {
				from, until := s.From.In(loc), s.Until.In(loc)
				fmt.Fprintf(&out, "  %s\n", c.Say("terminal.stretch", "from", c.Day(from)+from.Format(" 15:04"), "until", c.Day(until)+until.Format(" 15:04")))
			}
		}
		out.WriteString("\n")
	}
	out.WriteString(c.Say("terminal.legend", "zone", w.Zone) + "\n")
	return out.String()
}

func allowedAt(list []wire.Stretch, at time.Time) bool {
	for _, s := range list {
		if !at.Before(s.From) && at.Before(s.Until) {
			return s.Allowed
		}
	}
	return false
}

func (a *app) printWeek(w wire.Week) error {
	s := sheet{head: []string{"RIGHT", "FROM", "UNTIL", "ALLOWED", "REASON"}}
	for _, r := range w.Rights {
		for _, x := range r.Stretches {
			s.rows = append(s.rows, []string{r.Right.ID, x.From.Format(time.RFC3339), x.Until.Format(time.RFC3339), fmt.Sprint(x.Allowed), x.Reason})
		}
	}
	if a.format != "table" {
		return a.print(w, s)
	}
	_, err := lipgloss.Fprint(a.Out, weekText(a.words(), w))
	return err
}

func (a *app) printAdvice(advice wire.Advice) error {
	if a.format != "table" {
		s := sheet{head: []string{"KIND", "ELSE", "WHAT", "COMMAND"}}
		for _, i := range advice.Items {
			s.rows = append(s.rows, []string{i.Kind, fmt.Sprint(i.Else), i.Text, adviceCommand(i)})
		}
		return a.print(advice, s)
	}
	c, towards := a.words(), "towards"
	if advice.Allowed {
		towards = "away"
	}
	if len(advice.Items) == 0 {
		fmt.Fprintf(a.Out, "\n%s\n", c.Say("terminal.nothing_"+towards))
		return nil
	}
	fmt.Fprintf(a.Out, "\n%s\n", c.Say("terminal."+towards))
	for n, i := range advice.Items {
		fmt.Fprintf(a.Out, "\n%2d. %s\n", n+1, strings.TrimLeft(wrap(i.Text, "    ", textWidth), " "))
		if command := adviceCommand(i); command != "" {
			fmt.Fprintf(a.Out, "    %s\n", command)
		}
		for k, d := range i.Impact.Items {
			if k == 3 {
				fmt.Fprintf(a.Out, "      %s\n", c.Say("terminal.more", "users", fmt.Sprint(i.Impact.Users), "devices", fmt.Sprint(i.Impact.Devices)))
				break
			}
			fmt.Fprintf(a.Out, "      %s\n", c.Say("terminal.change", "user", d.User.Name, "device", d.Device.Name, "rights", differenceText(d)))
		}
	}
	return nil
}

func prefixed(sign string, list []string) []string {
	out := make([]string, len(list))
	for i, v := range list {
		out[i] = sign + v
	}
	return out
}

// adviceCommand is the command that follows an advice, where one does.
func adviceCommand(i wire.Advise) string {
	if len(i.Edits) != 1 {
		return ""
	}
	e := i.Edits[0]
	until := ""
	if !e.Entry.Until.IsZero() {
		until = " --until " + e.Entry.Until.Format(time.RFC3339)
	}
	switch i.Kind {
	case "join":
		if e.Beside {
			until += " --beside"
		}
		return "sentier group add-member " + e.ID + " " + e.Entry.Value + until
	case "leave":
		return "sentier group drop-member " + e.ID + " " + e.Entry.Value
	case "disable":
		return "sentier grant edit " + e.ID + " --enabled=false"
	}
	return ""
}
