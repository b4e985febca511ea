package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

func (a *app) manual() *cobra.Command {
	return &cobra.Command{
		Use: "man DIR", Short: "Write the manual pages of all commands into a folder", Args: exactly("DIR"),
		Long:    "Write a manual page of each command, from the same texts as --help, into a folder. It is made where it is not there.",
		Example: "  sentier man ~/.local/share/man/man1\n  man sentier-check",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			at := a.Now()
			head := &doc.GenManHeader{Section: "1", Source: "Sentier " + a.Version, Manual: "Sentier", Date: &at}
			if err := doc.GenManTree(cmd.Root(), head, args[0]); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "The manual pages are in %s.\n", args[0])
			return nil
		},
	}
}
