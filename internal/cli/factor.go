package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"sentier/internal/client"
	"sentier/internal/wire"
)

// onTerminal tells whether somebody sits at the input.
func (a *app) onTerminal() bool {
	in, ok := a.In.(*os.File)
	return ok && term.IsTerminal(int(in.Fd()))
}

// needsCode tells whether a sign-in was refused for want of a code.
func needsCode(err error) bool {
	var refused *client.Error
	return errors.As(err, &refused) && refused.Needs == "second_factor"
}

func (a *app) secondFactor() *cobra.Command {
	cmd := &cobra.Command{
		Use: "second-factor", Short: "Your own second factors: codes beside the password",
		Example: "  sentier second-factor list",
	}
	cmd.AddCommand(a.factorAdd(), a.factorList(), a.factorRemove())
	return cmd
}

func (a *app) factorAdd() *cobra.Command {
	var name string
	cmd := &cobra.Command{
		Use: "add --name NAME", Short: "Set one up: a program for codes on your telephone", Args: cobra.NoArgs,
		Long:    "Set up a second factor for whoever “sentier sign-in” has signed in: any program that makes six digits every\nhalf minute (RFC 6238). The secret is shown; your password and then a code are asked for, or read from standard\ninput, a line each, where that is no terminal. With the first come recovery codes, which are shown once.",
		Example: "  sentier second-factor add --name \"My telephone\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			lines := a.lines("Password now: ", "Code: ")
			password, err := lines()
			if err != nil {
				return err
			}
			var begun wire.Enrolling
			if err := c.Do(cmd.Context(), "POST", "/api/v1/session/factors", nil, wire.NewFactor{Password: password}, &begun); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "Tell your program:\n  secret   %s\n  address  %s\n", begun.Secret, begun.URI)
			code, err := lines()
			if err != nil {
				return err
			}
			var made wire.FactorMade
			if err := c.Do(cmd.Context(), "POST", "/api/v1/session/factors/confirm", nil, wire.FactorProof{Code: code, Name: name}, &made); err != nil {
				return err
			}
			if len(made.Codes) == 0 {
				fmt.Fprintln(a.Err, "It is set up.")
				return nil
			}
			fmt.Fprintln(a.Err, "It is set up. Keep these recovery codes, each good once: this is the only time that they are shown.")
			s := sheet{head: []string{"RECOVERY CODE"}}
			for _, x := range made.Codes {
				s.rows = append(s.rows, []string{x})
			}
			return a.print(made.Codes, s)
		},
	}
	cmd.Flags().StringVar(&name, "name", "", "what you know the device by (required)")
	must(cmd.MarkFlagRequired("name"))
	return cmd
}

func (a *app) factorList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List them", Args: cobra.NoArgs, Example: "  sentier second-factor list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var own []wire.SecondFactor
			if err := c.Do(cmd.Context(), "GET", "/api/v1/session/factors", nil, nil, &own); err != nil {
				return err
			}
			s := sheet{head: []string{"ID", "NAME", "CREATED"}}
			for _, f := range own {
				s.rows = append(s.rows, []string{f.ID, f.Name, day(&f.Created)})
			}
			return a.print(own, s)
		},
	}
}

func (a *app) factorRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove ID", Short: "Take one away; your password is asked for", Args: exactly("ID"), Example: "  sentier second-factor remove 01939d4c-…",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			password, err := a.askPassword("Password now: ", false)
			if err != nil {
				return err
			}
			if err := c.Do(cmd.Context(), "POST", "/api/v1/session/factors/"+url.PathEscape(args[0])+"/removal", nil, wire.OwnProof{Password: password}, nil); err != nil {
				return err
			}
			fmt.Fprintln(a.Err, "It is taken away.")
			return nil
		},
	}
}

func (a *app) userSignIns() *cobra.Command {
	return &cobra.Command{
		Use: "sign-ins USER", Short: "How somebody comes in: password, second factors, sessions and tokens", Args: exactly("USER"),
		Example: "  sentier user sign-ins irene.castro",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var in wire.SignIns
			if err := c.Do(cmd.Context(), "GET", "/api/v1/users/"+url.PathEscape(args[0])+"/sign-ins", nil, nil, &in); err != nil {
				return err
			}
			s := sheet{head: []string{"WHAT", "NAME", "SINCE", "UNTIL", "ID"}}
			if in.Password != nil {
				s.rows = append(s.rows, []string{"password", "", day(in.Password), "", ""})
			}
			for _, f := range in.Factors {
				s.rows = append(s.rows, []string{"second factor", f.Name, day(&f.Created), "", f.ID})
			}
			for _, x := range in.Sessions {
				s.rows = append(s.rows, []string{x.Kind, x.From, day(&x.Began), day(&x.Expires), x.ID})
			}
			for _, t := range in.Tokens {
				s.rows = append(s.rows, []string{"token", t.Name, day(&t.Created), day(t.Expires), t.ID})
			}
			return a.print(in, s)
		},
	}
}

func (a *app) userSignOut() *cobra.Command {
	return a.endsOf("sign-out", "sessions", "End all sessions of somebody; their tokens go on", "All sessions of %s have ended.\n")
}

func (a *app) userResetFactor() *cobra.Command {
	return a.endsOf("reset-second-factor", "factors", "Take all second factors of somebody away, who has lost them; their sessions end",
		"The second factors of %s are taken away, and all their sessions have ended.\n")
}

// userGivePassword gives somebody a password for the first time that they come in.
func (a *app) userGivePassword() *cobra.Command {
	return &cobra.Command{
		Use: "give-password USER", Short: "Give somebody a password, which they change before anything else", Args: exactly("USER"),
		Long:    "Give somebody a password for the first time that they come in, where a link cannot reach them. All their\nsessions end, and they set one of their own before anything else.",
		Example: "  sentier user give-password irene.castro",
		RunE: func(cmd *cobra.Command, args []string) error {
			password, err := a.askPassword("Password for "+args[0]+": ", true)
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := c.Do(cmd.Context(), "PUT", "/api/v1/users/"+url.PathEscape(args[0])+"/password", nil, wire.GivenPassword{Password: password}, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "%s can sign in with it, and sets one of their own first.\n", args[0])
			return nil
		},
	}
}

// endsOf is a command that takes away what somebody comes in by.
func (a *app) endsOf(verb, what, short, said string) *cobra.Command {
	return &cobra.Command{
		Use: verb + " USER", Short: short, Args: exactly("USER"), Example: "  sentier user " + verb + " irene.castro",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := c.Do(cmd.Context(), "DELETE", "/api/v1/users/"+url.PathEscape(args[0])+"/"+what, nil, nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, said, args[0])
			return nil
		},
	}
}

// lines gives one answer after the other: each is asked for on a terminal, or is the next line of the input.
func (a *app) lines(prompts ...string) func() (string, error) {
	in, n := bufio.NewReader(a.In), 0
	return func() (string, error) {
		n++
		if a.onTerminal() {
			return a.askPassword(prompts[n-1], false)
		}
		line, err := in.ReadString('\n')
		if errors.Is(err, io.EOF) {
			err = nil
		}
		return strings.TrimRight(line, "\r\n"), err
	}
}
