package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"sentier/internal/strict"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

func (a *app) draft() *cobra.Command {
	cmd := &cobra.Command{
		Use: "draft", Short: "Drafts: changes that are gathered, looked at and agreed to before they count",
		Long: `Begin a draft, put changes into it with --draft on any command that changes something, look at
it as a whole, and apply it: at once, at an hour, or for a time. Questions are asked as if it
held with --as-of draft:ID.`,
		Example: "  sentier draft add \"Tomas moves\" --reason \"to the instruments\"\n  sentier group drop-member bridge-crew tomas.field --draft tomas-moves\n  sentier draft apply tomas-moves",
	}
	cmd.AddCommand(a.draftList(), a.draftAdd(), a.draftShow(), a.draftTakeOut(), a.draftResolve(), a.draftApprove(), a.draftApply(), a.draftDrop())
	return cmd
}

func draftPath(id string, more ...string) string {
	return "/api/v1/drafts/" + strings.Join(append([]string{url.PathEscape(id)}, more...), "/")
}

func (a *app) draftList() *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use: "list", Short: "Drafts that can still be applied, or are to be taken back", Args: cobra.NoArgs,
		Example: "  sentier draft list\n  sentier draft list --all",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []wire.DraftHead
			if err := c.Do(cmd.Context(), "GET", "/api/v1/drafts", url.Values{"all": {strconv.FormatBool(all)}}, nil, &list); err != nil {
				return err
			}
			s := sheet{head: []string{"ID", "NAME", "STATE", "RECORDS", "BY", "CHANGED"}}
			for _, d := range list {
				s.rows = append(s.rows, []string{d.ID, d.Name, stateOf(d), strconv.Itoa(d.Records), d.Author.Name, wording.Time(d.Changed, "UTC")})
			}
			return a.print(list, s)
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "those that are over as well")
	return cmd
}

// stateOf says where a draft has got to.
func stateOf(d wire.DraftHead) string {
	switch {
	case d.State == "waiting":
		return "waiting for " + d.ApplyAt.Format(time.RFC3339)
	case d.State == "applied" && d.Until != nil:
		return "applied until " + d.Until.Format(time.RFC3339)
	}
	return d.State
}

func (a *app) draftAdd() *cobra.Command {
	var in wire.NewDraft
	var acts string
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Begin a draft", Args: exactly("NAME"),
		Long: `Begin a draft. Changes of the policy are put into it with --draft. What it does beside the
policy (to settings of the service, sources and webhooks) comes from a file: a list of
{"act": …, "id": …, "body": …}, where act is change_settings, add_source, edit_source,
remove_source, link_source, add_webhook, edit_webhook or remove_webhook.`,
		Example: "  sentier draft add \"Tomas moves\" --reason \"to the instruments\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			if in.Name = args[0]; acts != "" {
				data, err := a.readFile(acts)
				if err != nil {
					return err
				}
				if err := strict.Read(data, &in.Acts); err != nil {
					return fmt.Errorf("%s holds no list of acts: %w", acts, err)
				}
			}
			return a.onDraft(cmd, "POST", "/api/v1/drafts", nil, in, func(d wire.Draft) string {
				return fmt.Sprintf("Begun: put changes into it with --draft %s.\n", d.ID)
			})
		},
	}
	cmd.Flags().StringVar(&in.Reason, "reason", "", "why, for the record")
	cmd.Flags().StringVar(&acts, "acts", "", "file with what it does beside the policy, as JSON; - for standard input")
	return cmd
}

// onDraft does something with a draft, says what became of it, and shows it.
func (a *app) onDraft(cmd *cobra.Command, method, path string, query url.Values, body any, said func(wire.Draft) string) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	var d wire.Draft
	if err := c.Do(cmd.Context(), method, path, query, body, &d); err != nil {
		return err
	}
	fmt.Fprint(a.Err, said(d))
	return a.printDraft(d)
}

// printDraft shows a draft as a whole: what it changes, who gains and loses, and what stands in its way.
func (a *app) printDraft(d wire.Draft) error {
	if a.format == "json" || a.format == "yaml" {
		return a.print(d, sheet{})
	}
	fmt.Fprintf(a.Err, "%s, by %s: %s.\n", d.Name, d.Author.Name, stateOf(d.DraftHead))
	if d.Problem != "" {
		fmt.Fprintf(a.Err, "! %s\n", d.Problem)
	}
	if d.Approval.Void != "" {
		fmt.Fprintf(a.Err, "! %s\n", d.Approval.Void)
	}
	for _, x := range d.Acts {
		fmt.Fprintf(a.Err, "%s %s %s\n", strings.ReplaceAll(x.Act, "_", " "), x.ID, x.Body)
	}
	if err := a.printChanges(wire.Saved{Changes: d.Changes}); err != nil {
		return err
	}
	a.printImpact(d.Impact)
	a.printUnmet(d.Unmet)
	for _, x := range d.Conflicts {
		fmt.Fprintf(a.Err, "! %s %s was changed meanwhile: take one of the versions with “sentier draft resolve %s %s/%s mine” or “theirs”.\n", x.Type, x.ID, d.ID, x.Type, x.ID)
		versions := sheet{head: []string{"FIELD", "MINE", "THEIRS"}, rows: versionsOf(x)}
		if err := versions.table(a.Err, a.width()); err != nil {
			return err
		}
	}
	for _, f := range d.Faults {
		fmt.Fprintf(a.Err, "! %s: %s\n", f.Path, f.Problem)
	}
	switch by := d.Approval.By; {
	case by != nil:
		fmt.Fprintf(a.Err, "Approved by %s.\n", by.Name)
	case len(d.Approval.Needed) > 0:
		fmt.Fprintf(a.Err, "Somebody else has to approve it: %s.\n", strings.Join(d.Approval.Needed, ", "))
	}
	return nil
}

