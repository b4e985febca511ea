package cli

import (
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"sentier/internal/daemon"
	"sentier/internal/wire"
)

func (a *app) follow() *cobra.Command {
	v := serving{Program: a.Program, follows: true}
	cmd := &cobra.Command{
		Use: "follow --nats URL --writer-key KEY --data DIR", Short: "Run a machine that follows the one that writes, and answers beside it", Args: cobra.NoArgs,
		Long: `Run a machine that has all of the policy of the one that writes, moments after it: by the
log of revisions that “sentier serve --nats” keeps, each signed. It answers all questions
by itself, also when the line is cut, and says with each answer how old it may be; what
changes anything, and what is kept elsewhere, goes on to the machine that writes.
What it records goes into the one record, once “sentier machine add” has admitted it there.`,
		Example: `  sentier follow --nats nats://127.0.0.1:4222 --writer-key KEY --data /var/lib/sentier --listen 127.0.0.1:7482`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			o, err := v.options(a)
			if err != nil {
				return err
			}
			o.Log = a.logger(slog.LevelInfo)
			if o.Socket, err = daemon.Passed(); err != nil {
				return err
			}
			name, key, err := daemon.Machine(o)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "This machine is %s. For what it records to come into the one record, admit it there:\n\n  sentier machine add %s --key %s\n\n", name, name, key)
			d, err := daemon.Open(cmd.Context(), o)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "Sentier %s answers at %s, from revision %d\n", a.Version, d.Address(), d.Service.State().Revision.Number)
			return d.Run(cmd.Context())
		},
	}
	v.register(cmd)
	return cmd
}

func (a *app) machine() *cobra.Command {
	cmd := &cobra.Command{
		Use: "machine", Short: "The machines on which the service runs: which revision each answers from",
		Long: `One machine writes, and others follow it and answer beside it. Each says how it stands;
those that were admitted have what they record in the one record.`,
		Example: "  sentier machine list\n  sentier machine add estuary --key KEY",
	}
	cmd.AddCommand(a.machineList(), a.machineAdd(), a.machineRemove())
	return cmd
}

func machinePath(name string) string { return "/api/v1/machines/" + url.PathEscape(name) }

// machineStates are the states of a machine in words.
var machineStates = map[string]string{
	wire.MachineFine: "fine", wire.MachineBehind: "behind", wire.MachineSilent: "not heard of", wire.MachineUnknown: "not admitted", wire.MachineForged: "has another key", wire.MachineUnstarted: "never heard of",
}

// machineState is the state of a machine, and by how much its clock differs.
func machineState(m *wire.Machine) string {
	if m.State != wire.MachineClock {
		return machineStates[m.State]
	}
	ahead := time.Duration(m.Ahead * float64(time.Second)).Round(time.Second)
	if ahead < 0 {
		return fmt.Sprintf("its clock is %s behind", -ahead)
	}
	return fmt.Sprintf("its clock is %s ahead", ahead)
}

func (a *app) machineList() *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "All machines, and how each stands", Args: cobra.NoArgs, Example: "  sentier machine list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var out wire.Machines
			if err := c.Do(cmd.Context(), "GET", "/api/v1/machines", nil, nil, &out); err != nil {
				return err
			}
			if out.Alone {
				fmt.Fprintln(a.Err, "The service runs on this machine alone: “sentier serve --nats” lets others follow it.")
			}
			s := sheet{head: []string{"MACHINE", "ROLE", "STATE", "REVISION", "BEHIND", "UP TO DATE", "HEARD", "ASKED/S", "WAITING", "VERSION", "AT"}}
			for i := range out.List {
				m := &out.List[i]
				s.rows = append(s.rows, []string{m.Name, m.Role, machineState(m), fmt.Sprint(m.Revision), fmt.Sprint(m.Behind), used(m.Since), used(m.Said), fmt.Sprintf("%.0f", m.Asked), fmt.Sprint(m.Waiting), m.Version, m.URL})
			}
			return a.print(out, s)
		},
	}
}

// Times of a machine that is to write.
const (
	promoteTime = 30 * time.Second // in which it must
	promoteLook = 300 * time.Millisecond
)

func (a *app) promote() *cobra.Command {
	return &cobra.Command{
		Use: "promote MACHINE", Short: "Have a machine that stands by write, in the place of the one that does", Args: exactly("MACHINE"),
		Long: `Have a machine that stands by write, in the place of the one that does, which then stands
by itself: before that one is stopped for a while, or to bring the writing back. Nothing
that was saved is lost, and what is asked is answered all the time. A machine that fails
needs no such word: one that stands by takes over by itself.`,
		Example: "  sentier promote estuary",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := c.Do(cmd.Context(), "POST", machinePath(args[0])+"/promote", nil, nil, nil); err != nil {
				return err
			}
			var last error
			for end := time.Now().Add(promoteTime); time.Now().Before(end); time.Sleep(promoteLook) {
				var out wire.Machines
				if last = c.Do(cmd.Context(), "GET", "/api/v1/machines", nil, nil, &out); last != nil {
					continue // whom this goes to is just finding out who writes
				}
				if slices.ContainsFunc(out.List, func(m wire.Machine) bool { return m.Name == args[0] && m.Role == "writer" }) {
					fmt.Fprintf(a.Err, "%s writes.\n", args[0])
					return nil
				}
			}
			return errors.Join(fmt.Errorf("%s was told to write, and does not after %s: see “sentier machine list”", args[0], promoteTime), last)
		},
	}
}

func (a *app) machineAdd() *cobra.Command {
	var in wire.AdmitMachine
	cmd := &cobra.Command{
		Use: "add MACHINE --key KEY", Short: "Admit a machine by its key: what it records comes into the one record", Args: exactly("MACHINE"), Example: "  sentier machine add estuary --key KEY",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if err := c.Do(cmd.Context(), "PUT", machinePath(args[0]), nil, in, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "%s is admitted: what it records comes into the one record.\n", args[0])
			return nil
		},
	}
	required(cmd, &in.Key, "key", "its public key, which it prints when it starts")
	return cmd
}

func (a *app) machineRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove MACHINE", Short: "Take a machine away: what it records from now on comes into no record", Args: exactly("MACHINE"), Example: "  sentier machine remove estuary",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			return c.Do(cmd.Context(), "DELETE", machinePath(args[0]), nil, nil, nil)
		},
	}
}
