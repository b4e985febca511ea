package cli

import (
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"sentier/internal/wire"
)

func (a *app) token() *cobra.Command {
	cmd := &cobra.Command{
		Use: "token", Short: "Bearer tokens for programs",
		Long:    "Make, list and revoke the tokens by which programs are known. A token stands for a user of the policy\nand can do what that user can do. Its secret is shown once.",
		Example: "  sentier token create --user gateway-bridges --name \"panel at the twin bridges\"",
	}
	cmd.AddCommand(a.tokenCreate(), a.tokenList(), a.tokenRotate(), a.tokenRevoke())
	return cmd
}

func (a *app) tokenCreate() *cobra.Command {
	var in wire.NewToken
	cmd := &cobra.Command{
		Use: "create --user USER --name NAME", Short: "Make a token; its secret is shown once", Args: cobra.NoArgs,
		Example: "  sentier token create --user gateway-bridges --name \"panel at the twin bridges\" --days 365\n  sentier token create --user gateway-bridges --name \"gate panel\" --network 10.20.0.0/16 --until 2027-03-31",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t wire.Token
			if err := c.Do(cmd.Context(), "POST", "/api/v1/tokens", nil, in, &t); err != nil {
				return err
			}
			return a.printSecret(t)
		},
	}
	cmd.Flags().StringVar(&in.User, "user", "", "user that the token stands for (required)")
	cmd.Flags().StringVar(&in.Name, "name", "", "what the token is for (required)")
	cmd.Flags().IntVar(&in.Days, "days", 0, "days until it expires (default 90)")
	cmd.Flags().StringVar(&in.Until, "until", "", "when it expires, instead of --days")
	cmd.Flags().StringVar(&in.Mandate, "mandate", "", "mandate of the user that is the only one to count with it (default: all of them)")
	cmd.Flags().StringSliceVar(&in.Networks, "network", nil, "networks that it is good from (default: any)")
	must(cmd.MarkFlagRequired("user"))
	must(cmd.MarkFlagRequired("name"))
	return cmd
}

// printSecret shows a token that was just made.
func (a *app) printSecret(t wire.Token) error {
	fmt.Fprintln(a.Err, "This is the only time that the secret is shown.")
	return a.print(t, sheet{head: []string{"ID", "USER", "NAME", "EXPIRES", "SECRET"}, rows: [][]string{{t.ID, t.User, t.Name, day(t.Expires), t.Secret}}})
}

func (a *app) tokenRotate() *cobra.Command {
	var in wire.Rotation
	cmd := &cobra.Command{
		Use: "rotate ID", Short: "Make a token in the place of another; both hold for a while", Args: exactly("ID"),
		Long:    "Make a token for the same user and purpose, and for as long, in the place of another. The one before\nholds beside it for a while, so that whoever uses it can change over without a gap.",
		Example: "  sentier token rotate 0192f0c4-7d6e-7a53-9d0c-0b6f6a1d2e3f --hours 48",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var t wire.Token
			if err := c.Do(cmd.Context(), "POST", "/api/v1/tokens/"+url.PathEscape(args[0])+"/rotation", nil, in, &t); err != nil {
				return err
			}
			return a.printSecret(t)
		},
	}
	cmd.Flags().IntVar(&in.Hours, "hours", 24, "for how long the one before holds beside it")
	return cmd
}

func day(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return t.UTC().Format("2006-01-02 15:04 MST")
}

func (a *app) tokenList() *cobra.Command {
	var user string
	cmd := &cobra.Command{
		Use: "list", Short: "List tokens and sessions, without their secrets", Args: cobra.NoArgs,
		Example: "  sentier token list --user gateway-bridges",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			query := url.Values{}
			if user != "" {
				query.Set("user", user)
			}
			var list []wire.Token
			if err := c.Do(cmd.Context(), "GET", "/api/v1/tokens", query, nil, &list); err != nil {
				return err
			}
			s := sheet{head: []string{"ID", "USER", "NAME", "KIND", "EXPIRES", "USED", "FOR", "STATE"}}
			for _, t := range list {
				state := "holds"
				switch {
				case t.Revoked != nil:
					state = "revoked"
				case t.Expired:
					state = "expired"
				}
				s.rows = append(s.rows, []string{t.ID, t.User, t.Name, t.Kind, day(t.Expires), used(t.Used), tokenScope(&t), state})
			}
			return a.print(list, s)
		},
	}
	cmd.Flags().StringVar(&user, "user", "", "only the tokens of this user")
	return cmd
}

func (a *app) tokenRevoke() *cobra.Command {
	return &cobra.Command{
		Use: "revoke ID", Short: "End a token for good", Args: exactly("ID"),
		Example: "  sentier token revoke 0192f0c4-7d6e-7a53-9d0c-0b6f6a1d2e3f",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := c.Do(cmd.Context(), "DELETE", "/api/v1/tokens/"+url.PathEscape(args[0]), nil, nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "Token %s is revoked.\n", args[0])
			return nil
		},
	}
}

// used is when something was used last.
func used(t *time.Time) string {
	if t == nil {
		return ""
	}
	return day(t)
}

// tokenScope is what a token is good for, where that is not all that its user may do from anywhere.
func tokenScope(t *wire.Token) string {
	parts := t.Networks
	if t.Mandate != "" {
		parts = append([]string{t.Mandate}, parts...)
	}
	return strings.Join(parts, ", ")
}