// versionsOf are both versions of a record that a draft and somebody else have changed, field by field.
func versionsOf(x wire.Conflict) [][]string {
	var out [][]string
	version := func(c *wire.RecordChange, field string) string {
		if c == nil {
			return "as it was"
		}
		if c.Op == "removed" {
			return "removed"
		}
		for _, f := range c.Fields {
			if f.Field == field {
				return strings.TrimPrefix(fieldText(f), f.Field+" ")
			}
		}
		return "as it was"
	}
	seen := map[string]bool{}
	for _, c := range []*wire.RecordChange{&x.Mine, x.Theirs} {
		if c == nil {
			continue
		}
		for _, f := range c.Fields {
			if !seen[f.Field] {
				seen[f.Field] = true
				out = append(out, []string{f.Field, version(&x.Mine, f.Field), version(x.Theirs, f.Field)})
			}
		}
	}
	if len(out) == 0 {
		out = append(out, []string{"", x.Mine.Op, version(x.Theirs, "")})
	}
	return out
}

func (a *app) draftShow() *cobra.Command {
	return &cobra.Command{
		Use: "show ID", Short: "A draft as a whole: what it changes, who gains and loses, what stands in its way", Args: exactly("ID"),
		Example: "  sentier draft show tomas-moves",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.onDraft(cmd, "GET", draftPath(args[0]), nil, nil, func(wire.Draft) string { return "" })
		},
	}
}

func (a *app) draftTakeOut() *cobra.Command {
	return &cobra.Command{
		Use: "take-out ID TYPE/RECORD", Short: "Take what a draft does to one record out of it", Args: exactly("ID", "TYPE/RECORD"),
		Example: "  sentier draft take-out tomas-moves grants/yard",
		RunE: func(cmd *cobra.Command, args []string) error {
			typeName, id, _ := strings.Cut(args[1], "/")
			return a.onDraft(cmd, "DELETE", draftPath(args[0], "changes"), url.Values{"type": {typeName}, "record": {id}}, nil, func(wire.Draft) string { return "Taken out.\n" })
		},
	}
}

func (a *app) draftResolve() *cobra.Command {
	return &cobra.Command{
		Use: "resolve ID TYPE/RECORD mine|theirs", Short: "Take one of the versions of a record that a draft and somebody else have changed", Args: exactly("ID", "TYPE/RECORD", "mine|theirs"),
		Example: "  sentier draft resolve tomas-moves devices/mill-bridge mine",
		RunE: func(cmd *cobra.Command, args []string) error {
			typeName, id, _ := strings.Cut(args[1], "/")
			return a.onDraft(cmd, "POST", draftPath(args[0], "resolution"), nil, wire.Settle{Type: typeName, ID: id, Take: args[2]}, func(wire.Draft) string { return "Taken.\n" })
		},
	}
}

func (a *app) draftApprove() *cobra.Command {
	var yes bool
	cmd := &cobra.Command{
		Use: "approve ID", Short: "Agree to what a draft of somebody else changes", Args: exactly("ID"),
		Long:    "Show what a draft changes, and agree to just that once you have said yes. Who has put anything into it cannot.",
		Example: "  sentier draft approve tomas-moves",
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := a.shownDraft(cmd, args[0], yes, "Approve it?")
			if err != nil {
				return err
			}
			return a.onDraft(cmd, "POST", draftPath(args[0], "approval"), nil, wire.Approve{Digest: d.Digest}, func(wire.Draft) string { return "Approved.\n" })
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return cmd
}

// shownDraft shows a draft, and asks for a yes.
func (a *app) shownDraft(cmd *cobra.Command, id string, yes bool, question string) (d wire.Draft, err error) {
	c, err := a.client()
	if err != nil {
		return d, err
	}
	if err := c.Do(cmd.Context(), "GET", draftPath(id), nil, nil, &d); err != nil || yes {
		return d, err
	}
	if err := a.printDraft(d); err != nil {
		return d, err
	}
	return d, a.confirm(question)
}

func (a *app) draftApply() *cobra.Command {
	var in wire.ApplyDraft
	var yes bool
	cmd := &cobra.Command{
		Use: "apply ID", Short: "Apply a draft: at once or at an hour, for good or for a time", Args: exactly("ID"),
		Long:    "Show what a draft changes, and apply just that once you have said yes.",
		Example: "  sentier draft apply tomas-moves --yes\n  sentier draft apply regatta --at \"2026-12-05 06:00\" --until \"2026-12-06 22:00\" --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := a.shownDraft(cmd, args[0], yes, "Apply it?")
			if err != nil {
				return err
			}
			in.Digest = d.Digest
			return a.onDraft(cmd, "POST", draftPath(args[0], "application"), nil, in, func(d wire.Draft) string {
				if d.State == "waiting" {
					return fmt.Sprintf("It is applied at %s.\n", d.ApplyAt.Format(time.RFC3339))
				}
				return fmt.Sprintf("Applied, as revision %d.\n", d.Revision)
			})
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	cmd.Flags().StringVar(&in.At, "at", "", "when (default: at once)")
	cmd.Flags().StringVar(&in.Until, "until", "", "end it then: what it gives carries this as its end, and all else is put back")
	cmd.Flags().StringSliceVar(&in.Override, "override", nil, "though these expectations would not hold any more")
	return cmd
}

func (a *app) draftDrop() *cobra.Command {
	return &cobra.Command{
		Use: "drop ID", Short: "Give a draft up", Args: exactly("ID"),
		Example: "  sentier draft drop tomas-moves",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.act(cmd, "DELETE", draftPath(args[0]), nil, nil, func() string { return "Dropped.\n" })
		},
	}
}
