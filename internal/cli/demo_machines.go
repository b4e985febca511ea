package cli

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"sentier/internal/client"
	"sentier/internal/daemon"
	"sentier/internal/demo"
	"sentier/internal/logserver"
	"sentier/internal/panel"
	"sentier/internal/wire"
)

// part is a machine of the demonstration: a process of its own.
type part struct {
	name, dir, at string
	key           string
	does          string // in words
	args          []string
	env           []string
	cable         *relay // to the servers of the log; nil: it has one of its own, which it ends and starts when it is told

	mu     sync.Mutex
	cmd    *exec.Cmd // nil: it does not run
	tell   io.Writer // to it
	ended  chan struct{}
	secret string // of a gate
	isCut  bool
}

// many is a demonstration of many machines.
type many struct {
	*app
	dir, token string
	password   string
	log        *slog.Logger
	parts      []*part
}

// The machines of the demonstration, by what they do.
var (
	demoWriters   = []string{"control-room", "works-yard", "summit"}
	demoFollowers = []string{"mill-basin", "saltmarsh"}
	demoGates     = []string{"estuary", "twin-bridges"}
)

// Variables of the environment of a machine of the demonstration.
const (
	demoServer = "SENTIER_DEMO_LOG_SERVER" // the server of the log in its process, as JSON
	demoReady  = 60 * time.Second          // in which it must answer
)

// demoMachines runs many machines until ctx ends.
func (a *app) demoMachines(ctx context.Context, listen string) (err error) {
	dir, err := os.MkdirTemp("", "sentier-demo-")
	if err != nil {
		return err
	}
	m := &many{app: a, dir: dir, log: a.logger(slog.LevelWarn), password: "larkmere-" + strings.ToLower(rand.Text()[:8])}
	defer func() { err = errors.Join(err, m.stop(), os.RemoveAll(dir)) }()
	fmt.Fprintln(a.Err, "Starting three machines that may write, two that follow, and two gates …")
	if err := m.lay(ctx, listen); err != nil {
		return err
	}
	if err := m.startAll(ctx); err != nil {
		return err
	}
	panels, done, err := m.panels(ctx)
	if err != nil {
		return err
	}
	defer done()
	m.greet(panels)
	go m.obey(ctx)
	<-ctx.Done()
	return nil
}

// lay makes the folders of all machines, and how each is started.
func (m *many) lay(ctx context.Context, listen string) error {
	for _, name := range slices.Concat(demoWriters, demoFollowers, demoGates) {
		p := &part{name: name, dir: filepath.Join(m.dir, name), does: "may write"}
		switch {
		case slices.Contains(demoFollowers, name):
			p.does = "follows"
		case slices.Contains(demoGates, name):
			p.does = "is a gate"
		}
		m.parts = append(m.parts, p)
	}
	writers := m.parts[:len(demoWriters)]
	if err := m.seed(ctx, writers); err != nil {
		return err
	}
	free, err := logserver.FreeAddresses(len(m.parts) + 2*len(writers))
	if err != nil {
		return err
	}
	for i, p := range m.parts {
		p.at = free[i]
		if _, p.key, err = daemon.Machine(daemon.Options{Dir: p.dir, Line: daemon.Line{Machine: p.name}}); err != nil {
			return err
		}
	}
	if !strings.HasSuffix(listen, ":0") {
		writers[0].at = listen
	}
	routes, servers := free[len(m.parts):len(m.parts)+len(writers)], free[len(m.parts)+len(writers):]
	secret := rand.Text()
	for i, p := range writers {
		_, port, err := net.SplitHostPort(servers[i])
		if err != nil {
			return err
		}
		o := logserver.Options{Dir: filepath.Join(p.dir, "log-server"), Secret: secret, Name: p.name, Cluster: routes[i], Routes: routes}
		if _, err := fmt.Sscan(port, &o.Port); err != nil {
			return err
		}
		text, err := json.Marshal(o)
		if err != nil {
			return err
		}
		p.env = []string{demoServer + "=" + string(text), "SENTIER_NATS=nats://" + secret + "@" + servers[i]}
		p.args = []string{"serve", "--data", p.dir, "--listen", p.at, "--machine", p.name, "--nats-replicas", fmt.Sprint(len(writers)), "--sealing-key", filepath.Join(m.dir, "sealing.key")}
		for _, other := range writers {
			if other != p {
				p.args = append(p.args, "--writer-key", other.key)
			}
		}
	}
	for _, p := range m.parts[len(writers):] {
		if p.cable, err = newRelay(servers, m.log); err != nil {
			return err
		}
		p.env = []string{"SENTIER_NATS=nats://" + secret + "@" + p.cable.listener.Addr().String()}
		p.args = []string{"follow", "--data", p.dir, "--listen", p.at, "--machine", p.name}
		if slices.Contains(demoGates, p.name) {
			p.args[0] = "gate"
		}
		for _, w := range writers {
			p.args = append(p.args, "--writer-key", w.key)
		}
	}
	return nil
}

