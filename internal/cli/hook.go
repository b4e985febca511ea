package cli

import (
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"sentier/internal/wire"
)

func (a *app) hook() *cobra.Command {
	cmd := &cobra.Command{
		Use: "hook", Short: "Hooks: others who are told what happens",
		Long:    "Each entry of the record of the kinds that are chosen is sent by POST, as an event of CloudEvents 1.0, signed as Standard Webhooks\nhas it; in order, each at least once, and again with growing pauses until it is taken.",
		Example: "  sentier hook add \"Ticket desk\" --url https://desk.larkmere.example/in --secret desk\n  sentier hook list",
	}
	cmd.AddCommand(a.hookList(), a.hookAdd(), a.hookEdit(), a.hookTest(), a.hookRemove())
	return cmd
}

func hookPath(id string) string { return "/api/v1/hooks/" + url.PathEscape(id) }

func (a *app) hooks(cmd *cobra.Command) ([]wire.Hook, error) {
	c, err := a.client()
	if err != nil {
		return nil, err
	}
	out := []wire.Hook{}
	return out, c.Do(cmd.Context(), "GET", "/api/v1/hooks", nil, nil, &out)
}

func (a *app) hookList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "All hooks, how far each has come, and what was answered last", Args: cobra.NoArgs, Example: "  sentier hook list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := a.hooks(cmd)
			if err != nil {
				return err
			}
			s := sheet{head: []string{"HOOK", "NAME", "TO", "SENT", "BEHIND", "LAST", "ANSWER"}}
			for i := range out {
				h := &out[i]
				answer := h.Problem
				switch {
				case h.Paused:
					answer = "paused"
				case answer == "" && h.Status > 0:
					answer = fmt.Sprint(h.Status)
				}
				s.rows = append(s.rows, []string{h.ID, h.Name, h.URL, fmt.Sprint(h.Sent), fmt.Sprint(h.Behind), used(h.Last), answer})
			}
			return a.print(out, s)
		},
	}
}

func hookFlags(cmd *cobra.Command, in *wire.NewHook) {
	f := cmd.Flags()
	f.StringVar(&in.URL, "url", "", "to which each event is sent")
	f.StringVar(&in.Secret, "secret", "", "the name of the secret by which it is signed: a file in the folder secrets beside the data, or a variable SENTIER_SECRET_… of the service")
	f.StringSliceVar(&in.Kinds, "kind", nil, "kinds of entries of the record that are told; left out: change, request, draft, review and source")
	f.BoolVar(&in.Paused, "paused", false, "nothing is told for the time being")
}

func (a *app) hookAdd() *cobra.Command {
	var in wire.NewHook
	cmd := &cobra.Command{
		Use: "add NAME", Short: "Have it told what happens, from now on", Args: exactly("NAME"), Example: "  sentier hook add \"Ticket desk\" --url https://desk.larkmere.example/in --secret desk --kind request",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			in.Name = args[0]
			var out wire.Hook
			if err := c.Do(cmd.Context(), "POST", "/api/v1/hooks", nil, in, &out); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "Set up. “sentier hook test %s” tells an event of no meaning.\n", out.ID)
			return nil
		},
	}
	hookFlags(cmd, &in)
	return cmd
}

func (a *app) hookEdit() *cobra.Command {
	var in wire.NewHook
	cmd := &cobra.Command{
		Use: "edit HOOK", Short: "Set a hook up otherwise: what is not said stays as it is; what failed is tried again at once", Args: exactly("HOOK"), Example: "  sentier hook edit ticket-desk --paused\n  sentier hook edit ticket-desk --paused=false",
		RunE: func(cmd *cobra.Command, args []string) error {
			list, err := a.hooks(cmd)
			if err != nil {
				return err
			}
			for i := range list {
				was, now := list[i].NewHook, cmd.Flags()
				if list[i].ID != args[0] {
					continue
				}
				if !now.Changed("url") {
					in.URL = was.URL
				}
				if !now.Changed("secret") {
					in.Secret = was.Secret
				}
				if !now.Changed("kind") {
					in.Kinds = was.Kinds
				}
				if !now.Changed("paused") {
					in.Paused = was.Paused
				}
				in.Name, in.Version = was.Name, was.Version
				return a.act(cmd, "PUT", hookPath(args[0]), in, nil, func() string { return "Set up.\n" })
			}
			return fmt.Errorf("there is no hook %q: “sentier hook list” lists them", args[0])
		},
	}
	hookFlags(cmd, &in)
	return cmd
}

func (a *app) hookTest() *cobra.Command {
	return &cobra.Command{
		Use: "test HOOK", Short: "Tell an event of no meaning, once, to see whether it is taken", Args: exactly("HOOK"), Example: "  sentier hook test ticket-desk",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var out wire.Hook
			if err := c.Do(cmd.Context(), "POST", hookPath(args[0])+"/test", nil, nil, &out); err != nil {
				return err
			}
			if out.Problem != "" {
				return fmt.Errorf("it was not taken: %s", out.Problem)
			}
			fmt.Fprintf(a.Err, "It was taken: %d.\n", out.Status)
			return nil
		},
	}
}

func (a *app) hookRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove HOOK", Short: "Take a hook away: nothing more is told", Args: exactly("HOOK"), Example: "  sentier hook remove old-desk",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.act(cmd, "DELETE", hookPath(args[0]), nil, nil, func() string { return "Taken away.\n" })
		},
	}
}
