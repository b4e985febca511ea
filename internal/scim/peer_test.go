package scim_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"reflect"
	"slices"
	"strings"
	"testing"

	"sentier/internal/scim"
)

type patchCase struct {
	Resource   scim.Resource `json:"resource"`
	Operations []any         `json:"operations"`
}

type filterCase struct {
	Filter    string          `json:"filter"`
	Resources []scim.Resource `json:"resources"`
}

// ask has the library of others do the same.
func ask(t *testing.T, patches []patchCase, filters []filterCase) (out struct {
	Patches []struct {
		Value scim.Resource
		Error string
	}
	Filters []struct {
		Value []string
		Error string
	}
}) {
	t.Helper()
	in, err := json.Marshal(map[string]any{"patches": patches, "filters": filters})
	if err != nil {
		t.Fatal(err)
	}
	node := exec.Command("node", "scim.mjs")
	node.Dir, node.Stdin = "../acceptance/peers", bytes.NewReader(in)
	var failed bytes.Buffer
	node.Stderr = &failed
	text, err := node.Output()
	if err != nil {
		t.Fatalf("%v: %s (make test-tools installs what it needs)", err, failed.String())
	}
	if err := json.Unmarshal(text, &out); err != nil {
		t.Fatal(err)
	}
	return out
}

func object(text string) (out scim.Resource) {
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		panic(err)
	}
	return out
}

const somebody = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"id":"ana","userName":"ana.lopes","displayName":"Ana Lopes","active":true,
	"name":{"givenName":"Ana","familyName":"Lopes"},"emails":[{"type":"work","value":"ana@work.example"},{"type":"home","value":"ana@home.example"}]}`

const someGroup = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"id":"crew","displayName":"Crew","members":[{"value":"ana"},{"value":"ben"},{"value":"cleo"}]}`

