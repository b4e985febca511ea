// Package cli is the command line: its commands, and how answers are printed.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"sentier/internal/client"
)

// Exit codes.
const (
	exitYes   = 0 // done; allowed; all expectations held
	exitNo    = 1 // denied; an expectation did not hold; a document is not sound
	exitError = 2
)

// Program is what the commands need of the world around them.
type Program struct {
	In       io.Reader
	Out, Err io.Writer
	Console  fs.FS // the built console
	Version  string
	Commit   string
	Now      func() time.Time // nil: the machine's clock
	// LookupEnv reads a variable of the environment; nil: os.LookupEnv.
	LookupEnv func(name string) (value string, set bool)
	// Home is the folder below which a sign-in is kept; empty: the user's configuration folder.
	Home string
}

// app is a program with its global options.
type app struct {
	Program
	server   string
	format   string
	language string
	wide     bool
	asOf     string // see [app.past]
}

// answered is the error of a command that has said all there is to say, and ends with a code of its own.
type answered struct{ code int }

func (answered) Error() string { return "" }

// Run carries out a command line and gives the exit code.
func (p Program) Run(args []string) int {
	if p.Now == nil {
		p.Now = time.Now
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := (&app{Program: p}).root(args)
	root.SetArgs(args)
	root.SetIn(p.In)
	root.SetOut(p.Out)
	root.SetErr(p.Err)
	err := root.ExecuteContext(ctx)
	var done answered
	switch {
	case err == nil:
		return exitYes
	case errors.As(err, &done):
		return done.code
	}
	fmt.Fprintln(p.Err, "sentier: "+err.Error())
	return exitError
}

// root is all commands, as far as a call can ask for them: to make each with its flags takes longer than most of them do.
func (a *app) root(args []string) *cobra.Command {
	of, completes := "", false
	if len(args) > 0 && !strings.HasPrefix(args[0], "-") && !slices.Contains([]string{"help", "man", "completion"}, args[0]) {
		of, completes = args[0], strings.HasPrefix(args[0], cobra.ShellCompRequestCmd)
	}
	if completes {
		of = ""
	}
	root := &cobra.Command{
		Use:   "sentier",
		Short: "Who may view and control which device, and when",
		Long: `Sentier decides who may view and control which device, and when, and says why.

A service answers over HTTP; these commands ask it. It is found by --server or
SENTIER_URL, and knows you by SENTIER_TOKEN or by “sentier sign-in”.`,
		Example: `  sentier demo
  sentier check tomas.field control twin-bridge-north --at "2026-11-24 10:00"`,
		SilenceUsage:  true,
		SilenceErrors: true,
	}
	root.PersistentFlags().StringVar(&a.server, "server", "", "address of the service (default: SENTIER_URL, then the last sign-in, then "+defaultServer+")")
	root.PersistentFlags().StringVar(&a.format, "format", "table", "how answers are written: table, json, yaml or csv")
	root.PersistentFlags().BoolVar(&a.wide, "wide", false, "write every cell of a table in full, however wide the terminal is")
	root.PersistentFlags().StringVar(&a.language, "language", a.env("SENTIER_LANGUAGE"), "in which the service says why: en or fr (default: SENTIER_LANGUAGE, then en)")
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		if slices.Contains(formats, a.format) {
			return nil
		}
		return fmt.Errorf("--format %q is not known: write table, json, yaml or csv", a.format)
	}
	root.AddCommand(a.demo(), a.serve(), a.follow(), a.config(), a.machine(), a.promote(), a.gate(), a.snapshot(), a.init(), a.check(), a.policy(), a.expect(), a.draft(), a.upkeep(), a.review(), a.source(), a.hook(), a.feed(), a.signIn(), a.signOut(), a.setUp(), a.token(), a.version(), a.find(), a.settings(), a.importSheet(), a.exportSheet(), a.reach(), a.matrix(), a.welcome(), a.password(), a.session(), a.secondFactor(), a.verify(), a.backup(), a.restore(), a.recover(), a.recoverOwner(), a.audit(), a.history(), a.serviceSettings(), a.mine(), a.request(), a.manual())
	root.AddCommand(a.nouns(of)...)
	a.past(root)
	refuseUnknown(root)
	nameValues(root)
	if completes {
		a.complete(root)
	}
	return root
}

// refuseUnknown lets a command that only holds others refuse what is none of them, which Cobra would answer with help.
func refuseUnknown(cmd *cobra.Command) {
	for _, sub := range cmd.Commands() {
		refuseUnknown(sub)
	}
	if !cmd.HasSubCommands() || cmd.Runnable() {
		return
	}
	cmd.SuggestionsMinimumDistance = 2
	cmd.Args = func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return nil
		}
		hint := ""
		if near := cmd.SuggestionsFor(args[0]); len(near) > 0 {
			hint = ": did you mean " + strings.Join(near, " or ") + "?"
		}
		return fmt.Errorf("%q has no command %q%s (“%s --help” lists them)", cmd.CommandPath(), args[0], hint, cmd.CommandPath())
	}
	cmd.RunE = func(cmd *cobra.Command, _ []string) error { return cmd.Help() }
}

// variable reads a variable of the environment.
func (p Program) variable(name string) (value string, set bool) {
	if p.LookupEnv == nil {
		return os.LookupEnv(name)
	}
	return p.LookupEnv(name)
}

// env is a variable of the environment, empty where it is not set.
func (p Program) env(name string) string {
	value, _ := p.variable(name)
	return value
}

const defaultServer = "http://127.0.0.1:7480"

// client finds the service and the credential. A kept sign-in is only ever sent where it was made.
func (a *app) client() (*client.Client, error) {
	kept, err := a.readSignIn()
	if err != nil {
		return nil, err
	}
	base := a.server
	if base == "" {
		base = a.env("SENTIER_URL")
	}
	if base == "" {
		base = kept.Server
	}
	if base == "" {
		base = defaultServer
	}
	if !strings.Contains(base, "://") {
		base = "http://" + base
	}
	base = strings.TrimSuffix(base, "/")
	c := &client.Client{Base: base, Token: a.env("SENTIER_TOKEN"), Language: a.language, AsOf: a.asOf}
	if c.Token == "" && kept.Server == base {
		c.Token = kept.Token
	}
	return c, nil
}

// asOfPast are the commands that can ask of the policy as it was, beside those that list and show records.
var asOfPast = []string{"check", "matrix", "find", "policy dump", "reach user", "reach device", "reach group", "user as-seen", "settings", "expect prove"}

// past gives the commands that ask a question a flag for the policy that it is asked of.
func (a *app) past(root *cobra.Command) {
	paths := asOfPast
	for _, n := range allNouns {
		paths = append(paths, n.word+" list", n.word+" show", n.word+" uses")
	}
	for _, path := range paths {
		cmd, rest, err := root.Find(strings.Fields(path))
		if err != nil || len(rest) > 0 {
			continue // kinds and mandates have no uses
		}
		cmd.Flags().StringVar(&a.asOf, "as-of", "", "ask of the policy as it was: at a revision, or at a time, which is what the time is taken to be then")
	}
}

func (a *app) version() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Tell the version and the commit it was built from", Args: cobra.NoArgs,
		Example: "  sentier version",
		RunE: func(*cobra.Command, []string) error {
			s := sheet{head: []string{"VERSION", "COMMIT"}, rows: [][]string{{a.Version, a.Commit}}}
			return a.print(map[string]string{"version": a.Version, "commit": a.Commit}, s)
		},
	}
}
