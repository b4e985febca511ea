package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"sentier/internal/wire"
)

func (a *app) feed() *cobra.Command {
	cmd := &cobra.Command{
		Use: "feed", Short: "Feeds: calendars that other programs read by a secret address",
		Long: "A feed is a calendar in iCalendar that any program for calendars can subscribe to: when a schedule is open, when somebody may do what, or which temporary\n" +
			"rights end. Whoever has the address can read it, as long as whoever made it may see what is in it.",
		Example: "  sentier feed schedule night-watch --zone Europe/Madrid\n  sentier feed ends\n  sentier feed list",
	}
	cmd.AddCommand(a.feedSchedule(), a.feedReach(), a.feedEnds(), a.feedList(), a.feedRemove())
	return cmd
}

// makeFeed makes a feed and prints its address, which is shown once.
func (a *app) makeFeed(cmd *cobra.Command, in wire.NewFeed) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	var out wire.Feed
	if err := c.Do(cmd.Context(), "POST", "/api/v1/feeds", nil, in, &out); err != nil {
		return err
	}
	fmt.Fprintln(a.Err, "Whoever has this address can read it. It is shown once, and kept as a hash alone:")
	return a.print(out, sheet{head: []string{"ADDRESS"}, rows: [][]string{{strings.TrimSuffix(c.Base, "/") + out.Path}}})
}

func (a *app) feedSchedule() *cobra.Command {
	in := wire.NewFeed{Kind: "schedule"}
	cmd := &cobra.Command{
		Use: "schedule SCHEDULE", Short: "When a schedule is open, for the next 400 days", Args: exactly("SCHEDULE"), Example: "  sentier feed schedule night-watch --zone Europe/Madrid",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Of = args[0]
			return a.makeFeed(cmd, in)
		},
	}
	cmd.Flags().StringVar(&in.Zone, "zone", "", "by whose clock, where the schedule goes by that of the device's site; left out: that of the settings")
	return cmd
}

func (a *app) feedReach() *cobra.Command {
	return &cobra.Command{
		Use: "reach [USER]", Short: "When somebody may do what, where they may not always, for the next 60 days; left out: you", Args: cobra.MaximumNArgs(1), Example: "  sentier feed reach",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.makeFeed(cmd, wire.NewFeed{Kind: "reach", Of: strings.Join(args, "")})
		},
	}
}

func (a *app) feedEnds() *cobra.Command {
	return &cobra.Command{
		Use: "ends", Short: "Temporary rights that end in the next 400 days", Args: cobra.NoArgs, Example: "  sentier feed ends",
		RunE: func(cmd *cobra.Command, _ []string) error { return a.makeFeed(cmd, wire.NewFeed{Kind: "ends"}) },
	}
}

func (a *app) feedList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "Your feeds; those of everybody for an owner", Args: cobra.NoArgs, Example: "  sentier feed list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			out := []wire.Feed{}
			if err := c.Do(cmd.Context(), "GET", "/api/v1/feeds", nil, nil, &out); err != nil {
				return err
			}
			s := sheet{head: []string{"FEED", "KIND", "OF", "READ AS", "MADE"}}
			for i := range out {
				f := &out[i]
				s.rows = append(s.rows, []string{f.ID, f.Kind, f.Name, f.User.Name, used(&f.Created)})
			}
			return a.print(out, s)
		},
	}
}

func (a *app) feedRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove FEED", Short: "Take a feed away: its address is good for nothing from then on", Args: exactly("FEED"), Example: "  sentier feed remove 0192f0c4-7a00-7000-8000-000000000000",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.act(cmd, "DELETE", "/api/v1/feeds/"+url.PathEscape(args[0]), nil, nil, func() string { return "Taken away: its address is good for nothing from now on.\n" })
		},
	}
}
