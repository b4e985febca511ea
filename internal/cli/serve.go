package cli

import (
	"bufio"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"sentier/internal/daemon"
	"sentier/internal/demo"
	"sentier/internal/document"
	"sentier/internal/mail"
	"sentier/internal/policy"
)

const defaultListen = "127.0.0.1:7480"

func (a *app) logger(level slog.Level) *slog.Logger {
	return slog.New(slog.NewTextHandler(a.Err, &slog.HandlerOptions{Level: level}))
}

func (a *app) serve() *cobra.Command {
	v := serving{Program: a.Program}
	cmd := &cobra.Command{
		Use: "serve --data DIR", Short: "Run the service", Args: cobra.NoArgs,
		Long: `Run the service until it is ended with SIGTERM or Ctrl-C.

The database DIR/sentier.db is made where it is missing. A service without a
policy answers nothing but /healthz, until “sentier init” has made its first owner.
Each flag can stand in the environment as well (SENTIER_LISTEN for --listen), or in a
YAML file that --config names; “sentier config” shows what holds, and from where.
With --nats and --sealing-key it is one of several machines that may write: it writes where
none does, and else stands by, with all that it needs to go on (docs/operations.md).
A socket that was passed to it, as systemd does, takes the place of --listen: then a new
process can be started before the old one is stopped. It answers as soon as that one has
ended, and connections wait until then.`,
		Example: `  sentier init --data /var/lib/sentier --owner ines.carvalho
  sentier serve --data /var/lib/sentier
  sentier serve --config /etc/sentier/sentier.yaml`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			o, err := v.options(a)
			if err != nil {
				return err
			}
			o.Log = a.logger(slog.LevelInfo)
			if o.Socket, err = daemon.Passed(); err != nil {
				return err
			}
			if o.Peers != nil {
				return a.serveAsOne(cmd.Context(), o)
			}
			d, err := daemon.Open(cmd.Context(), o)
			if err != nil {
				return err
			}
			a.answers(d)
			return d.Run(cmd.Context())
		},
	}
	v.register(cmd)
	return cmd
}

// answers says where a service answers, and how somebody becomes its owner where it has none.
func (a *app) answers(d *daemon.Daemon) {
	fmt.Fprintf(a.Err, "Sentier %s answers at %s\n", a.Version, d.Address())
	if d.HasOwner() {
		return
	}
	code, _ := d.Service.MakeSetUpCode()
	fmt.Fprintf(a.Err, "There is no owner yet. Whoever has this code becomes the first one; it is good once, and for an hour:\n\n  %s\n\nGive it at %s, or in another terminal:\n\n  sentier set-up --server %s --name \"Your Name\"\n\n", code, d.Address(), d.Address())
}

// serveAsOne runs a machine that is one of several that may write.
func (a *app) serveAsOne(ctx context.Context, o daemon.Options) error {
	name, key, err := daemon.Machine(o)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.Err, "This machine is %s. The others that may write, and those that follow, trust it with\n\n  --writer-key %s\n\n", name, key)
	m, err := daemon.OpenMember(ctx, o)
	if err != nil {
		return err
	}
	if m.Writes() {
		a.answers(m.Now())
	} else {
		fmt.Fprintf(a.Err, "Sentier %s answers at %s, and stands by: from revision %d\n", a.Version, m.Address(), m.Now().Service.State().Revision.Number)
	}
	return m.Run(ctx)
}

// required is a flag without which a command says nothing.
func required(cmd *cobra.Command, into *string, name, usage string) {
	cmd.Flags().StringVar(into, name, "", usage+" (required)")
	must(cmd.MarkFlagRequired(name))
}

// must is for what cannot fail but by a mistake in this package.
func must(err error) {
	if err != nil {
		panic(err)
	}
}

