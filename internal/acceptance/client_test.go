package acceptance

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// TestTheClientInTypeScript keeps answers as long as they hold, and no longer: until the policy changes, and not at all where its events do not come.
func TestTheClientInTypeScript(t *testing.T) {
	t.Parallel()
	root, err := filepath.Abs("../..")
	if err != nil {
		t.Fatal(err)
	}
	client, out := t.TempDir(), t.TempDir() // as its own build does: with the types of the description beside it
	types, err := os.ReadFile(filepath.Join(root, "web/src/api/schema.gen.ts"))
	if err == nil {
		err = os.CopyFS(client, os.DirFS(filepath.Join(root, "clients/typescript")))
	}
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(client, "src/schema.gen.ts"), string(types))
	write(t, filepath.Join(out, "package.json"), `{"type":"module"}`)
	build := exec.Command("npx", "tsc", "-p", client, "--outDir", out)
	build.Dir = filepath.Join(root, "web")
	if text, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	w := start(t, nil)
	node := exec.Command("node", filepath.Join(root, "internal/acceptance/peers/asks.mjs"), filepath.Join(out, "index.js"), w.url, w.tokenFor("gateway-bridges"))
	in, err := node.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	pipe, err := node.StdoutPipe()
	if err == nil {
		err = node.Start()
	}
	if err != nil {
		t.Fatal(err)
	}
	defer func() {
		in.Close()
		if err := node.Wait(); err != nil {
			t.Errorf("the client ends with %v", err)
		}
	}()
	lines := bufio.NewScanner(pipe)
	type told struct {
		Allowed  bool
		Revision uint64
		Asked    int
		Error    string
		Status   int
	}
	ask := func(line string) (out told) {
		t.Helper()
		if _, err := io.WriteString(in, line+"\n"); err != nil {
			t.Fatal(err)
		}
		if !lines.Scan() {
			t.Fatalf("asked %q the client says nothing: %v", line, lines.Err())
		}
		if err := json.Unmarshal(lines.Bytes(), &out); err != nil {
			t.Fatalf("asked %q the client says %s", line, lines.Text())
		}
		return out
	}
	const question = "noor.haddad view twin-bridge-north"
	ask("follows")
	first := ask(question)
	if again := ask(question); first.Asked != 1 || again.Asked != 1 || again.Allowed != first.Allowed {
		t.Errorf("asked twice, the service was asked %d times: %+v, then %+v", again.Asked, first, again)
	}
	for n := range 4 {
		saved, _ := edit(w, []string{"PUT", "DELETE"}[n%2], "/api/v1/user_groups/bridge-crew/members/noor.haddad", "")
		var got told
		w.soon(fmt.Sprintf("the client knows of revision %d", saved.Revision), func() bool { got = ask(question); return got.Revision == saved.Revision })
		if got.Allowed != (n%2 == 0) {
			t.Errorf("after revision %d the client says %+v", saved.Revision, got)
		}
	}
	if refused := ask("noor.haddad view no.such.device.at.all.?"); refused.Status != 0 && refused.Error == "" {
		t.Errorf("what cannot be asked is told so: %+v", refused)
	}
}
