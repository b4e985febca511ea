package document_test

import (
	"strings"
	"testing"
	"time"

	"sentier/internal/demo"
	"sentier/internal/document"
	"sentier/internal/policy"
)

func TestSheetsThatAreWrittenChangeNothing(t *testing.T) {
	p, err := demo.Policy()
	if err != nil {
		t.Fatal(err)
	}
	for _, sheet := range []document.Sheet{"users", "devices", "members", "device_lists"} {
		data, err := document.WriteCSV(p, sheet, true)
		if err != nil {
			t.Fatal(err)
		}
		for what, text := range map[string]string{"as written": string(data), "with a byte order mark": "\uFEFF" + string(data), "with CRLF": strings.ReplaceAll(string(data), "\n", "\r\n")} {
			read, err := document.ReadCSV(p, sheet, []byte(text), csvNow)
			if err != nil {
				t.Fatalf("%s %s: %v", sheet, what, err)
			}
			if _, done, err := p.Apply(read.Changes); err != nil || len(done) != 0 || read.Rows == 0 {
				t.Errorf("%s %s: %d rows change %d records, %v", sheet, what, read.Rows, len(done), err)
			}
		}
	}
}

// csvNow is when the sheets of the tests are read.
var csvNow = time.Date(2026, 11, 24, 10, 0, 0, 0, time.UTC)

func TestReadCSV(t *testing.T) {
	p, err := demo.Policy()
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		sheet document.Sheet
		text  string
		added int
		other int    // records changed
		fault string // empty: none
	}{
		"new people, by semicolons":         {"users", "name;email;groups\nPia Rask;pia@larkmere.example;volunteers|bridge-crew\nOle Bay;;\n", 2, 2, ""},
		"one person in three rows":          {"users", "id,name,email,groups\npia,Pia Rask,pia@larkmere.example,volunteers\npia,Pia Rask,PIA@larkmere.example,bridge-crew\npia,Pia Rask,pia@larkmere.example,night-watch\n", 1, 3, ""},
		"somebody known by e-mail and name": {"users", "name,email,status\ntomas  FIELD,Tomas.Field@larkmere.example,suspended\n", 0, 1, ""},
		"somebody else's e-mail":            {"users", "name,email\nPia Rask,Tomas.Field@larkmere.example\n", 0, 0, "2:2: email: the e-mail \"Tomas.Field@larkmere.example\" is that of Tomas Field (tomas.field)"},
		"one e-mail in two rows":            {"users", "name,email\nPia Rask,pia@larkmere.example\nOle Bay,Pia@larkmere.example\n", 0, 0, "3:2: email: the e-mail \"Pia@larkmere.example\" is in line 2 too, for \"pia-rask\""},
		"one person in two rows without id": {"users", "name,email\nPia Rask,pia@larkmere.example\nPia Rask,pia@larkmere.example\n", 0, 0, "is in line 2 too"},
		"tabs":                              {"users", "name\tgroups\nPia Rask\tvolunteers|bridge-crew\n", 1, 2, ""},
		"a line that names the separator":   {"users", "sep=;\r\nname;groups\r\n\"Rask, Pia\";volunteers\r\n", 1, 1, ""},
		"lines count from the first":        {"users", "sep=;\nname;groups\nPia;nobody-knows\n", 0, 0, "3:2: groups"},
		"sixteen bits a letter":             {"users", "\xff\xfen\x00a\x00m\x00e\x00\n\x00Z\x00o\x00\xeb\x00\n\x00", 1, 0, ""},
		"marks within a tag":                {"devices", `id,name,tags` + "\n" + `mill-bridge,Mill bridge,a\|b|c\\d` + "\n", 0, 1, ""},
		"a member stays for as long":        {"users", "id,groups\nnoor.haddad,winter-contractors\n", 0, 0, ""},
		"devices with points":               {"devices", "name,kind,points\nHeron gate,lock-gate,a=A|b\n", 1, 0, ""},
		"an end of a membership":            {"members", "group,user,until\nbridge-crew,tomas.field,2026-12-31T00:00:00Z\n", 0, 1, ""},
		"quoted cells over lines":           {"users", "id,name\nx,\"Pia\nRask\"\n", 0, 0, "control character"},
		"a column that is none":             {"users", "name,e-mail\nx,y\n", 0, 0, `1:2: e-mail: "e-mail" is no column of users: did you mean "email"?`},
		"a column that is missing":          {"members", "group\nx\n", 0, 0, `the column "user" is missing`},
		"a row too short":                   {"users", "name,email\nx\n", 0, 0, "2:1: has 1 cells, and the first line names 2 columns"},
		"a group that is not there":         {"users", "name,groups\nx,bridge-crow\n", 0, 0, "2:2: groups: there is no user group \"bridge-crow\": did you mean bridge-crew"},
		"an instant that is none":           {"members", "group,user,until\nbridge-crew,tomas.field,soon\n", 0, 0, "2:3: until: \"soon\" is no time that can be read"},
		"an end in words":                   {"members", "group,user,until\nbridge-crew,tomas.field,31 March 18:00\n", 0, 1, ""},
		"quotes that do not close":          {"users", "name\n\"x\n", 0, 0, "is no CSV"},
		"nothing":                           {"users", "", 0, 0, "is empty"},
		"a sheet that is none":              {"grants", "x", 0, 0, "is no sheet"},
		"a user who is not there, in Apply": {"members", "group,user\nbridge-crew,nobody\n", 0, 0, `there is no user "nobody"`},
	} {
		t.Run(name, func(t *testing.T) {
			read, err := document.ReadCSV(p, c.sheet, []byte(c.text), csvNow)
			added, changed := 0, 0
			if err == nil {
				var done []policy.RecordChange
				if _, done, err = p.Apply(read.Changes); err == nil {
					for _, d := range done {
						if d.Before == nil {
							added++
						} else {
							changed++
						}
					}
				}
			}
			if c.fault == "" && err != nil || c.fault != "" && (err == nil || !strings.Contains(err.Error(), c.fault)) {
				t.Errorf("fault %v, want …%s…", err, c.fault)
			}
			if added != c.added || changed != c.other {
				t.Errorf("added %d and changed %d, want %d and %d", added, changed, c.added, c.other)
			}
		})
	}
}

