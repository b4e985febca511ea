package acceptance

import (
	"encoding/csv"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"unsafe"

	"charm.land/lipgloss/v2"
)

// wide makes a terminal some columns wide.
func (x *terminal) wide(columns uint16) {
	x.t.Helper()
	size := struct{ rows, columns, x, y uint16 }{40, columns, 0, 0}
	if _, _, e := syscall.Syscall(syscall.SYS_IOCTL, x.slave.Fd(), syscall.TIOCSWINSZ, uintptr(unsafe.Pointer(&size))); e != 0 {
		x.t.Fatal(e)
	}
}

// shows carries out a command whose answer goes to a terminal of some columns, and gives the lines of it.
func (w *world) shows(columns uint16, args ...string) []string {
	w.t.Helper()
	x := newTerminal(w.t)
	x.wide(columns)
	if code := w.program(w.token, x.slave, x.slave, x.slave).Run(args); code != 0 {
		w.t.Fatalf("sentier %s: %d\n%s", strings.Join(args, " "), code, x.screen())
	}
	const end = "that is all"
	if _, err := x.slave.WriteString(end); err != nil {
		w.t.Fatal(err)
	}
	at := x.see(0, end)
	return strings.Split(strings.TrimRight(strings.ReplaceAll(x.screen()[:at-len(end)], "\r", ""), "\n"), "\n")
}

// TestAnswersFitTheTerminal: no table is wider than 80 columns, ids stay whole, what is cut says so, and --wide cuts nothing.
func TestAnswersFitTheTerminal(t *testing.T) {
	t.Setenv("TERM", "xterm")
	w := start(t, nil)
	for _, args := range [][]string{
		{"user", "list"}, {"group", "list"}, {"grant", "list"}, {"schedule", "list"}, {"device", "list"},
		{"user", "show", "tomas.field"}, {"device", "show", "twin-bridge-north"}, {"group", "show", "winter-contractors"}, {"grant", "show", "bridge-watch"},
		{"schedule", "uses", "night-watch"}, {"matrix"}, {"matrix", "--in-site", "twin-bridges"}, {"find", "bridge"},
	} {
		for _, line := range w.shows(80, args...) {
			if width := lipgloss.Width(line); width > 80 {
				t.Errorf("sentier %s has a line of %d columns: %s", strings.Join(args, " "), width, line)
			}
		}
	}
	narrow, all := strings.Join(w.shows(80, "grant", "list"), "\n"), strings.Join(w.shows(80, "grant", "list", "--wide"), "\n")
	if !strings.Contains(narrow, "border-arm-bridges ") || !strings.Contains(narrow, "…") {
		t.Errorf("80 columns show\n%s", narrow)
	}
	if strings.Contains(all, "…") || !strings.Contains(all, "Apprentices do not work at night") {
		t.Errorf("--wide shows\n%s", all)
	}
	if !strings.Contains(narrow, "\x1b[1m") {
		t.Errorf("the heads do not stand out:\n%q", narrow)
	}
	t.Setenv("NO_COLOR", "1")
	if plain := strings.Join(w.shows(80, "check", "tomas.field", "view", "mill-bridge"), "\n"); strings.Contains(plain, "\x1b[3") {
		t.Errorf("colours are shown though NO_COLOR is set:\n%q", plain)
	}
	// A pipe takes lines of any length.
	if _, piped, _ := w.run("grant", "list"); strings.Contains(piped, "…") || strings.Contains(piped, "\x1b") {
		t.Errorf("a pipe is given\n%q", piped)
	}
}

// TestAMatrixTurnsItsHeads: every column is there under its letters, on as many parts as it takes.
func TestAMatrixTurnsItsHeads(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	lines := w.shows(60, "matrix")
	if n := strings.Count(strings.Join(lines, "\n"), "\nBridge crew "); n < 3 {
		t.Errorf("the rows stand in %d parts:\n%s", n, strings.Join(lines, "\n"))
	}
	if at := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, "Apprentices") }); at < 1 || !strings.HasSuffix(strings.TrimRight(lines[at-1], " \x1b[m"), "t") {
		t.Errorf("above the first row stand\n%s", strings.Join(lines[:max(at, 0)], "\n"))
	}
	if wide := w.shows(400, "matrix"); len(wide) >= len(lines)/2 {
		t.Errorf("with room for all it has %d lines", len(wide))
	}
}

