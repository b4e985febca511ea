package acceptance

import (
	"cmp"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"sentier/internal/demo"
	"sentier/internal/wire"
)

// commandsFile says of every command that asks the service who gets through with its first example; SENTIER_UPDATE writes it.
const commandsFile = "testdata/commands.txt"

// examples are the first example of every command that holds no others, from the manual pages.
func examples(t *testing.T) map[string]string {
	t.Helper()
	dir := t.TempDir()
	if code, _, errOut := runCLI(t, "", "man", dir); code != 0 {
		t.Fatal(errOut)
	}
	pages, err := filepath.Glob(dir + "/*.1")
	if err != nil {
		t.Fatal(err)
	}
	shown := regexp.MustCompile(`(?s)\.SH EXAMPLE\n(.*?)(?:\n\.SH|$)`)
	out := map[string]string{}
	for _, page := range pages {
		text, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		name := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(page), "sentier-"), ".1")
		if found := shown.FindStringSubmatch(string(text)); found != nil {
			for line := range strings.Lines(found[1]) {
				if command, ours := strings.CutPrefix(strings.TrimSpace(strings.NewReplacer(`\-`, "-", `\(aq`, "'").Replace(line)), "sentier "); ours {
					out[name] = command
					break
				}
			}
		}
	}
	for name, line := range out { // what holds others shows one of them
		if words := strings.Fields(line); len(words) > strings.Count(name, "-")+1 {
			if _, is := out[strings.Join(words[:2], "-")]; is && name == words[0] {
				delete(out, name)
			}
		}
	}
	return out
}

