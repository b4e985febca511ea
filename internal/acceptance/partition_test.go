package acceptance

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"sentier/internal/logserver"
)

// Variables of the environment by which this program is another.
const (
	asLogServer  = "SENTIER_TEST_LOG_SERVER" // a server of the log, with these options
	inNetwork    = "SENTIER_TEST_NETWORK"    // the test in a network of its own
	builtAlready = "SENTIER_TEST_BINARY"     // the program was built by whoever has started the test
)

// serveLog is a server of the log as a process of its own.
func serveLog(text string) {
	var o logserver.Options
	err := json.Unmarshal([]byte(text), &o)
	if err == nil {
		_, err = logserver.Start(o)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	select {}
}

// cabling is one of several machines with a bridge between them, each by a cable that can be pulled. Its own network is that of the bridge, and reaches each
// machine by another cable, which stays.
type cabling struct {
	t  *testing.T
	of []string // process by which the network of each is known
}

// command is one in the network of a machine.
func (n *cabling) command(i int, cmd *exec.Cmd) *exec.Cmd {
	in := exec.Command("nsenter", append([]string{"-t", n.of[i], "-n", cmd.Path}, cmd.Args[1:]...)...)
	in.Env = cmd.Env
	return in
}

func (n *cabling) must(cmd *exec.Cmd) {
	n.t.Helper()
	if out, err := cmd.CombinedOutput(); err != nil {
		n.t.Fatalf("%s: %v\n%s", cmd, err, out)
	}
}

func (n *cabling) ip(args ...string) { n.t.Helper(); n.must(exec.Command("ip", args...)) }

func (n *cabling) ipOf(i int, args ...string) {
	n.t.Helper()
	n.must(n.command(i, exec.Command("ip", args...)))
}

// Addresses of documentation (RFC 5737), which lead nowhere else.
func onBridge(i int) string    { return fmt.Sprintf("192.0.2.%d", i+1) }
func direct(i, end int) string { return fmt.Sprintf("198.51.100.%d", 4*i+end) }

// startCabling makes the networks of so many machines.
func startCabling(t *testing.T, count int) *cabling {
	t.Helper()
	n := &cabling{t: t}
	n.ip("link", "set", "lo", "up")
	n.ip("link", "add", "bridge", "type", "bridge")
	n.ip("link", "set", "bridge", "up")
	for i := range count {
		held := exec.Command("unshare", "--net", "sleep", "infinity")
		held.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		if err := held.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = held.Process.Kill(); _ = held.Wait() }) // it ends by no other way
		pid := strconv.Itoa(held.Process.Pid)
		n.of = append(n.of, pid)
		(&world{t: t}).soon("it has a network of its own", func() bool {
			its, err := os.Readlink("/proc/" + pid + "/ns/net")
			mine, _ := os.Readlink("/proc/self/ns/net")
			return err == nil && its != mine
		})
		cable, other := fmt.Sprintf("cable-%d", i), fmt.Sprintf("direct-%d", i)
		n.ip("link", "add", cable, "type", "veth", "peer", "name", "cable", "netns", pid)
		n.ip("link", "set", cable, "master", "bridge", "up")
		n.ip("link", "add", other, "type", "veth", "peer", "name", "direct", "netns", pid)
		n.ip("addr", "add", direct(i, 1)+"/30", "dev", other)
		n.ip("link", "set", other, "up")
		n.ipOf(i, "addr", "add", onBridge(i)+"/24", "dev", "cable")
		n.ipOf(i, "addr", "add", direct(i, 2)+"/30", "dev", "direct")
		for _, link := range []string{"lo", "cable", "direct"} {
			n.ipOf(i, "link", "set", link, "up")
		}
	}
	return n
}

func (n *cabling) cut(i int)  { n.ip("link", "set", fmt.Sprintf("cable-%d", i), "down") }
func (n *cabling) mend(i int) { n.ip("link", "set", fmt.Sprintf("cable-%d", i), "up") }

