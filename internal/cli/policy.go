package cli

import (
	"bufio"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"sentier/internal/client"
	"sentier/internal/decision"
	"sentier/internal/document"
	"sentier/internal/survey"
	"sentier/internal/translate"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

func sortedKeys[K cmp.Ordered, V any](m map[K]V) []K { return slices.Sorted(maps.Keys(m)) }

func (a *app) policy() *cobra.Command {
	cmd := &cobra.Command{
		Use: "policy", Short: "The whole policy as a document",
		Long:    "Check, load, dump and compare policy documents of the format sentier-policy/1, YAML or JSON.",
		Example: "  sentier policy check larkmere.yaml",
	}
	cmd.AddCommand(a.policyCheck(), a.policyLoad(), a.policyDump(), a.policyCompare())
	return cmd
}

func (a *app) policyCheck() *cobra.Command {
	return &cobra.Command{
		Use: "check FILE", Short: "Is a policy document sound? Every fault at once", Args: exactly("FILE"),
		Long:    "Read a policy document and name every fault with its line, its column and the path of the field.\nThe exit code is 0 where it is sound, 1 where it is not.",
		Example: "  sentier policy check larkmere.yaml",
		RunE: func(_ *cobra.Command, args []string) error {
			p, err := a.readPolicy(args[0])
			if err != nil {
				return a.notSound(args[0], err)
			}
			s := sheet{head: []string{"RECORDS", "COUNT"}}
			counts := map[string]int{}
			for _, t := range wire.RecordTypes() {
				n := translate.Count(p, t.Name)
				counts[t.Name] = n
				s.rows = append(s.rows, []string{t.Name, fmt.Sprint(n)})
			}
			fmt.Fprintf(a.Err, "%s is sound.\n", args[0])
			return a.print(map[string]any{"sound": true, "records": counts}, s)
		},
	}
}

// notSound prints the faults of a document; other errors pass through.
func (a *app) notSound(file string, err error) error {
	var faults document.Faults
	if !errors.As(err, &faults) {
		return err
	}
	s := sheet{head: []string{"LINE", "COLUMN", "FIELD", "FAULT"}}
	list := []wire.Fault{}
	for _, f := range faults {
		problem := a.words().Put(f.Problem)
		list = append(list, wire.Fault{Path: f.Path, Problem: problem, Line: f.Line, Column: f.Column})
		s.rows = append(s.rows, []string{fmt.Sprint(f.Line), fmt.Sprint(f.Column), f.Path, problem})
	}
	if err := a.print(map[string]any{"sound": false, "faults": list}, s); err != nil {
		return err
	}
	noun := "faults"
	if len(faults) == 1 {
		noun = "fault"
	}
	fmt.Fprintf(a.Err, "%s is not sound: %d %s.\n", file, len(faults), noun)
	return answered{exitNo}
}

func (a *app) policyDump() *cobra.Command {
	return &cobra.Command{
		Use: "dump", Short: "Write the whole policy to standard output", Args: cobra.NoArgs,
		Long:    "Write the whole policy as a document: YAML, or JSON with --format json. Two dumps of one policy are the same bytes.",
		Example: "  sentier policy dump > larkmere.yaml\n  sentier policy dump --format json > larkmere.json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			syntax := document.YAML
			switch {
			case a.format == "json":
				syntax = document.JSON
			case a.format == "csv":
				return errors.New("a policy is no table: dump it with --format yaml or json")
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			return c.Do(cmd.Context(), "GET", "/api/v1/policy", url.Values{"format": {string(syntax)}}, nil, a.Out)
		},
	}
}

func (a *app) policyLoad() *cobra.Command {
	var yes bool
	var e editing
	cmd := &cobra.Command{
		Use: "load FILE", Short: "Put a document in the place of the policy", Args: exactly("FILE"),
		Long: `Show what a policy document would change, and change it once you have said yes.
What the document does not hold is removed.`,
		Example: "  sentier policy load larkmere.yaml\n  sentier policy load larkmere.yaml --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			data, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			if _, err := document.ReadPolicy(data); err != nil {
				return a.notSound(args[0], err)
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			var look, loaded wire.Saved
			if err := c.Do(cmd.Context(), "PUT", "/api/v1/policy", e.look(), policyBody(data), &look); err != nil {
				return err
			}
			if len(look.Changes) == 0 {
				fmt.Fprintf(a.Err, "%s is what the policy is already: revision %d stays.\n", args[0], look.Revision)
				return a.printChanges(look)
			}
			if !yes {
				if err := a.printChanges(look); err != nil {
					return err
				}
				a.printUnmet(look.Unmet)
				if err := a.confirm(fmt.Sprintf("Make these %d changes?", len(look.Changes))); err != nil {
					return err
				}
			}
			if err := c.If(look.Revision).Do(cmd.Context(), "PUT", "/api/v1/policy", e.query(), policyBody(data), &loaded); err != nil {
				return err
			}
			if loaded.Draft != "" {
				a.printWhere(loaded.Revision, loaded.Draft)
			} else {
				fmt.Fprintf(a.Err, "Loaded: %d changes, revision %d.\n", len(loaded.Changes), loaded.Revision)
			}
			if yes {
				return a.printChanges(loaded)
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&yes, "yes", false, "do not ask")
	e.why(cmd)
	return cmd
}

// confirm asks on the terminal; without one there is nobody to ask.
func (a *app) confirm(question string) error {
	in, ok := a.In.(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) {
		return errors.New("nothing was changed: add --yes to go ahead without being asked")
	}
	fmt.Fprint(a.Err, question+" [y/N] ")
	line, err := bufio.NewReader(in).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if strings.ToLower(strings.TrimSpace(line)) != "y" {
		fmt.Fprintln(a.Err, "Nothing was changed.")
		return answered{exitNo}
	}
	return nil
}

func (a *app) policyCompare() *cobra.Command {
	return &cobra.Command{
		Use: "compare FILE [FILE2]", Short: "What differs between the policy and a document, or between two documents", Args: cobra.RangeArgs(1, 2),
		Long:    "Show, record by record, what leads from the policy to the document, or from the first\ndocument to the second; and who gains and loses what by it, now, later\nor in other circumstances.\nThe exit code is 0 where they are the same, 1 where they differ, 2 where a document is not sound.",
		Example: "  sentier policy compare larkmere.yaml\n  sentier policy compare march.yaml april.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			found, err := a.compare(cmd, args)
			if err != nil {
				return err
			}
			if err := a.printChanges(found); err != nil {
				return err
			}
			if len(found.Changes) > 0 {
				a.printImpact(found.Impact)
				return answered{exitNo}
			}
			fmt.Fprintln(a.Err, "They are the same.")
			return nil
		},
	}
}

// policyBody is a policy document as it is sent.
func policyBody(data []byte) client.Body {
	return client.Body{Type: map[document.Syntax]string{document.JSON: "application/json", document.YAML: "application/yaml"}[document.SyntaxOf(data)], Data: data}
}

func (a *app) compare(cmd *cobra.Command, files []string) (out wire.Saved, err error) {
	data, err := a.readFile(files[0])
	if err != nil {
		return out, err
	}
	first, err := document.ReadPolicy(data)
	if err != nil {
		return out, a.notSoundAsError(files[0], err)
	}
	if len(files) == 2 {
		second, err := a.readPolicy(files[1])
		if err != nil {
			return out, a.notSoundAsError(files[1], err)
		}
		out.Changes = translate.Changes(first.Compare(second))
		d := survey.Compare(decision.Compile(first), decision.Compile(second), nil, survey.Circumstances{At: a.Now()}, shownDifferences)
		out.Impact = wording.English.Impact(second, d, a.Now())
		return out, nil
	}
	c, err := a.client()
	if err != nil {
		return out, err
	}
	return out, c.Do(cmd.Context(), "PUT", "/api/v1/policy", url.Values{"dry_run": {"true"}, "impact": {"true"}}, policyBody(data), &out)
}

// shownDifferences is how many people and devices are told of one by one.
const shownDifferences = 50

// printImpact says who gains and loses what, after the changes that bring it about.
func (a *app) printImpact(i *wire.Impact) {
	if i == nil || a.format != "table" {
		return
	}
	for _, m := range i.Mandates {
		gains := map[bool]string{true: "gains", false: "loses"}[m.Gained]
		from := ""
		switch m.Degree {
		case survey.Later.String():
			from = ", from " + wording.Time(m.Until, "UTC")
		case survey.If.String():
			from = ", once they have come in"
		}
		fmt.Fprintf(a.Out, "\n%s %s the mandate of the role %s (%s)%s.", m.User.Name, gains, m.Role, m.Mandate.Name, from)
	}
	if len(i.Mandates) > 0 {
		fmt.Fprintln(a.Out)
	}
	if i.Unchanged() {
		fmt.Fprintln(a.Out, "\nNo access changes, now or in the next 400 days.")
		return
	}
	fmt.Fprintf(a.Out, "\nRights gained: %s; lost: %s; ", tallyText(i.Gained), tallyText(i.Lost))
	if i.Loosened.All+i.Tightened.All > 0 {
		fmt.Fprintf(a.Out, "limits loosened: %s; tightened: %s; ", tallyText(i.Loosened), tallyText(i.Tightened))
	}
	fmt.Fprintf(a.Out, "people: %d, devices: %d:\n", i.Users, i.Devices)
	for _, d := range i.Items {
		fmt.Fprintf(a.Out, "  %s on %s: %s\n", d.User.Name, d.Device.Name, differenceText(d))
	}
	if i.More > 0 {
		fmt.Fprintf(a.Out, "  and %d more\n", i.More)
	}
}

// tallyText counts rights by degree.
func tallyText(t wire.Tally) string {
	return usersText(wire.Totals{Now: t.Now, Later: t.Later, If: t.If})
}

// differenceText says which rights somebody gains (+) and loses (−) on a device, and what each takes.
func differenceText(d wire.Difference) string {
	var parts []string
	tell := func(text string, r wire.PossibleRight) {
		switch {
		case r.Degree == "later" || r.When == "later":
			text += " from " + wording.Time(*r.Until, "UTC")
		case r.Degree == "if":
			text += " now"
		}
		if r.Text != "" {
			text += " " + r.Text
		}
		parts = append(parts, text)
	}
	for _, r := range d.Gained {
		tell("+"+r.ID, r.PossibleRight)
	}
	for _, r := range d.Lost {
		tell("−"+r.ID, r.PossibleRight)
	}
	for _, r := range d.Loosened {
		tell("limits of "+r.ID+" loosened: "+r.Limits, r.PossibleRight)
	}
	for _, r := range d.Tightened {
		tell("limits of "+r.ID+" tightened: "+r.Limits, r.PossibleRight)
	}
	return strings.Join(parts, "; ")
}

func (a *app) printChanges(l wire.Saved) error {
	if len(l.Changes) == 0 && a.format == "table" {
		return nil
	}
	s := sheet{head: []string{"CHANGE", "TYPE", "ID", "NAME", "WHAT"}}
	for _, c := range l.Changes {
		var what []string
		for _, f := range c.Fields {
			what = append(what, fieldText(f))
		}
		s.rows = append(s.rows, []string{c.Op, c.Type, c.ID, c.Name, strings.Join(what, "; ")})
	}
	return a.print(l, s)
}

// fieldText tells what happened to a field: what came (+), what went (−), or before → after.
func fieldText(f wire.FieldChange) string {
	var parts []string
	for _, e := range f.Added {
		parts = append(parts, "+"+short(e))
	}
	for _, e := range f.Dropped {
		parts = append(parts, "−"+short(e))
	}
	if len(parts) == 0 {
		parts = append(parts, short(f.Before)+" → "+short(f.After))
	}
	return f.Field + " " + strings.Join(parts, " ")
}

const shortLength = 60

func short(value []byte) string {
	text := strings.Trim(string(value), `"`)
	var object row
	if json.Unmarshal(value, &object) == nil && object != nil {
		text = plain(object)
	}
	if text == "" {
		return "nothing"
	}
	if runes := []rune(text); len(runes) > shortLength {
		return string(runes[:shortLength]) + "…"
	}
	return text
}