// TestShowSpeaksAsThePagesDo: what somebody reaches is folded by reason, groups have their ends, and the raw record is a format away.
func TestShowSpeaksAsThePagesDo(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	for line, want := range map[string][]string{
		"user show noor.haddad":         {"What they reach\n", "through Winter contractors → Winter works", "winter-contractors  Winter contractors  listed", "Fri 27 Nov 2026 17:00", "Last changes\n"},
		"user show abel.quint":          {"What they reach\n"},
		"device show twin-bridge-north": {"Who reaches it\n", "4 users: Greta Holm, Nuno Teles, Rui Falcao, Tomas Field", "bridges   Bridges             by the group's rule", "line 2, on"},
		"group show winter-contractors": {"Members\n", "noor.haddad  Mon 2 Nov 2026 00:00", "What the group amounts to\n", "winter-works  1"},
		"site show mill-basin":          {"What it is for\n", "Mentioned by\n", "lower-pounds"},
		"kind show sluice":              {"Fields\n", "Sluice"},
	} {
		code, out, errOut := w.run(strings.Fields(line)...)
		if line == "user show abel.quint" { // who is not there
			if code != 2 || out != "" {
				t.Errorf("%s: %d\n%s%s", line, code, out, errOut)
			}
			continue
		}
		for _, part := range want {
			if code != 0 || !strings.Contains(out, part) {
				t.Errorf("sentier %s: %d, no %q:\n%s%s", line, code, part, out, errOut)
			}
		}
	}
	if _, out, _ := w.run("user", "show", "tomas.field", "--format", "yaml"); !strings.HasPrefix(out, "email: tomas.field@larkmere.example\nid: tomas.field\n") {
		t.Errorf("as YAML it is\n%s", out)
	}
}

// TestCSVOfAListHasEveryField, those within others too: a spreadsheet is given all that the record has.
func TestCSVOfAListHasEveryField(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	for noun, want := range map[string]map[string]string{
		"grant":    {"id": "bridge-watch", "to_groups": "bridge-crew", "effect": "allow", "valid_until": "", "lines": `"on":{"device_groups":["bridges"]}`},
		"schedule": {"id": "navigation-summer", "season_from": "04-01", "season_to": "10-31", "closed": "closures", "windows": `"from":"07:00"`, "special": `"calendar":"regatta"`},
		"device":   {"id": "twin-bridge-north", "tags": "critical|moves", "kind": "lift-bridge", "points": `"id":"deck"`},
	} {
		_, out, _ := w.run(noun, "list", "--format", "csv")
		rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
		if err != nil {
			t.Fatal(err)
		}
		at := slices.IndexFunc(rows, func(r []string) bool { return r[0] == want["id"] })
		for field, text := range want {
			if i := slices.Index(rows[0], field); i < 0 || !strings.Contains(rows[max(at, 0)][i], text) {
				t.Errorf("%s list: field %s of %s is in column %d of %v", noun, field, want["id"], i, rows[max(at, 0)])
			}
		}
	}
}

// TestShellsComplete ids by what they begin with, words of few, and nothing where the service does not answer.
func TestShellsComplete(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	for line, want := range map[string]string{
		"device show twin-bridge-n":             "twin-bridge-north\tTwin bridge north\n:4\n",
		"check tomas.f":                         "tomas.field\tTomas Field\n:4\n",
		"check tomas.field contr":               "control\tControl\n:4\n",
		"check tomas.field control mill-bridge": "mill-bridge\tMill bridge\n:4\n",
		"check tomas.field control x y":         ":4\n",
		"group add-member bridge-crew greta.h":  "greta.holm\tGreta Holm\n:4\n",
		"grant give --role bridge-w":            "bridge-watch\tBridge watch\n:4\n",
		"grant give --role x,bridge-w":          "x,bridge-watch\tBridge watch\n:4\n",
		"user edit --status ":                   "active\ninvited\nsuspended\n:4\n",
		"user list --format ":                   "table\njson\nyaml\ncsv\n:4\n",
		"export use":                            "users\n:4\n",
		"policy load ":                          ":0\n",
	} {
		args := append([]string{"__complete"}, strings.Split(line, " ")...)
		if code, out, _ := w.run(args...); code != 0 || out != want && !(line == "export use" && strings.Contains(out, "users\n")) {
			t.Errorf("%q is completed by\n%s", line, out)
		}
	}
	if code, out, _ := runCLI(t, "", "__complete", "device", "show", "t"); code != 0 || out != ":4\n" {
		t.Errorf("without a service: %d, %q", code, out)
	}
}

// TestManualPages are written from the same texts as the help.
func TestManualPages(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "man1")
	if code, _, errOut := runCLI(t, "", "man", dir); code != 0 || !strings.Contains(errOut, dir) {
		t.Fatalf("%d, %s", code, errOut)
	}
	pages, err := os.ReadDir(dir)
	if err != nil || len(pages) < 100 {
		t.Fatalf("%d pages (%v)", len(pages), err)
	}
	page, err := os.ReadFile(filepath.Join(dir, "sentier-check.1"))
	if err != nil || !strings.Contains(string(page), "strong-sign-in") || !strings.Contains(string(page), ".TH") {
		t.Errorf("the page of check is (%v)\n%s", err, page)
	}
}

// TestAChangeTellsItsImpactInTheTerminal, once made as before it, and in no other format.
func TestAChangeTellsItsImpactInTheTerminal(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	_, out, errOut := w.run("group", "add-member", "bridge-crew", "noor.haddad", "--until", "tomorrow 18:00")
	if !strings.Contains(errOut, "Revision 2.") || !strings.Contains(out, "Noor Haddad on Mill bridge: +control") || strings.Contains(out, `{"`) {
		t.Errorf("the terminal says\n%s%s", errOut, out)
	}
	if _, out, _ = w.run("group", "drop-member", "bridge-crew", "noor.haddad", "--format", "json"); strings.Contains(out, "impact") {
		t.Errorf("as JSON it is\n%s", out)
	}
}
