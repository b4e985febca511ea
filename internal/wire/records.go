package wire

import "sentier/internal/policy"

// RecordType describes a type of record as it travels.
type RecordType struct {
	Name  string   // in paths and documents: user_groups
	Noun  string   // in sentences: user group
	One   any      // a record
	Page  any      // a page of them
	Lists []string // whose entries can be added and dropped one by one
}

// Settings is an example of the settings, for their description.
func Settings() any { return policy.Settings{} }

// RecordTypes lists the types in document order.
func RecordTypes() []RecordType {
	return []RecordType{
		recordType[policy.Right](), recordType[policy.Role](), recordType[policy.Kind](), recordType[policy.Site](),
		recordType[policy.Device](), recordType[policy.DeviceGroup](), recordType[policy.User](), recordType[policy.UserGroup](),
		recordType[policy.Calendar](), recordType[policy.Schedule](), recordType[policy.Grant](), recordType[policy.Mandate](),
	}
}

func recordType[T any, P interface {
	*T
	policy.Record
}]() RecordType {
	var none P
	d := policy.Describe(none.Type())
	return RecordType{d.Plural, d.Singular, *new(T), List[T]{}, d.Lists}
}