// normal is a resource in which no empty list or object stands, and members are in order.
func normal(r scim.Resource) scim.Resource {
	var out scim.Resource
	text, err := json.Marshal(r)
	if err != nil || json.Unmarshal(text, &out) != nil {
		return nil
	}
	for k, v := range out {
		if list, ok := v.([]any); ok {
			if len(list) == 0 {
				delete(out, k)
				continue
			}
			slices.SortFunc(list, func(a, b any) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
		}
		if inner, ok := v.(scim.Resource); ok && len(inner) == 0 {
			delete(out, k)
		}
	}
	return out
}

// TestPatchIsWhatOthersMakeOfIt holds 400 random PATCH requests against the library of others.
func TestPatchIsWhatOthersMakeOfIt(t *testing.T) {
	t.Parallel()
	r := rand.New(rand.NewPCG(7643, 7644))
	users := []func() any{
		func() any { return op("replace", "displayName", fmt.Sprint("Ana ", r.IntN(3))) },
		func() any { return op("add", "name.givenName", fmt.Sprint("A", r.IntN(3))) },
		func() any { return op("remove", "name.familyName", nil) },
		func() any {
			return op("replace", `emails[type eq "work"].value`, fmt.Sprint("w", r.IntN(3), "@x.example"))
		},
		func() any { return op("remove", `emails[type eq "home"]`, nil) },
		func() any {
			return op("add", "emails", []any{scim.Resource{"type": "other", "value": fmt.Sprint("o", r.IntN(3), "@x.example")}})
		},
		func() any {
			return op("replace", "emails", []any{scim.Resource{"type": "work", "value": "only@x.example"}})
		},
		func() any { return op("remove", "emails", nil) },
		func() any { return op("replace", "active", r.IntN(2) == 0) },
		func() any { return op("Replace", "", scim.Resource{"displayName": "By none", "active": false}) },
		func() any { return op("add", "", scim.Resource{"externalId": fmt.Sprint("x", r.IntN(3))}) },
		func() any { return op("remove", "externalId", nil) },
		func() any { return op("replace", "name", scim.Resource{"givenName": "N", "familyName": "M"}) },
	}
	groups := []func() any{
		func() any {
			return op("add", "members", []any{scim.Resource{"value": []string{"dora", "ana"}[r.IntN(2)]}})
		},
		func() any { return op("remove", `members[value eq "ben"]`, nil) },
		func() any { return op("replace", "members", []any{scim.Resource{"value": "eli"}}) },
		func() any { return op("remove", "members", nil) },
		func() any { return op("replace", "displayName", "Other crew") },
	}
	var cases []patchCase
	for i := range 400 {
		from, ops := somebody, users
		if i%3 == 0 {
			from, ops = someGroup, groups
		}
		c := patchCase{Resource: object(from)}
		for range 1 + r.IntN(3) {
			c.Operations = append(c.Operations, ops[r.IntN(len(ops))]())
		}
		cases = append(cases, c)
	}
	theirs := ask(t, cases, nil).Patches
	agreed := 0
	for i, c := range cases {
		schema := scim.UserSchema
		if c.Resource["id"] == "crew" {
			schema = scim.GroupSchema
		}
		if strings.Contains(theirs[i].Error, "mono valued attribute") { // they refuse to take away what is not there; ours is so already
			continue
		}
		ours, err := scim.Patch(schema, c.Resource, scim.Resource{"Operations": c.Operations})
		if (err != nil) != (theirs[i].Error != "") {
			t.Errorf("%v: ours %v, theirs %q", c.Operations, err, theirs[i].Error)
			continue
		}
		if err == nil && !reflect.DeepEqual(normal(ours), normal(theirs[i].Value)) {
			t.Errorf("%v:\nours   %v\ntheirs %v", c.Operations, normal(ours), normal(theirs[i].Value))
		}
		agreed++
	}
	if agreed < 300 {
		t.Errorf("only %d were compared", agreed)
	}
}

func op(name, path string, value any) scim.Resource {
	out := scim.Resource{"op": name}
	if path != "" {
		out["path"] = path
	}
	if value != nil {
		out["value"] = value
	}
	return out
}

// TestFiltersMeanWhatOthersMean holds filters against the library of others.
func TestFiltersMeanWhatOthersMean(t *testing.T) {
	t.Parallel()
	var list []scim.Resource
	for i := range 20 {
		r := object(somebody)
		r["id"], r["userName"], r["active"] = fmt.Sprint("u", i), fmt.Sprint("user", i%7), i%2 == 0
		if i%3 == 0 {
			delete(r, "emails")
		}
		if i%5 == 0 {
			delete(r, "displayName")
		}
		list = append(list, r)
	}
	var cases []filterCase
	for _, text := range []string{
		`userName eq "user3"`, `userName ne "user3"`, `userName sw "user"`, `userName co "er4"`, `userName ew "5"`, `displayName pr`, `not (displayName pr)`, `active eq true`,
		`active eq true and userName eq "user2"`, `userName eq "user1" or userName eq "user2" and active eq false`, `(userName eq "user1" or userName eq "user2") and active eq false`,
		`emails[type eq "work" and value co "ana"]`, `emails.type eq "home"`, `name.familyName eq "Lopes"`, `userName gt "user3"`, `userName le "user3"`, `userName EQ "user3"`,
		`not (userName eq "user1") and not (emails pr)`,
	} {
		cases = append(cases, filterCase{text, list})
	}
	theirs := ask(t, nil, cases).Filters
	for i, c := range cases {
		f, err := scim.ParseFilter(scim.UserSchema, c.Filter)
		if err != nil {
			t.Errorf("%s: %v", c.Filter, err)
			continue
		}
		var ours []string
		for _, r := range list {
			if f.Holds(r) {
				ours = append(ours, r["id"].(string))
			}
		}
		if !slices.Equal(ours, theirs[i].Value) {
			t.Errorf("%s: ours %v, theirs %v %s", c.Filter, ours, theirs[i].Value, theirs[i].Error)
		}
	}
}

// TestHostileFilters: what cannot be read, or means nothing, is told, and costs nothing.
func TestHostileFilters(t *testing.T) {
	t.Parallel()
	for _, text := range []string{
		"", "userName", `userName eq`, `userName eq "x`, `password eq "x"`, `emails co 5`, `active gt true`, `name eq`, `groups[value eq "x"`, `emails[emails[type eq "x"]]`, `userName eq "x" and`,
		strings.Repeat("(", 5000), strings.Repeat(`not (`, 50) + `userName pr` + strings.Repeat(")", 50), `userName eq "` + strings.Repeat("x", 5000) + `"`,
		strings.Repeat(`userName pr and `, 500) + `userName pr`, "\x00", `userName eq "\"; drop"`, `urn:x:userName eq "x"`,
	} {
		f, err := scim.ParseFilter(scim.UserSchema, text)
		if err == nil && !strings.Contains(text, "drop") && !strings.HasPrefix(text, "urn:") {
			t.Errorf("%.60q was read", text)
		}
		if err == nil {
			f.Holds(object(somebody))
		}
	}
	if f, err := scim.ParseFilter(scim.UserSchema, `userName eq "a\"b"`); err != nil || !f.Holds(scim.Resource{"userName": `A"b`}) {
		t.Errorf("a quote in a text is not what it means: %v", err)
	}
}

func FuzzFilter(f *testing.F) {
	f.Add(`userName eq "x" and emails[type eq "work"]`)
	f.Fuzz(func(t *testing.T, text string) {
		if filter, err := scim.ParseFilter(scim.UserSchema, text); err == nil {
			filter.Holds(object(somebody))
		}
	})
}

func FuzzPatch(f *testing.F) {
	f.Add(`{"Operations":[{"op":"add","path":"emails[type eq \"work\"].value","value":"x"}]}`)
	f.Fuzz(func(t *testing.T, text string) {
		body, err := scim.Read([]byte(text))
		if err != nil {
			return
		}
		was := object(somebody)
		if out, err := scim.Patch(scim.UserSchema, was, body); err == nil {
			if _, err := scim.Clean(scim.UserSchema, out); err != nil && err.Error() == "" {
				t.Error("an error without a word")
			}
		}
		if !reflect.DeepEqual(was, object(somebody)) {
			t.Error("what was patched was changed itself")
		}
	})
}
