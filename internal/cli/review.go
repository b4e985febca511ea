package cli

import (
	"errors"
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"sentier/internal/policy"
	"sentier/internal/wire"
)

func (a *app) review() *cobra.Command {
	cmd := &cobra.Command{
		Use: "review", Short: "Reviews: those responsible confirm what people hold, or take it away",
		Long: "A round over what people hold: each membership, and each grant that names somebody, is confirmed or taken away\nby whoever's mandate covers it, until a date. What nobody has answered by then is told, suspended or taken.",
		Example: "  sentier review start \"Bridges, autumn\" --group bridge-crew --due \"in 3 weeks\" --unanswered told\n" +
			"  sentier review show bridges-autumn\n  sentier review take bridges-autumn tomas.field --group bridge-crew --note \"moved to instruments\"",
	}
	cmd.AddCommand(a.reviewList(), a.reviewStart(), a.reviewShow(), a.reviewAnswer("keep", "kept", "Confirm what somebody holds"), a.reviewAnswer("take", "taken", "Take away what somebody holds"), a.reviewStop())
	return cmd
}

func reviewPath(id string, more ...string) string {
	return "/api/v1/reviews/" + url.PathEscape(id) + strings.Join(more, "")
}

func (a *app) reviewList() *cobra.Command {
	var all bool
	cmd := &cobra.Command{
		Use: "list", Short: "Reviews that are open, and how far each has come", Args: cobra.NoArgs, Example: "  sentier review list\n  sentier review list --all",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			query := url.Values{}
			if all {
				query.Set("all", "true")
			}
			out := []wire.ReviewHead{}
			if err := c.Do(cmd.Context(), "GET", "/api/v1/reviews", query, nil, &out); err != nil {
				return err
			}
			s := sheet{head: []string{"REVIEW", "NAME", "STATE", "DUE", "ANSWERED", "FOR YOU"}}
			for i := range out {
				r := &out[i]
				s.rows = append(s.rows, []string{r.ID, r.Name, r.State, used(&r.Due), progress(r.Counts), fmt.Sprint(r.Mine)})
			}
			return a.print(out, s)
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "those that are over as well")
	return cmd
}

// progress is how far a review has come, in a few words.
func progress(c wire.ReviewCount) string { return fmt.Sprintf("%d of %d", c.Total-c.Waiting, c.Total) }

func (a *app) reviewStart() *cobra.Command {
	var in wire.NewReview
	cmd := &cobra.Command{
		Use: "start NAME", Short: "Begin a review of what is held now", Args: exactly("NAME"),
		Example: "  sentier review start \"Bridges, autumn\" --group bridge-crew --due \"in 3 weeks\" --unanswered told\n" +
			"  sentier review start \"Border arm\" --site border-arm --due 2026-12-18 --unanswered suspended --reason \"the yearly round\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			in.Name = args[0]
			var out wire.Review
			if err := c.Do(cmd.Context(), "POST", "/api/v1/reviews", nil, in, &out); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "Begun: %s things that people hold, to be answered by %s. “sentier review show %s” shows them.\n", fmt.Sprint(out.Counts.Total), used(&out.Due), out.ID)
			return a.printReview(out, false)
		},
	}
	f := cmd.Flags()
	f.StringSliceVar(&in.Groups, "group", nil, "user groups of which all that their members hold is looked at")
	f.StringSliceVar(&in.Sites, "site", nil, "sites: groups and people who are given anything there, or below")
	f.BoolVar(&in.Everything, "everything", false, "all groups, and all grants that name anybody")
	f.StringVar(&in.Due, "due", "", "by when it is answered")
	f.StringVar(&in.Unanswered, "unanswered", "told", "what becomes of what nobody has answered by then: it is told, whoever holds it suspended, or it taken away")
	f.StringVar(&in.Reason, "reason", "", "why, for those who answer and for the record")
	return cmd
}

func (a *app) reviewShow() *cobra.Command {
	var open, mine bool
	cmd := &cobra.Command{
		Use: "show REVIEW", Short: "Who holds what, what it gives, who answers, and what was answered", Args: exactly("REVIEW"),
		Example: "  sentier review show bridges-autumn\n  sentier review show bridges-autumn --mine\n  sentier review show bridges-autumn --format csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			out, err := a.reviewOf(cmd, args[0])
			if err != nil {
				return err
			}
			var left []wire.ReviewItem
			for _, item := range out.Items {
				if (!open || item.Answer == "waiting") && (!mine || item.May && item.Answer == "waiting") {
					left = append(left, item)
				}
			}
			out.Items = left
			return a.printReview(out, true)
		},
	}
	cmd.Flags().BoolVar(&open, "open", false, "only what waits for an answer")
	cmd.Flags().BoolVar(&mine, "mine", false, "only what waits for yours")
	return cmd
}

