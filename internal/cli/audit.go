package cli

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"sentier/internal/client"
	"sentier/internal/daemon"
	"sentier/internal/wire"
)

func (a *app) audit() *cobra.Command {
	cmd := &cobra.Command{
		Use: "audit", Short: "The record: what was done, asked and refused",
		Long: `List, follow and take out the record of what was done, asked and refused, and verify
that nothing in it was changed or left out. It is for owners and auditors.`,
		Example: "  sentier audit list --of tomas.field --since \"yesterday\"\n  sentier audit verify",
	}
	cmd.AddCommand(a.auditList(), a.auditExport(), a.auditVerify(), a.auditFollow(), a.auditCheckpoint(), a.auditKey())
	return cmd
}

// auditFlags are the flags that say which entries are looked for.
type auditFlags struct {
	several map[string]*[]string
	one     map[string]*string
}

func (f *auditFlags) flags(cmd *cobra.Command) {
	f.several, f.one = map[string]*[]string{}, map[string]*string{}
	for _, s := range []struct{ name, usage string }{
		{"kind", "of entry: decision, question, look, change, sign_in, sign_out, password, second_factor, link, token, request, draft, review, source, refusal, backup, export, setting, service, closing or key"},
		{"outcome", "done, refused, made, ended, reset, or the reason of a decision; not_granted: every decision that is a no"},
	} {
		f.several[s.name] = cmd.Flags().StringSlice(s.name, nil, s.usage)
	}
	for _, s := range []struct{ name, usage string }{
		{"by", "user who did it"}, {"user", "user whom it is about"}, {"of", "user who did it or whom it is about"}, {"device", "device, with its points, or device/point"},
		{"right", "right"}, {"from", "address that it came from, or a network such as 10.20.0.0/16"}, {"token", "id of the token that it was done with"},
		{"since", "from this time on: RFC 3339, or a local time such as “2026-11-24 06:00”"}, {"until", "before this time"},
	} {
		f.one[s.name] = cmd.Flags().String(s.name, "", s.usage)
	}
}

func (f *auditFlags) query() url.Values {
	out := url.Values{}
	for name, list := range f.several {
		for _, value := range *list {
			out.Add(name, value)
		}
	}
	for name, value := range f.one {
		if *value != "" {
			out.Set(name, *value)
		}
	}
	return out
}

func (a *app) auditList() *cobra.Command {
	var f auditFlags
	var limit int
	cmd := &cobra.Command{
		Use: "list", Short: "List the last entries, newest first", Args: cobra.NoArgs,
		Example: "  sentier audit list --kind sign_in --outcome refused\n  sentier audit list --device estuary-gate --outcome not_granted --limit 20",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			query, list := f.query(), []wire.AuditEntry{}
			for cursor := ""; ; {
				query.Set("limit", strconv.Itoa(min(1000, max(1, limit-len(list)))))
				if cursor != "" {
					query.Set("cursor", cursor)
				}
				var page wire.AuditPage
				if err := c.Do(cmd.Context(), "GET", "/api/v1/audit", query, nil, &page); err != nil {
					return err
				}
				list = append(list, page.Items...)
				if cursor = page.Next; cursor == "" || len(list) >= limit {
					break
				}
			}
			s := sheet{head: auditHead}
			for i := range list {
				s.rows = append(s.rows, auditRow(&list[i]))
			}
			return a.print(list, s)
		},
	}
	f.flags(cmd)
	cmd.Flags().IntVar(&limit, "limit", 50, "how many entries")
	return cmd
}

var auditHead = []string{"ENTRY", "AT", "KIND", "BY", "WHAT", "FROM"}

func auditRow(e *wire.AuditEntry) []string {
	by := e.Via
	if e.By != nil {
		by = e.By.Name
	}
	if e.Token != nil && e.Token.By != "" {
		by += " (a token that " + e.Token.By + " made)"
	}
	return []string{strconv.FormatUint(e.Entry, 10), e.At.Local().Format("2006-01-02 15:04:05 MST"), e.Kind, by, e.Text, e.From}
}

