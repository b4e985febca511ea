package acceptance

import (
	"encoding/xml"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"sentier/internal/demo"
	"sentier/internal/document"
	"sentier/internal/policy"
)

const vectors = "../document/testdata/vectors/"

func vector(t *testing.T, n string) (*policy.Policy, *document.Expectations) {
	t.Helper()
	data, err := os.ReadFile(vectors + "policy-" + n + ".json")
	if err != nil {
		t.Fatal(err)
	}
	p, err := document.ReadPolicy(data)
	if err != nil {
		t.Fatal(err)
	}
	if data, err = os.ReadFile(vectors + "expect-" + n + ".json"); err != nil {
		t.Fatal(err)
	}
	e, err := document.ReadExpectations(data)
	if err != nil {
		t.Fatal(err)
	}
	return p, e
}

func TestCommandsWithoutAService(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	larkmere := write(t, dir+"/larkmere.yaml", string(demo.Document()))
	stories := write(t, dir+"/stories.yaml", string(demo.Stories()))
	bad := write(t, dir+"/bad.yaml", "format: sentier-policy/1\nusers:\n  - {id: A}\n  - {id: b, nam: x}\n")
	other := write(t, dir+"/other.yaml", strings.Replace(string(demo.Document()), "name: Bridge crew", "name: Bridge team", 1))
	wrong := write(t, dir+"/wrong.yaml", "format: sentier-expect/1\nchecks:\n  - {user: tomas.field, right: view, device: mill-bridge, at: 2026-11-24T10:00:00Z, expect: deny, reason: no_grant, note: he has it}\n")
	for name, c := range map[string]struct {
		args     string
		code     int
		out, err string
	}{
		"allowed":               {"check tomas.field control twin-bridge-north --at 2026-11-24T09:00:00Z --policy " + larkmere, 0, "● ALLOWED  granted", ""},
		"denied":                {"check agnes.lindqvist control alder-gate-1 --at 2026-11-24T20:00:00Z --policy " + larkmere, 1, "✗ schedule Navigation hours, winter  closed until Wed 25 Nov 2026 08:00 (Europe/Madrid)", ""},
		"a near miss of an id":  {"check tomas.feld view mill-bridge --policy " + larkmere, 1, "mean tomas.field?", ""},
		"a slash too many":      {"check tomas.field view mill-bridge/ --policy " + larkmere, 1, "There is no device “mill-bridge/”", ""},
		"a time that is none":   {"check tomas.field view mill-bridge --at soon --policy " + larkmere, 2, "", "tomorrow 06:00"},
		"an argument missing":   {"check tomas.field view", 2, "", "DEVICE[/POINT] is missing"},
		"a format that is none": {"check a b c --format xml", 2, "", "table, json, yaml or csv"},
		"as JSON":               {"check elin.berg release brindle-gate-1 --attended=true --at 2026-11-24T10:00:00Z --format json --policy " + larkmere, 1, `"state": "closes"`, ""},
		"as CSV":                {"check night-backup history reservoir-gauge-1 --at 2026-11-24T02:00:00Z --format csv --policy " + larkmere, 0, "night-backup,history,reservoir-gauge-1,2026-11-24T02:00:00Z,true,granted,2026-11-24T04:30:00Z", ""},
		"a sound document":      {"policy check " + larkmere, 0, "grants         31", "is sound"},
		"a faulty document":     {"policy check " + bad, 1, "4     13      users[1].nam  is not known here: did you mean \"name\"?", "2 faults"},
		"the same in French":    {"policy check --language fr " + bad, 1, "4     13      users[1].nam  n’est pas connu ici : vouliez-vous dire \"name\" ?", "2 faults"},
		"no document":           {"policy check " + dir + "/none.yaml", 2, "", "no such file"},
		"the same":              {"policy compare " + larkmere + " " + larkmere, 0, "", "They are the same"},
		"not the same":          {"policy compare " + larkmere + " " + other, 1, "changed  user_groups  bridge-crew  Bridge team  name Bridge crew → Bridge team", ""},
		"the stories":           {"expect run " + stories + " --policy " + larkmere, 0, "49 held, 0 failed", ""},
		"what does not hold":    {"expect run " + wrong + " --policy " + larkmere, 1, "deny no_grant  allow granted  he has it", ""},
		"faulty expectations":   {"expect run " + bad + " --policy " + larkmere, 2, "format", "not sound"},
		"the vectors":           {"expect run " + vectors + "expect-2.json --policy " + vectors + "policy-2.json", 0, "200 held, 0 failed", ""},
		"the version":           {"version", 0, "test     none", ""},
		"no such command":       {"chekc", 2, "", "check"},
		"help with examples":    {"policy load --help", 0, "sentier policy load larkmere.yaml --yes", ""},
		"shell completion":      {"completion bash", 0, "bash completion", ""},
	} {
		t.Run(name, func(t *testing.T) {
			code, out, errOut := runCLI(t, "", strings.Fields(c.args)...)
			if code != c.code || !strings.Contains(out, c.out) || !strings.Contains(errOut, c.err) {
				t.Errorf("code %d, want %d\n--- out, want …%s…\n%s\n--- err, want …%s…\n%s", code, c.code, c.out, out, c.err, errOut)
			}
		})
	}
}