// TestEveryCommandByRole carries out every command as people of every role: who gets through is as it is written down, and whoever may change
// nothing has changed nothing.
func TestEveryCommandByRole(t *testing.T) {
	t.Parallel()
	all := examples(t)
	// What works on files, on one's own session, or without an end.
	for _, name := range []string{"config", "demo", "init", "man", "policy-check", "recover", "recover-owner", "restore", "serve", "follow", "gate", "version", "audit-follow", "set-up", "sign-in", "sign-out", "welcome",
		"password", "session-end", "session-list", "second-factor-add", "second-factor-list", "second-factor-remove", "sentier"} {
		delete(all, name)
	}
	ids := map[string]string{"calendar": "closures", "device": "twin-bridge-north", "device-group": "bridges", "grant": "border-arm", "group": "border-arm-staff", "kind": "pump", "mandate": "audit", "expectation": "bridges-have-two",
		"right": "calibrate", "role": "look-only", "schedule": "night-watch", "site": "twin-bridges", "user": "agnes.lindqvist"}
	madeUp := regexp.MustCompile(`0192f0c4-\S+`)
	through := map[string][]string{}
	roles := []struct{ name, user string }{{"owner", "ines.carvalho"}, {"auditor", "lena.marsh"}, {"enforcement", "gateway-bridges"}, {"delegate", "marta.solis"}, {"person", "tomas.field"}, {"nobody", ""}}
	var mu sync.Mutex
	passed := map[string][]string{} // commands by role
	t.Run("roles", func(t *testing.T) {
		for _, role := range roles {
			t.Run(role.name, func(t *testing.T) {
				t.Parallel()
				var got []string
				w := start(t, nil)
				until := get[wire.Session](w, "GET", "/api/v1/session", "").Now.AddDate(0, 0, 1).Format("2006-01-02T15:04:05Z07:00")
				request := get[wire.Request](w.as("rui.falcao"), "POST", "/api/v1/requests", fmt.Sprintf(`{"right":"calibrate","device":"mill-bridge","until":%q,"reason":"x"}`, until)).ID
				names := slices.Sorted(maps.Keys(all))
				token := ""
				if role.user != "" {
					token = w.tokenFor(role.user)
				}
				get[wire.Draft](w, "POST", "/api/v1/drafts", `{"name":"Tomas moves","changes":[{"op":"patch","type":"devices","id":"mill-bridge","record":{"state":"maintenance"}}]}`)
				get[wire.Source](w, "POST", "/api/v1/sources", `{"name":"Larkmere people","kind":"scim"}`)
				for _, name := range []string{"Larkmere directory", "Old directory"} {
					get[wire.Source](w, "POST", "/api/v1/sources", fmt.Sprintf(`{"name":%q,"kind":"directory","directory":{"url":"ldap://127.0.0.1:1","people":{"base":"ou=people,dc=example"},"groups":{"base":"ou=groups,dc=example"}}}`, name))
				}
				for _, name := range []string{"Ticket desk", "Old desk"} {
					get[wire.Hook](w, "POST", "/api/v1/hooks", fmt.Sprintf(`{"name":%q,"url":"http://127.0.0.1:1","secret":"desk"}`, name))
				}
				get[wire.Review](w, "POST", "/api/v1/reviews", `{"name":"Bridges, autumn","groups":["bridge-crew","border-arm-staff"],"due":"in 3 weeks","unanswered":"told"}`)
				dir := t.TempDir()
				write(t, dir+"/stories.yaml", string(demo.Stories()))
				write(t, dir+"/larkmere.yaml", string(demo.Document()))
				write(t, dir+"/people.csv", "id,name\nfay.wells,Fay Wells\n")
				for _, name := range names {
					line, other := all[name], ""
					if strings.HasPrefix(name, "token-r") {
						other = get[wire.Token](w, "POST", "/api/v1/tokens", `{"user":"gateway-locks","name":"panel"}`).ID
					}
					noun := name[:max(0, strings.LastIndex(name, "-"))]
					if _, is := ids[noun]; !is {
						noun, _, _ = strings.Cut(name, "-")
					}
					line, _, _ = strings.Cut(line, " >")
					line = madeUp.ReplaceAllString(line, cmp.Or(other, request))
					args, _ := words(line)
					for i, arg := range args {
						switch {
						case arg == "ID":
							args[i] = ids[noun]
						case strings.HasSuffix(arg, ".yaml"), strings.HasSuffix(arg, ".csv"), strings.HasSuffix(arg, ".db"), strings.HasSuffix(arg, ".jsonl"), strings.HasSuffix(arg, ".snapshot"):
							args[i] = dir + "/" + arg
						}
					}
					if name == "policy-load" || name == "import" {
						args = append(args, "--yes")
					}
					before := get[wire.Session](w, "GET", "/api/v1/session", "").Revision
					code, out, errOut := w.runAs(token, "towpath and heron\n", args...)
					refused := code == 2 && (strings.Contains(errOut, "you may not do this") || strings.Contains(errOut, "nothing that you may see") || strings.Contains(errOut, "sign in, or send a token"))
					if !refused {
						got = append(got, name)
					}
					after := get[wire.Session](w, "GET", "/api/v1/session", "").Revision
					if mine := strings.HasPrefix(name, "mine-"); after != before && (refused || role.name != "owner" && role.name != "delegate" && !mine) {
						t.Errorf("sentier %s as %s made a revision (%d)\n%s%s", strings.Join(args, " "), role.name, code, out, errOut)
					}
					if strings.Contains(errOut, "unknown command") || strings.Contains(errOut, "unknown flag") {
						t.Errorf("sentier %s: %s", strings.Join(args, " "), errOut)
					}
				}
				mu.Lock()
				defer mu.Unlock()
				passed[role.name] = got
			})
		}
	})
	for _, role := range roles {
		for _, name := range passed[role.name] {
			through[name] = append(through[name], role.name)
		}
	}
	var table strings.Builder
	for _, name := range slices.Sorted(maps.Keys(all)) {
		fmt.Fprintf(&table, "%s: %s\n", name, strings.Join(through[name], " "))
	}
	if os.Getenv("SENTIER_UPDATE") != "" {
		if err := os.MkdirAll(filepath.Dir(commandsFile), 0o755); err != nil {
			t.Fatal(err)
		}
		write(t, commandsFile, table.String())
	}
	kept, err := os.ReadFile(commandsFile)
	if err != nil {
		t.Fatal(err)
	}
	want := strings.Split(string(kept), "\n")
	for i, line := range strings.Split(table.String(), "\n") {
		if i >= len(want) || line != want[i] {
			t.Errorf("who gets through is “%s”, and it is written down otherwise: SENTIER_UPDATE=1 writes it anew, for you to look at", line)
		}
	}
}