func (a *app) auditExport() *cobra.Command {
	var f auditFlags
	var csv bool
	cmd := &cobra.Command{
		Use: "export [FILE]", Short: "Write the record as JSON lines or CSV, oldest first", Args: cobra.MaximumNArgs(1),
		Long: `Write the entries of the record as JSON lines, or with --csv as CSV, oldest first, to
standard output or a new file. It stays in the record that they were taken.`,
		Example: "  sentier audit export --since \"2026-11-01\" record.jsonl\n  sentier audit export --csv --kind change",
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			c, err := a.client()
			if err != nil {
				return err
			}
			query := f.query()
			if csv {
				query.Set("format", "csv")
			}
			to := a.Out
			if len(args) == 1 {
				file, err := os.OpenFile(args[0], os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
				if err != nil {
					return fmt.Errorf("write the record: %w", err)
				}
				defer func() { err = errors.Join(err, file.Close()) }()
				to = file
			}
			return c.Do(cmd.Context(), "GET", "/api/v1/audit/export", query, nil, struct{ io.Writer }{to})
		},
	}
	f.flags(cmd)
	cmd.Flags().BoolVar(&csv, "csv", false, "as CSV")
	return cmd
}

func (a *app) auditFollow() *cobra.Command {
	var f auditFlags
	var after string
	cmd := &cobra.Command{
		Use: "follow", Short: "Print entries as they come, until Ctrl-C", Args: cobra.NoArgs,
		Long:    "Print entries as they come: with --format json one a line. A stream that breaks off is resumed where it ended.",
		Example: "  sentier audit follow --kind refusal --kind sign_in\n  sentier audit follow --format json --after 1200",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return c.Follow(cmd.Context(), "/api/v1/audit/follow", f.query(), after, func(data []byte) error {
				if a.format == "json" {
					_, err := fmt.Fprintf(a.Out, "%s\n", data)
					return err
				}
				var e wire.AuditEntry
				if err := json.Unmarshal(data, &e); err != nil {
					return fmt.Errorf("read an entry: %w", err)
				}
				row := auditRow(&e)
				_, err := fmt.Fprintf(a.Out, "%s  %s  %s: %s\n", row[0], row[1], row[3], row[4])
				return err
			})
		},
	}
	f.flags(cmd)
	cmd.Flags().StringVar(&after, "after", "", "number of an entry: those after it come first (default: from now on)")
	return cmd
}

func (a *app) auditCheckpoint() *cobra.Command {
	return &cobra.Command{
		Use: "checkpoint", Short: "A signed checkpoint of the record as it is now, to be kept elsewhere", Args: cobra.NoArgs,
		Long: `Print the service's signed word that the record goes as far as it does now: one line of
JSON. Kept elsewhere, it tells later whether the record still holds what it held
(“sentier audit verify --against FILE”). The service writes one every hour as well.`,
		Example: "  sentier audit checkpoint >> checkpoints.jsonl",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var line []byte
			if err := c.Do(cmd.Context(), "POST", "/api/v1/audit/checkpoints", nil, nil, &line); err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.Out, "%s\n", bytes.TrimSpace(line))
			return err
		},
	}
}

func (a *app) auditKey() *cobra.Command {
	return &cobra.Command{
		Use: "key", Short: "The key by which checkpoints can be verified", Args: cobra.NoArgs,
		Example: "  sentier audit key",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var key wire.AuditKey
			if err := c.Do(cmd.Context(), "GET", "/api/v1/audit/key", nil, nil, &key); err != nil {
				return err
			}
			text, err := json.Marshal(key.Key)
			if err != nil {
				return err
			}
			return a.print(key, sheet{head: []string{"KEY"}, rows: [][]string{{string(bytes.Trim(text, `"`))}}})
		},
	}
}

func (a *app) auditVerify() *cobra.Command {
	var dir, against, key string
	cmd := &cobra.Command{
		Use: "verify [FILE]", Short: "Is the record what was written? Names the first entry that is not", Args: cobra.MaximumNArgs(1),
		Long: `Read the whole record back and make its chain anew. Of the running service; with --data
of a folder; or of a backup. With --against it is held against checkpoints that were
kept elsewhere, which finds an end that was cut off or written anew; with --key, all
checkpoints must be signed by that key. The exit code is 0 where all is whole, 1 where
something is wrong.`,
		Example: "  sentier audit verify\n  sentier audit verify --against checkpoints.jsonl\n  sentier audit verify --data /var/lib/sentier",
		RunE: func(cmd *cobra.Command, args []string) error {
			in := wire.VerifyAudit{Key: key}
			if against != "" {
				data, err := a.readFile(against)
				if err != nil {
					return err
				}
				for n, line := range bytes.Split(data, []byte("\n")) {
					if line = bytes.TrimSpace(line); len(line) == 0 {
						continue
					}
					var c wire.Checkpoint
					if err := json.Unmarshal(line, &c); err != nil {
						return fmt.Errorf("line %d of %s is no checkpoint: %w", n+1, against, err)
					}
					in.Checkpoints = append(in.Checkpoints, c)
				}
			}
			var found wire.AuditVerified
			err := a.verifyWhere(args, dir, func(path string) (err error) {
				found, err = daemon.VerifyAudit(cmd.Context(), path, in)
				return err
			}, func(c *client.Client) error {
				return c.Do(cmd.Context(), "POST", "/api/v1/audit/verify", nil, in, &found)
			})
			if err != nil {
				return err
			}
			return a.printAuditVerified(found)
		},
	}
	cmd.Flags().StringVar(&dir, "data", "", "folder of the service (default: ask the service)")
	cmd.Flags().StringVar(&against, "against", "", "file of checkpoints that were kept elsewhere, or - for standard input")
	cmd.Flags().StringVar(&key, "key", "", fmt.Sprintf("key that signed them, as “sentier audit key” shows it: base64 of %d bytes", ed25519.PublicKeySize))
	return cmd
}

