package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"time"

	"github.com/spf13/cobra"

	"sentier/internal/document"
	"sentier/internal/wire"
)

// mine is what somebody can do by themselves with what is theirs.
func (a *app) mine() *cobra.Command {
	cmd := &cobra.Command{
		Use: "mine", Short: "What you can do by yourself: give back, join for a time, ask for the rest",
		Long:    "Show and use what is yours without a mandate: end a membership or a grant by name, join a group that is laid\nready for you, ask for a right for a time, and see what became of it. All of it stays in the record.",
		Example: "  sentier mine show\n  sentier mine join duty-officers --for 2h --reason \"the estuary gate is stuck\"",
	}
	cmd.AddCommand(a.mineShow(), a.mineGiveBack(), a.mineJoin(), a.mineAsk(), a.mineWithdraw())
	return cmd
}

func (a *app) mineShow() *cobra.Command {
	return &cobra.Command{
		Use: "show", Short: "What is yours, what you may join, and what you have asked for", Args: cobra.NoArgs, Example: "  sentier mine show",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var m wire.Mine
			if err := c.Do(cmd.Context(), "GET", "/api/v1/mine", nil, nil, &m); err != nil {
				return err
			}
			s := sheet{head: []string{"WHAT", "ID", "NAME", "UNTIL", "STATE"}}
			for _, g := range m.Groups {
				s.rows = append(s.rows, []string{"member of", g.ID, g.Name, used(g.Until), ""})
			}
			for _, g := range m.Grants {
				s.rows = append(s.rows, []string{"by name in", g.ID, g.Name, "", ""})
			}
			for _, g := range m.MayJoin {
				s.rows = append(s.rows, []string{"may join", g.ID, g.Name, fmt.Sprintf("for %v", time.Duration(g.Minutes)*time.Minute), map[bool]string{true: "at once", false: "when agreed to"}[g.Approval == "none"]})
			}
			for i := range m.Requests {
				r := &m.Requests[i]
				s.rows = append(s.rows, []string{"asked for", r.ID, requestText(r), used(r.Until), r.State})
			}
			return a.print(m, s)
		},
	}
}

// requestText is what is asked for, in a few words.
func requestText(r *wire.Request) string {
	if r.Kind == "join" {
		return fmt.Sprintf("%s for %v", r.Group.Name, time.Duration(r.Minutes)*time.Minute)
	}
	return r.Right + " on " + r.Device.Name
}

func (a *app) mineGiveBack() *cobra.Command {
	var in wire.GiveBack
	cmd := &cobra.Command{
		Use: "give-back (--group GROUP | --grant GRANT)", Short: "End a membership, or a grant by name, of your own", Args: cobra.NoArgs,
		Example: "  sentier mine give-back --group bridge-crew --note \"I am with the instruments now\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			var saved wire.Saved
			return a.act(cmd, "POST", "/api/v1/mine/give-back", in, &saved, func() string {
				return fmt.Sprintf("Given back, as of revision %d.\n", saved.Revision)
			})
		},
	}
	cmd.Flags().StringVar(&in.Group, "group", "", "group that you leave")
	cmd.Flags().StringVar(&in.Grant, "grant", "", "grant that you are taken out of")
	cmd.Flags().StringVar(&in.Note, "note", "", "why, for the record")
	return cmd
}

func (a *app) mineJoin() *cobra.Command {
	var in wire.JoinGroup
	var lasts time.Duration
	cmd := &cobra.Command{
		Use: "join GROUP --for TIME --reason TEXT", Short: "Join a group for a time, at once or after somebody has agreed", Args: exactly("GROUP"),
		Example: "  sentier mine join duty-officers --for 2h --reason \"the estuary gate is stuck\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Group, in.Minutes = args[0], int(lasts/time.Minute)
			var r wire.Request
			return a.act(cmd, "POST", "/api/v1/mine/join", in, &r, func() string {
				if r.State == "joined" {
					return fmt.Sprintf("You are in %s for %v.\n", r.Group.Name, lasts)
				}
				return "It is asked for: somebody has to agree.\n"
			})
		},
	}
	cmd.Flags().DurationVar(&lasts, "for", time.Hour, "for how long, such as 90m or 8h")
	cmd.Flags().StringVar(&in.Reason, "reason", "", "what for (required)")
	must(cmd.MarkFlagRequired("reason"))
	return cmd
}

func (a *app) mineAsk() *cobra.Command {
	var in wire.AskFor
	cmd := &cobra.Command{
		Use: "ask RIGHT DEVICE --until TIME --reason TEXT", Short: "Ask for a right on a device for a time", Args: exactly("RIGHT", "DEVICE"),
		Example: "  sentier mine ask control \"Mill bridge\" --until \"tomorrow 18:00\" --reason \"to let the barge through\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Right, in.Device = args[0], args[1]
			until, err := document.ParseInstant(in.Until, a.Now(), time.Local)
			if err != nil {
				return fmt.Errorf("--until: %w", err)
			}
			in.Until = until.UTC().Format(time.RFC3339)
			var r wire.Request
			return a.act(cmd, "POST", "/api/v1/requests", in, &r, func() string { return "It is asked for: somebody has to agree.\n" })
		},
	}
	cmd.Flags().StringVar(&in.Until, "until", "", "until when (required)")
	cmd.Flags().StringVar(&in.Reason, "reason", "", "what for (required)")
	must(cmd.MarkFlagRequired("until"))
	must(cmd.MarkFlagRequired("reason"))
	return cmd
}