// seed makes the first folder, and the others of those that may write from a backup of it.
func (m *many) seed(ctx context.Context, writers []*part) (err error) {
	now := m.Now()
	p, err := demo.At(now)
	if err != nil {
		return err
	}
	d, err := daemon.Open(ctx, daemon.Options{Dir: writers[0].dir, Listen: "127.0.0.1:0", Log: m.log, Version: m.Version})
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	if err := d.Prepare(ctx, daemon.Beginning{Owner: demo.Owner, Password: m.password, Policy: p, Demo: true}); err != nil {
		return err
	}
	if m.token, err = d.OwnerToken(ctx, demo.Owner, "demo"); err != nil {
		return err
	}
	file := filepath.Join(m.dir, "backup.db")
	if err := d.Service.CopyInto(ctx, file); err != nil {
		return err
	}
	for _, other := range writers[1:] {
		if _, err := daemon.Restore(ctx, file, other.dir); err != nil {
			return err
		}
	}
	return nil
}

// startAll starts the machines, has all be admitted and the first one write.
func (m *many) startAll(ctx context.Context) error {
	for _, parts := range [][]*part{m.parts[:len(demoWriters)], m.parts[len(demoWriters):]} { // who follows needs somebody to follow
		started := make(chan error, len(parts))
		for _, p := range parts {
			go func() { started <- p.start(ctx) }()
		}
		for range parts {
			if err := <-started; err != nil {
				return err
			}
		}
	}
	for _, p := range m.parts {
		if err := m.settle(ctx, func(c *client.Client) error {
			return c.Do(ctx, "PUT", machinePath(p.name), nil, wire.AdmitMachine{Key: p.key}, nil)
		}); err != nil {
			return fmt.Errorf("admit %s: %w", p.name, err)
		}
	}
	first := m.parts[0]
	if err := m.settle(ctx, func(c *client.Client) error {
		var out wire.Machines
		if err := c.Do(ctx, "GET", "/api/v1/machines", nil, nil, &out); err != nil {
			return err
		}
		if i := slices.IndexFunc(out.List, func(x wire.Machine) bool { return x.Name == first.name }); i >= 0 && out.List[i].Role == "writer" {
			return nil
		}
		return errors.Join(c.Do(ctx, "POST", machinePath(first.name)+"/promote", nil, nil, nil), errors.New("it does not write yet"))
	}); err != nil {
		return fmt.Errorf("have %s write: %w", first.name, err)
	}
	return nil
}

// settle does something at the first machine that may fail for a moment.
func (m *many) settle(ctx context.Context, do func(c *client.Client) error) (err error) {
	c := &client.Client{Base: "http://" + m.parts[0].at, Token: m.token}
	for end := time.Now().Add(demoReady); time.Now().Before(end); {
		if err = do(c); err == nil {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(promoteLook):
		}
	}
	return err
}

// demoAnswers is what a machine says once it answers.
var (
	demoAnswers = regexp.MustCompile(`answers at (http://[0-9.:]+)`)
	demoSecret  = regexp.MustCompile(`sentier_gate_[A-Za-z0-9_-]+`)
)