func (a *app) demo() *cobra.Command {
	o := daemon.Options{Console: a.Console, Version: a.Version}
	var people, devices int
	var at string
	var letters, feeds, gate, machines bool
	cmd := &cobra.Command{
		Use: "demo", Short: "Run the service with the demo data", Args: cobra.NoArgs,
		Long: `Run the service with the Larkmere Navigation, a made-up waterway of some sixty
people and 180 devices: in a fresh temporary folder that goes when the demo ends,
unless --data is given. With --people and --devices the waterway has grown by as many
in 250 districts, with 20,000 lines of grants: for a look at large lists.
Its dates lie around the day on which it starts: a contract ends this Friday, the
regatta is the weekend after next. With --at its clock starts at another time.
With --machines it runs on seven machines, each a process of its own on this one: what is
typed cuts their lines, kills them and starts them again, and shows what comes of it.`,
		Example: `  sentier demo --listen 127.0.0.1:7481
  sentier demo --at "2026-11-24 10:00"
  sentier demo --people 100000 --devices 100000
  sentier demo --machines`,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if machines {
				for _, name := range []string{"data", "at", "mail", "feeds", "gate", "people", "devices"} {
					if cmd.Flags().Changed(name) {
						return fmt.Errorf("--machines goes without --%s", name)
					}
				}
				return a.demoMachines(cmd.Context(), o.Listen)
			}
			if o.Dir == "" {
				if o.Dir, err = os.MkdirTemp("", "sentier-demo-"); err != nil {
					return err
				}
				defer func() { err = errors.Join(err, os.RemoveAll(o.Dir)) }()
			}
			o.Log = a.logger(slog.LevelWarn)
			now := a.Now()
			if at != "" {
				if now, err = document.ParseInstant(at, now, demo.Home()); err != nil {
					return fmt.Errorf("--at: %w", err)
				}
				o.Clock = daemon.ClockFrom(now)
			}
			if letters {
				done, err := a.standIn(&o)
				if err != nil {
					return err
				}
				defer done()
			}
			if feeds {
				done, err := a.standInFeeds(o.Log)
				if err != nil {
					return err
				}
				defer done()
			}
			p, err := a.demoPolicy(people, devices, now)
			if err != nil {
				return err
			}
			return a.runDemo(cmd.Context(), o, p, now, gate)
		},
	}
	cmd.Flags().StringVar(&o.Dir, "data", "", "folder of the database (default: a temporary one)")
	cmd.Flags().StringVar(&o.Listen, "listen", defaultListen, "address to answer at")
	cmd.Flags().StringVar(&at, "at", "", "start the clock at this time: RFC 3339, or local time of the navigation such as “2026-11-24 10:00” (default: now)")
	cmd.Flags().BoolVar(&letters, "mail", false, "send links and requests by mail, to a stand-in that prints every letter here")
	cmd.Flags().BoolVar(&feeds, "feeds", false, "stand in for the office and the plant: a calendar and a list of devices, to be read as sources")
	cmd.Flags().BoolVar(&gate, "gate", false, "run a gate as well, and stand in for a lock, a bridge and a pump that ask it, on a page of their own")
	cmd.Flags().BoolVar(&machines, "machines", false, "run it on many machines: three of which one writes, two that follow, and two gates with their panels; each can be cut off and killed")
	cmd.Flags().IntVar(&people, "people", 0, "how many more people")
	cmd.Flags().IntVar(&devices, "devices", 0, "how many more devices")
	cmd.AddCommand(a.demoMachine())
	return cmd
}

// standInFeeds gives the office's calendar and the plant's list of devices at an address of this machine.
func (a *app) standInFeeds(log *slog.Logger) (done func(), err error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("stand in for the office: %w", err)
	}
	server := &http.Server{Handler: http.FileServerFS(demo.Outside()), ReadHeaderTimeout: 10 * time.Second}
	go func() {
		if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
			log.Error("the stand-in for the office has ended", "error", err)
		}
	}()
	fmt.Fprintf(a.Out, `The office and the plant, to be read as sources:

  sentier source add "Office calendar" --calendar --url http://%[1]s/navigation.ics --days-of Closed=closures --days-named "Regatta=regatta"
  sentier source add "Plant register" --inventory csv --url http://%[1]s/devices.csv
  sentier source add "Plant register, as lines" --inventory jsonl --url http://%[1]s/devices.jsonl

`, listener.Addr())
	return func() { _ = server.Close() }, nil
}

// standIn has the demonstration send mail, to a server that prints every letter.
func (a *app) standIn(o *daemon.Options) (done func(), err error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("stand in for a server of mail: %w", err)
	}
	stand := &mail.StandIn{Taken: func(l mail.Letter) { fmt.Fprintf(a.Out, "\nA letter to %s: %s\n\n%s\n", l.To, l.Subject, l.Text) }}
	go func() {
		if err := stand.Serve(listener); err != nil && !errors.Is(err, net.ErrClosed) {
			o.Log.Error("the stand-in for a server of mail has ended", "error", err)
		}
	}()
	o.Mail, err = mail.ParseSMTP("smtp+plain://"+listener.Addr().String(), "", "sentier@larkmere.example")
	return func() { listener.Close() }, err
}

// mostGrown bounds how many more people and devices the demonstration can have.
const mostGrown = 2_000_000

func (a *app) demoPolicy(people, devices int, now time.Time) (*policy.Policy, error) {
	if people < 0 || devices < 0 || people > mostGrown || devices > mostGrown {
		return nil, fmt.Errorf("--people and --devices go from 0 to %d", mostGrown)
	}
	if people+devices == 0 {
		return demo.At(now)
	}
	fmt.Fprintf(a.Err, "Making %d more people and %d more devices …\n", people, devices)
	return demo.GrownAt(people, devices, now)
}

