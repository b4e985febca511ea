package cli

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// fieldFlag is a flag that sets a field of a record.
type fieldFlag struct {
	flag, path string                            // path: dots between fields of fields
	read       func(texts []string) (any, error) // nil: a time
	form       string                            // how a value is written
	takes      string                            // what help and completion call a value: TIME
	usage      string
	many       bool // the flag can be given several times
}

func single(read func(string) (any, error)) func([]string) (any, error) {
	return func(texts []string) (any, error) { return read(texts[len(texts)-1]) }
}

// text is a text; the empty one takes the field away.
func text(s string) (any, error) {
	if s == "" {
		return nil, nil
	}
	return s, nil
}

func words(s string) (any, error) {
	if strings.TrimSpace(s) == "" {
		return nil, nil
	}
	out := []any{}
	for _, w := range strings.Split(s, ",") {
		out = append(out, strings.TrimSpace(w))
	}
	return out, nil
}

func yesNo(s string) (any, error) {
	v, err := strconv.ParseBool(s)
	if err != nil {
		return nil, fmt.Errorf("%q is neither true nor false", s)
	}
	return v, nil
}

func whole(s string) (any, error) {
	n, err := strconv.Atoi(s)
	if err != nil {
		return nil, fmt.Errorf("%q is no whole number", s)
	}
	return n, nil
}

// moment is an instant, or a time in words, which read makes one of; the empty text takes the field away.
func moment(s string, read func(words string) (time.Time, error)) (any, error) {
	if s == "" {
		return nil, nil
	}
	var t time.Time
	_, err := time.Parse(time.RFC3339, strings.ToUpper(s))
	if err == nil {
		t, err = document.Moment(strings.ToUpper(s))
	} else {
		t, err = read(s)
	}
	if err != nil {
		return nil, err
	}
	return t.Format(time.RFC3339Nano), nil
}

// moment reads a time by the clock of the service, and in the zone of the device that a command is about; of none, in that of the
// policy. The clock and the zone of this machine may be others.
func (a *app) moment(cmd *cobra.Command, s string) (any, error) {
	return moment(s, func(words string) (time.Time, error) {
		c, err := a.client()
		if err != nil {
			return time.Time{}, err
		}
		asked, told := wire.TimeQuestion{Text: words}, wire.Time{}
		if about := cmd.Flags().Arg(0); cmd.HasParent() && cmd.Parent().Name() == "device" && about != "-" {
			asked.Device = about
		}
		if err := c.Do(cmd.Context(), "POST", "/api/v1/time", nil, asked, &told); err != nil || told.At == nil {
			return time.Time{}, err
		}
		return *told.At, nil
	})
}

// fromTo reads FROM..TO.
func fromTo(s string) (any, error) {
	if s == "" {
		return nil, nil
	}
	from, to, ok := strings.Cut(s, "..")
	if !ok {
		return nil, fmt.Errorf("%q is no range: write FROM..TO", s)
	}
	out := row{}
	if from != "" {
		out["from"] = from
	}
	if to != "" {
		out["to"] = to
	}
	return out, nil
}

var weekdays = []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}

// window reads “mon-fri 07:00-16:00”, “sat,sun 09:00-17:00” or “22:00-06:00”.
func window(s string) (row, error) {
	days, clocks, ok := strings.Cut(strings.TrimSpace(s), " ")
	if !ok {
		days, clocks = "", days
	}
	from, to, ok := strings.Cut(strings.TrimSpace(clocks), "-")
	if !ok {
		return nil, fmt.Errorf("%q is no window: write it as “mon-fri 07:00-16:00” or “22:00-06:00”", s)
	}
	out := row{"from": from, "to": to}
	if days == "" {
		return out, nil
	}
	list := []any{}
	for _, part := range strings.Split(days, ",") {
		first, last, span := strings.Cut(part, "-")
		a, b := slices.Index(weekdays, first), slices.Index(weekdays, last)
		switch {
		case !span:
			list = append(list, part)
		case a < 0 || b < 0:
			return nil, fmt.Errorf("%q are no days: write mon-fri or sat,sun", part)
		default:
			for i := a; ; i = (i + 1) % 7 {
				list = append(list, weekdays[i])
				if i == b {
					break
				}
			}
		}
	}
	out["days"] = list
	return out, nil
}

func windows(texts []string) (any, error) {
	out := []any{}
	for _, s := range texts {
		w, err := window(s)
		if err != nil {
			return nil, err
		}
		out = append(out, w)
	}
	return out, nil
}

// specials reads “CALENDAR 05:00-23:00 …”, a calendar and its windows.
func specials(texts []string) (any, error) {
	out := []any{}
	for _, s := range texts {
		parts := strings.Fields(s)
		if len(parts) == 0 {
			return nil, fmt.Errorf("%q names no calendar: write “CALENDAR 05:00-23:00”", s)
		}
		list := []any{}
		for _, p := range parts[1:] {
			w, err := window(p)
			if err != nil {
				return nil, err
			}
			list = append(list, w)
		}
		out = append(out, row{"calendar": parts[0], "windows": list})
	}
	return out, nil
}

