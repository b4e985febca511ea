package acceptance

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"sentier/internal/store"
	"sentier/internal/wire"
)

// TestWhatProvidersAreDocumentedToSend: each request of shared/scim leaves what it must leave.
func TestWhatProvidersAreDocumentedToSend(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("../../../shared/scim/*.json")
	if err != nil || len(files) == 0 {
		t.Skip("there are no documented requests here")
	}
	p := withSCIM(t, `{"share":100}`)
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		var c struct {
			Comment, Resource string
			Request           json.RawMessage
			Expect            map[string]any
		}
		decode(t, text, &c)
		number, _, _ := strings.Cut(filepath.Base(file), "-")
		k, _ := strconv.Atoi(number)
		var ids []string
		for _, who := range []string{"u", "v", "w"} {
			made := p.call("POST", "/Users", fmt.Sprintf(`{"userName":"plug%d%s@x.example","displayName":"Plug","active":true,"emails":[{"type":"work","value":"plug%d%s@x.example"}]}`, k, who, k, who))
			ids = append(ids, made.text("id"))
		}
		group := p.call("POST", "/Groups", fmt.Sprintf(`{"displayName":"Plug %d","members":[{"value":%q},{"value":%q}]}`, k, ids[0], ids[2])).text("id")
		body := strings.NewReplacer("{U}", ids[0], "{V}", ids[1], "{K}", strconv.Itoa(k), "{G}", group).Replace(string(c.Request))
		path := map[string]string{"User": "/Users/" + ids[0], "Group": "/Groups/" + group}[c.Resource]
		if got := p.call("PATCH", path, body); got.status != 200 && got.status != 204 {
			t.Errorf("%s: %d %v", c.Comment, got.status, got.body)
			continue
		}
		after := p.call("GET", path, "")
		in := func(id string) bool {
			list, _ := after.body["members"].([]any)
			return slices.ContainsFunc(list, func(m any) bool { return m.(map[string]any)["value"] == id })
		}
		for field, want := range c.Expect {
			switch field {
			case "status":
			case "members":
				if n := float64(bit(in(ids[0])) + bit(in(ids[1]))); n != want {
					t.Errorf("%s: %v of the two are in, want %v", c.Comment, n, want)
				}
			case "keeps":
				if in(ids[2]) != want {
					t.Errorf("%s: the third is in: %v", c.Comment, in(ids[2]))
				}
			case "has":
				if text, _ := json.Marshal(after.body); !strings.Contains(string(text), want.(string)) {
					t.Errorf("%s: %s", c.Comment, text)
				}
			default:
				var v any = after.body
				if rest, ok := strings.CutPrefix(field, "ent."); ok {
					v, field = after.body["urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"], rest
				}
				for _, part := range strings.Split(field, ".") {
					switch at := v.(type) {
					case map[string]any:
						v = at[part]
					case []any:
						i, _ := strconv.Atoi(part)
						v = at[min(i, len(at)-1)]
					}
				}
				if v != want {
					t.Errorf("%s: %s is %v, want %v", c.Comment, field, v, want)
				}
			}
		}
	}
	// A leaver leaves, whatever else the request says of them.
	ana := p.call("POST", "/Users", `{"userName":"leaver","active":true}`).text("id")
	got := p.call("PATCH", "/Users/"+ana, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[{"op":"Replace","path":"active","value":"False"},{"op":"replace","path":"title","value":"Keeper"},
		{"op":"replace","path":"phoneNumbers[type eq \"mobile\"].value","value":"1"},{"op":"add","path":"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager","value":"x"},{"op":"replace","path":"password","value":"Correct 1"}]}`)
	if got.status >= 300 || p.call("GET", "/Users/"+ana, "").body["active"] != false {
		t.Errorf("a leaver: %d %v", got.status, got.body)
	}
	if text, _ := json.Marshal(p.call("GET", "/Users/"+ana, "").body); strings.Contains(string(text), "Correct 1") || !strings.Contains(string(text), "Keeper") {
		t.Errorf("what is kept of it: %s", text)
	}
	if got := p.call("PATCH", "/Users/"+ana, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[{"op":"replace","path":"shoeSize","value":"44"}]}`); got.status != 400 {
		t.Errorf("what no schema knows: %d", got.status)
	}
}

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

