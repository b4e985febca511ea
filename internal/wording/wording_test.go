package wording

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/demo"
	"sentier/internal/policy"
)

// TestEveryWordIsThere looks for the keys that the console says by name, and for those that follow from the
// reasons, the types and the fields of records.
func TestEveryWordIsThere(t *testing.T) {
	used := map[string]string{}
	literal := regexp.MustCompile(`\bt\(\s*\[?"([a-z0-9_.]+)"`)
	either := regexp.MustCompile(`\? "(console\.[a-z_.]+)" : "(console\.[a-z_.]+)"`)
	field := regexp.MustCompile(`path: "(?:[a-z_]+\.)?([a-z_]+)", kind`)
	column := regexp.MustCompile(`(?:key: |Column\()"([a-z_]+)", (?:"[a-z_]+", )?(?:width|")`)
	err := filepath.WalkDir("../../web/src", func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".tsx") && !strings.HasSuffix(path, ".ts") {
			return err
		}
		source, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		for _, m := range literal.FindAllStringSubmatch(string(source), -1) {
			used[m[1]] = path
		}
		for _, m := range either.FindAllStringSubmatch(string(source), -1) {
			used[m[1]], used[m[2]] = path, path
		}
		for _, m := range field.FindAllStringSubmatch(string(source), -1) {
			used["console.field."+m[1]] = path
		}
		if !strings.Contains(path, "columns.tsx") {
			for _, m := range column.FindAllStringSubmatch(string(source), -1) {
				used["console.field."+m[1]] = path
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if len(used) < 100 {
		t.Fatalf("only %d keys found in the console: the search is broken", len(used))
	}
	for _, typ := range policy.Types() {
		used["console.type."+typ.String()], used["console.types."+typ.String()] = "types", "types"
	}
	for _, r := range []decision.Reason{decision.UnknownUser, decision.UserSuspended, decision.UserExpired, decision.RightNotApplicable, decision.DeviceLockedOut, decision.Denied, decision.NoGrant} {
		used["reason."+r.String()] = "reasons"
	}
	for _, typ := range append(policy.Types(), policy.SettingsType) {
		wordsOfFields(policy.Describe(typ).Fields, typ.String(), used)
	}
	for key, where := range used {
		counted := English.Has(key+"_one") && English.Has(key+"_other")
		if !English.Has(key) && !counted && !strings.HasSuffix(key, ".") {
			t.Errorf("%s, said in %s, is not in the catalogue", key, where)
		}
	}
}

// wordsOfFields gathers the keys of the names of fields and of what can be chosen in them.
func wordsOfFields(fields []policy.Field, of string, used map[string]string) {
	if of == "grants.lines" || of == "schedules.windows" || of == "schedules.special" {
		return // they have editors of their own
	}
	for _, f := range fields {
		used["console.field."+f.Name] = of
		for _, choice := range f.Choices {
			if f.Name == "role" {
				used["console.mandate."+choice] = of
				continue
			}
			used["console.value."+choice] = of
		}
		wordsOfFields(f.Fields, of+"."+f.Name, used)
	}
}

// TestFrenchSaysWhatEnglishSays holds the French catalogue against the English one.
func TestFrenchSaysWhatEnglishSays(t *testing.T) {
	places := regexp.MustCompile(`\{\{[a-z]+\}\}`)
	sorted := func(sentence string) []string {
		list := places.FindAllString(sentence, -1)
		slices.Sort(list)
		return slices.Compact(list)
	}
	for key, sentence := range English.words {
		french, ok := French.words[key]
		if !ok {
			t.Errorf("%s is not said in French", key)
			continue
		}
		if !slices.Equal(sorted(sentence), sorted(french)) {
			t.Errorf("%s has the places %v in English and %v in French", key, sorted(sentence), sorted(french))
		}
	}
	for key := range French.words {
		if !English.Has(key) {
			t.Errorf("%s is said in French alone", key)
		}
	}
}

func TestTheLanguageIsTheOneThatIsAskedFor(t *testing.T) {
	at := time.Date(2026, 12, 4, 20, 30, 0, 0, time.UTC)
	for header, want := range map[string]string{
		"": "Fri 4 Dec 2026 21:30 (Europe/Madrid)", "fr": "ven. 4 déc. 2026 21:30 (Europe/Madrid)", "fr-CA, en;q=0.5": "ven. 4 déc. 2026 21:30 (Europe/Madrid)",
		"en-GB, fr;q=0.9": "Fri 4 Dec 2026 21:30 (Europe/Madrid)", "pt, fr;q=0.3": "ven. 4 déc. 2026 21:30 (Europe/Madrid)", "zz": "Fri 4 Dec 2026 21:30 (Europe/Madrid)", ";;;": "Fri 4 Dec 2026 21:30 (Europe/Madrid)",
	} {
		if got := Accepted(header).Time(at, "Europe/Madrid"); got != want {
			t.Errorf("Accept-Language %q: %s, want %s", header, got, want)
		}
	}
}

func TestSayFillsThePlaces(t *testing.T) {
	if got := English.Say("answer.until", "time", Time(time.Date(2026, 7, 4, 20, 30, 0, 0, time.UTC), "Europe/Lisbon")); got != "The answer stays so until Sat 4 Jul 2026 21:30 (Europe/Lisbon)." {
		t.Error(got)
	}
	if got := English.Say("no.such.key"); got != "no.such.key" {
		t.Error(got)
	}
	for key, sentence := range English.words {
		if strings.Count(sentence, "{{") != strings.Count(sentence, "}}") {
			t.Errorf("%s has a place that is not closed: %s", key, sentence)
		}
	}
}

// TestEveryAnswerIsSaidWhole puts the answers about a part of the navigation into words, in both languages: no place is left
// open, no key is said in the place of a sentence, and French is not English.
func TestEveryAnswerIsSaidWhole(t *testing.T) {
	p, err := demo.Policy()
	if err != nil {
		t.Fatal(err)
	}
	c := decision.Compile(p)
	key := regexp.MustCompile(`\b(reason|missing|stop|condition|code|lockout|answer)\.[a-z_]+\b`)
	reasons := map[decision.Reason]int{}
	said := func(texts ...string) {
		for _, text := range texts {
			if strings.Contains(text, "{{") || key.MatchString(text) || strings.Contains(text, "  ") || strings.TrimSpace(text) == "" {
				t.Errorf("an answer has the words %q", text)
			}
		}
	}
	at := time.Date(2026, 11, 24, 20, 0, 0, 0, time.UTC)
	i := 0
	for u := range policy.Each[*policy.User](p) {
		for d := range policy.Each[*policy.Device](p) {
			if i++; i%7 != 0 { // enough for every reason, and quick
				continue
			}
			for _, right := range []policy.RightID{policy.Control, "release", "setpoint"} {
				q := decision.Question{User: u.ID, Device: d.ID, Right: right, At: at}
				answer := c.Explain(q)
				reasons[answer.Reason]++
				english, french := English.Answer(p, q, answer), French.Answer(p, q, answer)
				said(english.Text, french.Text)
				if english.Text == french.Text {
					t.Errorf("%+v is answered in French by %q", q, french.Text)
				}
				for k, trail := range slices.Concat(english.Because, english.Missing) {
					said(trail.Text)
					other := slices.Concat(french.Because, french.Missing)[k]
					if len(other.Stops) != len(trail.Stops) {
						t.Errorf("%+v: %d stops in English, %d in French", q, len(trail.Stops), len(other.Stops))
					}
					for n, stop := range trail.Stops {
						said(stop.Text, other.Stops[n].Text)
						if stop.State != other.Stops[n].State || stop.ID != other.Stops[n].ID {
							t.Errorf("%+v: the stop %d is %+v in English and %+v in French", q, n, stop, other.Stops[n])
						}
					}
				}
			}
		}
	}
	if len(reasons) < 9 {
		t.Errorf("only %d reasons came up: %v", len(reasons), reasons)
	}
}