// calendarDays reads “2026-12-25 Christmas” and “2027-02-08..2027-02-12 Dewatering”.
func calendarDays(texts []string) (any, error) {
	out := []any{}
	for _, s := range texts {
		day, name, _ := strings.Cut(strings.TrimSpace(s), " ")
		entry := row{}
		if from, to, span := strings.Cut(day, ".."); span {
			entry["from"], entry["to"] = from, to
		} else {
			entry["date"] = day
		}
		if name != "" {
			entry["name"] = name
		}
		out = append(out, entry)
	}
	return out, nil
}

// points reads “deck=Deck,barriers=Barriers”.
func points(s string) (any, error) {
	if s == "" {
		return nil, nil
	}
	out := []any{}
	for _, p := range strings.Split(s, ",") {
		id, name, named := strings.Cut(strings.TrimSpace(p), "=")
		entry := row{"id": id}
		if named {
			entry["name"] = name
		}
		out = append(out, entry)
	}
	return out, nil
}

// texts is the value of a flag that says what it takes.
type texts struct {
	list  []string
	takes string
}

func (t *texts) String() string { return strings.Join(t.list, ", ") }
func (t *texts) Type() string   { return t.takes }

// Set takes one value more.
func (t *texts) Set(s string) error {
	t.list = append(t.list, s)
	return nil
}

// takesOf is what help calls a value of a field.
func takesOf(f policy.Field) string {
	takes := "TEXT"
	switch f.Kind {
	case policy.RefField:
		takes = strings.ToUpper(strings.ReplaceAll(f.Ref.Noun(), " ", "-"))
	case policy.PointField:
		takes = "DEVICE/POINT"
	case policy.ChoiceField:
		takes = strings.Join(f.Choices, "|")
	case policy.SwitchField, policy.BoolField, policy.TriField:
		takes = "true|false"
	case policy.NumberField:
		takes = "NUMBER"
	case policy.InstantField:
		takes = "TIME"
	case policy.DateField, policy.MonthDayField:
		takes = "DAY"
	case policy.ClockField:
		takes = "HH:MM"
	case policy.NetworkField:
		takes = "NETWORK"
	case policy.ZoneField:
		takes = "ZONE"
	}
	if f.Many {
		return takes + ",..." // of plain letters: help is aligned by bytes
	}
	return takes
}

// bodyFlags are the flags that say what a record is to be.
type bodyFlags struct {
	json string
	set  map[string]*texts
}

func (b *bodyFlags) flags(cmd *cobra.Command, fields []fieldFlag) {
	cmd.Flags().StringVar(&b.json, "json", "", "fields as a JSON object, or - to read it from standard input")
	b.set = map[string]*texts{}
	for _, f := range fields {
		b.set[f.flag] = &texts{takes: f.takes}
		cmd.Flags().Var(b.set[f.flag], f.flag, f.usage)
	}
}

// patch gives the fields that were given, as a merge patch.
func (b *bodyFlags) patch(a *app, cmd *cobra.Command, fields []fieldFlag) (row, error) {
	out := row{}
	if b.json != "" {
		data := []byte(b.json)
		if b.json == "-" {
			var err error
			if data, err = readAll(cmd.InOrStdin()); err != nil {
				return nil, err
			}
		}
		if err := json.Unmarshal(data, &out); err != nil {
			return nil, fmt.Errorf("--json: is no JSON object: %w", err)
		}
	}
	for _, f := range fields {
		if !cmd.Flags().Changed(f.flag) {
			continue
		}
		texts := b.set[f.flag].list
		if len(texts) > 1 && !f.many {
			return nil, fmt.Errorf("--%s is given twice: keep one", f.flag)
		}
		read := f.read
		if read == nil {
			read = single(func(s string) (any, error) { return a.moment(cmd, s) })
		}
		value, err := read(texts)
		if err != nil {
			return nil, fmt.Errorf("--%s: %w", f.flag, err)
		}
		at := out
		path := strings.Split(f.path, ".")
		for _, p := range path[:len(path)-1] {
			inner, ok := at[p].(row)
			if !ok {
				inner = row{}
				at[p] = inner
			}
			at = inner
		}
		at[path[len(path)-1]] = value
	}
	return out, nil
}

// unlike are the flags that are not called like their fields.
var unlike = map[string]string{
	"valid.from": "from", "valid.until": "until", "sign_in.second_factor": "second-factor", "sign_in.password_days": "password-days",
	"windows": "window", "days": "day", // which are given several times
}

// objects read the fields that are objects, or lists of them; a flag sets none of the others.
var objects = map[string]fieldFlag{
	"points":  {read: single(points), takes: "ID=NAME,...", form: "id=Name, by commas"},
	"windows": {read: windows, takes: "WINDOW", form: "“mon-fri 07:00-16:00” or “22:00-06:00”", many: true},
	"special": {read: specials, takes: "DAYS", form: "“CALENDAR 05:00-23:00”", many: true},
	"days":    {read: calendarDays, takes: "DAY", form: "“2026-12-25 Christmas” or “2027-02-08..2027-02-12 Dewatering”", many: true},
	"season":  {read: single(fromTo), takes: "FROM..TO", form: "MM-DD..MM-DD"},
	"dates":   {read: single(fromTo), takes: "FROM..TO", form: "YYYY-MM-DD..YYYY-MM-DD"},
}