func FuzzReadCSV(f *testing.F) {
	f.Add("users", "id;name;groups\na;\"b\";bridge-crew|x\n")
	f.Add("members", "\uFEFFgroup,user,from\r\nbridge-crew,tomas.field,2026-01-01T00:00:00Z\r\n")
	f.Add("devices", "name,points,tags\n,a=b|,|\n\n\"")
	p, err := demo.Policy()
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, sheet, text string) {
		read, err := document.ReadCSV(p, document.Sheet(sheet), []byte(text), csvNow)
		if err != nil {
			if _, ok := err.(document.Faults); !ok {
				t.Fatalf("an error that is no faults: %v", err)
			}
			return
		}
		if _, _, err := p.Apply(read.Changes); err != nil {
			if _, ok := err.(policy.Faults); !ok {
				t.Fatalf("an error that is no faults: %v", err)
			}
		}
	})
}

// TestSheetsKeepWhatIsInThem writes cells that a spreadsheet or the sheet itself could take for something else, and reads them again.
func TestSheetsKeepWhatIsInThem(t *testing.T) {
	p, _, err := policy.Empty().Apply([]policy.Change{
		{Op: policy.Put, Type: policy.Devices, ID: "a", Record: &policy.Device{ID: "a", Name: "=1+1", Tags: []string{"a|b", `c\`, `\|`, "'=x", "-5"}, Points: []policy.Point{{ID: "p", Name: "a=b|c"}, {ID: "q", Name: "'"}}, Address: "@host"}},
		{Op: policy.Put, Type: policy.Devices, ID: "b", Record: &policy.Device{ID: "b", Name: "'=2", Address: "''-x"}},
		{Op: policy.Put, Type: policy.Users, ID: "u", Record: &policy.User{ID: "u", Name: `-"x", y;`, Email: "+u@larkmere.example"}},
	})
	if err != nil {
		t.Fatal(err)
	}
	for _, people := range []bool{true, false} {
		for _, sheet := range []document.Sheet{"users", "devices"} {
			data, err := document.WriteCSV(p, sheet, people)
			if err != nil {
				t.Fatal(err)
			}
			if people && (strings.Contains(string(data), ",=") || strings.Contains(string(data), ",@") || strings.Contains(string(data), ",+")) {
				t.Errorf("a cell of this sheet is a formula:\n%s", data)
			}
			read, err := document.ReadCSV(p, sheet, data, csvNow)
			if err != nil {
				t.Fatalf("%v\n%s", err, data)
			}
			if _, done, err := p.Apply(read.Changes); err != nil || len(done) != 0 {
				t.Errorf("read again, %d records are other ones (%v):\n%s", len(done), err, data)
			}
		}
	}
}
