package policy

import (
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"time"
)

// Descriptor says what a type of record is. Whatever grows with types or fields reads it: documents, sheets, the
// command line, the description of the interface, filters and search of lists, the console.
type Descriptor struct {
	Type     Type
	Plural   string   // key in documents and paths: user_groups
	Singular string   // in sentences: user group
	LongList string   // the list of thousands whose entries are kept one by one; empty: none
	Lists    []string // the lists whose entries can be added and dropped one by one, LongList among them
	Fields   []Field  // in the order of a document

	Name string // of the record in code, and in the description of the interface: UserGroup

	record   reflect.Type // the struct of a record
	mentions mentions
	search   [][]int // the fields by which people look for one
}

// Field is a field of a record, or of an object within one.
type Field struct {
	Name     string    `json:"name"` // within the record or the object: until
	Path     string    `json:"path"` // within the record: valid.until
	Kind     FieldKind `json:"kind"`
	Many     bool      `json:"many,omitempty"`    // a list
	Ref      Type      `json:"ref,omitempty"`     // of what a RefField refers to
	Choices  []string  `json:"choices,omitempty"` // of a ChoiceField
	Required bool      `json:"required,omitempty"`
	Long     bool      `json:"long,omitempty"`   // a text of several lines
	Search   bool      `json:"-"`                // by which people look for a record
	Own      bool      `json:"own,omitempty"`    // of this record alone: a copy does not have it
	Fields   []Field   `json:"fields,omitempty"` // of an ObjectField, or of those in the list
	Object   string    `json:"-"`                // what kind of object an ObjectField is: Window

	index []int // of the struct that it stands in
}

// In is the place of the field in the struct that it is a field of: a record, or an object of one.
func (f *Field) In(of reflect.Value) reflect.Value { return of.FieldByIndex(f.index) }

// FieldKind is how a field is written.
type FieldKind uint8

// The kinds of field. Many of a kind are a list of it.
const (
	TextField     FieldKind = iota
	IDField                 // the record's own
	RefField                // the id of another record
	PointField              // device/point
	ChoiceField             // one of Choices
	SwitchField             // true where it is left out
	BoolField               // false where it is left out
	TriField                // true, false or left out
	NumberField             // whole
	InstantField            // RFC 3339
	DateField               // YYYY-MM-DD
	MonthDayField           // MM-DD
	ClockField              // HH:MM
	NetworkField            // a prefix of addresses
	ZoneField               // of the IANA time zone database
	LimitsField             // an object of numbers and lists of texts
	ObjectField
)

var fieldKindNames = [...]string{
	"text", "id", "ref", "point", "choice", "switch", "bool", "tri", "number", "instant", "date", "month_day", "clock", "network", "zone", "limits", "object",
}

// MarshalText writes the kind as the console knows it: instant.
func (k FieldKind) MarshalText() ([]byte, error) { return []byte(fieldKindNames[k]), nil }

// types says of each type what its struct does not.
var types = [typeCount]struct {
	plural, singular string
	empty            Record
	long             string
	lists            []string
}{
	SettingsType: {"settings", "settings", &Settings{}, "", nil},
	Rights:       {"rights", "right", &Right{}, "", nil},
	Roles:        {"roles", "role", &Role{}, "", nil},
	Kinds:        {"kinds", "kind", &Kind{}, "", nil},
	Sites:        {"sites", "site", &Site{}, "", nil},
	Devices:      {"devices", "device", &Device{}, "", []string{"tags", "points"}},
	DeviceGroups: {"device_groups", "device group", &DeviceGroup{}, "devices", []string{"devices"}},
	Users:        {"users", "user", &User{}, "", nil},
	UserGroups:   {"user_groups", "user group", &UserGroup{}, "members", []string{"members"}},
	Calendars:    {"calendars", "calendar", &Calendar{}, "", nil},
	Schedules:    {"schedules", "schedule", &Schedule{}, "", nil},
	Grants:       {"grants", "grant", &Grant{}, "", nil},
	Expectations: {"expectations", "expectation", &Expectation{}, "", nil},
	Mandates:     {"mandates", "mandate", &Mandate{}, "", nil},
}

// idTypes says which record an id is of.
var idTypes = map[reflect.Type]Type{
	reflect.TypeFor[RightID](): Rights, reflect.TypeFor[RoleID](): Roles, reflect.TypeFor[KindID](): Kinds, reflect.TypeFor[SiteID](): Sites,
	reflect.TypeFor[DeviceID](): Devices, reflect.TypeFor[DeviceGroupID](): DeviceGroups, reflect.TypeFor[UserID](): Users,
	reflect.TypeFor[UserGroupID](): UserGroups, reflect.TypeFor[CalendarID](): Calendars, reflect.TypeFor[ScheduleID](): Schedules,
	reflect.TypeFor[GrantID](): Grants, reflect.TypeFor[MandateID](): Mandates,
	reflect.TypeFor[ExpectationID](): Expectations,
}

