package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"sentier/internal/wire"
)

func readAll(r io.Reader) ([]byte, error) {
	data, err := io.ReadAll(r)
	if err != nil {
		return nil, fmt.Errorf("read standard input: %w", err)
	}
	return data, nil
}

// patchVerb is a command that sets the same fields of the records whose ids it takes.
func (a *app) patchVerb(n noun, word, short string, flags func(*cobra.Command), patch func(*cobra.Command) (row, error)) *cobra.Command {
	var e editing
	cmd := &cobra.Command{
		Use: word + " ID…", Short: short, Args: cobra.MinimumNArgs(1), Example: fmt.Sprintf("  sentier %s %s ID", n.word, word),
		RunE: func(cmd *cobra.Command, args []string) error {
			fields, err := patch(cmd)
			if err != nil {
				return err
			}
			return a.patchAll(cmd, e, n, args, fields)
		},
	}
	e.flags(cmd)
	if flags != nil {
		flags(cmd)
	}
	return cmd
}

func fixed(fields row) func(*cobra.Command) (row, error) {
	return func(*cobra.Command) (row, error) { return fields, nil }
}

func userVerbs(a *app, n noun) []*cobra.Command {
	var at string
	end := a.patchVerb(n, "end-date", "Let the account end", func(cmd *cobra.Command) {
		cmd.Flags().StringVar(&at, "at", "", "when; empty: it does not end")
	}, func(cmd *cobra.Command) (row, error) {
		v, err := a.moment(cmd, at)
		return row{"valid": row{"until": v}}, err
	})
	end.Example = "  sentier user end-date noor.haddad --at 2026-11-27T17:00:00Z"
	return []*cobra.Command{
		a.patchVerb(n, "suspend", "Block at once", nil, fixed(row{"status": "suspended"})),
		a.patchVerb(n, "reinstate", "Let in again", nil, fixed(row{"status": "active"})),
		end, a.userMove(n), a.asSeen(), a.userInvite(), a.userResetFactor(), a.userGivePassword(), a.userSignIns(), a.userSignOut(),
	}
}

func (a *app) userMove(n noun) *cobra.Command {
	var e editing
	var to, handover string
	var from, keep []string
	cmd := &cobra.Command{
		Use: "move USER --to GROUP", Short: "Bring into one group and out of the old ones, in one step", Args: exactly("USER"),
		Long: `Bring a person into a group, and out of all others that list them but those that are kept on purpose with --keep; or, with
--from, out of those alone. With --handover they are in both until then: each old membership that goes on beyond it ends there.`,
		Example: "  sentier user move tomas.field --to instrument-technicians --from bridge-crew\n  sentier user move tomas.field --to instrument-technicians --keep night-watch --handover \"in 2 weeks\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(from) > 0 && len(keep) > 0 {
				return errors.New("--from says which groups are left, and --keep which are not: give one of them")
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			var in []wire.Belongs
			if err := c.Do(cmd.Context(), "GET", "/api/v1/groups/users/"+url.PathEscape(args[0]), nil, nil, &in); err != nil {
				return err
			}
			at, err := a.moment(cmd, handover)
			if err != nil {
				return err
			}
			end, _ := at.(string)
			edits := []wire.Edit{{Op: "add", Type: "user_groups", ID: to, List: "members", Value: args[0]}}
			for _, g := range from {
				if !slices.ContainsFunc(in, func(b wire.Belongs) bool { return b.Why == "listed" && b.Group.ID == g }) {
					return fmt.Errorf("--from %s: %s is in no such group", g, args[0])
				}
			}
			for _, b := range in {
				if b.Why != "listed" || b.Group.ID == to || slices.Contains(keep, b.Group.ID) || len(from) > 0 && !slices.Contains(from, b.Group.ID) {
					continue
				}
				left, err := leave(args[0], b, end)
				if err != nil {
					return err
				}
				edits = append(edits, left...)
			}
			if err := a.send(cmd, e, edits...); err != nil || !e.dryRun || a.format == "json" {
				return err
			}
			return a.printSides(cmd, wire.WouldReach{User: args[0], Changes: edits, At: end})
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "group to add to (required)")
	cmd.Flags().StringSliceVar(&from, "from", nil, "groups to drop from (default: all that list them)")
	cmd.Flags().StringSliceVar(&keep, "keep", nil, "groups that they stay in")
	cmd.Flags().StringVar(&handover, "handover", "", "time until which they are in both")
	must(cmd.MarkFlagRequired("to"))
	e.flags(cmd)
	return cmd
}