// TestExpectationsForAPipeline: the outcome is written as JUnit XML as well, which says of each that fails what came instead.
func TestExpectationsForAPipeline(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	policy := write(t, dir+"/policy.yaml", string(demo.Document()))
	checks := write(t, dir+"/checks.yaml", `format: sentier-expect/1
checks:
- {user: tomas.field, right: control, device: twin-bridge-north, at: "2026-11-24T10:00:00Z", expect: allow}
- {user: tomas.field, right: control, device: alder-gate-1, at: "2026-11-24T10:00:00Z", expect: allow, note: "he <has> it & more"}
`)
	report := dir + "/report.xml"
	if code, _, errOut := runCLI(t, "", "expect", "run", checks, "--policy", policy, "--junit", report); code != 1 {
		t.Fatalf("%d %s", code, errOut)
	}
	text, err := os.ReadFile(report)
	if err != nil {
		t.Fatal(err)
	}
	var got struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Cases    []struct {
			Name    string `xml:"name,attr"`
			Failure *struct {
				Message string `xml:"message,attr"`
			} `xml:"failure"`
		} `xml:"testcase"`
	}
	if err := xml.Unmarshal(text, &got); err != nil {
		t.Fatal(err)
	}
	if got.Tests != 2 || got.Failures != 1 || got.Cases[0].Failure != nil || got.Cases[1].Failure == nil || got.Cases[1].Failure.Message != "expected allow, came deny" || !strings.HasSuffix(got.Cases[1].Name, ": he <has> it & more") {
		t.Errorf("the report is\n%s", text)
	}
	if code, _, errOut := runCLI(t, "", "expect", "run", checks, "--policy", policy, "--junit", dir+"/none/report.xml"); code != 2 || !strings.Contains(errOut, "report.xml") {
		t.Errorf("a report that cannot be written: %d %s", code, errOut)
	}
}

func TestCommandsWithAService(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	file := filepath.Join(t.TempDir(), "policy.yaml")
	expect := func(token, stdin, line string, code int, want string) {
		t.Helper()
		got, out, errOut := w.runAs(token, stdin, strings.Fields(line)...)
		if got != code || !strings.Contains(out+errOut, want) {
			t.Errorf("sentier %s: code %d, want %d with …%s…\n%s%s", line, got, code, want, out, errOut)
		}
	}
	_, dumped, _ := w.run("policy", "dump")
	if dumped != string(demo.Document()) {
		t.Error("the dump is not the shipped document")
	}
	write(t, file, strings.Replace(dumped, "name: Bridge crew", "name: Bridge team", 1))
	expect(w.token, "", "policy compare "+file, 1, "Bridge crew → Bridge team")
	expect(w.token, "", "policy load "+file, 2, "add --yes")
	expect(w.token, "", "policy load --yes "+file, 0, "revision 2")
	expect(w.token, "", "policy load --yes "+file, 0, "revision 2 stays")
	expect(w.token, "", "check tomas.field control twin-bridge-north --at 2026-11-24T20:00:00Z", 1, "Bridge team")
	orphan := write(t, file+"2", strings.ReplaceAll(dumped, "role: owner", "role: auditor"))
	expect(w.token, "", "policy load --yes "+orphan, 2, "ines.carvalho must stay")
	expect("", "wrong password\n", "sign-in --user ines.carvalho", 2, "the user or the password is wrong")
	expect("", "", "policy dump", 2, "sign in, or send a token")
	expect("", password+"\n", "sign-in --user ines.carvalho --server "+w.url, 0, "Signed in to")
	expect("", "", "policy dump", 0, "format: sentier-policy/1")
	expect("", "", "token list --user ines.carvalho", 0, "terminal")
	expect("", "", "sign-out", 0, "Signed out")
	expect("", "", "policy dump", 2, "sign in, or send a token")
	expect(w.tokenFor("gateway-locks"), "", "policy dump", 2, "mandate of the role owner or auditor")
	expect(w.token, "", "token revoke nothing", 2, "nothing here")
}
