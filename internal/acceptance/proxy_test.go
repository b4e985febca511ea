package acceptance

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"sentier/internal/daemon"
)

// proxied is the configuration of a proxy as an operator writes one: TLS, and the service below a path.
const proxied = `daemon off; master_process off; worker_processes 1; pid %[1]s/nginx.pid; error_log stderr;
events { worker_connections 64; }
http {
  access_log off; client_body_temp_path %[1]s/body; proxy_temp_path %[1]s/proxy; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
  server {
    listen 127.0.0.1:%[2]d ssl;
    ssl_certificate %[1]s/cert.pem; ssl_certificate_key %[1]s/key.pem;
    location /desk/ {
      proxy_pass %[3]s; proxy_http_version 1.1;
      proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for; proxy_set_header X-Forwarded-Proto $scheme;
    }
  }
}
`

// TestBehindAProxy puts nginx in front, with TLS and below a path. SENTIER_IDLE says for how long the stream of events is silent.
func TestBehindAProxy(t *testing.T) {
	t.Parallel()
	nginx, err := exec.LookPath("/usr/sbin/nginx")
	if err != nil {
		t.Fatalf("%v: “make test” installs it", err)
	}
	idle := 17 * time.Second
	if text := os.Getenv("SENTIER_IDLE"); text != "" {
		if idle, err = time.ParseDuration(text); err != nil {
			t.Fatal(err)
		}
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := free.Addr().(*net.TCPAddr).Port
	free.Close()
	dir := t.TempDir()
	_, _, pool := certificate(t, dir)
	public := fmt.Sprintf("https://127.0.0.1:%d/desk", port)
	w := startWith(t, nil, func(o *daemon.Options) {
		if o.PublicURL, err = daemon.ParsePublicURL(public); err != nil {
			t.Fatal(err)
		}
		o.Trusted = []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}
	})
	cmd := exec.Command(nginx, "-p", dir, "-c", write(t, dir+"/nginx.conf", fmt.Sprintf(proxied, dir, port, w.url)))
	var said strings.Builder
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Signal(syscall.SIGTERM)
		cmd.Wait()
		if t.Failed() {
			t.Logf("nginx said: %s", said.String())
		}
	})
	// client comes from an address of its own.
	client := func(address string) *http.Client {
		dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}, Timeout: 10 * time.Second}
		return &http.Client{Transport: &http.Transport{DialContext: dialer.DialContext, TLSClientConfig: &tls.Config{RootCAs: pool}}}
	}
	for tries := 0; ; tries++ {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			c.Close()
			break
		}
		if tries == 200 {
			t.Fatalf("nginx does not answer: %v", err)
		}
		time.Sleep(50 * time.Millisecond)
	}
	ask := func(c *http.Client, method, path, body string) (*http.Response, string) {
		t.Helper()
		req, err := http.NewRequest(method, public+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/json")
		resp, err := c.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		data, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return resp, string(data)
	}
	signIn := func(c *http.Client, password string) (*http.Response, string) {
		return ask(c, "POST", "/api/v1/session", `{"user":"ines.carvalho","password":"`+password+`"}`)
	}

	// The page of the console and all that belongs to it lie below the path.
	desk := client("127.0.0.2")
	if resp, page := ask(desk, "GET", "/users", ""); resp.StatusCode != 200 || !strings.Contains(page, `<base href="/desk/">`) {
		t.Errorf("the console: %s %.300s", resp.Status, page)
	}
	if resp, page := ask(desk, "GET", "/.well-known/authzen-configuration", ""); resp.StatusCode != 200 || !strings.Contains(page, public+"/access/v1/evaluation") {
		t.Errorf("the metadata: %s %s", resp.Status, page)
	}
	resp, body := signIn(desk, password)
	if resp.StatusCode != 200 || len(resp.Cookies()) != 1 {
		t.Fatalf("sign-in: %s %s", resp.Status, body)
	}
	if c := resp.Cookies()[0]; !c.Secure || !c.HttpOnly || !strings.HasPrefix(c.Name, "__Host-") || c.Path != "/" {
		t.Errorf("the cookie is %v", c)
	}
	if resp.Header.Get("Strict-Transport-Security") == "" {
		t.Error("nothing keeps browsers to https")
	}
	if resp, problem := ask(desk, "GET", "/api/v1/users", ""); resp.StatusCode != 401 || !strings.Contains(problem, `"/desk/problems/sign-in"`) {
		t.Errorf("without the cookie: %s %s", resp.Status, problem)
	}

	// Somebody who guesses from one address is slowed down there, and nobody elsewhere is who has been there before.
	guesser := client("127.0.0.3")
	slowed := false
	for range 20 {
		resp, _ := signIn(guesser, "a wrong one")
		slowed = slowed || resp.StatusCode == 429 && resp.Header.Get("Retry-After") != ""
	}
	if !slowed {
		t.Error("twenty guesses from one address are not slowed down")
	}
	if resp, body := signIn(desk, password); resp.StatusCode != 200 {
		t.Errorf("somebody at another address: %s %s", resp.Status, body)
	}

	// An event comes at once, and after a long silence as well.
	ctx, cancel := context.WithTimeout(t.Context(), idle+time.Minute)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "GET", public+"/api/v1/events", nil)
	if err != nil {
		t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+w.token)
	stream, err := desk.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer stream.Body.Close()
	lines := bufio.NewScanner(stream.Body)
	comments := 0
	next := func(want string) {
		t.Helper()
		for lines.Scan() {
			if strings.HasPrefix(lines.Text(), ":") {
				comments++
			}
			if strings.Contains(lines.Text(), want) {
				return
			}
		}
		t.Fatalf("the stream ended (%v) before %s", lines.Err(), want)
	}
	next("id: 1")
	edit(w, "PATCH", "/api/v1/users/tomas.field", `{"name":"Tomas A. Field"}`)
	next(`data: {"revision":2`)
	time.AfterFunc(idle, func() { edit(w, "PATCH", "/api/v1/users/tomas.field", `{"name":"Tomas B. Field"}`) })
	next(`data: {"revision":3`)
	if comments == 0 {
		t.Error("no comment came in the silence")
	}
}