// printSides shows what somebody reaches beside what they would after changes, and through what.
func (a *app) printSides(cmd *cobra.Command, in wire.WouldReach) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	var out wire.SideBySide
	if err := c.Do(cmd.Context(), "POST", "/api/v1/preview/reach", nil, in, &out); err != nil {
		return err
	}
	s := sheet{head: []string{"", "DEVICES", "NOW", "THEN", "THROUGH"}}
	for _, r := range out.Rows {
		var devices, through []string
		for _, d := range r.Devices {
			devices = append(devices, d.Name)
		}
		if more := r.Count - len(devices); more > 0 {
			devices = append(devices, fmt.Sprintf("and %d more", more))
		}
		for _, x := range r.Through {
			through = append(through, x.Name)
		}
		s.rows = append(s.rows, []string{r.Change, strings.Join(devices, ", "), strings.Join(r.Before, ", "), strings.Join(r.After, ", "), strings.Join(through, " → ")})
	}
	return s.table(a.Out, a.width())
}

// leave ends a membership: at once, or where there is a handover at the end of it, unless it ends before by itself.
func leave(user string, b wire.Belongs, handover string) ([]wire.Edit, error) {
	text := func(at *time.Time) string {
		if at == nil {
			return ""
		}
		return at.Format(time.RFC3339Nano)
	}
	drop := wire.Edit{Op: "drop", Type: "user_groups", ID: b.Group.ID, List: "members", Value: user, From: text(b.From), Until: text(b.Until), Beside: true}
	if handover == "" {
		return []wire.Edit{drop}, nil
	}
	end, err := time.Parse(time.RFC3339, handover)
	switch {
	case err != nil:
		return nil, err
	case b.From != nil && !b.From.Before(end):
		return []wire.Edit{drop}, nil
	case b.Until != nil && !b.Until.After(end):
		return nil, nil
	}
	add := drop
	add.Op, add.Until = "add", handover
	return []wire.Edit{drop, add}, nil
}

// listVerb is a command that adds entries to a list of a record, or drops them.
func (a *app) listVerb(n noun, use, short, op, list string, example string, flags func(*cobra.Command, *wire.Edit)) *cobra.Command {
	var e editing
	var like wire.Edit
	cmd := &cobra.Command{
		Use: use, Short: short + "; “-” reads them from standard input", Args: cobra.MinimumNArgs(2), Example: example,
		RunE: func(cmd *cobra.Command, args []string) error {
			edit := like
			for _, at := range []*string{&edit.From, &edit.Until} {
				v, err := a.moment(cmd, *at)
				if err != nil {
					return err
				}
				*at, _ = v.(string)
			}
			return a.entries(cmd, e, op, n, list, args, edit)
		},
	}
	e.flags(cmd)
	if flags != nil {
		flags(cmd, &like)
	}
	return cmd
}

func groupVerbs(a *app, n noun) []*cobra.Command {
	return []*cobra.Command{
		a.listVerb(n, "add-member GROUP USER…", "Add members", "add", "members", "  sentier group add-member winter-contractors noor.haddad --until 2026-11-27T17:00:00Z",
			func(cmd *cobra.Command, like *wire.Edit) {
				cmd.Flags().StringVar(&like.From, "from", "", "beginning of the membership")
				cmd.Flags().StringVar(&like.Until, "until", "", "end of the membership")
				cmd.Flags().BoolVar(&like.Beside, "beside", false, "keep their memberships of other times in the group")
			}),
		a.listVerb(n, "drop-member GROUP USER…", "Drop members", "drop", "members", "  sentier group drop-member bridge-crew tomas.field", nil),
	}
}

