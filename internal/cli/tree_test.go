package cli

import (
	"bytes"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// leaves lists the commands that do something, and heads those that only hold others.
func leaves(t *testing.T) (leaves, heads []*cobra.Command) {
	t.Helper()
	root := (&app{Program: Program{In: strings.NewReader(""), Out: &bytes.Buffer{}, Err: &bytes.Buffer{}}}).root(nil)
	var walk func(*cobra.Command)
	walk = func(cmd *cobra.Command) {
		if cmd.HasSubCommands() {
			heads = append(heads, cmd)
		} else {
			leaves = append(leaves, cmd)
		}
		for _, sub := range cmd.Commands() {
			walk(sub)
		}
	}
	walk(root)
	if len(leaves) < 100 {
		t.Fatalf("only %d commands are found: the search is broken", len(leaves))
	}
	return leaves, heads
}

func ran(args ...string) (code int, out, errOut string) {
	var o, e bytes.Buffer
	code = Program{In: strings.NewReader(""), Out: &o, Err: &e}.Run(args)
	return code, o.String(), e.String()
}

// TestEveryCommandExplainsItself: what it is for, an example that is a call of it, and what each of its flags means.
func TestEveryCommandExplainsItself(t *testing.T) {
	commands, heads := leaves(t)
	for _, cmd := range append(commands, heads...) {
		path := cmd.CommandPath()
		if cmd.Short == "" || strings.HasSuffix(cmd.Short, ".") {
			t.Errorf("%s is explained as %q", path, cmd.Short)
		}
		cmd.Flags().VisitAll(func(f *pflag.Flag) {
			if f.Usage == "" {
				t.Errorf("%s does not say what --%s is", path, f.Name)
			}
			if goTypes[f.Value.Type()] {
				t.Errorf("the help of %s calls what --%s takes by its type in Go, %s", path, f.Name, f.Value.Type())
			}
		})
		if !cmd.Runnable() || cmd.HasSubCommands() {
			continue
		}
		if cmd.Example == "" {
			t.Errorf("%s has no example", path)
		}
		for _, line := range strings.Split(cmd.Example, "\n") {
			if line != "" && (!strings.HasPrefix(line, "  ") || !strings.Contains(cmd.Example, path)) {
				t.Errorf("an example of %s is %q", path, line)
			}
		}
	}
}

// TestWhatACommandDoesNotKnowIsRefused: a flag, a command or one argument more ends with 2, on standard error, before anything is done.
func TestWhatACommandDoesNotKnowIsRefused(t *testing.T) {
	t.Setenv("SENTIER_URL", "http://127.0.0.1:1") // where nobody answers
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	commands, heads := leaves(t)
	refused := func(what string, args ...string) {
		t.Helper()
		code, out, errOut := ran(args...)
		if code != exitError || out != "" || !strings.Contains(errOut, what) || strings.Contains(errOut, "connection refused") {
			t.Errorf("sentier %s: %d\n%s%s", strings.Join(args, " "), code, out, errOut)
		}
	}
	for _, cmd := range commands {
		path := strings.Fields(cmd.CommandPath())[1:]
		refused("--no-such-flag", append(path, "--no-such-flag")...)
		if path[0] != "completion" && !strings.Contains(cmd.Use, "...") && !strings.Contains(cmd.Use, "…") { // which take any number
			refused("", append(path, "a", "b", "c", "d", "e", "f", "g", "h")...)
		}
	}
	for _, cmd := range heads {
		refused(`"frobnicate"`, append(strings.Fields(cmd.CommandPath())[1:], "frobnicate")...)
	}
}

// TestHelpIsGivenWhereItIsAskedFor: on standard output, with 0.
func TestHelpIsGivenWhereItIsAskedFor(t *testing.T) {
	commands, heads := leaves(t)
	for _, cmd := range append(commands, heads...) {
		code, out, errOut := ran(append(strings.Fields(cmd.CommandPath())[1:], "--help")...)
		if code != 0 || !strings.Contains(out, "Usage:") || errOut != "" {
			t.Errorf("%s --help: %d\n%s%s", cmd.CommandPath(), code, out, errOut)
		}
	}
}
