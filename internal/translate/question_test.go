package translate

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/wire"
)

var now = time.Date(2026, 11, 24, 10, 0, 0, 0, time.UTC)

func TestEvaluation(t *testing.T) {
	whole := `{"subject":{"type":"user","id":"ana"},"action":{"name":"view"},"resource":{"type":"device","id":"gate"}`
	for name, x := range map[string]struct{ body, field string }{
		"a device":                {whole + `}`, ""},
		"a point":                 {strings.Replace(whole, `"device","id":"gate"`, `"point","id":"gate/a"`, 1) + `}`, ""},
		"more than we know":       {whole + `,"context":{"weather":"fine","time":null},"page":1}`, ""},
		"all that we know":        {whole + `,"context":{"time":"2026-11-24T09:00:00+01:00","ip":"2001:db8::7","strong_sign_in":true,"attended":false}}`, ""},
		"no subject":              {`{"action":{"name":"view"},"resource":{"type":"device","id":"gate"}}`, "subject.type"},
		"a subject of a kind":     {strings.Replace(whole, `"user"`, `"robot"`, 1) + `}`, "subject.type"},
		"a subject without id":    {strings.Replace(whole, `"ana"`, `""`, 1) + `}`, "subject.id"},
		"no action":               {strings.Replace(whole, `"view"`, `""`, 1) + `}`, "action.name"},
		"no resource":             {strings.Replace(whole, `"gate"`, `""`, 1) + `}`, "resource.id"},
		"a resource of a kind":    {strings.Replace(whole, `"device"`, `"door"`, 1) + `}`, "resource.type"},
		"half of a point":         {strings.Replace(whole, `"device","id":"gate"`, `"point","id":"gate"`, 1) + `}`, "resource.id"},
		"a point without name":    {strings.Replace(whole, `"device","id":"gate"`, `"point","id":"gate/"`, 1) + `}`, "resource.id"},
		"a point of nothing":      {strings.Replace(whole, `"device","id":"gate"`, `"point","id":"/a"`, 1) + `}`, "resource.id"},
		"a time that is none":     {whole + `,"context":{"time":"soon"}}`, "context.time"},
		"a time that is a number": {whole + `,"context":{"time":1}}`, "context.time"},
		"an address that is none": {whole + `,"context":{"ip":"10.0.0"}}`, "context.ip"},
		"yes is not true":         {whole + `,"context":{"attended":"yes"}}`, "context.attended"},
		"of many the first":       {whole + `,"context":{"attended":"yes","strong_sign_in":1,"ip":2,"time":3}}`, "context.time"},
	} {
		var in wire.Evaluation
		if err := json.Unmarshal([]byte(x.body), &in); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		for range 5 {
			q, err := Evaluation(&in, now)
			var fault *InputError
			switch {
			case x.field == "" && (err != nil || q.User != "ana" || q.Right != "view" || q.Device != "gate"):
				t.Errorf("%s: %+v (%v)", name, q, err)
			case x.field != "" && (!errors.As(err, &fault) || fault.Field != x.field):
				t.Errorf("%s: the fault is %v, want one of %s", name, err, x.field)
			}
		}
	}
}

// FuzzEvaluation reads anything: what is taken is what was said, and what is not has a fault that names a place.
func FuzzEvaluation(f *testing.F) {
	f.Add(`{"subject":{"type":"user","id":"ana"},"action":{"name":"view"},"resource":{"type":"device","id":"gate"},"context":{"time":"2026-11-24T09:00:00Z","ip":"10.0.0.7","attended":true}}`)
	f.Add(`{"subject":{"type":"user","id":"a"},"action":{"name":"v"},"resource":{"type":"point","id":"a/b/c"},"context":{"time":"9999-12-31T23:59:60Z","ip":"fe80::1%eth0","strong_sign_in":null}}`)
	f.Add(`{"subject":{"type":"user","id":"a","properties":{"x":[1]}},"action":{"name":"v"},"resource":{"type":"point","id":"/"},"context":{"time":"0000-01-01T00:00:00Z"}}`)
	f.Fuzz(func(t *testing.T, text string) {
		var in wire.Evaluation
		if json.Unmarshal([]byte(text), &in) != nil {
			return
		}
		q, err := Evaluation(&in, now)
		if err != nil {
			var fault *InputError
			if !errors.As(err, &fault) || fault.Field == "" || fault.Problem.Form == "" {
				t.Fatalf("%q: the fault %v names no place", text, err)
			}
			return
		}
		id := string(q.Device)
		if q.Point != "" {
			id += "/" + string(q.Point)
		}
		if string(q.User) != in.Subject.ID || string(q.Right) != in.Action.Name || id != in.Resource.ID {
			t.Fatalf("%q was read as %+v", text, q)
		}
		if said, _ := in.Context["attended"].(bool); (q.Context.Attended == decision.True) != said {
			t.Fatalf("%q was read as attended: %v", text, q.Context.Attended)
		}
		if _, said := in.Context["time"].(string); !said && !q.At.Equal(now) {
			t.Fatalf("%q was read as at %v", text, q.At)
		}
		if q.At.Nanosecond()%1000 != 0 {
			t.Fatalf("%q has a time finer than a microsecond: %v", text, q.At)
		}
	})
}