func deviceGroupVerbs(a *app, n noun) []*cobra.Command {
	return []*cobra.Command{
		a.listVerb(n, "drop GROUP DEVICE…", "Drop devices", "drop", "devices", "  sentier device-group drop winter-list mill-pump-2", nil),
	}
}

func deviceVerbs(a *app, n noun) []*cobra.Command {
	var reason, by, from, until, site string
	lock := a.patchVerb(n, "lock-out", "Let nobody control it", func(cmd *cobra.Command) {
		cmd.Flags().StringVar(&reason, "reason", "", "why (required)")
		cmd.Flags().StringVar(&by, "by", "", "who locks it out, as a user or in words")
		cmd.Flags().StringVar(&from, "from", "", "beginning (default: now)")
		cmd.Flags().StringVar(&until, "until", "", "end (default: until it is released)")
		must(cmd.MarkFlagRequired("reason"))
	}, func(cmd *cobra.Command) (row, error) {
		if from == "" {
			from = "now"
		}
		begin, err1 := a.moment(cmd, from)
		end, err2 := a.moment(cmd, until)
		return row{"lockout": row{"by": by, "reason": reason, "from": begin, "until": end}}, errors.Join(err1, err2)
	})
	lock.Example = "  sentier device lock-out estuary-gate-1 --reason \"Divers below the gate\" --until \"tomorrow 18:00\""
	move := a.patchVerb(n, "move", "Bring to another site", func(cmd *cobra.Command) {
		cmd.Flags().StringVar(&site, "site", "", "site (required; empty: unsorted)")
		must(cmd.MarkFlagRequired("site"))
	}, func(cmd *cobra.Command) (row, error) {
		v, err := text(site)
		return row{"site": v}, err
	})
	move.Example = "  sentier device move found-1 found-2 --site saltmarsh"
	return []*cobra.Command{
		lock, move,
		a.patchVerb(n, "release-lock-out", "End the lock-out", nil, fixed(row{"lockout": nil})),
		a.tag(n, "tag", "add", "Put tags on devices"), a.tag(n, "untag", "drop", "Take tags off devices"),
		a.listVerb(n, "drop-point DEVICE POINT…", "Drop points", "drop", "points", "  sentier device drop-point mill-bridge signals", nil),
	}
}

func (a *app) tag(n noun, word, op, short string) *cobra.Command {
	var e editing
	var tags []string
	cmd := &cobra.Command{
		Use: word + " DEVICE… --tag TAG", Short: short + "; “-” reads ids from standard input", Args: cobra.MinimumNArgs(1),
		Example: fmt.Sprintf("  sentier device %s mill-pump-1 mill-pump-2 --tag winter", word),
		RunE: func(cmd *cobra.Command, args []string) error {
			ids, err := a.ids(args)
			if err != nil {
				return err
			}
			var edits []wire.Edit
			for _, id := range ids {
				for _, t := range tags {
					edits = append(edits, wire.Edit{Op: op, Type: n.typeName(), ID: id, List: "tags", Value: t})
				}
			}
			return a.send(cmd, e, edits...)
		},
	}
	cmd.Flags().StringSliceVar(&tags, "tag", nil, "the tags (required)")
	must(cmd.MarkFlagRequired("tag"))
	e.flags(cmd)
	return cmd
}

// side are the flags that say who, what, where and when of a line.
type side struct {
	users, groups, rights, roles, sites, deviceGroups, devices, points, when, states, networks, places []string
	everyone, everything, here                                                                         bool
	strong, attended                                                                                   string
	limits                                                                                             map[string]string
}