func (a *app) runDemo(ctx context.Context, o daemon.Options, p *policy.Policy, now time.Time, gate bool) error {
	d, err := daemon.Open(ctx, o)
	if err != nil {
		return err
	}
	password := "larkmere-" + strings.ToLower(rand.Text()[:8])
	err = d.Prepare(ctx, daemon.Beginning{Owner: demo.Owner, Password: password, Policy: p, Demo: true})
	var token string
	if err == nil {
		token, err = d.OwnerToken(ctx, demo.Owner, "demo")
	}
	if err != nil {
		return errors.Join(err, d.Close())
	}
	clock := ""
	if o.Clock != nil {
		clock = "  Clock     started at " + now.In(demo.Home()).Format("Mon 2 Jan 2006 15:04 MST") + "\n"
	}
	fmt.Fprintf(a.Out, `Sentier %[1]s, with the Larkmere Navigation

  Console   %[2]s
  Sign in   %[3]s
  Password  %[4]s
%[7]s
For the command line, in another terminal:

  export SENTIER_URL=%[2]s SENTIER_TOKEN=%[5]s

Three commands to try:

  %[6]s check tomas.field control twin-bridge-north --at "%[8]s 10:00"
  %[6]s check agnes.lindqvist control alder-gate-1 --at "%[8]s 20:00"
  %[6]s policy dump | head -40

Ctrl-C ends the demo.
`, a.Version, d.Address(), demo.Owner, password, token, programName(), clock, demo.Week("2026-11-24", now))
	if !gate {
		return d.Run(ctx)
	}
	ctx, cancel := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() {
		defer cancel() // neither goes on alone
		err := a.standInGate(ctx, d, o, token)
		if ctx.Err() != nil {
			err = nil // the demonstration has ended
		}
		ended <- err
	}()
	err = d.Run(ctx)
	cancel()
	return errors.Join(err, <-ended)
}

// programName is how a shell finds this program: by its name where it is on the path, else by its place.
func programName() string {
	self, err := os.Executable()
	if err != nil {
		return "sentier"
	}
	if found, err := exec.LookPath("sentier"); err == nil && found == self {
		return "sentier"
	}
	return self
}

func (a *app) init() *cobra.Command {
	var dir, owner, name, file string
	cmd := &cobra.Command{
		Use: "init --data DIR --owner USER", Short: "Make the first owner of a new policy", Args: cobra.NoArgs,
		Long: `Make the first revision of the policy in DIR, with an owner who can sign in. The
password is asked for, or read from standard input where that is no terminal.
A service that already runs on DIR takes it up within a second.`,
		Example: `  sentier init --data /var/lib/sentier --owner ines.carvalho --name "Ines Carvalho"
  sentier init --data /var/lib/sentier --owner ines.carvalho --policy larkmere.yaml < password.txt`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			b := daemon.Beginning{Owner: policy.UserID(owner), Name: name}
			if file != "" {
				p, err := a.readPolicy(file)
				if err != nil {
					return a.notSound(file, err)
				}
				b.Policy = p
			}
			var err error
			if b.Password, err = a.askPassword("Password for "+owner+": ", true); err != nil {
				return err
			}
			if err := daemon.Begin(cmd.Context(), dir, b, a.Now()); err != nil {
				return err
			}
			fmt.Fprintf(a.Err, "%s is the owner. Start the service with “sentier serve --data %s”.\n", owner, dir)
			return nil
		},
	}
	required(cmd, &dir, "data", "folder of the database")
	required(cmd, &owner, "owner", "id of the first owner")
	cmd.Flags().StringVar(&name, "name", "", "name of the first owner")
	cmd.Flags().StringVar(&file, "policy", "", "policy document to begin with")
	return cmd
}

// askPasswords asks for several on the terminal, the last twice, or reads a line each.
func (a *app) askPasswords(prompts ...string) ([]string, error) {
	out := make([]string, len(prompts))
	if !a.onTerminal() {
		lines := bufio.NewReader(a.In)
		for i := range out {
			line, err := lines.ReadString('\n')
			if err != nil && !errors.Is(err, io.EOF) {
				return nil, fmt.Errorf("read the password: %w", err)
			}
			out[i] = strings.TrimRight(line, "\r\n")
		}
		return out, nil
	}
	for i, prompt := range prompts {
		var err error
		if out[i], err = a.askPassword(prompt, i == len(prompts)-1); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// askPassword asks on the terminal without echo, twice where it is a new one, or reads a line.
func (a *app) askPassword(prompt string, twice bool) (string, error) {
	if !a.onTerminal() {
		line, err := bufio.NewReader(a.In).ReadString('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return "", fmt.Errorf("read the password: %w", err)
		}
		return strings.TrimRight(line, "\r\n"), nil
	}
	read := func(prompt string) (string, error) {
		fmt.Fprint(a.Err, prompt)
		password, err := term.ReadPassword(int(a.In.(*os.File).Fd()))
		fmt.Fprintln(a.Err)
		return string(password), err
	}
	password, err := read(prompt)
	if err != nil || !twice {
		return password, err
	}
	again, err := read("Once more: ")
	if err == nil && again != password {
		err = errors.New("the two passwords differ: try again")
	}
	return password, err
}

func (a *app) readPolicy(file string) (*policy.Policy, error) {
	data, err := a.readFile(file)
	if err != nil {
		return nil, err
	}
	return document.ReadPolicy(data)
}

// readFile reads a file, or standard input for "-".
func (a *app) readFile(file string) ([]byte, error) {
	if file == "-" {
		return readAll(a.In)
	}
	return os.ReadFile(file)
}
