package wording

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sentier/internal/policy"
)

// sentence is a form in the source, with how many arguments are given to it; below 0: not known.
type sentence struct {
	place string
	args  int
}

// sentences finds what the packages that people are told of say by [policy.Say] and those who call it.
func sentences(t *testing.T) map[string]sentence {
	t.Helper()
	// Where the form stands among the arguments of each function.
	at := map[string]int{"Say": 0, "told": 0, "Wrong": 1, "fault": -1, "faultAt": 1, "wrong": 1, "tell": 1, "refuse": 1, "Fault": 1, "Complain": 0}
	found := map[string]sentence{}
	for _, room := range []string{"policy", "strict", "document", "translate", "authority", "identity", "source", "directory", "scim", "signon", "hook", "outbound", "icalendar", "inventory", "service", "answers", "server"} {
		err := filepath.WalkDir("../"+room, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			files := token.NewFileSet()
			file, err := parser.ParseFile(files, path, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(n ast.Node) bool {
				call, ok := n.(*ast.CallExpr)
				if !ok {
					return true
				}
				name := ""
				switch f := call.Fun.(type) {
				case *ast.Ident:
					name = f.Name
				case *ast.SelectorExpr:
					name = f.Sel.Name
					if x, ok := f.X.(*ast.Ident); ok && (x.Name == "words" || x.Name == "c") && name == "Say" {
						return true // of a catalogue
					}
				}
				first, ok := at[name]
				if !ok {
					return true
				}
				for i := max(first, 1); first == -1 && i < len(call.Args); i++ {
					if text, ok := literal(call.Args[i]); ok && strings.ContainsAny(text, " %") {
						first = i
					}
				}
				if first < 0 || first >= len(call.Args) {
					return true
				}
				if form, ok := literal(call.Args[first]); ok {
					args := len(call.Args) - first - 1
					if call.Ellipsis.IsValid() {
						args = -1
					}
					found[form] = sentence{files.Position(call.Pos()).String(), args}
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if len(found) < 100 {
		t.Fatalf("only %d sentences are found: the search is broken", len(found))
	}
	return found
}

func literal(e ast.Expr) (string, bool) {
	lit, ok := e.(*ast.BasicLit)
	if !ok || lit.Kind != token.STRING {
		return "", false
	}
	text, err := strconv.Unquote(lit.Value)
	return text, err == nil
}

var verb = regexp.MustCompile(`%[a-z]`)

// TestEverySentenceHasItsFrench: what anybody can be told is wrong is told in French too, with the same places filled; and nothing is left in
// the catalogue that nobody says.
func TestEverySentenceHasItsFrench(t *testing.T) {
	found := sentences(t)
	for form, s := range found {
		if verbs := verb.FindAllString(form, -1); s.args >= 0 && len(verbs) != s.args {
			t.Errorf("%s: %q has %d places, and %d arguments are given", s.place, form, len(verbs), s.args)
		}
		if !regexp.MustCompile(`[a-z]{2}`).MatchString(verb.ReplaceAllString(form, "")) {
			continue // there are no words in it
		}
		french, ok := French.said[form]
		if !ok {
			t.Errorf("%s: no French for %q", s.place, form)
			continue
		}
		if want, have := verb.FindAllString(form, -1), verb.FindAllString(french, -1); !slices.Equal(want, have) {
			t.Errorf("%q fills %v, its French %v", form, want, have)
		}
	}
	words := map[string]bool{"or": true, "a list of texts": true, "the policy": true, "the sites at the top": true}
	for _, kind := range []string{"nothing", "true or false", "a number", "a text", "a list", "an object"} {
		words[kind] = true
	}
	for _, typ := range append(policy.Types(), policy.SettingsType) {
		words[typ.Noun()] = true
	}
	for word := range words {
		if French.said[word] == "" {
			t.Errorf("no French for %q", word)
		}
	}
	for _, form := range slices.Sorted(maps.Keys(French.said)) {
		if _, ok := found[form]; !ok && !words[form] && !strings.HasPrefix(form, "%q is no zone") {
			t.Errorf("nobody says %q", form)
		}
	}
}

// TestASentenceIsSaidInALanguage: with all that stands in it.
func TestASentenceIsSaidInALanguage(t *testing.T) {
	_, badZone := policy.LoadZone("Nowhere/Else")
	for _, c := range []struct {
		said            policy.Said
		english, french string
	}{
		{policy.Say("there is no %s %q: did you mean %s?", policy.Say(policy.UserGroups.Noun()), "brige", policy.Names{"bridge", "barge"}),
			`there is no user group "brige": did you mean bridge or barge?`, `groupe d’utilisateurs "brige" n’existe pas : vouliez-vous dire bridge ou barge ?`},
		{policy.Say("%q is not known: write %s", "x", policy.Choice{"a", "b", "c"}), `"x" is not known: write "a", "b" or "c"`, `"x" n’est pas connu : écrivez "a", "b" ou "c"`},
		{policy.Say("%q is not known: write %s", "x", policy.Choice{"a"}), `"x" is not known: write "a"`, `"x" n’est pas connu : écrivez "a"`},
		{policy.SaidBy(badZone), `"Nowhere/Else" is no zone of the IANA time zone database: write one such as Europe/Lisbon, or UTC`,
			`"Nowhere/Else" n’est pas un fuseau de la base IANA : écrivez-en un comme Europe/Lisbon, ou UTC`},
	} {
		if got := English.Put(c.said); got != c.english || c.said.Error() != got {
			t.Errorf("English says %q, want %q", got, c.english)
		}
		if got := French.Put(c.said); got != c.french {
			t.Errorf("French says %q, want %q", got, c.french)
		}
	}
}
