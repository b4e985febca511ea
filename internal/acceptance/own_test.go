package acceptance

import (
	"fmt"
	"strings"
	"testing"
)

// TestAskingAboutOneselfTellsNothingElse: without a mandate, what is not there and what one cannot reach are the same.
func TestAskingAboutOneselfTellsNothingElse(t *testing.T) {
	t.Parallel()
	w := start(t, nil)
	if _, status := edit(w, "PATCH", "/api/v1/devices/mill-bridge", `{"lockout":{"by":"ines.carvalho","reason":"Divers below"}}`); status != 200 {
		t.Fatal(status)
	}
	token := w.tokenFor("tomas.field")
	same := map[string][]string{}
	for _, device := range []string{"mast-of-nobody", "alder-gate-1", "alder-gate-1/no-point", "estuary-gate-1"} {
		for _, ask := range []string{
			`/api/v1/check {"user":"tomas.field","right":"control","device":"%s","at":"2026-11-24 10:00"}`,
			`/api/v1/week {"user":"tomas.field","device":"%s","from":"2026-11-24"}`,
			`/access/v1/evaluation {"subject":{"type":"user","id":"tomas.field"},"action":{"name":"control"},"resource":{"type":"device","id":"%s"}}`,
			`/access/v1/search/action {"subject":{"type":"user","id":"tomas.field"},"resource":{"type":"device","id":"%s"}}`,
		} {
			path, body, _ := strings.Cut(fmt.Sprintf(ask, device), " ")
			status, _, answer := w.ask("POST", path, token, body)
			if status != 200 || strings.Contains(path, "check") && !strings.Contains(answer, "Ask Bram Okafor, Ines Carvalho about it") {
				t.Errorf("%s %s: %d %s", path, body, status, answer)
			}
			same[path] = append(same[path], strings.NewReplacer(device, "…", strings.Replace(device, "/", " / ", 1), "…").Replace(answer))
		}
	}
	for path, answers := range same {
		for _, a := range answers[1:] {
			if a != answers[0] {
				t.Errorf("%s tells what is there from what is not:\n%s%s", path, answers[0], a)
			}
		}
	}
	_, _, locked := w.ask("POST", "/api/v1/check", token, `{"user":"tomas.field","right":"control","device":"mill-bridge","at":"2026-11-24 10:00"}`)
	if !strings.Contains(locked, "Divers below") || strings.Contains(locked, "by Ines") || !strings.Contains(locked, "device_locked_out") {
		t.Errorf("of a lockout is told: %s", locked)
	}
	_, _, refused := w.ask("POST", "/api/v1/check", token, `{"user":"tomas.field","right":"release","device":"twin-bridge-north","at":"2026-11-24 10:00"}`)
	for _, other := range []string{"Duty", "duty", "night-watch", "Night watch"} {
		if strings.Contains(refused, other) {
			t.Errorf("%q is named: %s", other, refused)
		}
	}
	if _, _, all := w.ask("POST", "/api/v1/check", w.token, `{"user":"tomas.field","right":"control","device":"mast-of-nobody"}`); !strings.Contains(all, "unknown_device") {
		t.Errorf("an owner is told: %s", all)
	}
}