// flagsOf are the flags that set the fields of a type of record, which is called by a word on the command line.
func flagsOf(t policy.Type, word string) []fieldFlag {
	var out []fieldFlag
	var add func(fields []policy.Field)
	add = func(fields []policy.Field) {
		for _, f := range fields {
			flag, isObject := objects[f.Path]
			switch {
			case f.Kind == policy.IDField, f.Own && f.Kind == policy.ObjectField, f.Path == "members":
				continue // which the argument says, or commands of their own
			case f.Kind == policy.ObjectField && !isObject:
				if !f.Many {
					add(f.Fields)
				}
				continue
			case !isObject:
				flag = plainFlag(f)
			}
			flag.path = f.Path
			if flag.takes == "" {
				flag.takes = takesOf(f)
			}
			flag.flag = strings.NewReplacer(".", "-", "_", "-").Replace(f.Path)
			if name, ok := unlike[f.Path]; ok {
				flag.flag = name
			}
			if f.Path == "note" { // --note says why something is changed
				flag.flag = word + "-note"
			}
			flag.usage = strings.TrimSuffix(wording.English.Meaning(t, f.Path), ".")
			if flag.form != "" {
				flag.usage += ": " + flag.form
			}
			if flag.many {
				flag.usage += "; several times for more"
			}
			out = append(out, flag)
		}
	}
	add(policy.Describe(t).Fields)
	return out
}

// plainFlag reads a field that is no object.
func plainFlag(f policy.Field) fieldFlag {
	switch {
	case f.Many:
		return fieldFlag{read: single(words), form: "by commas"}
	case f.Kind == policy.SwitchField, f.Kind == policy.BoolField:
		return fieldFlag{read: single(yesNo), form: "true or false"}
	case f.Kind == policy.NumberField:
		return fieldFlag{read: single(whole)}
	case f.Kind == policy.InstantField:
		return fieldFlag{}
	case f.Kind == policy.ChoiceField:
		last := len(f.Choices) - 1
		return fieldFlag{read: single(text), form: strings.Join(f.Choices[:last], ", ") + " or " + f.Choices[last]}
	}
	return fieldFlag{read: single(text)}
}

var allNouns = []noun{
	{"user", policy.Users, "People and services", []string{"email", "kind", "status", "valid"},
		"  sentier user add --name \"Noor Haddad\" --email noor.haddad@larkmere.example\n  sentier user suspend noor.haddad", userVerbs},
	{"group", policy.UserGroups, "Groups of users", []string{"enabled", "members", "includes"},
		"  sentier group add --name \"Bridge crew\"\n  sentier group add-member bridge-crew tomas.field --until 2026-12-01", groupVerbs},
	{"device", policy.Devices, "Devices", []string{"kind", "site", "state", "tags", "points"},
		"  sentier device list --where state=maintenance\n  sentier device lock-out estuary-gate-1 --reason \"Divers below\"", deviceVerbs},
	{"device-group", policy.DeviceGroups, "Groups of devices", []string{"parent", "devices", "match"},
		"  sentier device-group add --name Gauges --match-kinds level-gauge\n  sentier device-group add winter-list mill-pump-2", deviceGroupVerbs},
	{"site", policy.Sites, "Sites", []string{"parent", "zone"}, "  sentier site add --name \"Mill Basin\" --parent lower-pounds", nil},
	{"kind", policy.Kinds, "Kinds of device", nil, "  sentier kind add lock-gate --name \"Lock gate\"", nil},
	{"right", policy.Rights, "Rights", []string{"implies", "kinds"}, "  sentier right add setpoint --name \"Change setpoint\" --implies control --kinds pump,sluice", nil},
	{"role", policy.Roles, "Roles: bundles of rights", []string{"rights"}, "  sentier role add --name \"Lock keeping\" --rights control,acknowledge", nil},
	{"schedule", policy.Schedules, "Schedules", []string{"zone", "windows", "season", "dates", "closed"}, "  sentier schedule add --name \"Night watch\" --window 22:00-06:00", nil},
	{"calendar", policy.Calendars, "Calendars: closures and special days", []string{"days"}, "  sentier calendar add closures --name Closures --day \"2026-12-25 Christmas\"", nil},
	{"grant", policy.Grants, "Grants", []string{"effect", "enabled", "to"},
		"  sentier grant give --group bridge-crew --role bridge-watch --device-group bridges --when navigation-winter\n  sentier grant take bridge-watch --group bridge-crew", grantVerbs},
	{"expectation", policy.Expectations, "Expectations: what must always hold", []string{"expect", "rights", "who", "except", "on"},
		"  sentier expectation add --name \"Apprentices never release\" --expect never --who-groups apprentices --rights release --on-everything true\n  sentier expect prove", nil},
	{"mandate", policy.Mandates, "Mandates: who may administer", []string{"role", "enabled", "to"}, "  sentier mandate add --name Audit --role auditor --to-users lena.marsh", nil},
}
