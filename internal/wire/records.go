package wire

import "sentier/internal/policy"

// RecordType names a type of record, as it travels.
type RecordType struct {
	Name  string   // in paths and documents: user_groups
	Noun  string   // in sentences: user group
	Type  string   // in code: UserGroup
	Many  string   // in code: UserGroups
	Lists []string // whose entries can be added and dropped one by one
}

// RecordTypes lists the types in document order.
func RecordTypes() []RecordType {
	var out []RecordType
	for _, t := range policy.Types() {
		d := policy.Describe(t)
		out = append(out, RecordType{d.Plural, d.Singular, d.Name, d.Name + "s", d.Lists})
	}
	return out
}
