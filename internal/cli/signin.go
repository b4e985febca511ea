package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"sentier/internal/wire"
)

// kept is the sign-in that the command line remembers.
type kept struct {
	Server  string    `json:"server"`
	User    string    `json:"user"`
	Token   string    `json:"token"`
	Expires time.Time `json:"expires"`
}

func (p Program) signInFile() (string, error) {
	dir, err := p.Home, error(nil)
	if dir == "" {
		dir, err = os.UserConfigDir()
	}
	if err != nil {
		return "", fmt.Errorf("find the folder for the sign-in: %w", err)
	}
	return filepath.Join(dir, "sentier", "sign-in.json"), nil
}

func (p Program) readSignIn() (kept, error) {
	var k kept
	path, err := p.signInFile()
	if err != nil {
		return k, nil // no home, no sign-in
	}
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return k, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &k)
	}
	if err != nil {
		return k, fmt.Errorf("the kept sign-in %s cannot be read: sign in again, or remove it (%w)", path, err)
	}
	return k, nil
}

func (p Program) writeSignIn(k kept) error {
	path, err := p.signInFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	data, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(path, data, 0o600)
}

func (a *app) signIn() *cobra.Command {
	var user string
	cmd := &cobra.Command{
		Use: "sign-in --user USER", Short: "Sign in to the service and keep the session", Args: cobra.NoArgs,
		Long:    "Sign in to the service for seven days. The password is asked for, or read from standard input\nwhere that is no terminal; so is a code, where you have a second factor. The session is kept in your configuration folder, readable by you alone.",
		Example: "  sentier sign-in --user ines.carvalho --server http://127.0.0.1:7480",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			lines := a.lines("Password for "+user+": ", "Code of your second factor: ")
			password, err := lines()
			if err != nil {
				return err
			}
			c.Token = ""
			proof, session := wire.Credentials{User: user, Password: password, Terminal: true}, wire.Session{}
			err = c.Do(cmd.Context(), "POST", "/api/v1/session", nil, proof, &session)
			if needsCode(err) {
				code, failed := lines()
				if failed != nil || code == "" {
					return errors.Join(err, failed)
				}
				proof.Code = code
				err = c.Do(cmd.Context(), "POST", "/api/v1/session", nil, proof, &session)
			}
			if err != nil {
				return err
			}
			return a.signedIn(c.Base, session)
		},
	}
	cmd.Flags().StringVar(&user, "user", "", "id of the user (required)")
	must(cmd.MarkFlagRequired("user"))
	return cmd
}

// signedIn keeps a session.
func (a *app) signedIn(base string, session wire.Session) error {
	if err := a.writeSignIn(kept{base, session.User.ID, session.Token, session.Expires}); err != nil {
		return fmt.Errorf("keep the sign-in: %w", err)
	}
	for _, setup := range session.Setup {
		fmt.Fprintf(a.Err, "Before anything else: %s.\n", map[string]string{
			"second_factor": "a group of yours requires a second factor; set one up with “sentier second-factor add”",
			"password":      "a group of yours lets no password be as old as yours; change it with “sentier password”",
		}[setup])
	}
	fmt.Fprintf(a.Err, "Signed in to %s as %s until %s.\n", base, session.User.Name, session.Expires.Local().Format("Mon 2 Jan 2006 15:04"))
	return nil
}

func (a *app) signOut() *cobra.Command {
	return &cobra.Command{
		Use: "sign-out", Short: "End the kept session", Args: cobra.NoArgs,
		Example: "  sentier sign-out",
		RunE: func(cmd *cobra.Command, _ []string) error {
			k, err := a.readSignIn()
			if err != nil {
				return err
			}
			if k.Token == "" {
				fmt.Fprintln(a.Err, "Nobody is signed in.")
				return nil
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			c.Base, c.Token = k.Server, k.Token
			ended := c.Do(cmd.Context(), "DELETE", "/api/v1/session", nil, nil, nil)
			path, err := a.signInFile()
			if err == nil {
				err = os.Remove(path)
			}
			if err != nil {
				return err
			}
			if ended != nil {
				return fmt.Errorf("the sign-in is forgotten here, but the service did not end it: %w", ended)
			}
			fmt.Fprintf(a.Err, "Signed out of %s.\n", k.Server)
			return nil
		},
	}
}