func (a *app) printAuditVerified(v wire.AuditVerified) error {
	when := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.UTC().Format("2006-01-02 15:04 MST")
	}
	s := sheet{head: []string{"WHOLE", "ENTRIES", "FIRST", "LAST", "CHECKPOINTS", "MARKED"},
		rows: [][]string{{fmt.Sprint(v.Whole), fmt.Sprint(v.Entries), when(v.First), when(v.Last), fmt.Sprint(v.Checkpoints), fmt.Sprint(v.Marked)}}}
	if err := a.print(v, s); err != nil {
		return err
	}
	if !v.Whole {
		fmt.Fprintf(a.Err, "Wrong: %s\n", v.Wrong)
		return answered{exitNo}
	}
	return nil
}

// serviceSettings shows or changes the settings of the service itself.
func (a *app) serviceSettings() *cobra.Command {
	var in flagged
	var rules []string
	var draft string
	cmd := &cobra.Command{
		Use: "service", Short: "Show or change the settings of the service itself", Args: cobra.NoArgs,
		Long: `Show or change what the service keeps in its record, whether changes need a reason, and
for how long sessions hold. Only what is given is changed; it stays in the record.`,
		Example: "  sentier service\n  sentier service --decisions control_and_denials --keep-days 400 --reason-required\n  sentier service --decisions-of right=control,site=tidal-reach,keep=all",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			change, changed, err := in.change(cmd, rules)
			if err != nil {
				return err
			}
			method, body := "GET", any(nil)
			if changed {
				data, err := json.Marshal(change)
				if err != nil {
					return err
				}
				if draft != "" {
					return a.onDraft(cmd, "POST", "/api/v1/drafts", nil, wire.NewDraft{Name: draft, Acts: []wire.DraftAct{{Act: "change_settings", Body: data}}}, func(d wire.Draft) string {
						return fmt.Sprintf("Saved as the draft %s: somebody else approves it with “sentier draft approve %s”.\n", d.ID, d.ID)
					})
				}
				method, body = "PATCH", client.Body{Type: "application/merge-patch+json", Data: data}
			}
			var now wire.ServiceSettings
			if err := c.Do(cmd.Context(), method, "/api/v1/service", nil, body, &now); err != nil {
				return err
			}
			s := sheet{head: []string{"SETTING", "VALUE"}, rows: [][]string{{"decisions", now.Decisions}}}
			for _, r := range now.DecisionsOf {
				s.rows = append(s.rows, []string{"decisions of", ruleText(r)})
			}
			s.rows = append(s.rows, []string{"keep days", orEver(now.KeepDays)}, []string{"reason required", fmt.Sprint(now.ReasonRequired)}, []string{"approval", approvalText(now.Approval)},
				[]string{"behind minutes", strconv.Itoa(now.BehindMinutes)}, []string{"idle minutes", orEver(now.IdleMinutes)}, []string{"session hours", strconv.Itoa(now.SessionHours)})
			return a.print(now, s)
		},
	}
	cmd.Flags().StringVar(&draft, "as-draft", "", "save it as a draft of this name, which somebody else approves, instead of changing anything now")
	cmd.Flags().StringVar(&in.Decisions, "decisions", "", "which decisions are kept: all, control_and_denials or none")
	cmd.Flags().StringArrayVar(&rules, "decisions-of", nil, "for a right or a site of its own, as right=RIGHT,site=SITE,keep=all; the first that fits counts; an empty one takes all away")
	cmd.Flags().IntVar(&in.KeepDays, "keep-days", 0, "after how many days entries of the record are let go; 0: never")
	cmd.Flags().BoolVar(&in.ReasonRequired, "reason-required", false, "every change needs a reason")
	cmd.Flags().StringSliceVar(&in.Approval, "approval", nil, "which changes need a second person: control, limits, everyone, everything, mandates, or a number of people who gain; all of them, or none for none")
	cmd.Flags().IntVar(&in.BehindMinutes, "behind-minutes", 0, "after how many minutes a machine that is behind, or not heard of, is told on Today")
	cmd.Flags().IntVar(&in.IdleMinutes, "idle-minutes", 0, "after how many minutes without a request a session ends; 0: none")
	cmd.Flags().IntVar(&in.SessionHours, "session-hours", 0, "after how many hours a session ends, in the console and of a terminal")
	return cmd
}

