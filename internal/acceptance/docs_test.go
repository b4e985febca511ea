package acceptance

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"sentier/internal/demo"
)

// words parts a command line as a shell does, up to what is not the command's own: a comment, a pipe, where its output goes.
func words(line string) (args []string, into string) {
	var all []string
	for _, m := range regexp.MustCompile(`"[^"]*"|\S+`).FindAllString(line, -1) {
		if strings.HasPrefix(m, "#") || m == "|" || m == "&&" {
			break
		}
		all = append(all, strings.Trim(m, `"`))
	}
	for i, word := range all {
		if word == ">" && i+1 < len(all) {
			return all[:i], all[i+1]
		}
	}
	return all, ""
}

// documents are the pages that tell people what to type.
func documents(t *testing.T) map[string]string {
	t.Helper()
	out := map[string]string{}
	pages, err := filepath.Glob("../../docs/*.md")
	if err != nil || len(pages) < 5 {
		t.Fatalf("%d pages (%v)", len(pages), err)
	}
	for _, page := range append(pages, "../../README.md", "../../CONTRIBUTING.md") {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		out[filepath.Base(page)] = string(text)
	}
	return out
}

// TestCommandsInTheDocumentation runs the examples of each page one after the other on the demo data, as somebody would who reads it.
func TestCommandsInTheDocumentation(t *testing.T) {
	stories, dump := demo.Stories(), demo.Document()
	own := []string{"init", "serve", "demo", "sign-in", "follow", "gate", "promote"} // begin a service of their own, or need several: TestFirstOwner, TestCommandsWithAService, TestMachinesThatFollow, TestAGateAtADevice, TestTheWriterIsKilled
	shipped, err := filepath.Abs("../../internal/demo/outside")
	if err != nil {
		t.Fatal(err)
	}
	ran := 0
	for page, text := range documents(t) {
		w := start(t, nil)
		dir := t.TempDir()
		t.Chdir(dir)
		if err := os.CopyFS(dir, os.DirFS(shipped)); err != nil {
			t.Fatal(err)
		}
		write(t, dir+"/stories.yaml", string(stories))
		write(t, dir+"/policy.yaml", string(dump))
		fenced := false
		for line := range strings.Lines(text) {
			if strings.HasPrefix(line, "```") {
				fenced = !fenced
				continue
			}
			line = strings.TrimPrefix(strings.TrimSpace(line), "bin/")
			command, isOurs := strings.CutPrefix(line, "sentier ")
			if !fenced || !isOurs {
				continue
			}
			args, into := words(strings.ReplaceAll(command, "internal/demo/", ""))
			if first := args[0]; strings.Contains(strings.Join(own, " "), first) {
				continue
			}
			stdin := ""
			if args[0] == "policy" && args[1] == "load" {
				args = append(args, "--yes") // which somebody at a terminal is asked
			}
			code, out, errOut := w.runAs(w.token, stdin, args...)
			ran++
			if code > 1 || code == 1 && args[0] != "check" && args[0] != "policy" && args[0] != "history" {
				t.Errorf("%s: sentier %s: code %d\n%s%s", page, command, code, out, errOut)
			}
			if out == "" && errOut == "" {
				t.Errorf("%s: sentier %s says nothing", page, command)
			}
			if into != "" {
				write(t, filepath.Join(dir, into), out)
			}
		}
	}
	if ran < 25 {
		t.Errorf("only %d commands were found", ran)
	}
}

// TestCommandsThatAreMentioned looks whether the commands that are named in the running text, and their options, are there.
func TestCommandsThatAreMentioned(t *testing.T) {
	t.Parallel()
	mention := regexp.MustCompile("`(?:bin/)?sentier ([a-z][^`]*)`")
	found := 0
	for page, text := range documents(t) {
		for _, m := range mention.FindAllStringSubmatch(text, -1) {
			args, _ := words(strings.NewReplacer("[", "", "]", "", "…", "x", "\n", " ").Replace(m[1]))
			for i := range args {
				if i > 0 && strings.HasPrefix(args[i-1], "--") && args[i] == strings.ToUpper(args[i]) {
					args[i] = "1" // a place for a value
				}
			}
			found++
			if code, out, errOut := runCLI(t, "", append(args, "--help")...); code != 0 || !strings.Contains(out, "Usage") && !strings.Contains(out, "sentier "+args[0]) {
				t.Errorf("%s: sentier %s: code %d\n%s%s", page, m[1], code, out, errOut)
			}
		}
	}
	if found < 15 {
		t.Errorf("only %d mentions were found", found)
	}
}

// TestLinksInTheDocumentation looks whether what pages link to is there, and whether every picture is shown somewhere.
func TestLinksInTheDocumentation(t *testing.T) {
	t.Parallel()
	link := regexp.MustCompile(`\]\(([^)#:]+)(?:#[^)]*)?\)`)
	linked := map[string]bool{}
	for page, text := range documents(t) {
		base := "../../docs"
		if page == "README.md" || page == "CONTRIBUTING.md" {
			base = "../.."
		}
		for _, m := range link.FindAllStringSubmatch(text, -1) {
			path := filepath.Join(base, m[1])
			linked[path] = true
			if _, err := os.Stat(path); err != nil {
				t.Errorf("%s links to %s, which is not there", page, m[1])
			}
		}
	}
	pictures, err := filepath.Glob("../../docs/screenshots/*.png")
	if err != nil || len(pictures) == 0 || len(pictures) >= 20 {
		t.Fatalf("%d pictures (%v): they are to be some, and fewer than twenty", len(pictures), err)
	}
	for _, picture := range pictures {
		if !linked[picture] {
			t.Errorf("%s is linked from nowhere", picture)
		}
	}
}

// TestTheTestsThatTheDocumentationNames are there.
func TestTheTestsThatTheDocumentationNames(t *testing.T) {
	there := map[string]bool{}
	err := filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && d.Name() == "node_modules" || !strings.HasSuffix(path, "_test.go") {
			if d != nil && d.IsDir() && d.Name() == "node_modules" {
				return fs.SkipDir
			}
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range regexp.MustCompile(`(?m)^func (Test\w+)\(`).FindAllSubmatch(text, -1) {
			there[string(m[1])] = true
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	named := 0
	for page, text := range documents(t) {
		for _, m := range regexp.MustCompile("`(Test\\w+)`").FindAllStringSubmatch(text, -1) {
			if named++; !there[m[1]] {
				t.Errorf("%s names %s, and there is no such test", page, m[1])
			}
		}
	}
	if named < 15 {
		t.Errorf("only %d tests are named: the search is broken", named)
	}
}