func (a *app) mineWithdraw() *cobra.Command {
	return &cobra.Command{
		Use: "withdraw ID", Short: "Take a request of your own back", Args: exactly("ID"), Example: "  sentier mine withdraw 0192f0c4-7d6e-7a53-9d0c-0b6f6a1d2e3f",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.act(cmd, "DELETE", "/api/v1/requests/"+url.PathEscape(args[0]), nil, nil, func() string { return "Taken back.\n" })
		},
	}
}

// act does something, and says what came of it.
func (a *app) act(cmd *cobra.Command, method, path string, in, out any, said func() string) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	if err := c.Do(cmd.Context(), method, path, nil, in, out); err != nil {
		return err
	}
	fmt.Fprint(a.Err, said())
	return nil
}

// request is what others ask for.
func (a *app) request() *cobra.Command {
	cmd := &cobra.Command{
		Use: "request", Short: "What others ask for, for whoever may grant it",
		Example: "  sentier request list\n  sentier request grant 0192f0c4-7d6e-7a53-9d0c-0b6f6a1d2e3f",
	}
	cmd.AddCommand(a.requestList(), a.requestGrant(), a.requestRefuse())
	return cmd
}

func (a *app) requestList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "The requests that you may answer, and what was joined of late", Args: cobra.NoArgs, Example: "  sentier request list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := a.requests(cmd)
			if err != nil {
				return err
			}
			s := sheet{head: []string{"ID", "WHO", "WHAT", "UNTIL", "WHY", "STATE"}}
			for i := range list {
				r := &list[i]
				s.rows = append(s.rows, []string{r.ID, r.User.Name, requestText(r), used(r.Until), r.Reason, r.State})
			}
			return a.print(list, s)
		},
	}
}

func (a *app) requests(cmd *cobra.Command) (list []wire.Request, err error) {
	c, err := a.client()
	if err != nil {
		return nil, err
	}
	return list, c.Do(cmd.Context(), "GET", "/api/v1/requests", nil, nil, &list)
}

func (a *app) requestRefuse() *cobra.Command {
	var note string
	cmd := &cobra.Command{
		Use: "refuse ID", Short: "Say no to a request", Args: exactly("ID"), Example: "  sentier request refuse 0192f0c4-7d6e-7a53-9d0c-0b6f6a1d2e3f --note \"ask the duty officer\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.act(cmd, "POST", "/api/v1/requests/"+url.PathEscape(args[0])+"/answer", wire.AnswerRequest{Note: note}, nil, func() string { return "Refused.\n" })
		},
	}
	cmd.Flags().StringVar(&note, "note", "", "a word to whoever asked")
	return cmd
}

func (a *app) requestGrant() *cobra.Command {
	var note string
	var which int
	cmd := &cobra.Command{
		Use: "grant ID", Short: "Agree to a request, by which it is granted", Args: exactly("ID"),
		Long:    "Agree to a request. A right is granted by one of the changes that are advised: without --by they are\nlisted, the one that changes least beside it first.",
		Example: "  sentier request grant 0192f0c4-7d6e-7a53-9d0c-0b6f6a1d2e3f\n  sentier request grant 0192f0c4-7d6e-7a53-9d0c-0b6f6a1d2e3f --by 1",
		RunE: func(cmd *cobra.Command, args []string) error {
			list, err := a.requests(cmd)
			if err != nil {
				return err
			}
			for i := range list {
				if list[i].ID == args[0] {
					return a.grantRequest(cmd, &list[i], which, note)
				}
			}
			return fmt.Errorf("there is no open request %q: “sentier request list” lists those that you may answer", args[0])
		},
	}
	cmd.Flags().IntVar(&which, "by", 0, "number of the change that grants a right, as they are listed")
	cmd.Flags().StringVar(&note, "note", "", "a word to whoever asked")
	return cmd
}

func (a *app) grantRequest(cmd *cobra.Command, r *wire.Request, which int, note string) error {
	in := wire.AnswerRequest{Agree: true, Note: note}
	if r.Kind == "access" {
		if r.Device.ID == "" {
			return fmt.Errorf("no device is called %q: ask which one is meant, or refuse it", r.Device.Name)
		}
		q := wire.AdviceQuestion{User: r.User.ID, Right: r.Right, Device: r.Device.ID}
		if r.Until != nil {
			q.Until = r.Until.UTC().Format(time.RFC3339)
		}
		c, err := a.client()
		if err != nil {
			return err
		}
		var advice struct {
			Items []struct {
				Text  string
				Edits json.RawMessage
			}
		}
		if err := c.Do(cmd.Context(), "POST", "/api/v1/advice", nil, q, &advice); err != nil {
			return err
		}
		if which < 1 || which > len(advice.Items) {
			s := sheet{head: []string{"BY", "CHANGE"}}
			for i, item := range advice.Items {
				s.rows = append(s.rows, []string{fmt.Sprint(i + 1), item.Text})
			}
			if len(s.rows) == 0 {
				return errors.New("no one change would grant it: make it by hand, or refuse it")
			}
			return a.print(advice.Items, s)
		}
		if err := json.Unmarshal(advice.Items[which-1].Edits, &in.Edits); err != nil {
			return err
		}
	}
	return a.act(cmd, "POST", "/api/v1/requests/"+url.PathEscape(r.ID)+"/answer", in, nil, func() string { return "Granted.\n" })
}
