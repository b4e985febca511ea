package cli

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"sentier/internal/wire"
	"sentier/internal/wording"
)

func (a *app) history() *cobra.Command {
	cmd := &cobra.Command{
		Use: "history", Short: "The line of revisions: who changed what, when and why; compare any two, take some back",
		Example: "  sentier history list --by ines.carvalho\n  sentier history compare 2026-03-01",
	}
	cmd.AddCommand(a.historyList(), a.historyShow(), a.historyCompare(), a.historyUndo())
	return cmd
}

func (a *app) historyList() *cobra.Command {
	var by, since, until, record string
	var limit int
	cmd := &cobra.Command{
		Use: "list", Short: "List the last revisions, newest first", Args: cobra.NoArgs,
		Example: "  sentier history list --limit 10\n  sentier history list --record grant/bridge-watch --since \"2026-03-01\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			query := url.Values{"limit": {strconv.Itoa(min(max(limit, 1), 1000))}}
			for name, value := range map[string]string{"by": by, "since": since, "until": until} {
				if value != "" {
					query.Set(name, value)
				}
			}
			if record != "" {
				typeName, id, err := recordOf(record)
				if err != nil {
					return err
				}
				query.Set("type", typeName)
				query.Set("id", id)
			}
			list := []wire.Happened{}
			for len(list) < limit {
				var page wire.Revisions
				if err := c.Do(cmd.Context(), "GET", "/api/v1/revisions", query, nil, &page); err != nil {
					return err
				}
				if list = append(list, page.Items...); page.Next == "" {
					break
				}
				query.Set("cursor", page.Next)
			}
			list = list[:min(len(list), limit)]
			s := sheet{head: []string{"REVISION", "AT", "BY", "WHAT", "NOTE"}}
			for _, h := range list {
				s.rows = append(s.rows, []string{strconv.FormatUint(h.Revision, 10), wording.Time(h.At, "UTC"), h.By.Name, touchedText(h), h.Note})
			}
			return a.print(list, s)
		},
	}
	cmd.Flags().StringVar(&by, "by", "", "only those of this user")
	cmd.Flags().StringVar(&record, "record", "", "only those that changed this record, such as grant/bridge-watch")
	cmd.Flags().StringVar(&since, "since", "", "from this time on: RFC 3339, or a local time such as “2026-11-24 06:00”")
	cmd.Flags().StringVar(&until, "until", "", "before this time")
	cmd.Flags().IntVar(&limit, "limit", 20, "how many revisions")
	return cmd
}

// touchedText says in a few words what a revision changed.
func touchedText(h wire.Happened) string {
	var parts []string
	for _, r := range h.Records {
		parts = append(parts, r.Name+" "+r.Op)
	}
	if more := h.All - len(h.Records); more > 0 {
		parts = append(parts, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(parts, ", ")
}

// recordOf reads the word of a type of record and an id.
func recordOf(text string) (typeName, id string, err error) {
	word, id, ok := strings.Cut(text, "/")
	for _, n := range allNouns {
		if ok && n.word == word {
			return n.typeName(), id, nil
		}
	}
	return "", "", fmt.Errorf("--record %q is no record: write its type and its id, such as grant/bridge-watch", text)
}

func (a *app) historyShow() *cobra.Command {
	return &cobra.Command{
		Use: "show REVISION", Short: "Show one: what it changed, before and after, and who gained and lost what by it", Args: exactly("REVISION"),
		Example: "  sentier history show 1",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var shown wire.RevisionShown
			if err := c.Do(cmd.Context(), "GET", "/api/v1/revisions/"+url.PathEscape(args[0]), url.Values{"impact": {"true"}}, nil, &shown); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "Revision %d, %s, by %s%s.\n", shown.Revision, wording.Time(shown.At, "UTC"), shown.By.Name, quotedNote(shown.Note))
			return a.printWhole(shown, shown.Changes, shown.All, shown.Impact)
		},
	}
}

func quotedNote(note string) string {
	if note == "" {
		return ""
	}
	return ": “" + note + "”"
}

// printWhole prints what was changed, how much more there is, and who gained and lost by it; in other formats than a table, all of whole.
func (a *app) printWhole(whole any, changes []wire.RecordChange, all int, impact *wire.Impact) error {
	if a.format != "table" && a.format != "csv" {
		return a.print(whole, sheet{})
	}
	if err := a.printChanges(wire.Saved{Changes: changes}); err != nil {
		return err
	}
	if more := all - len(changes); more > 0 {
		fmt.Fprintf(a.Err, "and %d more records\n", more)
	}
	a.printImpact(impact)
	return nil
}

func (a *app) historyCompare() *cobra.Command {
	return &cobra.Command{
		Use: "compare REVISION|TIME [REVISION|TIME]", Short: "What changed between two revisions or times, or from one until now, and who gained and lost what", Args: cobra.RangeArgs(1, 2),
		Long:    "Show, record by record, what leads from the policy as it was to what it was later, or is now;\nand who gained and lost what by it, at the time of the second.\nThe exit code is 0 where they are the same, 1 where they differ.",
		Example: "  sentier history compare 1\n  sentier history compare 2026-03-01 2026-04-01",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			query := url.Values{"from": {args[0]}}
			if len(args) == 2 {
				query.Set("to", args[1])
			}
			var found wire.Compared
			if err := c.Do(cmd.Context(), "GET", "/api/v1/comparison", query, nil, &found); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "From revision %d to revision %d.\n", found.From.Revision, found.To.Revision)
			if err := a.printWhole(found, found.Changes, found.All, &found.Impact); err != nil {
				return err
			}
			if found.All > 0 {
				return answered{exitNo}
			}
			fmt.Fprintln(a.Err, "They are the same.")
			return nil
		},
	}
}

func (a *app) historyUndo() *cobra.Command {
	var e editing
	cmd := &cobra.Command{
		Use: "undo REVISION...", Short: "Take back what one or several revisions did, as one new revision", Args: cobra.MinimumNArgs(1),
		Long:    "Take back what one or several revisions did: each field becomes what it was before them, and what came since stays.\nIt is refused where a later revision, that is none of them, has changed the same; that one is named.",
		Example: "  sentier history undo 2 --dry-run\n  sentier history undo 2 3 --note \"the wrong Tomas\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			var in wire.Undo
			for _, arg := range args {
				n, err := strconv.ParseUint(arg, 10, 64)
				if err != nil {
					return fmt.Errorf("%q is no revision: write its number", arg)
				}
				in.Revisions = append(in.Revisions, n)
			}
			saved, err := a.post(cmd, e, "/api/v1/undo", in)
			if err != nil {
				return err
			}
			return a.tellSaved(e, saved)
		},
	}
	e.flags(cmd)
	return cmd
}