// TestAProviderOverTheYears: who is renamed, goes and is hired again comes back; people of a group within a group come in; and one that takes many away at once is held.
func TestAProviderOverTheYears(t *testing.T) {
	t.Parallel()
	p := withSCIM(t, `{}`)
	id := p.call("POST", "/Users", `{"userName":"first.name","active":true,"emails":[{"value":"one@x.example"}]}`).text("id")
	p.call("PUT", "/Users/"+id, `{"userName":"married.name","active":true,"emails":[{"value":"one@x.example"}]}`)
	p.call("DELETE", "/Users/"+id, "")
	back := p.call("POST", "/Users", `{"userName":"married.name","active":true,"emails":[{"value":"one@x.example"}]}`)
	if back.status != 201 || back.text("id") != id || back.body["active"] != true {
		t.Errorf("who is hired again: %d %v", back.status, back.body)
	}
	crew := p.call("POST", "/Groups", fmt.Sprintf(`{"displayName":"Inner crew","members":[{"value":%q}]}`, id)).text("id")
	all := p.call("POST", "/Groups", fmt.Sprintf(`{"displayName":"Everybody there","members":[{"value":%q,"type":"Group"}]}`, crew))
	if all.status != 201 {
		t.Fatalf("a group within a group: %d %v", all.status, all.body)
	}
	p.world.must("PUT", "/api/v1/grants/theirs", fmt.Sprintf(`{"name":"Theirs","to":{"groups":[%q]},"lines":[{"rights":["view"],"on":{"devices":["mill-bridge"]}}]}`, all.text("id")))
	may := func() bool {
		return get[wire.Answer](p.world, "POST", "/api/v1/check", fmt.Sprintf(`{"user":%q,"right":"view","device":"mill-bridge"}`, id)).Allowed
	}
	if !may() {
		t.Error("the people of a group within a group have not come in")
	}
	if text, _ := json.Marshal(p.call("GET", "/Groups/"+all.text("id"), "").body["members"]); !strings.Contains(string(text), `"Group"`) {
		t.Errorf("its members are told as %s", text)
	}
	if got := p.call("PUT", "/Groups/"+all.text("id"), `{"displayName":"Everybody there","members":[]}`); got.status != 200 || may() {
		t.Errorf("after the inner group left: %d, and they may: %v", got.status, may())
	}

	var ops []string
	for i := range 60 {
		ops = append(ops, fmt.Sprintf(`{"method":"POST","path":"/Users","bulkId":"b%d","data":{"userName":"many%02d","active":true}}`, i, i))
	}
	p.call("POST", "/Bulk", `{"schemas":["urn:ietf:params:scim:api:messages:2.0:BulkRequest"],"Operations":[`+strings.Join(ops, ",")+`]}`)
	gone, held := 0, 0
	for i := range 60 {
		switch got := p.call("PATCH", fmt.Sprintf("/Users/many%02d", i), `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[{"op":"replace","path":"active","value":false}]}`); got.status {
		case 200, 204:
			gone++
		case 409:
			held++
		default:
			t.Fatalf("%d %v", got.status, got.body)
		}
	}
	if gone > 13 || gone+held != 60 {
		t.Errorf("%d of 60 were taken away at once, and %d held", gone, held)
	}
	if last := get[wire.Source](p.world, "GET", "/api/v1/sources/larkmere-people", "").Last; last == nil || last.Outcome != store.RunHeld {
		t.Errorf("it is told as %+v", last)
	}
	p.world.must("POST", "/api/v1/sources/larkmere-people/read", `{"accept":true,"reason":"the depot closes"}`)
	if got := p.call("PATCH", "/Users/many59", `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[{"op":"replace","path":"active","value":false}]}`); got.status >= 300 {
		t.Errorf("after somebody let it go on: %d %v", got.status, got.body)
	}
}
