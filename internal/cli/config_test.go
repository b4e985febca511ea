package cli

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestWhereASettingComesFrom: a flag goes before the environment, that before the file, and that before what is usual; what is none of them is told.
func TestWhereASettingComesFrom(t *testing.T) {
	file := filepath.Join(t.TempDir(), "sentier.yaml")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	run := func(args ...string) (int, string, string) {
		var out, errOut bytes.Buffer
		code := Program{In: strings.NewReader(""), Out: &out, Err: &errOut}.Run(append([]string{"config", "--config", file, "--format", "json"}, args...))
		return code, out.String(), errOut.String()
	}
	t.Setenv("SENTIER_LISTEN", "127.0.0.1:7001")
	t.Setenv("SENTIER_TLS_CERT", "/environment.pem")
	write("data: /var/lib/sentier\nlisten: 127.0.0.1:7000\ntls-cert: /file.pem\ntrusted-proxy: [10.0.0.0/8, 192.0.2.0/24]\naudit-stdout: true\n")
	code, out, errOut := run("--tls-cert", "/flag.pem")
	var list []origin
	if err := json.Unmarshal([]byte(out), &list); err != nil || code != 0 {
		t.Fatalf("%d %s%s", code, out, errOut)
	}
	got := map[string]string{}
	for _, x := range list {
		got[x.Name] = x.Value + " " + x.From
	}
	for name, want := range map[string]string{
		"data": "/var/lib/sentier " + file, "listen": "127.0.0.1:7001 SENTIER_LISTEN", "tls-cert": "/flag.pem flag", "trusted-proxy": "10.0.0.0/8,192.0.2.0/24 " + file,
		"audit-stdout": "true " + file, "public-url": " default",
	} {
		if got[name] != want {
			t.Errorf("%s is %q, want %q", name, got[name], want)
		}
	}
	if _, out, _ := run("--trusted-proxy", "10.20.0.0/16,127.0.0.0/8"); !strings.Contains(out, `"10.20.0.0/16,127.0.0.0/8"`) {
		t.Errorf("a list by its flag: %s", out)
	}
	for text, want := range map[string]string{"lisen: x\n": "did you mean listen?", "listen: [\n": "sentier.yaml", "colour: red\n": "it has audit-stdout, "} {
		write(text)
		if code, _, errOut := run(); code != 2 || !strings.Contains(errOut, want) || strings.Count(strings.TrimSpace(errOut), "\n") > 0 {
			t.Errorf("%q: %d %s", text, code, errOut)
		}
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	if code, _, errOut := run(); code != 2 || !strings.Contains(errOut, "no such file") {
		t.Errorf("no file: %d %s", code, errOut)
	}
}
