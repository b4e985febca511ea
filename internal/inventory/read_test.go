package inventory

import (
	"fmt"
	"strings"
	"testing"

	"sentier/internal/policy"
	"sentier/internal/source"
)

// shown is a list as it was read, with what was told of it.
func shown(held *source.Held) string {
	var out []string
	for _, t := range held.Things {
		out = append(out, strings.Trim(fmt.Sprintf("%d %s %s|%s|%s|%s|%s|%s|%s", t.Line, t.Type, t.Outside, t.Name, t.Kind, t.Site, t.Zone, t.Address, strings.Join(t.Tags, "+")), "|"))
	}
	for _, p := range held.Told {
		out = append(out, p.String())
	}
	return strings.Join(out, "\n")
}

func TestListsAsTheyAreWritten(t *testing.T) {
	for name, c := range map[string]struct {
		format  string
		columns map[string]string
		text    string
		want    string // parts of what was read, or of the error
	}{
		"a sheet":                        {CSV, nil, "id,name,kind,site,tags,address\nP-1,Weir pump,pump,summit,water|weir,10.0.0.1\n", "2 devices P-1|Weir pump|pump|summit||10.0.0.1|water+weir"},
		"by other names, whatever case":  {CSV, map[string]string{"id": "Asset No", "name": "label"}, "LABEL, asset no ,name\nPump,P-1,x\n", "2 devices P-1|Pump"},
		"apart by semicolons":            {CSV, nil, "id;name\nP-1;Pump, old\n", "2 devices P-1|Pump, old"},
		"with a mark of its order":       {CSV, nil, "\xef\xbb\xbfid,name\r\nP-1,Pump\r\n", "2 devices P-1|Pump"},
		"a value over two lines":         {CSV, nil, "id,name\nP-1,\"Pump\nold\"\nP-2,New\n", "4 devices P-2|New"},
		"a site":                         {CSV, nil, "id,type,name,parent,zone\nS,site,Weir,summit,Europe/Lisbon\n", "2 sites S|Weir||summit|Europe/Lisbon"},
		"a row that is short":            {CSV, nil, "id,name,kind\nP-1\n", "2 devices P-1"},
		"a row without an id":            {CSV, nil, "id,name\n,Pump\nP-2,Two\n", "line 2: it has no id"},
		"an id twice":                    {CSV, nil, "id,name\nP,One\nP,Two\n", "2 devices P|One\nline 3: \"P\" stands on line 2 already"},
		"an id of a site and a device":   {CSV, nil, "id,type\nP,site\nP,device\n", "2 sites P\n3 devices P"},
		"another sort of thing":          {CSV, nil, "id,type\nP,person\n", "line 2: \"person\" is neither a device nor a site"},
		"letters that nobody sees":       {CSV, nil, "id,name\nP-1,\u202eegduag\u200f\n", "2 devices P-1|egduag"},
		"nothing":                        {CSV, nil, "", "there is nothing in it"},
		"a quotation that never ends":    {CSV, nil, "id,name\nP,\"Pump\n", "line 2 cannot be read"},
		"no column with an id":           {CSV, nil, "asset,name\nP,Pump\n", "no column \"id\""},
		"a page":                         {CSV, nil, "<html><body>Sign in", "no column \"id\""},
		"not UTF-8":                      {CSV, nil, "id,name\nP,\xff\n", "not written in UTF-8"},
		"a value of a book":              {CSV, nil, "id,name\nP," + strings.Repeat("x", mostText+1) + "\n", "it is cut"},
		"lines of JSON":                  {JSONL, nil, `{"id":"P-1","name":"Pump","tags":["b","a","b"],"kind":"pump","more":{"x":1}}` + "\n\n" + `{"id":7}`, "1 devices P-1|Pump|pump||||a+b\n3 devices 7"},
		"by other names":                 {JSONL, map[string]string{"id": "asset"}, `{"asset":"P-1","id":"x"}`, "1 devices P-1"},
		"an object where a text belongs": {JSONL, nil, `{"id":"P","name":{"en":"Pump"}}`, "1 devices P\nline 1: name holds an object"},
		"a list of numbers":              {JSONL, nil, `{"id":"P","tags":[1]}`, "none of texts"},
		"a line that breaks off":         {JSONL, nil, `{"id":"P"}` + "\n" + `{"id":`, "line 2 is no JSON object"},
		"one list of all":                {JSONL, nil, `[{"id":"P"}]`, "line 1 is no JSON object"},
		"null":                           {JSONL, nil, `null`, "line 1 is no JSON object"},
		"a line without an end":          {JSONL, nil, `{"id":"` + strings.Repeat("x", mostLine) + `"}`, "longer than"},
	} {
		t.Run(name, func(t *testing.T) {
			held, err := Read([]byte(c.text), &source.Inventory{Format: c.format, Columns: c.columns})
			got := ""
			if err != nil {
				got = err.Error()
			} else {
				got = shown(held)
			}
			if !strings.Contains(got, c.want) {
				t.Errorf("got:\n%.500s\nwant:\n%s", got, c.want)
			}
		})
	}
	for field, in := range map[string]source.Inventory{"": {Format: CSV, Columns: map[string]string{"id": "asset"}}, "format": {Format: "xml"}, "columns": {Format: CSV, Columns: map[string]string{"secret": "x"}}} {
		if got, problem := Check(&in); got != field {
			t.Errorf("%+v: %q, %v", in, got, problem)
		}
	}
}

// FuzzRead: whatever comes, it is read or refused; what is read has an id, and each but once.
func FuzzRead(f *testing.F) {
	f.Add([]byte("id,name,tags\nP-1,\"Pump\",a|b\n"), true)
	f.Add([]byte(`{"id":"P-1","tags":["a"]}`), false)
	f.Fuzz(func(t *testing.T, text []byte, sheet bool) {
		format := JSONL
		if sheet {
			format = CSV
		}
		held, err := Read(text, &source.Inventory{Format: format})
		if err != nil {
			return
		}
		seen := map[string]bool{}
		for _, x := range held.Things {
			key := x.Type.String() + " " + x.Outside
			if x.Outside == "" || seen[key] || x.Type != policy.Devices && x.Type != policy.Sites {
				t.Fatalf("%+v", x)
			}
			seen[key] = true
		}
	})
}
