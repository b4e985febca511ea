package acceptance

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"strings"
	"testing"
	"time"

	"sentier/internal/wire"
)

// otherSCIM is a service of others that keeps people and groups.
type otherSCIM struct {
	t   *testing.T
	url string
}

const scimToken = "reads-the-people"

func newOtherSCIM(t *testing.T) *otherSCIM {
	t.Helper()
	node := exec.Command("node", "--no-warnings", "scim-service.mjs", scimToken)
	node.Dir, node.Stderr = "peers", io.Discard
	in, err := node.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := node.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := node.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = in.Close() // which ends it
		_ = node.Wait()
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatalf("the other service says nothing: %v", err)
	}
	return &otherSCIM{t, strings.TrimSpace(line)}
}

// keeps makes it keep some people, and by the names of groups who is in them.
func (o *otherSCIM) keeps(people []string, groups map[string][]string) {
	o.t.Helper()
	type m = map[string]any
	var users, teams []m
	for _, id := range people {
		users = append(users, m{"id": "u-" + id, "userName": id, "displayName": "Person " + id, "active": true, "emails": []m{{"value": id + "@larkmere.example", "primary": true}}})
	}
	for name, members := range groups {
		list := []m{}
		for _, id := range members {
			list = append(list, m{"value": id})
		}
		teams = append(teams, m{"id": "g-" + name, "displayName": name, "members": list})
	}
	body, err := json.Marshal(m{"users": users, "groups": teams})
	if err != nil {
		o.t.Fatal(err)
	}
	req, err := http.NewRequest("PUT", o.url+"/keeps", strings.NewReader(string(body)))
	if err != nil {
		o.t.Fatal(err)
	}
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		o.t.Fatal(err)
	}
	_ = resp.Body.Close()
	if resp.StatusCode != http.StatusNoContent {
		o.t.Fatalf("it is told what it keeps: %s", resp.Status)
	}
}

// TestPeopleAreReadFromAnotherBySCIM: page by page, groups within groups among them; a group there is enough to open the bridge, and its end ends it.
func TestPeopleAreReadFromAnotherBySCIM(t *testing.T) {
	t.Parallel()
	o := newOtherSCIM(t)
	w := start(t, nil)
	w.secret("people", scimToken+"\n")
	var people []string
	for i := range 450 { // more than two pages
		people = append(people, fmt.Sprintf("p%03d", i))
	}
	o.keeps(append(people, "ana.lopes"), map[string][]string{"bridge crew": {"g-night crew"}, "night crew": {"u-ana.lopes", "g-bridge crew"}, "everybody": {"u-p000", "u-p449"}})
	w.does(0, "Set up", "source", "add", "Larkmere people", "--scim", "--url", o.url+"/scim/v2", "--secret", "people", "--map", "Bridge crew=bridge-crew", "--map-prefix", "every=volunteers")
	w.does(0, "451 people, 3 groups", "source", "test", "larkmere-people")
	w.does(0, "3 new", "source", "sync", "larkmere-people")
	if a := w.opens("ana.lopes"); !a.Allowed || a.Because[0].Stops[1].Source == nil || a.Because[0].Stops[1].Source.Name != "Larkmere people" {
		t.Errorf("Ana: %+v", a)
	}
	o.keeps(people, map[string][]string{"bridge crew": {}, "everybody": {"u-p000", "u-p449"}})
	w.does(0, "1 gone", "source", "sync", "larkmere-people")
	if w.opens("ana.lopes").Allowed {
		t.Error("she is there no more, and may still")
	}
	w.secret("people", "another\n")
	w.does(2, "answered with 401", "source", "sync", "larkmere-people")
	if src := get[wire.Source](w, "GET", "/api/v1/sources/larkmere-people", ""); src.Users != 2 {
		t.Errorf("after a reading that failed, %d users are known", src.Users)
	}
}

// TestAnotherServiceThatLies: whatever it says that cannot be, nothing of it counts.
func TestAnotherServiceThatLies(t *testing.T) {
	t.Parallel()
	answer := ""
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, "/Groups") {
			_, _ = io.WriteString(w, `{"totalResults":0,"Resources":[]}`)
			return
		}
		switch answer {
		case "slow":
			time.Sleep(50 * time.Millisecond)
			panic(http.ErrAbortHandler)
		case "elsewhere":
			http.Redirect(w, r, "http://127.0.0.1:1/", http.StatusFound)
		default:
			_, _ = io.WriteString(w, answer)
		}
	}))
	defer other.Close()
	w := start(t, nil)
	w.does(0, "", "source", "add", "Liars", "--scim", "--url", other.URL, "--everybody")
	for what, says := range map[string]string{
		`{"totalResults":2,"Resources":[{"id":"1","userName":"a"}]}`:                           "twice",
		`{"totalResults":3,"Resources":[]}`:                                                    "said 0 of 3 Users",
		`{"totalResults":1,"Resources":[{"userName":"a"}]}`:                                    "has no id",
		`{"totalResults":2,"Resources":[{"id":"1","userName":"a"},{"id":"1","userName":"b"}]}`: "twice",
		`{"totalResults":999999999,"Resources":[{"id":"1","userName":"a"}]}`:                   "up to 500000 are read",
		`<html>`:                         "no list of SCIM",
		`{"users":[]}`:                   "no list of SCIM",
		`{"totalResults":"many"}`:        "no list of SCIM",
		"slow":                           "nobody answers",
		"elsewhere":                      "answered with 302",
		strings.Repeat(" ", 33<<20) + "": "more than 32768 kB",
	} {
		answer = what
		w.does(2, says, "source", "sync", "liars")
	}
	answer = `{"totalResults":2,"Resources":[{"id":"1","userName":"A B"},{"id":"2","userName":"fine","name":{"givenName":"Fine"}}]}`
	w.does(0, "1 new", "source", "sync", "liars")
}
