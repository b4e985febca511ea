package cli

import (
	"errors"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/spf13/cobra"

	"sentier/internal/decision"
	"sentier/internal/translate"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

func (a *app) check() *cobra.Command {
	var in wire.Check
	var context contextFlags
	var file, until string
	var week, advise, group bool
	cmd := &cobra.Command{
		Use: "check USER RIGHT DEVICE[/POINT]", Short: "May this user do this to that device, and why?", Args: exactly("USER", "RIGHT", "DEVICE[/POINT]"),
		Long: `Ask for one decision: the answer, why, and until when it holds. The exit code is 0
where it is allowed, 1 where it is denied, 2 where it could not be answered.`,
		Example: `  sentier check tomas.field control twin-bridge-north/deck
  sentier check yusuf.demir control twin-bridge-north --at "2026-11-24 23:30"
  sentier check tomas.field control twin-bridge-north --week
  sentier check noor.haddad control alder-gate-1 --advise
  sentier check asha.raman setpoint reservoir-pump-1 --ip 10.20.0.7 --policy larkmere.yaml`,
		RunE: func(cmd *cobra.Command, args []string) error {
			in.User, in.Right, in.Device = args[0], args[1], args[2]
			var err error
			if in.Context, err = context.read(cmd); err != nil {
				return err
			}
			if group {
				if advise || file != "" {
					return errors.New("--group asks the service, and nothing is advised about a group: leave --advise and --policy out")
				}
				in.User, in.Group = "", in.User
			}
			if (week || advise) && file != "" {
				return errors.New("--week and --advise ask the service: leave --policy out")
			}
			if a.asOf != "" && (advise || file != "") {
				return errors.New("--as-of asks the service what was, which nothing changes any more: leave --advise and --policy out")
			}
			if week {
				return a.week(cmd, in)
			}
			ask, err := a.asker(file)
			if err != nil {
				return err
			}
			answer, err := ask(cmd, in)
			if err != nil {
				return err
			}
			if !advise {
				return a.printAnswer(answer)
			}
			return a.advised(cmd, answer, wire.AdviceQuestion{User: in.User, Right: in.Right, Device: in.Device, At: in.At, Context: in.Context, Until: until})
		},
	}
	cmd.Flags().StringVar(&in.At, "at", "", "when: RFC 3339, or a local time of the device such as “2026-07-04 21:30” or “tomorrow 06:00” (default: now)")
	context.flags(cmd)
	cmd.Flags().BoolVar(&group, "group", false, "USER is a user group: ask about somebody who is in it and in no other")
	cmd.Flags().BoolVar(&week, "week", false, "show how the answer will run over seven days")
	cmd.Flags().BoolVar(&advise, "advise", false, "say also which changes would turn the answer, and what else they would change")
	cmd.Flags().StringVar(&until, "until", "", "with --advise: end of the memberships and grants that are advised, RFC 3339")
	cmd.Flags().StringVar(&file, "policy", "", "ask this policy document instead of a service")
	return cmd
}

// contextFlags say what is known of the circumstances of a question.
type contextFlags struct {
	ip, place, attended string
	strong              bool
}

func (f *contextFlags) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.ip, "ip", "", "address that the user comes from")
	cmd.Flags().StringVar(&f.place, "place", "", "site at which the user is")
	cmd.Flags().BoolVar(&f.strong, "strong-sign-in", false, "the user signed in with a second factor")
	cmd.Flags().StringVar(&f.attended, "attended", "", "whether someone is present at the device: true or false")
}

func (f *contextFlags) read(cmd *cobra.Command) (wire.Context, error) {
	out := wire.Context{IP: f.ip, Place: f.place}
	if cmd.Flags().Changed("strong-sign-in") {
		out.StrongSignIn = &f.strong
	}
	if f.attended != "" {
		there, err := strconv.ParseBool(f.attended)
		if err != nil {
			return out, fmt.Errorf("--attended %q is neither true nor false", f.attended)
		}
		out.Attended = &there
	}
	return out, nil
}

// query puts the circumstances into the query of a request.
func (f *contextFlags) query(cmd *cobra.Command, query url.Values) error {
	in, err := f.read(cmd)
	for name, text := range map[string]string{"ip": in.IP, "place": in.Place} {
		if text != "" {
			query.Set(name, text)
		}
	}
	for name, v := range map[string]*bool{"strong_sign_in": in.StrongSignIn, "attended": in.Attended} {
		if v != nil {
			query.Set(name, strconv.FormatBool(*v))
		}
	}
	return err
}

// exactly names the arguments that are missing, or the first that is too many.
func exactly(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch {
		case len(args) < len(names):
			return fmt.Errorf("%s is missing: write “%s”", strings.Join(names[len(args):], " and "), cmd.UseLine())
		case len(args) > len(names):
			return fmt.Errorf("%q is one too many: write “%s”", args[len(names)], cmd.UseLine())
		}
		return nil
	}
}

