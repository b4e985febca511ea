package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"sentier/internal/document"
	"sentier/internal/wire"
)

func (a *app) expect() *cobra.Command {
	cmd := &cobra.Command{
		Use: "expect", Short: "Expectations: questions with the answers that they must have",
		Example: "  sentier expect run stories.yaml --policy larkmere.yaml",
	}
	var file string
	run := &cobra.Command{
		Use: "run EXPECTATIONS", Short: "Run a file of expectations", Args: exactly("EXPECTATIONS"),
		Long: `Ask every question of a file of the format sentier-expect/1, and print each whose
answer is not the expected one with what came instead. The exit code is 0 where
all hold, 1 where not.`,
		Example: "  sentier expect run stories.yaml\n  sentier expect run stories.yaml --policy larkmere.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			data, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			expectations, err := document.ReadExpectations(data)
			if err != nil {
				return a.notSoundAsError(args[0], err)
			}
			ask, err := a.asker(file)
			if err != nil {
				return err
			}
			return a.runExpectations(cmd, expectations, ask)
		},
	}
	run.Flags().StringVar(&file, "policy", "", "ask this policy document instead of a service")
	cmd.AddCommand(run)
	return cmd
}

// notSoundAsError is for files that a command cannot go on without: their faults end it with code 2.
func (a *app) notSoundAsError(file string, err error) error {
	if shown := a.notSound(file, err); shown != (answered{exitNo}) {
		return shown
	}
	return answered{exitError}
}

func (a *app) runExpectations(cmd *cobra.Command, all *document.Expectations, ask func(*cobra.Command, wire.Check) (wire.Answer, error)) error {
	s := sheet{head: []string{"CHECK", "USER", "RIGHT", "DEVICE", "AT", "EXPECTED", "CAME", "NOTE"}}
	failures := []map[string]any{}
	for i, x := range all.Checks {
		in := wire.Check{User: string(x.User), Right: string(x.Right), Device: x.Device, At: x.At.Format(time.RFC3339Nano)}
		if x.Context.IP.IsValid() {
			in.Context.IP = x.Context.IP.String()
		}
		in.Context.Place, in.Context.StrongSignIn, in.Context.Attended = string(x.Context.Place), x.Context.StrongSignIn, x.Context.Attended
		answer, err := ask(cmd, in)
		if err != nil {
			return fmt.Errorf("checks[%d]: %w", i, err)
		}
		expected, came := expectation(x, answer)
		if expected == came {
			continue
		}
		s.rows = append(s.rows, []string{fmt.Sprint(i), in.User, in.Right, in.Device, in.At, expected, came, x.Note})
		failures = append(failures, map[string]any{"check": i, "question": in, "expected": expected, "came": came, "text": answer.Text, "note": x.Note})
	}
	held := len(all.Checks) - len(failures)
	if a.format != "table" || len(failures) > 0 {
		if err := a.print(map[string]any{"held": held, "failed": len(failures), "failures": failures}, s); err != nil {
			return err
		}
	}
	if a.format == "table" || a.format == "csv" {
		fmt.Fprintf(a.Out, "%d held, %d failed\n", held, len(failures))
	}
	if len(failures) > 0 {
		return answered{exitNo}
	}
	return nil
}

// expectation writes what is compared of an expectation, and the same of the answer.
func expectation(x document.Expectation, answer wire.Answer) (expected, came string) {
	expected, came = x.Expect, "deny"
	if answer.Allowed {
		came = "allow"
	}
	if x.Reason != "" {
		expected, came = expected+" "+x.Reason, came+" "+answer.Reason
	}
	if x.Until != "" {
		until := document.Never
		if answer.Until != nil {
			until = answer.Until.UTC().Format(time.RFC3339Nano)
		}
		want := x.Until
		if t, err := time.Parse(time.RFC3339, want); err == nil {
			want = t.UTC().Format(time.RFC3339Nano)
		}
		expected, came = expected+" until "+want, came+" until "+until
	}
	return expected, came
}