// start starts a machine that does not run, and waits until it answers. What it says goes into a file beside its folder.
func (p *part) start(ctx context.Context) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.cmd != nil {
		return fmt.Errorf("%s runs", p.name)
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	log, err := os.OpenFile(p.dir+".log", os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	cmd := exec.Command(self, append([]string{"demo", "machine", "--"}, p.args...)...)
	cmd.Env = append(slices.DeleteFunc(os.Environ(), func(x string) bool { return strings.HasPrefix(x, "SENTIER_") }), p.env...)
	tell, err := cmd.StdinPipe() // with which it ends where this one does
	if err != nil {
		return errors.Join(err, log.Close())
	}
	says, err := cmd.StderrPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return errors.Join(err, log.Close())
	}
	answers, ended := make(chan bool, 1), make(chan struct{})
	go func() {
		defer close(ended)
		for lines := bufio.NewScanner(says); lines.Scan(); {
			fmt.Fprintln(log, lines.Text())
			if secret := demoSecret.FindString(lines.Text()); secret != "" {
				p.secret = secret
			}
			if demoAnswers.MatchString(lines.Text()) {
				select {
				case answers <- true:
				default:
				}
			}
		}
		_ = cmd.Wait() // its last words are in its file
		log.Close()
		close(answers)
	}()
	p.cmd, p.tell, p.ended, p.isCut = cmd, tell, ended, p.isCut && p.cable != nil
	select {
	case ok := <-answers:
		if ok {
			return nil
		}
	case <-ctx.Done():
	case <-time.After(demoReady):
	}
	text, _ := os.ReadFile(p.dir + ".log") // as far as there is any
	return fmt.Errorf("%s does not answer:\n%s", p.name, text)
}

// end ends a machine, and waits.
func (p *part) end(with os.Signal) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.cmd == nil {
		return fmt.Errorf("%s does not run", p.name)
	}
	if err := p.cmd.Process.Signal(with); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	<-p.ended
	p.cmd = nil
	return nil
}

// cut cuts the line of a machine, or mends it.
func (p *part) cut(so bool) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.isCut == so {
		return fmt.Errorf("the line of %s is %s", p.name, map[bool]string{true: "cut already", false: "not cut"}[so])
	}
	if p.cmd == nil {
		return fmt.Errorf("%s does not run", p.name)
	}
	p.isCut = so
	if p.cable != nil {
		p.cable.cut(so)
		return nil
	}
	_, err := fmt.Fprintln(p.tell, map[bool]string{true: "cut", false: "mend"}[so])
	return err
}

func (m *many) stop() error {
	ended := make(chan error, len(m.parts))
	for _, p := range m.parts {
		go func() {
			err := p.end(syscall.SIGTERM)
			if p.cable != nil {
				p.cable.listener.Close()
			}
			if p.cmd == nil {
				err = nil // it did not run
			}
			ended <- err
		}()
	}
	var err error
	for range m.parts {
		err = errors.Join(err, <-ended)
	}
	return err
}

// panels stand in for the equipment at the two gates.
func (m *many) panels(ctx context.Context) (at []string, done func(), err error) {
	var servers []*http.Server
	done = func() {
		for _, s := range servers {
			_ = s.Close() // the demonstration has ended
		}
	}
	for i, name := range demoGates {
		p := m.part(name)
		devices, place := []panel.Device{standIns[0], standIns[2]}, "estuary-gate"
		if i == 1 {
			devices, place = standIns[1:2], "twin-bridges"
		}
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			done()
			return nil, nil, fmt.Errorf("stand in for a panel: %w", err)
		}
		servers = append(servers, servePanel(ctx, listener, m.log, panel.Options{
			Gate: "http://" + p.at, Secret: p.secret, Site: "Larkmere Navigation, " + strings.ReplaceAll(name, "-", " "), Place: place, Devices: devices, People: atThePanel, Clock: m.Now,
		}))
		at = append(at, "http://"+listener.Addr().String())
	}
	return at, done, nil
}

func (m *many) part(name string) *part {
	i := slices.IndexFunc(m.parts, func(p *part) bool { return p.name == name })
	if i < 0 {
		return nil
	}
	return m.parts[i]
}

func (m *many) greet(panels []string) {
	fmt.Fprintf(m.Out, `Sentier %s, with the Larkmere Navigation on many machines

  Console   http://%s, of %s, which writes
  Sign in   %s
  Password  %s

`, m.Version, m.parts[0].at, m.parts[0].name, demo.Owner, m.password)
	for i, p := range m.parts {
		at := "http://" + p.at
		if i >= len(m.parts)-len(panels) {
			at += ", with a panel at " + panels[i-len(m.parts)+len(panels)]
		}
		fmt.Fprintf(m.Out, "  %-13s %-10s %s\n", p.name, p.does, at)
	}
	fmt.Fprintf(m.Out, `
For the command line, in another terminal:

  export SENTIER_URL=http://%[1]s SENTIER_TOKEN=%[2]s
  %[3]s machine list

Here, a line each:

  list            how each machine stands
  cut NAME        cut its line to the log; it answers on
  mend NAME       mend the line
  kill NAME       kill it
  start NAME      start it again

Try “kill control-room”, and “list” some seconds later: another one writes. Ctrl-C ends the demo.
`, m.parts[1].at, m.token, programName())
}

