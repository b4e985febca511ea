package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"sentier/internal/client"
	"sentier/internal/document"
	"sentier/internal/wire"
)

// sheetLines are the sheets, a line each with its columns.
func sheetLines() string {
	var out strings.Builder
	for _, name := range sheetNames() {
		fmt.Fprintf(&out, "\n  %-13s %s", name, strings.Join(document.Sheets()[document.Sheet(name)], ", "))
	}
	return out.String()
}

func sheetNames() (names []string) {
	for name := range document.Sheets() {
		names = append(names, string(name))
	}
	slices.Sort(names)
	return names
}

func (a *app) importSheet() *cobra.Command {
	var yes bool
	var e editing
	cmd := &cobra.Command{
		Use: "import SHEET FILE", Short: "Bring in a CSV file: users, devices, members and more", Args: exactly("SHEET", "FILE"),
		Long: `Say what a CSV file would add and change, and do it once you have said yes: all of it,
or nothing where one row is faulty. The first line names the columns; those of records
that are left out stay as they are. Entries of one cell are parted by “|”,
which is written “\|” within an entry. The sheets and their columns:
` + sheetLines(),
		Example: "  sentier import users people.csv\n  sentier import devices - --yes < devices.csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			data, err := a.readFile(args[1])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			path := "/api/v1/sheets/" + url.PathEscape(args[0])
			var look, done wire.Imported
			if err := c.Do(cmd.Context(), "PUT", path, e.look(), client.Body{Type: "text/csv", Data: data}, &look); err != nil {
				return a.sheetFaults(args[1], err)
			}
			if err := a.printImport(look); err != nil {
				return err
			}
			a.printImpact(look.Impact)
			a.printUnmet(look.Unmet)
			if look.Added+look.Changed == 0 {
				fmt.Fprintln(a.Err, "Nothing to bring in: it is so already.")
				return nil
			}
			if !yes {
				if err := a.confirm(fmt.Sprintf("Add %d and change %d?", look.Added, look.Changed)); err != nil {
					return err
				}
			}
			key := "import-" + rand.Text()
			bar := a.progressBar(cmd.Context(), c, key)
			err = c.Keyed(key).Do(cmd.Context(), "PUT", path, e.query(), client.Body{Type: "text/csv", Data: data}, &done)
			bar()
			if err != nil {
				return a.outcomeOf(cmd.Context(), c, key, a.sheetFaults(args[1], err))
			}
			if done.Draft != "" {
				a.printWhere(done.Revision, done.Draft)
			} else {
				fmt.Fprintf(a.Err, "Brought in, as revision %d.\n", done.Revision)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	e.why(cmd)
	return cmd
}

func (a *app) printImport(i wire.Imported) error {
	return a.print(i, sheet{
		head: []string{"ROWS", "ADDED", "CHANGED", "SAME"},
		rows: [][]string{{fmt.Sprint(i.Rows), fmt.Sprint(i.Added), fmt.Sprint(i.Changed), fmt.Sprint(i.Same)}},
	})
}

// sheetFaults prints what is wrong with a file, row by row.
func (a *app) sheetFaults(file string, err error) error {
	var refused *client.Error
	if !errors.As(err, &refused) || len(refused.Faults) == 0 {
		return err
	}
	s := sheet{head: []string{"ROW", "COLUMN", "FAULT"}}
	for _, f := range refused.Faults {
		s.rows = append(s.rows, []string{fmt.Sprint(f.Line), f.Path, f.Problem})
	}
	if err := a.print(refused.Faults, s); err != nil {
		return err
	}
	fmt.Fprintf(a.Err, "Nothing was brought in: %s has %d faults.\n", file, len(refused.Faults))
	return answered{exitError}
}

// progressBar draws how far a request is, where there is a terminal to draw on, until the function that it gives is called.
func (a *app) progressBar(ctx context.Context, c *client.Client, key string) (end func()) {
	out, ok := a.Err.(*os.File)
	if !ok || !term.IsTerminal(int(out.Fd())) {
		return func() {}
	}
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-ctx.Done():
				fmt.Fprintf(out, "\r\x1b[K")
				return
			case <-time.After(barEvery):
			}
			var p wire.Progress
			if err := c.Do(ctx, "GET", "/api/v1/progress/"+key, nil, nil, &p); err == nil && p.State == "running" {
				fmt.Fprintf(out, "\r\x1b[K%s", barText(p))
			}
		}
	}()
	return func() {
		cancel()
		<-ended
	}
}

const (
	barEvery = 150 * time.Millisecond
	barWidth = 40
)

func barText(p wire.Progress) string {
	if p.Of == 0 {
		return "Reading and checking …"
	}
	full := barWidth * p.Done / p.Of
	return fmt.Sprintf("Writing %s%s %3d %%  %d of %d rows", strings.Repeat("█", full), strings.Repeat("░", barWidth-full), 100*p.Done/p.Of, p.Done, p.Of)
}

// outcomeOf says what became of a request whose answer did not come.
func (a *app) outcomeOf(ctx context.Context, c *client.Client, key string, err error) error {
	var refused *client.Error
	if errors.As(err, &refused) || errors.As(err, new(answered)) {
		return err
	}
	var p wire.Progress
	if c.Do(ctx, "GET", "/api/v1/progress/"+key, nil, nil, &p) != nil {
		return fmt.Errorf("%w; whether anything was brought in cannot be told now: ask “sentier export” once the service answers", err)
	}
	switch p.State {
	case "done":
		return fmt.Errorf("%w; all of it was brought in, as revision %d", err, p.Revision)
	case "running":
		return fmt.Errorf("%w; the service is still bringing it in", err)
	}
	return fmt.Errorf("%w; nothing was brought in", err)
}

func (a *app) exportSheet() *cobra.Command {
	var raw bool
	cmd := &cobra.Command{
		Use: "export SHEET", Short: "Write a CSV file: users, devices, members and more",
		Long: "Write a sheet as CSV. The sheets and their columns:\n" + sheetLines(), Args: exactly("SHEET"),
		Example: "  sentier export users > people.csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			query := url.Values{}
			if raw {
				query.Set("raw", "true")
			}
			return c.Do(cmd.Context(), "GET", "/api/v1/sheets/"+url.PathEscape(args[0]), query, nil, a.Out)
		},
	}
	cmd.Flags().BoolVar(&raw, "raw", false, "without the apostrophes that keep a spreadsheet from taking cells for formulas")
	return cmd
}