func (a *app) reviewOf(cmd *cobra.Command, id string) (out wire.Review, err error) {
	c, err := a.client()
	if err != nil {
		return out, err
	}
	return out, c.Do(cmd.Context(), "GET", reviewPath(id), nil, nil, &out)
}

func (a *app) printReview(out wire.Review, head bool) error {
	if head {
		fmt.Fprintf(a.Err, "%s: %s, %s answered, due %s; unanswered by then: %s\n", out.Name, out.State, progress(out.Counts), used(&out.Due), out.Unanswered)
		for _, p := range out.Parts {
			who := "the owners"
			if p.Mandate != nil {
				who = p.Mandate.Name
			}
			var people []string
			for _, n := range p.People {
				people = append(people, n.Name)
			}
			fmt.Fprintf(a.Err, "  %s (%s): %s\n", who, strings.Join(people, ", "), progress(p.Counts))
		}
		if out.Problem != "" {
			fmt.Fprintf(a.Err, "  %s\n", out.Problem)
		}
	}
	s := sheet{head: []string{"WHO", "HOLDS", "UNTIL", "WHICH GIVES", "ANSWER", "BY", "NOTE"}}
	for _, item := range out.Items {
		holds, by := item.Record.ID, ""
		if item.Type == policy.Grants.String() {
			holds = "grant " + holds
		}
		if item.Type == policy.Mandates.String() {
			holds = "mandate " + holds
		}
		if item.By != nil {
			by = item.By.Name
		}
		s.rows = append(s.rows, []string{item.User.ID, holds, terms(&item), item.Gives, item.Answer, by, item.Note})
	}
	return a.print(out, s)
}

// terms are when what is held ends, each membership by itself.
func terms(item *wire.ReviewItem) string {
	if len(item.Terms) == 0 {
		return used(item.Until)
	}
	var out []string
	for _, t := range item.Terms {
		text := used(t.Until)
		if t.From != nil {
			text = used(t.From) + " – " + text
		}
		out = append(out, text)
	}
	return strings.Join(out, "; ")
}

// reviewAnswer answers all that somebody holds in a review, or one thing of it.
func (a *app) reviewAnswer(use, answer, short string) *cobra.Command {
	var group, grant, note string
	var dry bool
	cmd := &cobra.Command{
		Use: use + " REVIEW USER", Short: short, Args: exactly("REVIEW", "USER"),
		Example: fmt.Sprintf("  sentier review %[1]s bridges-autumn tomas.field\n  sentier review %[1]s bridges-autumn tomas.field --group bridge-crew --dry-run", use),
		RunE: func(cmd *cobra.Command, args []string) error {
			review, err := a.reviewOf(cmd, args[0])
			if err != nil {
				return err
			}
			if group != "" && grant != "" {
				return errors.New("give either --group or --grant, or neither for all that they hold")
			}
			var in wire.ReviewAnswers
			for _, item := range review.Items {
				if item.User.ID != args[1] || group != "" && (item.Type != policy.UserGroups.String() || item.Record.ID != group) || grant != "" && (item.Type != policy.Grants.String() || item.Record.ID != grant) {
					continue
				}
				if item.Answer == "waiting" || item.Answer == "kept" {
					in.Answers = append(in.Answers, wire.ReviewAnswer{User: item.User.ID, Type: item.Type, Record: item.Record.ID, Answer: answer, Note: note})
				}
			}
			if len(in.Answers) == 0 {
				return fmt.Errorf("%s holds nothing there that can be answered: “sentier review show %s” shows what can", args[1], args[0])
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			query := url.Values{}
			if dry {
				query.Set("dry_run", "true")
			}
			var out wire.Reviewed
			if err := c.Do(cmd.Context(), "POST", reviewPath(args[0], "/answers"), query, in, &out); err != nil {
				return err
			}
			if out.Saved != nil && dry {
				a.printImpact(out.Saved.Impact)
			}
			verb := map[bool]string{true: "Would be", false: "Answered:"}[dry]
			fmt.Fprintf(a.Err, "%s kept %d, taken away %d.\n", verb, out.Kept, out.Taken)
			return nil
		},
	}
	f := cmd.Flags()
	f.StringVar(&group, "group", "", "only the membership of this user group")
	f.StringVar(&grant, "grant", "", "only this grant, which names them")
	f.StringVar(&note, "note", "", "why, for the report")
	if answer == "taken" {
		f.BoolVar(&dry, "dry-run", false, "change nothing, and say what would be lost")
	}
	return cmd
}

func (a *app) reviewStop() *cobra.Command {
	return &cobra.Command{
		Use: "stop REVIEW", Short: "Give a review up; what was answered stays", Args: exactly("REVIEW"), Example: "  sentier review stop bridges-autumn",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.act(cmd, "DELETE", reviewPath(args[0]), nil, nil, func() string { return "Stopped.\n" })
		},
	}
}