// TestANetworkThatParts: the machine that writes is cut off from the others, with its server of the log. It writes no more, says so, and answers questions as
// long as before; the others go on with a new writer; and once the cable is there again, all have the same.
func TestANetworkThatParts(t *testing.T) {
	t.Parallel()
	if os.Getenv(inNetwork) == "" {
		if err := exec.Command("unshare", "--net", "true").Run(); err != nil {
			t.Skipf("no network of its own can be made here: %v", err)
		}
		cmd := exec.Command("unshare", "--net", os.Args[0], "-test.run=^"+t.Name()+"$", "-test.v", "-test.timeout=15m")
		cmd.Env = append(os.Environ(), inNetwork+"=1", builtAlready+"="+binary(t))
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Errorf("%v\n%s", err, out)
		}
		t.Logf("%s", out)
		return
	}
	n := startCabling(t, 3)
	p := &peers{t: t, count: 3, seal: filepath.Join(t.TempDir(), "sealing.key")}
	p.halt = func() {
		for i := range 3 {
			n.cut(i)
		}
	}
	var routes, urls []string
	for i := range 3 {
		routes = append(routes, onBridge(i)+":6222")
		urls = append(urls, "nats://"+onBridge(i)+":4222")
		p.of = append(p.of, &peer{name: []string{"control-room", "estuary", "twin-bridges"}[i], dir: filepath.Join(t.TempDir(), "data"), at: direct(i, 2) + ":7480", listens: "0.0.0.0:7480"})
	}
	for i := range 3 {
		text, err := json.Marshal(logserver.Options{Dir: t.TempDir(), Host: onBridge(i), Port: 4222, Name: fmt.Sprintf("log-%d", i), Cluster: routes[i], Routes: routes})
		if err != nil {
			t.Fatal(err)
		}
		cmd := n.command(i, exec.Command(os.Args[0]))
		cmd.Env = append(os.Environ(), asLogServer+"="+string(text))
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }) // it ends by no other way
	}
	p.wrap = func(x *peer, cmd *exec.Cmd) *exec.Cmd {
		i := slices.Index(p.of, x)
		nearest := append(slices.Clone(urls[i:]), urls[:i]...)
		cmd.Args = append(cmd.Args, "--public-url", "http://"+onBridge(i)+":7480", "--nats", strings.Join(nearest, ","))
		return n.command(i, cmd)
	}
	p.seed(p.of[0].dir)
	for _, x := range p.of {
		p.start(x)
	}
	p.tellOfFailure()
	p.admit()
	first := p.of[0]
	if w := p.writer(); w != first {
		t.Fatalf("%s writes, and not the first that was started", w.name)
	}
	e := &editors{p: p, made: map[uint64]string{}, last: time.Now()}
	e.edit("/api/v1/users/keeper-before")

	n.cut(0)
	cutAt := time.Now()
	refused := ""
	p.world(first).soon("the one that is cut off says that it does not write", func() bool {
		status, text := asked(first.at, p.token, "PUT", "/api/v1/users/keeper-of-the-minority", `{"id":"keeper-of-the-minority","name":"Keeper"}`)
		if status == 200 || status == 201 {
			t.Fatalf("the one that is cut off writes: %s", text)
		}
		refused = text
		return strings.Contains(text, "this machine writes no more")
	})
	t.Logf("%s after the cut: %s", time.Since(cutAt).Round(time.Millisecond), refused)
	if status, header, text := p.world(first).ask("POST", "/access/v1/evaluation", p.token, askTomas); status != 200 || header.Get("Age") == "" || header.Get("Age") == "0" {
		t.Errorf("the one that is cut off answers a question with %d, aged %q: %s", status, header.Get("Age"), text)
	}
	first.down.Store(true) // as seen from the others
	second := p.writer()
	if second == first {
		t.Fatal("the one that is cut off is known as the one that writes")
	}
	for _, x := range p.of[1:] {
		if status, text := asked(x.at, p.token, "PUT", "/api/v1/users/keeper-at-"+x.name, `{"id":"keeper-at-`+x.name+`","name":"Keeper"}`); status != 200 && status != 201 {
			t.Errorf("at %s, which most others reach, an edit is answered %d %s", x.name, status, text)
		}
	}
	t.Logf("%s after the cut the others have written", time.Since(cutAt).Round(time.Millisecond))
	n.mend(0)
	first.down.Store(false)
	p.world(first).soon("the one that was cut off hands on what changes anything", func() bool {
		status, _ := asked(first.at, p.token, "PUT", "/api/v1/users/keeper-after", `{"id":"keeper-after","name":"Keeper"}`)
		return status == 200 || status == 201
	})
	if status, text := p.get(second, "/api/v1/users/keeper-of-the-minority"); status != 404 {
		t.Errorf("what was refused is there: %d %s", status, text)
	}
	p.haveAll(e)
}
