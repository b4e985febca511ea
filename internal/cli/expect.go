package cli

import (
	"encoding/xml"
	"fmt"
	"net/url"
	"os"
	"time"

	"github.com/spf13/cobra"

	"sentier/internal/decision"
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/survey"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

func (a *app) expect() *cobra.Command {
	cmd := &cobra.Command{
		Use: "expect", Short: "Expectations: questions with the answers that they must have",
		Example: "  sentier expect run stories.yaml --policy larkmere.yaml",
	}
	var file, junit string
	run := &cobra.Command{
		Use: "run EXPECTATIONS", Short: "Run a file of expectations", Args: exactly("EXPECTATIONS"),
		Long: `Ask every question of a file of the format sentier-expect/1, and print each whose
answer is not the expected one with what came instead. The exit code is 0 where
all hold, 1 where not.`,
		Example: "  sentier expect run stories.yaml\n  sentier expect run stories.yaml --policy larkmere.yaml\n  sentier expect run stories.yaml --junit report.xml",
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
			report := suite{Name: args[0]}
			ended := a.runExpectations(cmd, expectations, ask, &report)
			if junit != "" && (ended == nil || ended == answered{exitNo}) {
				if err := report.write(junit); err != nil {
					return err
				}
			}
			return ended
		},
	}
	run.Flags().StringVar(&file, "policy", "", "ask this policy document instead of a service")
	run.Flags().StringVar(&junit, "junit", "", "file to write the outcome to as JUnit XML as well, as pipelines read it")
	cmd.AddCommand(run, a.prove())
	return cmd
}

func (a *app) prove() *cobra.Command {
	var file, at, junit string
	cmd := &cobra.Command{
		Use: "prove", Short: "Do the expectations that are kept with the policy hold?", Args: cobra.NoArgs,
		Long: `Hold every expectation of the policy against it, over the 400 days to come and in all
circumstances, and print each that does not hold with the first instant at which it does not,
and why. The exit code is 0 where all hold, 1 where not.`,
		Example: "  sentier expect prove\n  sentier expect prove --policy larkmere.yaml --junit report.xml",
		RunE: func(cmd *cobra.Command, _ []string) error {
			found, err := a.proof(cmd, file, at)
			if err != nil {
				return err
			}
			if junit != "" {
				if err := proofSuite(found).write(junit); err != nil {
					return err
				}
			}
			s := sheet{head: []string{"EXPECTATION", "FROM", "WHAT DOES NOT HOLD"}}
			for _, u := range found.Unmet {
				s.rows = append(s.rows, []string{u.ID, u.At.Format(time.RFC3339), u.Text})
			}
			if a.format != "table" || len(found.Unmet) > 0 {
				if err := a.print(found, s); err != nil {
					return err
				}
			}
			if a.format == "table" {
				fmt.Fprintf(a.Out, "%d held, %d failed\n", len(found.Held), len(found.Unmet))
			}
			if len(found.Unmet) > 0 {
				return answered{exitNo}
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&file, "policy", "", "look at this policy document instead of a service")
	cmd.Flags().StringVar(&at, "at", "", "from when on (default: now)")
	cmd.Flags().StringVar(&junit, "junit", "", "file to write the outcome to as JUnit XML as well, as pipelines read it")
	return cmd
}

// proof holds the expectations of a service's policy, or of a document, against it.
func (a *app) proof(cmd *cobra.Command, file, at string) (out wire.Proof, err error) {
	if file == "" {
		c, err := a.client()
		if err != nil {
			return out, err
		}
		query := url.Values{}
		if at != "" {
			query.Set("at", at)
		}
		return out, c.Do(cmd.Context(), "GET", "/api/v1/proof", query, nil, &out)
	}
	p, err := a.readPolicy(file)
	if err != nil {
		return out, a.notSoundAsError(file, err)
	}
	from := a.Now()
	if at != "" {
		zone, err := policy.LoadZone(p.Settings().Zone)
		if err != nil {
			return out, err
		}
		if from, err = document.ParseInstant(at, from, zone); err != nil {
			return out, err
		}
	}
	compiled := decision.Compile(p)
	return wording.Accepted(a.language).Proof(compiled, survey.Of(compiled).Unmet(from), from), nil
}

// proofSuite is what came of a proof as pipelines read it.
func proofSuite(found wire.Proof) *suite {
	out := &suite{Name: "expectations"}
	for _, e := range found.Held {
		out.Tests++
		out.Cases = append(out.Cases, testCase{Name: e.Name, Class: out.Name})
	}
	for _, u := range found.Unmet {
		out.Tests++
		out.Failures++
		out.Cases = append(out.Cases, testCase{Name: u.Name, Class: out.Name, Failure: &failure{"does not hold from " + u.At.Format(time.RFC3339), u.Text}})
	}
	return out
}

// suite is the outcome of expectations in the form of JUnit XML.
type suite struct {
	XMLName  xml.Name   `xml:"testsuite"`
	Name     string     `xml:"name,attr"`
	Tests    int        `xml:"tests,attr"`
	Failures int        `xml:"failures,attr"`
	Cases    []testCase `xml:"testcase"`
}

type testCase struct {
	Name    string   `xml:"name,attr"`
	Class   string   `xml:"classname,attr"`
	Failure *failure `xml:"failure"`
}

type failure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// add enters an expectation that held, or, with what came instead, one that did not.
func (s *suite) add(in wire.Check, note, expected, came, text string) {
	c := testCase{Name: fmt.Sprintf("%s %s %s at %s", in.User, in.Right, in.Device, in.At), Class: s.Name}
	if note != "" {
		c.Name += ": " + note
	}
	s.Tests++
	if expected != came {
		s.Failures++
		c.Failure = &failure{fmt.Sprintf("expected %s, came %s", expected, came), text}
	}
	s.Cases = append(s.Cases, c)
}

func (s *suite) write(path string) error {
	body, err := xml.MarshalIndent(s, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(path, append([]byte(xml.Header), append(body, '\n')...), 0o644)
}

// notSoundAsError is for files that a command cannot go on without: their faults end it with code 2.
func (a *app) notSoundAsError(file string, err error) error {
	if shown := a.notSound(file, err); shown != (answered{exitNo}) {
		return shown
	}
	return answered{exitError}
}

func (a *app) runExpectations(cmd *cobra.Command, all *document.Expectations, ask func(*cobra.Command, wire.Check) (wire.Answer, error), report *suite) error {
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
		report.add(in, x.Note, expected, came, answer.Text)
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
