package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"sentier/internal/wire"
)

func (a *app) upkeep() *cobra.Command {
	cmd := &cobra.Command{
		Use: "upkeep", Short: "Upkeep: what may not be meant as it is, and what mends it",
		Example: "  sentier upkeep list\n  sentier upkeep list --kind leftover\n  sentier upkeep mend \"never_open grants/telemetry-callum\"",
	}
	cmd.AddCommand(a.upkeepList(), a.upkeepMend(), a.upkeepDismiss(), a.upkeepReopen())
	return cmd
}

func (a *app) findings(cmd *cobra.Command, query url.Values) (out wire.Findings, err error) {
	c, err := a.client()
	if err != nil {
		return out, err
	}
	return out, c.Do(cmd.Context(), "GET", "/api/v1/findings", query, nil, &out)
}

func (a *app) upkeepList() *cobra.Command {
	var kind string
	var dismissed bool
	cmd := &cobra.Command{
		Use: "list", Short: "What may not be meant as it is, and how each is mended", Args: cobra.NoArgs,
		Example: "  sentier upkeep list\n  sentier upkeep list --kind leftover\n  sentier upkeep list --dismissed",
		RunE: func(cmd *cobra.Command, _ []string) error {
			query := url.Values{}
			if kind != "" {
				query.Set("kind", kind)
			}
			if dismissed {
				query.Set("dismissed", "true")
			}
			found, err := a.findings(cmd, query)
			if err != nil {
				return err
			}
			s := sheet{head: []string{"FINDING", "WHAT", "MEND"}}
			for _, f := range found.Items {
				var mends []string
				for _, m := range f.Mends {
					mends = append(mends, m.Text)
				}
				s.rows = append(s.rows, []string{f.Key, f.Text, strings.Join(mends, ", or ")})
			}
			return a.print(found, s)
		},
	}
	cmd.Flags().StringVar(&kind, "kind", "", "only of this kind, as the first word of a finding says it")
	cmd.Flags().BoolVar(&dismissed, "dismissed", false, "those that were dismissed, instead of the others")
	return cmd
}

func (a *app) upkeepMend() *cobra.Command {
	var which int
	cmd := &cobra.Command{
		Use: "mend FINDING", Short: "Make a draft of the change that mends a finding, to be looked at", Args: exactly("FINDING"),
		Example: "  sentier upkeep mend \"never_open grants/telemetry-callum\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			found, err := a.findings(cmd, nil)
			if err != nil {
				return err
			}
			for _, f := range found.Items {
				if f.Key != args[0] {
					continue
				}
				if which < 1 || which > len(f.Mends) {
					return fmt.Errorf("%s has %d mends, and no mend %d: it takes a decision of yours", args[0], len(f.Mends), which)
				}
				mend := f.Mends[which-1]
				return a.onDraft(cmd, "POST", "/api/v1/drafts", nil, wire.NewDraft{Name: mend.Text, Reason: f.Text, Changes: mend.Edits}, func(d wire.Draft) string {
					return fmt.Sprintf("Ready as a draft: “sentier draft apply %s” applies it.\n", d.ID)
				})
			}
			return fmt.Errorf("there is no finding %q: “sentier upkeep list” lists them", args[0])
		},
	}
	cmd.Flags().IntVar(&which, "mend", 1, "which of its mends, where there are several")
	return cmd
}

func (a *app) upkeepDismiss() *cobra.Command {
	var in wire.Dismiss
	cmd := &cobra.Command{
		Use: "dismiss FINDING", Short: "Leave a finding as it is, for a reason, until it comes back", Args: exactly("FINDING"),
		Example: "  sentier upkeep dismiss \"everyone grants/look-around\" --reason \"it is meant\" --until \"in 6 months\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Key = args[0]
			return a.act(cmd, "POST", "/api/v1/findings/dismissals", in, nil, func() string { return "Dismissed.\n" })
		},
	}
	cmd.Flags().StringVar(&in.Reason, "reason", "", "why")
	cmd.Flags().StringVar(&in.Until, "until", "", "when it comes back")
	return cmd
}

func (a *app) upkeepReopen() *cobra.Command {
	return &cobra.Command{
		Use: "reopen FINDING", Short: "Have a finding that was dismissed told again", Args: exactly("FINDING"),
		Example: "  sentier upkeep reopen \"everyone grants/look-around\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := c.Do(cmd.Context(), "DELETE", "/api/v1/findings/dismissals", url.Values{"key": {args[0]}}, nil, nil); err != nil {
				return err
			}
			fmt.Fprintln(a.Err, "Told again.")
			return nil
		},
	}
}
