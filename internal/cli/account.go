package cli

import (
	"errors"
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"sentier/internal/wire"
)

func (a *app) userInvite() *cobra.Command {
	return &cobra.Command{
		Use: "invite USER", Short: "Make a link, good once and for a week, by which a user sets a password", Args: exactly("USER"),
		Long:    "Make a link by which a user sets a password of their own: the first, or a new one where it was\nforgotten. Hand it over; it is shown once, good once and for a week, and takes the place of one made before.",
		Example: "  sentier user invite noor.haddad",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var link wire.Invitation
			if err := c.Do(cmd.Context(), "POST", "/api/v1/users/"+url.PathEscape(args[0])+"/invitation", nil, nil, &link); err != nil {
				return err
			}
			if link.Link == "" {
				fmt.Fprintf(a.Err, "The link was sent to %s.\n", link.Sent)
				return a.print(link, sheet{head: []string{"USER", "EXPIRES", "SENT"}, rows: [][]string{{args[0], day(&link.Expires), link.Sent}}})
			}
			if link.Failed != "" {
				fmt.Fprintf(a.Err, "It could not be sent: %s. Hand it over.\n", link.Failed)
			}
			fmt.Fprintln(a.Err, "This is the only time that the link is shown.")
			return a.print(link, sheet{head: []string{"USER", "EXPIRES", "LINK"}, rows: [][]string{{args[0], day(&link.Expires), link.Link}}})
		},
	}
}

func (a *app) setUp() *cobra.Command {
	var user, name string
	cmd := &cobra.Command{
		Use: "set-up --name NAME", Short: "Become the first owner of a service, by the code that its start has printed", Args: cobra.NoArgs,
		Long:    "Become the first owner of a service that has none, and sign in as with “sentier sign-in”. The code that the\nservice has printed and a password, of 12 characters and more, are asked for, or read from standard input, a line\neach, where that is no terminal.",
		Example: "  sentier set-up --server http://127.0.0.1:7480 --name \"Ines Carvalho\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			c.Token = ""
			secrets, err := a.askPasswords("Set-up code: ", "New password: ")
			if err != nil {
				return err
			}
			var session wire.Session
			if err := c.Do(cmd.Context(), "POST", "/api/v1/set-up", nil, wire.SetUp{Code: secrets[0], User: user, Name: name, Password: secrets[1], Terminal: true}, &session); err != nil {
				return err
			}
			return a.signedIn(c.Base, session)
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "your name (required)")
	cmd.Flags().StringVar(&user, "user", "", "your id (default: made of the name)")
	must(cmd.MarkFlagRequired("name"))
	return cmd
}

func (a *app) welcome() *cobra.Command {
	return &cobra.Command{
		Use: "welcome LINK", Short: "Set your password by a link that somebody made for you, and sign in", Args: exactly("LINK"),
		Long:    "Set your password, of 12 characters and more, by a link that an owner has made for you, and sign in as with\n“sentier sign-in”. The password is asked for, or read from standard input where that is no terminal.",
		Example: "  sentier welcome 'http://127.0.0.1:7480/welcome#sentier_…'",
		RunE: func(cmd *cobra.Command, args []string) error {
			base, secret, ok := strings.Cut(args[0], "/welcome#")
			if !ok {
				return fmt.Errorf("%q is no link of an invitation: it holds “/welcome#”", args[0])
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			c.Base, c.Token = base, ""
			password, err := a.askPassword("New password: ", true)
			if err != nil {
				return err
			}
			var session wire.Session
			if err := c.Do(cmd.Context(), "POST", "/api/v1/welcome", nil, wire.Welcome{Link: secret, Password: password, Terminal: true}, &session); err != nil {
				return err
			}
			return a.signedIn(base, session)
		},
	}
}

func (a *app) password() *cobra.Command {
	return &cobra.Command{
		Use: "password", Short: "Change your own password; your other sessions end with it", Args: cobra.NoArgs,
		Long:    "Change the password of whoever “sentier sign-in” has signed in. Both passwords are asked for, or read from\nstandard input, a line each, where that is no terminal. All other sessions end.",
		Example: "  sentier password",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			kept, err := a.readSignIn()
			if err != nil {
				return err
			}
			if c.Token == "" || c.Token != kept.Token {
				return errors.New("sign in first with “sentier sign-in”: a token has no password")
			}
			passwords, err := a.askPasswords("Password now: ", "New password: ")
			if err != nil {
				return err
			}
			var session wire.Session
			if err := c.Do(cmd.Context(), "PUT", "/api/v1/session/password", nil, wire.NewPassword{Current: passwords[0], Password: passwords[1]}, &session); err != nil {
				return err
			}
			return a.signedIn(c.Base, session)
		},
	}
}

func (a *app) session() *cobra.Command {
	cmd := &cobra.Command{
		Use: "session", Short: "Your own sessions: where you are signed in",
		Example: "  sentier session list\n  sentier session end --others",
	}
	list := &cobra.Command{
		Use: "list", Short: "List them, newest first", Args: cobra.NoArgs, Example: "  sentier session list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var own []wire.OwnSession
			if err := c.Do(cmd.Context(), "GET", "/api/v1/sessions", nil, nil, &own); err != nil {
				return err
			}
			s := sheet{head: []string{"ID", "KIND", "FROM", "BEGAN", "EXPIRES", ""}}
			for _, x := range own {
				this := ""
				if x.This {
					this = "this one"
				}
				s.rows = append(s.rows, []string{x.ID, x.Kind, x.From, day(&x.Began), day(&x.Expires), this})
			}
			return a.print(own, s)
		},
	}
	var others bool
	end := &cobra.Command{
		Use: "end [ID]", Short: "End one of them, or all others", Args: cobra.MaximumNArgs(1), Example: "  sentier session end --others",
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 1) == others {
				return errors.New("say which: its id, or --others for all but this one")
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			path := "/api/v1/sessions"
			if len(args) == 1 {
				path += "/" + url.PathEscape(args[0])
			}
			if err := c.Do(cmd.Context(), "DELETE", path, nil, nil, nil); err != nil {
				return err
			}
			fmt.Fprintln(a.Err, "Ended.")
			return nil
		},
	}
	end.Flags().BoolVar(&others, "others", false, "all but this one")
	cmd.AddCommand(list, end)
	return cmd
}