func (s *side) flags(cmd *cobra.Command) {
	for _, f := range []struct {
		into        *[]string
		name, usage string
	}{
		{&s.users, "user", "users that it is given to"}, {&s.groups, "group", "groups that it is given to"},
		{&s.rights, "right", "rights"}, {&s.roles, "role", "roles"},
		{&s.sites, "site", "sites"}, {&s.deviceGroups, "device-group", "device groups"}, {&s.devices, "device", "devices"}, {&s.points, "point", "points, as device/point"},
		{&s.when, "when", "schedules, any of which must be open"}, {&s.states, "if-state", "only in these states of the device"}, {&s.networks, "if-network", "only from these networks"}, {&s.places, "if-place", "only while the user is at these sites, or below"},
	} {
		cmd.Flags().StringSliceVar(f.into, f.name, nil, f.usage)
	}
	cmd.Flags().BoolVar(&s.everyone, "everyone", false, "given to everyone")
	cmd.Flags().BoolVar(&s.everything, "everything", false, "on every device")
	cmd.Flags().BoolVar(&s.here, "here", false, "not on what lies below the sites and device groups")
	cmd.Flags().StringVar(&s.strong, "if-strong-sign-in", "", "only after a strong sign-in: true or false")
	cmd.Flags().StringVar(&s.attended, "if-attended", "", "only while someone is at the device: true or false")
	cmd.Flags().StringToStringVar(&s.limits, "limit", nil, "limits for the enforcement point, name=number")
}

func put(into row, name string, list []string) {
	if len(list) > 0 {
		into[name] = list
	}
}

func (s *side) to() row {
	out := row{}
	put(out, "groups", s.groups)
	put(out, "users", s.users)
	if s.everyone {
		out["everyone"] = true
	}
	return out
}

func (s *side) line() (row, error) {
	on, only, out := row{}, row{}, row{}
	put(on, "sites", s.sites)
	put(on, "device_groups", s.deviceGroups)
	put(on, "devices", s.devices)
	put(on, "points", s.points)
	if s.everything {
		on["everything"] = true
	}
	put(only, "states", s.states)
	put(only, "networks", s.networks)
	put(only, "places", s.places)
	for name, given := range map[string]string{"strong_sign_in": s.strong, "attended": s.attended} {
		if given == "" {
			continue
		}
		v, err := yesNo(given)
		if err != nil {
			return nil, err
		}
		only[name] = v
	}
	put(out, "rights", s.rights)
	put(out, "roles", s.roles)
	put(out, "when", s.when)
	out["on"] = on
	if len(only) > 0 {
		out["if"] = only
	}
	if s.here {
		out["depth"] = "here"
	}
	limits := row{}
	for name, value := range s.limits {
		var v any
		if err := json.Unmarshal([]byte(value), &v); err != nil {
			return nil, fmt.Errorf("--limit %s: %q is neither a number nor a JSON list", name, value)
		}
		limits[name] = v
	}
	if len(limits) > 0 {
		out["limits"] = limits
	}
	if len(s.rights)+len(s.roles) == 0 {
		return nil, errors.New("say what is given: --right or --role")
	}
	if len(on) == 0 {
		return nil, errors.New("say where: --site, --device-group, --device, --point or --everything")
	}
	return out, nil
}

func grantVerbs(a *app, n noun) []*cobra.Command { return []*cobra.Command{a.give(n), a.take(n)} }

func (a *app) give(n noun) *cobra.Command {
	var e editing
	var s side
	var id, name string
	cmd := &cobra.Command{
		Use: "give", Short: "Grant rights: a new grant, or one more line of one", Args: cobra.NoArgs,
		Long:    "Make a grant of one line, from whichever side you come. With --grant the line is added to a grant that is there,\nand whoever is named is added to those it is given to.",
		Example: "  sentier grant give --name \"Bridge watch\" --group bridge-crew --role bridge-watch --device-group bridges --when navigation-winter --limit minutes=30\n  sentier grant give --grant bridge-watch --point mill-bridge/barriers --right control",
		RunE: func(cmd *cobra.Command, _ []string) error {
			line, err := s.line()
			if err != nil {
				return err
			}
			if id == "" {
				if name == "" {
					return errors.New("name the grant with --name, or say with --grant which one gets the line")
				}
				return a.addRecord(cmd, e, n, row{"name": name, "to": s.to(), "lines": []any{line}})
			}
			g, tag, err := a.grant(cmd, id)
			if err != nil {
				return err
			}
			e.match = tag
			lines, _ := g["lines"].([]any)
			return a.patchAll(cmd, e, n, []string{id}, row{"lines": append(lines, line), "to": union(g["to"], s.to())})
		},
	}
	cmd.Flags().StringVar(&id, "grant", "", "grant that gets the line (default: a new one)")
	cmd.Flags().StringVar(&name, "name", "", "name of a new grant")
	s.flags(cmd)
	e.flags(cmd)
	return cmd
}