// flagged are settings of the service as flags hold them.
type flagged struct {
	Decisions                                          string
	KeepDays, IdleMinutes, SessionHours, BehindMinutes int
	ReasonRequired                                     bool
	Approval                                           []string
}

// change is what was given on the command line.
func (f *flagged) change(cmd *cobra.Command, rules []string) (out wire.ServiceChange, any bool, err error) {
	given := func(name string) bool {
		any = any || cmd.Flags().Changed(name)
		return cmd.Flags().Changed(name)
	}
	if given("decisions") {
		out.Decisions = &f.Decisions
	}
	if given("keep-days") {
		out.KeepDays = &f.KeepDays
	}
	if given("reason-required") {
		out.ReasonRequired = &f.ReasonRequired
	}
	if given("approval") {
		rules, err := parseApproval(f.Approval)
		if err != nil {
			return out, any, err
		}
		out.Approval = &rules
	}
	if given("behind-minutes") {
		out.BehindMinutes = &f.BehindMinutes
	}
	if given("idle-minutes") {
		out.IdleMinutes = &f.IdleMinutes
	}
	if given("session-hours") {
		out.SessionHours = &f.SessionHours
	}
	if !given("decisions-of") {
		return out, any, nil
	}
	out.DecisionsOf = []wire.DecisionRule{}
	for _, text := range rules {
		if text == "" {
			continue
		}
		r, err := parseRule(text)
		if err != nil {
			return out, any, err
		}
		out.DecisionsOf = append(out.DecisionsOf, r)
	}
	return out, any, nil
}

// parseApproval reads which changes need a second person.
func parseApproval(words []string) (out wire.ApprovalRules, err error) {
	for _, word := range words {
		switch word {
		case "control":
			out.Control = true
		case "limits":
			out.Limits = true
		case "everyone":
			out.Everyone = true
		case "everything":
			out.Everything = true
		case "mandates":
			out.Mandates = true
		case "none":
		default:
			if out.MoreThan, err = strconv.Atoi(word); err != nil {
				return out, fmt.Errorf("--approval: %q is not known: write control, limits, everyone, everything, mandates, a number of people, or none", word)
			}
		}
	}
	return out, nil
}

func approvalText(r wire.ApprovalRules) string {
	var out []string
	for _, rule := range []struct {
		word string
		set  bool
	}{{"control", r.Control}, {"limits", r.Limits}, {"everyone", r.Everyone}, {"everything", r.Everything}, {"mandates", r.Mandates}, {strconv.Itoa(r.MoreThan), r.MoreThan > 0}} {
		if rule.set {
			out = append(out, rule.word)
		}
	}
	if len(out) == 0 {
		return "none"
	}
	return strings.Join(out, ",")
}

func parseRule(text string) (wire.DecisionRule, error) {
	var r wire.DecisionRule
	for _, part := range strings.Split(text, ",") {
		name, value, _ := strings.Cut(part, "=")
		switch name {
		case "right":
			r.Right = value
		case "site":
			r.Site = value
		case "keep":
			r.Keep = value
		default:
			return r, fmt.Errorf("--decisions-of: %q is not known: write it as right=control,site=tidal-reach,keep=all", part)
		}
	}
	return r, nil
}

func ruleText(r wire.DecisionRule) string {
	var parts []string
	for _, p := range [][2]string{{"right", r.Right}, {"site", r.Site}, {"keep", r.Keep}} {
		if p[1] != "" {
			parts = append(parts, p[0]+"="+p[1])
		}
	}
	return strings.Join(parts, ",")
}

func orEver(n int) string {
	if n == 0 {
		return "no bound"
	}
	return strconv.Itoa(n)
}