// obey does what is typed, until there is no more.
func (m *many) obey(ctx context.Context) {
	for lines := bufio.NewScanner(m.In); lines.Scan() && ctx.Err() == nil; {
		words := strings.Fields(lines.Text())
		if len(words) == 0 {
			continue
		}
		if err := m.does(ctx, words); err != nil {
			fmt.Fprintln(m.Err, "sentier: "+err.Error())
		}
	}
}

var errDemoWords = errors.New("write list, or cut, mend, kill or start and the name of a machine")

// does does one thing that was typed.
func (m *many) does(ctx context.Context, words []string) error {
	if words[0] == "list" && len(words) == 1 {
		return m.list(ctx)
	}
	if len(words) != 2 {
		return errDemoWords
	}
	p := m.part(words[1])
	if p == nil {
		return fmt.Errorf("%q is no machine of the demonstration", words[1])
	}
	said := ""
	var err error
	switch words[0] {
	case "cut":
		said, err = "The line of "+p.name+" is cut.", p.cut(true)
	case "mend":
		said, err = "The line of "+p.name+" is mended.", p.cut(false)
	case "kill":
		said, err = p.name+" is killed.", p.end(syscall.SIGKILL)
	case "start":
		said, err = p.name+" runs again.", p.start(ctx)
	default:
		err = errDemoWords
	}
	if err == nil {
		fmt.Fprintln(m.Out, said)
	}
	return err
}

// list prints how each machine stands, as the first one tells it that can.
func (m *many) list(ctx context.Context) error {
	known := map[string]wire.Machine{}
	err := errors.New("no machine runs that could tell")
	for _, p := range m.parts[:len(demoWriters)+len(demoFollowers)] {
		if !p.runs() {
			continue
		}
		var out wire.Machines
		limited, cancel := context.WithTimeout(ctx, 2*time.Second)
		err = (&client.Client{Base: "http://" + p.at, Token: m.token}).Do(limited, "GET", "/api/v1/machines", nil, nil, &out)
		cancel()
		if err == nil {
			for _, x := range out.List {
				known[x.Name] = x
			}
			break
		}
	}
	s := sheet{head: []string{"MACHINE", "HERE", "ROLE", "STATE", "REVISION"}}
	for _, p := range m.parts {
		x, revision := known[p.name], ""
		if x.Revision > 0 {
			revision = fmt.Sprint(x.Revision)
		}
		s.rows = append(s.rows, []string{p.name, p.stands(), x.Role, machineStates[x.State], revision})
	}
	if err != nil {
		fmt.Fprintln(m.Err, "sentier: how the machines see each other is not known now: "+err.Error())
	}
	return m.print(known, s)
}

func (p *part) runs() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.cmd != nil
}

// stands is what was done to a machine here.
func (p *part) stands() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case p.cmd == nil:
		return "does not run"
	case p.isCut:
		return "runs, its line is cut"
	}
	return "runs"
}

// demoMachine is a machine of the demonstration, which that starts itself: a command of the program, and a server of the log in its process where it has one. It
// ends with whoever has started it.
func (a *app) demoMachine() *cobra.Command {
	return &cobra.Command{
		Use: "machine -- COMMAND ...", Short: "One machine of “demo --machines”, which starts it", Hidden: true, Args: cobra.MinimumNArgs(1),
		Example: "  sentier demo machine -- serve --data DIR",
		RunE: func(_ *cobra.Command, args []string) error {
			var server *logserver.Server
			var o logserver.Options
			text, cluster := a.variable(demoServer)
			if cluster {
				err := json.Unmarshal([]byte(text), &o)
				if err == nil {
					server, err = logserver.Start(o)
				}
				if err != nil {
					return err
				}
			}
			go func() {
				for lines := bufio.NewScanner(a.In); lines.Scan() && cluster; {
					switch line := lines.Text(); {
					case line == "cut" && server != nil:
						server.Stop()
						server = nil
					case line == "mend" && server == nil:
						var err error
						if server, err = logserver.Start(o); err != nil {
							fmt.Fprintln(a.Err, "sentier: "+err.Error())
						}
					}
				}
				_ = syscall.Kill(os.Getpid(), syscall.SIGTERM) // whoever has started it is gone
			}()
			inner := a.Program
			inner.In = strings.NewReader("")
			if code := inner.Run(args); code != exitYes {
				return answered{code}
			}
			return nil
		},
	}
}