// asker answers questions from a policy document, or from the service where file is empty.
func (a *app) asker(file string) (func(*cobra.Command, wire.Check) (wire.Answer, error), error) {
	if file == "" {
		c, err := a.client()
		return func(cmd *cobra.Command, in wire.Check) (out wire.Answer, err error) {
			return out, c.Do(cmd.Context(), "POST", "/api/v1/check", nil, in, &out)
		}, err
	}
	p, err := a.readPolicy(file)
	if err != nil {
		return nil, a.notSound(file, err)
	}
	compiled := decision.Compile(p)
	return func(_ *cobra.Command, in wire.Check) (wire.Answer, error) {
		q, err := translate.Question(p, in, a.Now())
		if err != nil {
			return wire.Answer{}, err
		}
		return wording.Accepted(a.language).Answer(p, q, compiled.Explain(q)), nil
	}, nil
}

func (a *app) printAnswer(answer wire.Answer) error {
	var err error
	switch a.format {
	case "json", "yaml":
		err = a.print(answer, sheet{})
	case "csv":
		until := ""
		if answer.Until != nil {
			until = answer.Until.Format(time.RFC3339)
		}
		err = sheet{
			head: []string{"USER", "RIGHT", "DEVICE", "AT", "ALLOWED", "REASON", "UNTIL"},
			rows: [][]string{{answer.User.ID, answer.Right.ID, answer.Device.ID, answer.At.Format(time.RFC3339), fmt.Sprint(answer.Allowed), answer.Reason, until}},
		}.csv(a.Out)
	default:
		_, err = io.WriteString(a.Out, a.answerText(answer))
	}
	if err != nil {
		return err
	}
	return outcome(answer)
}

// outcome turns an answer into the exit code.
func outcome(answer wire.Answer) error {
	if answer.Allowed {
		return nil
	}
	return answered{exitNo}
}

// advised prints an answer with what would turn it.
func (a *app) advised(cmd *cobra.Command, answer wire.Answer, q wire.AdviceQuestion) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	var advice wire.Advice
	if err := c.Do(cmd.Context(), "POST", "/api/v1/advice", nil, q, &advice); err != nil {
		return err
	}
	switch a.format {
	case "json", "yaml":
		err = a.print(struct {
			wire.Answer
			Advice []wire.Advise `json:"advice"`
		}{answer, advice.Items}, sheet{})
	case "csv":
		err = a.printAdvice(advice)
	default:
		if _, err = io.WriteString(a.Out, a.answerText(answer)); err == nil {
			err = a.printAdvice(advice)
		}
	}
	if err != nil {
		return err
	}
	return outcome(answer)
}

// week prints how an answer will run; the exit code is 0 whatever it is.
func (a *app) week(cmd *cobra.Command, in wire.Check) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	var w wire.Week
	q := wire.WeekQuestion{User: in.User, Group: in.Group, Device: in.Device, Right: in.Right, Context: in.Context}
	if len(in.At) >= len(time.DateOnly) {
		q.From = in.At[:len(time.DateOnly)]
	}
	if err := c.Do(cmd.Context(), "POST", "/api/v1/week", nil, q, &w); err != nil {
		return err
	}
	return a.printWeek(w)
}

const textWidth = 92

// words are those of the language that was asked for.
func (a *app) words() wording.Catalogue { return wording.Accepted(a.language) }

func (a *app) answerText(answer wire.Answer) string {
	var out strings.Builder
	c := a.words()
	verdict := "✗ " + c.Say("terminal.denied")
	if answer.Allowed {
		verdict = "● " + c.Say("terminal.allowed")
	}
	fmt.Fprintf(&out, "%s  %s\n\n%s\n", verdict, answer.Reason, wrap(answer.Text, "", textWidth))
	for _, t := range append(answer.Because, answer.Missing...) {
		out.WriteString("\n" + trailText(c, t))
	}
	for i, name := range sortedKeys(answer.Limits) {
		if i == 0 {
			out.WriteString("\n" + c.Say("terminal.limits") + "\n")
		}
		value, err := answer.Limits[name].MarshalJSON()
		must(err)
		fmt.Fprintf(&out, "  %s: %s\n", name, value)
	}
	when := "terminal.at"
	if answer.Revision > 0 {
		when = "terminal.at_revision"
	}
	out.WriteString("\n" + c.Say(when, "time", c.Time(answer.At, answer.Zone), "n", fmt.Sprint(answer.Revision)) + "\n")
	return out.String()
}

// signs show the state of a stop where there is no colour.
var signs = map[string]string{"holds": "●", "breaks": "✗", "closes": "■", "beyond": "○"}

// trailText draws a trail, one stop a line.
func trailText(c wording.Catalogue, t wire.Trail) string {
	width := 0
	for _, s := range t.Stops {
		width = max(width, lipgloss.Width(stopName(c, s)))
	}
	var out strings.Builder
	for _, s := range t.Stops {
		name := stopName(c, s)
		fmt.Fprintf(&out, "  %s %s%s  %s\n", signs[s.State], name, strings.Repeat(" ", width-lipgloss.Width(name)), s.Text)
	}
	return out.String()
}

// stopName says what a stop is, where its name alone would not.
func stopName(c wording.Catalogue, s wire.Stop) string {
	if key := "terminal.stop." + s.Type; c.Has(key) {
		return c.Say(key, "name", s.Name)
	}
	return s.Name
}