// grant reads a grant with its entity tag: what is changed of it is the version that was read.
func (a *app) grant(cmd *cobra.Command, id string) (g row, tag string, err error) {
	c, err := a.client()
	if err != nil {
		return nil, "", err
	}
	tag, err = c.DoTagged(cmd.Context(), "GET", "/api/v1/grants/"+url.PathEscape(id), nil, nil, &g)
	return g, tag, err
}

// union adds those of a second "to" to a first.
func union(first any, second row) row {
	out, ok := first.(row)
	if !ok {
		out = row{}
	}
	for name, v := range second {
		if list, ok := v.([]string); ok {
			have, _ := out[name].([]any)
			for _, id := range list {
				have = append(have, id)
			}
			out[name] = have
			continue
		}
		out[name] = v
	}
	return out
}

func (a *app) take(n noun) *cobra.Command {
	var e editing
	var users, groups []string
	line := 0
	cmd := &cobra.Command{
		Use: "take GRANT", Short: "Take a grant from somebody, or a line out of it", Args: exactly("GRANT"),
		Example: "  sentier grant take bridge-watch --group bridge-crew\n  sentier grant take bridge-watch --line 2",
		RunE: func(cmd *cobra.Command, args []string) error {
			g, tag, err := a.grant(cmd, args[0])
			if err != nil {
				return err
			}
			e.match = tag
			if line > 0 {
				lines, _ := g["lines"].([]any)
				if line > len(lines) {
					return fmt.Errorf("grant %s has %d lines, and no line %d", args[0], len(lines), line)
				}
				return a.patchAll(cmd, e, n, args, row{"lines": append(lines[:line-1:line-1], lines[line:]...)})
			}
			if len(users)+len(groups) == 0 {
				return errors.New("say from whom, --user or --group, or which --line")
			}
			to, _ := g["to"].(row)
			patch := row{}
			for name, gone := range map[string][]string{"users": users, "groups": groups} {
				if len(gone) == 0 {
					continue
				}
				kept, err := without(to[name], gone)
				if err != nil {
					return fmt.Errorf("grant %s: %w", args[0], err)
				}
				patch[name] = kept
			}
			return a.patchAll(cmd, e, n, args, row{"to": patch})
		},
	}
	cmd.Flags().StringSliceVar(&users, "user", nil, "users to take it from")
	cmd.Flags().StringSliceVar(&groups, "group", nil, "groups to take it from")
	cmd.Flags().IntVar(&line, "line", 0, "line to take out, from 1")
	e.flags(cmd)
	return cmd
}

// without drops entries of a list, each of which must be there.
func without(list any, gone []string) ([]any, error) {
	have, _ := list.([]any)
	out := []any{}
	found := map[string]bool{}
	for _, v := range have {
		dropped := false
		for _, g := range gone {
			dropped = dropped || v == g
		}
		if dropped {
			found[fmt.Sprint(v)] = true
			continue
		}
		out = append(out, v)
	}
	for _, g := range gone {
		if !found[g] {
			return nil, fmt.Errorf("it is not given to %q", g)
		}
	}
	return out, nil
}

func (a *app) find() *cobra.Command {
	limit := 20
	cmd := &cobra.Command{
		Use: "find WORD", Short: "Search everything: people, groups, devices, grants", Args: exactly("WORD"),
		Example: "  sentier find bridge",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var found []wire.Found
			if err := c.Do(cmd.Context(), "GET", "/api/v1/find", url.Values{"q": {args[0]}, "limit": {fmt.Sprint(limit)}}, nil, &found); err != nil {
				return err
			}
			s := sheet{head: []string{"TYPE", "ID", "NAME", "NOTE"}}
			for _, f := range found {
				s.rows = append(s.rows, []string{f.Type, f.ID, f.Name, f.Note})
			}
			if len(found) == 0 {
				fmt.Fprintf(a.Err, "Nothing holds %q.\n", args[0])
			}
			return a.print(found, s)
		},
	}
	cmd.Flags().IntVar(&limit, "limit", 20, "how many at most, up to 200")
	return cmd
}
