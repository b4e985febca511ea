package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"sentier/internal/client"
	"sentier/internal/daemon"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

func (a *app) verify() *cobra.Command {
	var dir string
	cmd := &cobra.Command{
		Use: "verify [FILE]", Short: "Are the files what was written? Names the first thing that is wrong", Args: cobra.MaximumNArgs(1),
		Long: `Read back everything that decides: the pages of the database, the chain of all
revisions, records and entries against what the revisions made of them, credentials,
and the mark of the last acknowledged revision. Of the running service; with --data of
a folder on which none runs; or of a backup. The exit code is 0 where all is whole, 1
where something is wrong.`,
		Example: "  sentier verify\n  sentier verify --data /var/lib/sentier\n  sentier verify sentier-backup.db",
		RunE: func(cmd *cobra.Command, args []string) error {
			var found wire.Verified
			err := a.verifyWhere(args, dir, func(path string) (err error) {
				found, err = daemon.Verify(cmd.Context(), path)
				return err
			}, func(c *client.Client) error {
				return c.Do(cmd.Context(), "GET", "/api/v1/verify", nil, nil, &found)
			})
			if err != nil {
				return err
			}
			return a.printVerified(found)
		},
	}
	cmd.Flags().StringVar(&dir, "data", "", "folder of a database on which no service runs (default: ask the service)")
	return cmd
}

// verifyWhere verifies what an argument names, or the folder of --data, or else asks the service.
func (a *app) verifyWhere(args []string, dir string, there func(path string) error, ask func(*client.Client) error) error {
	switch {
	case len(args) == 1 && dir != "":
		return errors.New("name a file or a folder, not both")
	case len(args) == 1:
		return there(args[0])
	case dir != "":
		return there(dir)
	}
	c, err := a.client()
	if err != nil {
		return err
	}
	return ask(c)
}

// printVerified says what was found; its exit code is 1 where something is wrong.
func (a *app) printVerified(v wire.Verified) error {
	s := sheet{head: []string{"WHOLE", "REVISIONS", "RECORDS", "ENTRIES", "RECORDED", "MARKED"}, rows: [][]string{{fmt.Sprint(v.Whole), fmt.Sprint(v.Revisions), fmt.Sprint(v.Records), fmt.Sprint(v.Entries), fmt.Sprint(v.Recorded), fmt.Sprint(v.Marked)}}}
	if err := a.print(v, s); err != nil {
		return err
	}
	if !v.Whole {
		fmt.Fprintf(a.Err, "Wrong: %s\n", v.Wrong)
		return answered{exitNo}
	}
	return nil
}

func (a *app) backup() *cobra.Command {
	return &cobra.Command{
		Use: "backup FILE", Short: "Copy the database of the running service into a file, and verify it", Args: exactly("FILE"),
		Long:    "Write a copy of the whole database, as it is at one moment, into a new file: it is verified before it is sent,\nand again here. It holds the hashes of passwords and tokens: keep it as you keep the folder itself.",
		Example: "  sentier backup sentier-backup.db",
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			c, err := a.client()
			if err != nil {
				return err
			}
			file, err := os.OpenFile(args[0], os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			if errors.Is(err, fs.ErrExist) {
				return fmt.Errorf("%s is there already: name another file", args[0])
			}
			if err != nil {
				return err
			}
			if err = c.Do(cmd.Context(), "GET", "/api/v1/backup", nil, nil, file); err == nil {
				err = file.Sync()
			}
			if err = errors.Join(err, file.Close()); err != nil {
				return errors.Join(err, os.Remove(args[0]))
			}
			found, err := daemon.Verify(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return a.printVerified(found)
		},
	}
}

func (a *app) restore() *cobra.Command {
	var dir string
	cmd := &cobra.Command{
		Use: "restore FILE --data DIR", Short: "Put a backup into an empty folder", Args: exactly("FILE"),
		Long:    "Verify a backup, or the file of a database, and put it into a folder that has none. Of a damaged folder\nit takes what is whole, and says up to which revision that goes.",
		Example: "  sentier restore sentier-backup.db --data /var/lib/sentier-restored",
		RunE: func(cmd *cobra.Command, args []string) error {
			found, err := daemon.Restore(cmd.Context(), args[0], dir)
			if err != nil {
				return err
			}
			if found.Whole {
				fmt.Fprintf(a.Err, "Restored up to revision %d. Start the service with “sentier serve --data %s”.\n", found.Revisions, dir)
			}
			return a.printVerified(found)
		},
	}
	required(cmd, &dir, "data", "folder to restore into")
	return cmd
}

// recover makes what lies in a folder the truth, for whoever holds the files.
func (a *app) recover() *cobra.Command {
	var dir, reason string
	cmd := &cobra.Command{
		Use: "recover --data DIR", Short: "Show why a service does not start on its files, and accept them as they are", Args: cobra.NoArgs,
		Long: `Show what does not fit: a mark that is missing, an older copy of one of the files, rows that
nothing accounts for, a clock that is behind. Put good copies in their place where there are
any. With --reason the files count as they are from then on; it stays in the audit log. No
service may run on the folder.`,
		Example: "  sentier recover --data /var/lib/sentier\n  sentier recover --data /var/lib/sentier --reason \"the disk was put back from the night before\"",
		RunE: func(cmd *cobra.Command, _ []string) error {
			wrong, err := daemon.Accept(cmd.Context(), dir, strings.TrimSpace(reason), a.Now())
			if err != nil {
				return err
			}
			switch {
			case wrong == "":
				fmt.Fprintln(a.Err, "Everything fits: a service starts on it. Nothing was changed.")
			case reason == "":
				fmt.Fprintf(a.Err, "A service does not start on it: %s\nTo accept the files as they are, give --reason.\n", wrong)
				return answered{exitNo}
			default:
				fmt.Fprintf(a.Err, "Did not fit: %s\nThe files count as they are from now on. It stands in the audit log.\n", wrong)
			}
			return nil
		},
	}
	required(cmd, &dir, "data", "folder of the database")
	cmd.Flags().StringVar(&reason, "reason", "", "accept the files as they are, and say why")
	return cmd
}

func (a *app) recoverOwner() *cobra.Command {
	var dir, owner, name string
	cmd := &cobra.Command{
		Use: "recover-owner --data DIR --owner USER", Short: "The way in for whoever holds the files: make a user the owner", Args: cobra.NoArgs,
		Long:    "Give a user a new password and a mandate of owner without an end, and make their account active. No service may run\non the folder. It is a revision like any other, and stays in the record.",
		Example: "  sentier recover-owner --data /var/lib/sentier --owner ines.carvalho",
		RunE: func(cmd *cobra.Command, _ []string) error {
			password, err := a.askPassword("New password for "+owner+": ", true)
			if err != nil {
				return err
			}
			number, err := daemon.Recover(cmd.Context(), dir, daemon.Beginning{Owner: policy.UserID(owner), Name: name, Password: password}, a.Now())
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "%s is the owner, as of revision %d, and signs in with the new password alone: second factors are gone.\n", owner, number)
			return nil
		},
	}
	required(cmd, &dir, "data", "folder of the database")
	required(cmd, &owner, "owner", "id of the user")
	cmd.Flags().StringVar(&name, "name", "", "name, of a new user")
	return cmd
}
