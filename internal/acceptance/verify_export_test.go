package acceptance

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestAnExportIsVerifiedByAnotherProgram, in another language, from the bytes that docs/record.md describes: as it is, and with anything in it changed.
func TestAnExportIsVerifiedByAnotherProgram(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	w.must("PATCH", "/api/v1/devices/mill-bridge", `{"note":"<b> & \"quoted\", é, \u2028"}`)
	w.must("POST", "/api/v1/check", `{"user":"tomas.field","right":"view","device":"mill-bridge"}`)
	w.as("tomas.field").ask("GET", "/api/v1/policy", "made up", "")
	dir := t.TempDir()
	keep := func(name string, args ...string) string {
		code, out, errOut := w.run(args...)
		if code != 0 {
			t.Fatalf("%v: %d %s", args, code, errOut)
		}
		path := filepath.Join(dir, name)
		write(t, path, out)
		return path
	}
	checkpoint := keep("checkpoint.jsonl", "audit", "checkpoint")
	export := keep("audit.jsonl", "audit", "export") // afterwards, so that it holds all that the checkpoint covers
	_, key, _ := w.run("audit", "key")
	key = key[strings.LastIndex(strings.TrimSpace(key), "\n")+1:] // below its heading
	verify := func(args ...string) (string, bool) {
		out, err := exec.Command("node", append([]string{"../../docs/examples/verify-export.mjs"}, args...)...).CombinedOutput()
		return string(out), err == nil
	}
	if out, ok := verify(export, checkpoint, strings.TrimSpace(key)); !ok || !strings.Contains(out, "as they were written") {
		t.Fatalf("as it is: %s", out)
	}
	whole, err := os.ReadFile(export)
	if err != nil {
		t.Fatal(err)
	}
	lines := strings.SplitAfter(string(whole), "\n")
	for name, text := range map[string]string{
		"a word changed":     strings.Replace(string(whole), "mill-bridge", "hill-bridge", 1),
		"an entry taken out": strings.Join(append(append([]string{}, lines[:2]...), lines[3:]...), ""),
		"two changed about":  strings.Join(append([]string{lines[1], lines[0]}, lines[2:]...), ""),
		"the end cut":        lines[0],
	} {
		path := filepath.Join(dir, "forged.jsonl")
		write(t, path, text)
		if out, ok := verify(path, checkpoint); ok {
			t.Errorf("%s: %s", name, out)
		}
	}
	if out, ok := verify(export, checkpoint, "AAAA"); ok {
		t.Errorf("held to another key: %s", out)
	}
}
