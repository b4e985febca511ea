package schema_test

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"sentier/internal/demo"
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/schema"
)

// compiled prepares a schema, read back from what it is written as.
func compiled(t *testing.T, of schema.Schema) *jsonschema.Schema {
	t.Helper()
	body, err := jsonschema.UnmarshalJSON(strings.NewReader(string(of.JSON())))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	if err := c.AddResource("schema.json", body); err != nil {
		t.Fatal(err)
	}
	out, err := c.Compile("schema.json")
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func value(t *testing.T, text []byte) any {
	t.Helper()
	v, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// TestSchemasInTheDocumentationAreThoseServed: editors are pointed at them.
func TestSchemasInTheDocumentationAreThoseServed(t *testing.T) {
	for file, s := range map[string]schema.Schema{"policy.schema.json": schema.Policy(), "expectations.schema.json": schema.Expectations()} {
		path := "../../docs/" + file
		if os.Getenv("SENTIER_UPDATE") != "" {
			if err := os.WriteFile(path, s.JSON(), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		if kept, err := os.ReadFile(path); err != nil || string(kept) != string(s.JSON()) {
			t.Errorf("%s is not the schema: run “make types” (%v)", path, err)
		}
	}
}

// TestThePolicySchemaTakesWhatIsRead: the demonstration and the vectors hold to it, and what a reader refuses for its form, it refuses.
func TestThePolicySchemaTakesWhatIsRead(t *testing.T) {
	s := compiled(t, schema.Policy())
	p, err := demo.Policy()
	if err != nil {
		t.Fatal(err)
	}
	larkmere, err := document.WritePolicy(p, document.JSON)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Validate(value(t, larkmere)); err != nil {
		t.Errorf("the demonstration: %v", err)
	}
	for _, n := range []string{"0", "1", "2", "places-0", "places-1"} {
		data, err := os.ReadFile("../document/testdata/vectors/policy-" + n + ".json")
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Validate(value(t, data)); err != nil {
			t.Errorf("vectors %s: %v", n, err)
		}
	}
	for name, text := range map[string]string{
		"no format":                 `{}`,
		"another format":            `{"format":"sentier-policy/9"}`,
		"a list that is not known":  `{"format":"sentier-policy/1","gates":[]}`,
		"a field that is not known": `{"format":"sentier-policy/1","sites":[{"id":"a","size":3}]}`,
		"a record without an id":    `{"format":"sentier-policy/1","sites":[{"name":"A"}]}`,
		"an id with a space":        `{"format":"sentier-policy/1","sites":[{"id":"a b"}]}`,
		"a state that is none":      `{"format":"sentier-policy/1","devices":[{"id":"a","state":"broken"}]}`,
		"a clock that is none":      `{"format":"sentier-policy/1","schedules":[{"id":"a","windows":[{"from":"7:00","to":"25:00"}]}]}`,
		"a window without an end":   `{"format":"sentier-policy/1","schedules":[{"id":"a","windows":[{"from":"07:00"}]}]}`,
		"a member that is a number": `{"format":"sentier-policy/1","user_groups":[{"id":"a","members":[5]}]}`,
	} {
		if s.Validate(value(t, []byte(text))) == nil {
			t.Errorf("%s is taken: %s", name, text)
		}
		if _, err := document.ReadPolicy([]byte(text)); err == nil {
			t.Errorf("%s is read: %s", name, text)
		}
	}
}

func TestTheSchemaOfExpectationsTakesWhatIsRead(t *testing.T) {
	s := compiled(t, schema.Expectations())
	for _, n := range []string{"0", "1", "2", "places-0", "places-1"} {
		data, err := os.ReadFile("../document/testdata/vectors/expect-" + n + ".json")
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Validate(value(t, data)); err != nil {
			t.Errorf("vectors %s: %v", n, err)
		}
	}
	if s.Validate(value(t, []byte(`{"format":"sentier-expect/1","checks":[{"user":"a"}]}`))) == nil {
		t.Error("a check of a user alone is taken")
	}
}

// TestExamplesAreWhatTheyAreExamplesOf: each record among them is sound by itself, and written in the form that is read.
func TestExamplesAreWhatTheyAreExamplesOf(t *testing.T) {
	set := schema.NewSet("#/$defs/")
	n := 0
	for _, typ := range append(policy.Types(), policy.SettingsType) {
		set.Record(typ)
		one := set.Named[policy.Describe(typ).Name]
		examples, _ := one["examples"].([]any)
		if len(examples) == 0 {
			t.Errorf("%s has no example", typ)
			continue
		}
		body, err := json.Marshal(examples[0])
		if err != nil {
			t.Fatal(err)
		}
		if err := document.DecodeJSON(body, policy.New(typ)); err != nil {
			t.Errorf("the example of %s: %v", typ, err)
		}
		n++
	}
	if n < 13 {
		t.Errorf("only %d examples were read", n)
	}
}