// choices are what a text of a type can be, the default first where there is one.
var choices = map[reflect.Type][]string{
	reflect.TypeFor[Combine]():      texts(Sum, DirectFirst),
	reflect.TypeFor[State]():        texts(InService, Maintenance, Retired),
	reflect.TypeFor[UserKind]():     texts(Person, Service),
	reflect.TypeFor[Status]():       texts(Active, Invited, Suspended),
	reflect.TypeFor[SecondFactor](): texts(Optional, Required),
	reflect.TypeFor[Approval]():     texts(ApprovalMandate, ApprovalNone),
	reflect.TypeFor[Effect]():       texts(Allow, Deny),
	reflect.TypeFor[Depth]():        texts(All, Here),
	reflect.TypeFor[Expect]():       texts(Never, Always, Someone),
	reflect.TypeFor[MandateRole]():  texts(Owner, Delegate, Auditor, Enforcement),
	reflect.TypeFor[Weekday]():      {"mon", "tue", "wed", "thu", "fri", "sat", "sun"},
}

func texts[T ~string](list ...T) []string {
	out := make([]string, len(list))
	for i, v := range list {
		out[i] = string(v)
	}
	return out
}

// fieldKinds are the kinds of values that are no objects, lists, ids, choices or plain texts.
var fieldKinds = map[reflect.Type]FieldKind{
	reflect.TypeFor[Switch](): SwitchField, reflect.TypeFor[bool](): BoolField, reflect.TypeFor[*bool](): TriField, reflect.TypeFor[int](): NumberField,
	reflect.TypeFor[time.Time](): InstantField, reflect.TypeFor[Date](): DateField, reflect.TypeFor[MonthDay](): MonthDayField,
	reflect.TypeFor[Clock](): ClockField, reflect.TypeFor[netip.Prefix](): NetworkField, reflect.TypeFor[PointRef](): PointField,
	reflect.TypeFor[PointID](): TextField, reflect.TypeFor[map[string]Limit](): LimitsField,
}

var descriptors = func() (out [typeCount]Descriptor) {
	for t := range out {
		of := types[t]
		record := reflect.TypeOf(of.empty).Elem()
		out[t] = Descriptor{
			Type: Type(t), Name: record.Name(), Plural: of.plural, Singular: of.singular, LongList: of.long, Lists: of.lists,
			Fields: fieldsOf(record, ""), record: record, mentions: mentionsWithin(record),
		}
		for _, f := range reflect.VisibleFields(record) {
			if strings.Contains(f.Tag.Get("sentier"), "search") {
				out[t].search = append(out[t].search, f.Index)
			}
		}
	}
	return out
}()

// Describe gives the descriptor of a type. It is shared, and not to be changed.
func Describe(t Type) *Descriptor { return &descriptors[t] }

// Field finds a field by its path in the record.
func (d *Descriptor) Field(path string) (Field, bool) {
	fields := d.Fields
	for {
		name, rest, deeper := strings.Cut(path, ".")
		i := slices.IndexFunc(fields, func(f Field) bool { return f.Name == name })
		if i < 0 {
			return Field{}, false
		}
		if !deeper {
			return fields[i], true
		}
		fields, path = fields[i].Fields, rest
	}
}

// fieldsOf describes the fields of a struct that stands at a path of a record.
func fieldsOf(t reflect.Type, at string) []Field {
	var out []Field
	for _, f := range reflect.VisibleFields(t) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "" || name == "-" {
			continue
		}
		tags := strings.Split(f.Tag.Get("sentier"), ",")
		has := func(tag string) bool { return slices.Contains(tags, tag) }
		field := Field{Name: name, Path: at + name, Required: has("required"), Search: has("search"), Own: has("own"), Long: has("long"), index: f.Index}
		field.describe(f.Type)
		switch {
		case name == "id":
			field.Kind = IDField
		case has("zone"):
			field.Kind = ZoneField
		}
		out = append(out, field)
	}
	return out
}

// describe says how values of a type are written.
func (f *Field) describe(t reflect.Type) {
	if kind, ok := fieldKinds[t]; ok {
		f.Kind = kind
		return
	}
	if of, ok := idTypes[t]; ok {
		f.Kind, f.Ref = RefField, of
		return
	}
	if list, ok := choices[t]; ok {
		f.Kind, f.Choices = ChoiceField, list
		return
	}
	switch t.Kind() {
	case reflect.Slice:
		f.Many = true
		f.describe(t.Elem())
	case reflect.Pointer:
		f.describe(t.Elem())
	case reflect.Struct:
		f.Kind, f.Fields, f.Object = ObjectField, fieldsOf(t, f.Path+"."), t.Name()
	}
}

// Searchable lists the texts by which people look for a record: its id, its name and the fields that are for that.
func Searchable(r Record) []string {
	d := Describe(r.Type())
	out := []string{r.Key(), r.Title()}
	v := reflect.ValueOf(r).Elem()
	for _, i := range d.search {
		switch field := v.FieldByIndex(i); field.Kind() {
		case reflect.String:
			out = append(out, field.String())
		case reflect.Slice:
			for k := range field.Len() {
				out = append(out, field.Index(k).String())
			}
		}
	}
	return out
}
