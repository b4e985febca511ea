package acceptance

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"sentier/internal/wire"
)

// provisioned is a service with a source that brings people and groups over SCIM.
type provisioned struct {
	*world
	secret string
}

func withSCIM(t *testing.T, bring string) provisioned {
	t.Helper()
	w := start(t, nil)
	get[wire.Source](w, "POST", "/api/v1/sources", `{"name":"Larkmere people","kind":"scim","bring":`+bring+`}`)
	return provisioned{w, get[wire.Token](w, "POST", "/api/v1/sources/larkmere-people/tokens", `{}`).Secret}
}

type scimAnswer struct {
	status int
	header http.Header
	body   map[string]any
}

func (a scimAnswer) text(path ...string) string {
	var v any = a.body
	for _, name := range path {
		inner, _ := v.(map[string]any)
		v = inner[name]
	}
	s, _ := v.(string)
	return s
}

// call speaks SCIM.
func (p provisioned) call(method, path, body string, headers ...string) (out scimAnswer) {
	p.t.Helper()
	req, err := http.NewRequest(method, p.url+"/scim/v2"+path, strings.NewReader(body))
	if err != nil {
		p.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+p.secret)
	if body != "" {
		req.Header.Set("Content-Type", "application/scim+json")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := (&http.Client{Timeout: time.Minute}).Do(req)
	if err != nil {
		p.t.Fatal(err)
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(resp.Body)
	if err != nil {
		p.t.Fatal(err)
	}
	out = scimAnswer{status: resp.StatusCode, header: resp.Header}
	if len(data) > 0 {
		if err := json.Unmarshal(data, &out.body); err != nil {
			p.t.Fatalf("%s %s: %v: %s", method, path, err, data)
		}
		if media := resp.Header.Get("Content-Type"); media != "application/scim+json" {
			p.t.Errorf("%s %s is answered as %s", method, path, media)
		}
	}
	return out
}

// must is a call that has to end with a status.
func (p provisioned) must(want int, method, path, body string, headers ...string) scimAnswer {
	p.t.Helper()
	out := p.call(method, path, body, headers...)
	if out.status != want {
		p.t.Fatalf("%s %s %s: %d, want %d: %v", method, path, body, out.status, want, out.body)
	}
	return out
}

const scimAna = `{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"Ana.Lopes","externalId":"4711","name":{"givenName":"Ana","familyName":"Lopes"},
	"emails":[{"value":"ana@larkmere.example","type":"work","primary":true}],"active":true,"password":"must never be kept","shoeSize":"nobody asks for it"}`

// TestPeopleComeOverSCIM: somebody is made, put into a group, changed, suspended and taken away by a source; each is a change like any other, and counts at once.
func TestPeopleComeOverSCIM(t *testing.T) {
	t.Parallel()
	p := withSCIM(t, `{"groups":[{"outside":"Bridge Crew","group":"bridge-crew"}]}`)
	made := p.must(201, "POST", "/Users", scimAna)
	if made.text("id") != "ana.lopes" || made.text("userName") != "Ana.Lopes" || made.text("externalId") != "4711" || made.body["password"] != nil || made.body["shoeSize"] != nil ||
		!strings.HasSuffix(made.header.Get("Location"), "/scim/v2/Users/ana.lopes") || made.header.Get("ETag") != made.text("meta", "version") {
		t.Errorf("made: %v %v", made.header, made.body)
	}
	for body, want := range map[string]string{
		scimAna: "uniqueness", `{"userName":"mira.holt.nobody ü"}`: "invalidValue", `{"displayName":"x"}`: "invalidValue", `{"userName":"tomas.field"}`: "uniqueness", `[1]`: "invalidSyntax",
		`{"userName":"x1","active":"perhaps"}`: "invalidValue", `{"userName":"x2","emails":"a@x.example","name":7}`: "invalidValue", `{"userName":"x3","emails":[{"value":"ana@larkmere.example"}]}`: "uniqueness",
		strings.Repeat(`{"a":`, 50) + "1" + strings.Repeat("}", 50): "invalidSyntax",
	} {
		out := p.call("POST", "/Users", body)
		if out.status < 400 || out.status >= 500 || out.text("scimType") != want || out.text("detail") == "" {
			t.Errorf("%.90s: %d %v, want %s", body, out.status, out.body, want)
		}
	}
	if a := p.opens("ana.lopes"); a.Allowed || a.Reason != "no_grant" {
		t.Errorf("before she is in any group: %v %s", a.Allowed, a.Reason)
	}
	crew := p.must(201, "POST", "/Groups", `{"displayName":"bridge crew","members":[{"value":"ana.lopes"}]}`)
	if crew.text("id") != "bridge-crew" || len(crew.body["members"].([]any)) != 1 {
		t.Errorf("the group is %v", crew.body)
	}
	a := p.opens("ana.lopes")
	if !a.Allowed || a.Because[0].Stops[1].Source == nil || a.Because[0].Stops[1].Source.ID != "larkmere-people" {
		t.Errorf("in the crew: %v %s %+v", a.Allowed, a.Reason, a.Because)
	}
	p.does(2, `the source "Larkmere people" keeps`, "user", "edit", "ana.lopes", "--name", "Somebody Else")
	if one := p.must(200, "GET", "/Users/ana.lopes", ""); one.body["groups"] == nil {
		t.Errorf("her groups are not told: %v", one.body)
	}
	p.must(200, "PATCH", "/Users/ana.lopes", `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[{"op":"Replace","path":"active","value":"False"},{"op":"replace","path":"name.familyName","value":"Reis"}]}`)
	if a := p.opens("ana.lopes"); a.Reason != "user_suspended" {
		t.Errorf("not active: %s", a.Reason)
	}
	p.must(200, "PATCH", "/Users/ana.lopes", `{"Operations":[{"op":"replace","value":{"active":true}}]}`)
	if out := p.does(0, "", "user", "show", "ana.lopes"); !strings.Contains(out, "Ana Reis") || !p.opens("ana.lopes").Allowed {
		t.Errorf("active again, and called otherwise: %s", out)
	}
	p.must(400, "PATCH", "/Users/ana.lopes", `{"Operations":[{"op":"replace","path":"emails[type eq \"home\"].value","value":"x"}]}`)
	p.must(400, "PATCH", "/Users/ana.lopes", `{"Operations":[{"op":"replace","path":"id","value":"x"}]}`)
	p.must(404, "PATCH", "/Users/tomas.field", `{"Operations":[{"op":"replace","path":"active","value":false}]}`)
	p.must(400, "PATCH", "/Groups/bridge-crew", `{"Operations":[{"op":"add","path":"members","value":[{"value":"tomas.field"}]}]}`)
	p.must(200, "PATCH", "/Groups/bridge-crew", `{"Operations":[{"op":"remove","path":"members[value eq \"ana.lopes\"]"}]}`)
	if p.opens("ana.lopes").Allowed {
		t.Error("taken out of the group, and she may still")
	}
	p.must(201, "POST", "/Groups", `{"displayName":"Night shift","members":[{"value":"ana.lopes"}]}`)
	p.must(204, "DELETE", "/Groups/night-shift", "")
	p.must(204, "DELETE", "/Users/ana.lopes", "")
	p.must(404, "GET", "/Users/ana.lopes", "")
	p.must(404, "DELETE", "/Users/ana.lopes", "")
	p.must(201, "POST", "/Users", scimAna)
	if out := p.does(0, "", "history", "list"); strings.Count(out, "Larkmere people") < 8 {
		t.Errorf("the record does not have every change:\n%s", out)
	}

	// The token is good for nothing else, and nobody else's is good for this.
	for _, path := range []string{"/api/v1/users", "/api/v1/policy", "/api/v1/check", "/access/v1/evaluation", "/api/v1/tokens"} {
		if status, _, text := p.ask("GET", path, p.secret, ""); status != 403 && status != 405 {
			t.Errorf("%s with the token of the source: %d %.100s", path, status, text)
		}
	}
	for _, token := range []string{"", "sentier_none", p.token, p.tokenFor("agnes.lindqvist")} {
		other := p
		other.secret = token
		if out := other.call("GET", "/Users", ""); out.status != 401 && out.status != 403 || out.text("detail") == "" {
			t.Errorf("SCIM with %.12s: %d %v", token, out.status, out.body)
		}
	}
	p.world.does(0, "", "source", "edit", "larkmere-people", "--paused")
	p.must(403, "GET", "/Users", "")
}

// TestThousandsOverSCIM: bulk, pages, filters, orders and attributes over many people; what fails is told by itself, and the others count as one revision.
func TestThousandsOverSCIM(t *testing.T) {
	t.Parallel()
	p := withSCIM(t, `{"rules":[{"match":"prefix","text":"team-","group":"team-*","make":true}]}`)
	const all, each = 3000, 1000
	for from := 0; from < all; from += each {
		var ops []string
		for i := from; i < from+each; i++ {
			ops = append(ops, fmt.Sprintf(`{"method":"POST","path":"/Users","bulkId":"b%d","data":{"userName":"p%05d","displayName":"Person %d","active":%v}}`, i, i, i%7, i%2 == 0))
		}
		if from == 0 {
			ops[3] = `{"method":"POST","path":"/Users","bulkId":"bad","data":{"userName":"tomas.field"}}`
			ops[4] = `{"method":"POST","path":"/Groups","bulkId":"g","data":{"displayName":"team-one","members":[{"value":"bulkId:b1"},{"value":"bulkId:b2"}]}}`
			ops[5] = `{"method":"PATCH","path":"/Groups/bulkId:g","data":{"Operations":[{"op":"add","path":"members","value":[{"value":"bulkId:b0"}]}]}}`
			ops[6] = `{"method":"DELETE","path":"/Users/nobody","data":{}}`
		}
		out := p.must(200, "POST", "/Bulk", `{"schemas":["urn:ietf:params:scim:api:messages:2.0:BulkRequest"],"Operations":[`+strings.Join(ops, ",")+`]}`)
		if from == 0 {
			done := out.body["Operations"].([]any)
			for i, want := range map[int]string{0: "201", 3: "409", 4: "201", 5: "200", 6: "404", 7: "201"} {
				if got := done[i].(map[string]any)["status"]; got != want {
					t.Errorf("operation %d: %v, want %s", i, done[i], want)
				}
			}
		}
	}
	if src := get[wire.Source](p.world, "GET", "/api/v1/sources/larkmere-people", ""); src.Users != all-4 || src.Members != 3 {
		t.Errorf("%d users, %d memberships", src.Users, src.Members)
	}
	for query, want := range map[string][2]int{ // in all, on the page
		"": {all - 4, 100}, "?count=0": {all - 4, 0}, "?startIndex=2990&count=50": {all - 4, 7}, "?count=5000": {all - 4, 1000}, "?startIndex=-3&count=2": {all - 4, 2}, "?startIndex=99999": {all - 4, 0},
		`?filter=userName+eq+"P00042"`: {1, 1}, `?filter=userName+eq+"nobody"`: {0, 0}, `?filter=active+eq+false+and+displayName+eq+"Person+3"`: {214, 100}, `?filter=userName+sw+"p0001"&sortBy=userName&sortOrder=descending&count=3`: {10, 3},
	} {
		out := p.must(200, "GET", "/Users"+query, "")
		list := out.body["Resources"].([]any)
		if total := int(out.body["totalResults"].(float64)); total != want[0] || len(list) != want[1] {
			t.Errorf("%s: %d in all, %d on the page, want %v", query, total, len(list), want)
		}
		if strings.Contains(query, "descending") && list[0].(map[string]any)["userName"] != "p00019" {
			t.Errorf("%s begins with %v", query, list[0])
		}
	}
	one := p.must(200, "POST", "/Users/.search", `{"filter":"userName eq \"p00042\"","attributes":["userName","name.givenName"]}`).body["Resources"].([]any)[0].(map[string]any)
	if one["id"] != "p00042" || one["userName"] != "p00042" || one["displayName"] != nil || one["schemas"] == nil {
		t.Errorf("with some attributes: %v", one)
	}
	if out := p.must(200, "GET", "/Users/p00042?excludedAttributes=displayName,meta", ""); out.body["displayName"] != nil || out.body["meta"] != nil || out.body["active"] == nil {
		t.Errorf("without some attributes: %v", out.body)
	}
	for _, query := range []string{"?filter=nothing+eq+1", "?filter=((((", "?sortBy=nothing", "?count=many", "?attribute=x"} {
		p.must(400, "GET", "/Users"+query, "")
	}
	for _, path := range []string{"/ServiceProviderConfig", "/ResourceTypes", "/ResourceTypes/User", "/Schemas", "/Schemas/urn:ietf:params:scim:schemas:core:2.0:Group"} {
		p.must(200, "GET", path, "")
	}
	p.must(404, "GET", "/Schemas/none", "")
	p.must(404, "GET", "/Devices", "")
}

// TestManyPatchOneGroup: what several do to one group at a time is all done, and who brings an old version is told.
func TestManyPatchOneGroup(t *testing.T) {
	t.Parallel()
	p := withSCIM(t, `{"share":100}`)
	var members []string
	for i := range 16 {
		p.must(201, "POST", "/Users", fmt.Sprintf(`{"userName":"p%02d"}`, i))
		members = append(members, fmt.Sprintf("p%02d", i))
	}
	first := p.must(201, "POST", "/Groups", `{"displayName":"Crew"}`)
	id := first.text("id")
	var all sync.WaitGroup
	for _, m := range members {
		all.Go(func() {
			p.call("PATCH", "/Groups/"+id, `{"Operations":[{"op":"add","path":"members","value":[{"value":"`+m+`"}]}]}`)
		})
	}
	all.Wait()
	now := p.must(200, "GET", "/Groups/"+id, "")
	if got := len(now.body["members"].([]any)); got != len(members) {
		t.Errorf("%d of %d are in the group", got, len(members))
	}
	p.must(412, "PUT", "/Groups/"+id, `{"displayName":"Other"}`, "If-Match", first.header.Get("ETag"))
	p.must(304, "GET", "/Groups/"+id, "", "If-None-Match", now.header.Get("ETag"))
	renamed := p.must(200, "PUT", "/Groups/"+id, `{"displayName":"Other","members":[{"value":"p00"}]}`, "If-Match", now.header.Get("ETag"))
	if renamed.text("displayName") != "Other" || len(renamed.body["members"].([]any)) != 1 {
		t.Errorf("put: %v", renamed.body)
	}
	// The same request again changes nothing.
	before := get[wire.Saved](p.world, "POST", "/api/v1/changes?dry_run=true", `{"changes":[{"op":"patch","type":"users","id":"tomas.field","record":{"note":"x"}}]}`).Revision
	p.must(200, "PUT", "/Groups/"+id, `{"displayName":"Other","members":[{"value":"p00"}]}`)
	if after := get[wire.Saved](p.world, "POST", "/api/v1/changes?dry_run=true", `{"changes":[{"op":"patch","type":"users","id":"tomas.field","record":{"note":"x"}}]}`).Revision; after != before {
		t.Errorf("a request that changes nothing has made revision %d", after)
	}
}
