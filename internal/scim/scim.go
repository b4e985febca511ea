// Package scim reads and changes resources as SCIM 2.0 has them (RFC 7643, RFC 7644): filters, paths, PATCH, sorting, and which attributes are told. It
// knows nothing of the policy: a resource is what a JSON object is.
package scim

import (
	"fmt"
	"slices"
	"strings"

	"sentier/internal/policy"
	"sentier/internal/strict"
)

// Resource is a SCIM resource, or a complex value within one.
type Resource = map[string]any

// The URNs of RFC 7643 and RFC 7644.
const (
	UserSchema  = "urn:ietf:params:scim:schemas:core:2.0:User"
	GroupSchema = "urn:ietf:params:scim:schemas:core:2.0:Group"
	// EnterpriseSchema is the extension of users in organisations: RFC 7643, 4.3.
	EnterpriseSchema = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	ListMessage      = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
	PatchMessage     = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
	BulkRequest      = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"
	BulkResponse     = "urn:ietf:params:scim:api:messages:2.0:BulkResponse"
	ErrorMessage     = "urn:ietf:params:scim:api:messages:2.0:Error"
	SearchMessage    = "urn:ietf:params:scim:api:messages:2.0:SearchRequest"
)

// Error is why a request is refused: RFC 7644, 3.12.
type Error struct {
	Status int
	Type   string // scimType; empty: none
	Why    policy.Said
}

func (e *Error) Error() string { return e.Why.Error() }

// Unwrap is the sentence that it is told as.
func (e *Error) Unwrap() error { return e.Why }

// The types of error that callers tell apart.
const (
	InvalidFilter = "invalidFilter"
	InvalidSyntax = "invalidSyntax"
	InvalidPath   = "invalidPath"
	InvalidValue  = "invalidValue"
	NoTarget      = "noTarget"
	Mutability    = "mutability"
	Uniqueness    = "uniqueness"
	TooMany       = "tooMany"
)

// Wrong is an error of what was sent, status 400.
func Wrong(scimType, form string, args ...any) *Error {
	return &Error{400, scimType, policy.Say(form, args...)}
}

// attribute is what a schema says of an attribute. Attributes are told apart without regard to capitals.
type attribute struct {
	Name          string      `json:"name"`
	Type          string      `json:"type"`
	MultiValued   bool        `json:"multiValued"`
	Description   string      `json:"description"`
	Required      bool        `json:"required"`
	CaseExact     bool        `json:"caseExact"`
	Mutability    string      `json:"mutability"`
	Returned      string      `json:"returned"`
	Uniqueness    string      `json:"uniqueness"`
	SubAttributes []attribute `json:"subAttributes,omitempty"`
}

func text(name, description string) attribute {
	return attribute{Name: name, Type: "string", Description: description, Mutability: "readWrite", Returned: "default", Uniqueness: "none"}
}

func with(a attribute, change func(*attribute)) attribute { change(&a); return a }

// several is an attribute with any number of values, as those of RFC 7643, 4.1.2 are.
func several(name, description string, more ...attribute) attribute {
	parts := append([]attribute{text("value", "The value"), text("display", "As which it is shown"), text("type", "Of which kind it is"), with(text("primary", "Whether it is the one"), func(a *attribute) { a.Type = "boolean" })}, more...)
	return attribute{Name: name, Type: "complex", MultiValued: true, Description: description, Mutability: "readWrite", Returned: "default", Uniqueness: "none", SubAttributes: parts}
}

// passedOver are attributes of the standard that nobody here needs, and that are not kept: passwords above all.
var passedOver = []string{"password", "x509Certificates", "photos", "ims"}

// isPassedOver tells whether an attribute is one of those.
func isPassedOver(schema, name string) bool {
	return schema == UserSchema && slices.ContainsFunc(passedOver, func(x string) bool { return strings.EqualFold(x, name) })
}

var schemas = map[string][]attribute{
	// What the standard has beside what decides here is kept as it is told: RFC 7643, 4.1 and 4.3.
	EnterpriseSchema: {
		text("employeeNumber", "The number of the employee"), text("costCenter", "The cost centre"), text("organization", "The organisation"), text("division", "The division"), text("department", "The department"),
		{Name: "manager", Type: "complex", Description: "The manager", Mutability: "readWrite", Returned: "default", Uniqueness: "none", SubAttributes: []attribute{
			text("value", "The id of the manager"), with(text("$ref", "Their address"), func(a *attribute) { a.Type = "reference" }), with(text("displayName", "Their name"), readOnly),
		}},
	},
	UserSchema: {
		text("nickName", "As which somebody is called"), text("profileUrl", "A page about somebody"), text("title", "The job title"), text("userType", "How somebody stands to the organisation"),
		text("preferredLanguage", "The language of somebody"), text("locale", "How dates and numbers are written"), text("timezone", "The zone of somebody"),
		several("phoneNumbers", "Telephone numbers"), several("roles", "Roles at the provider: they give nothing here"), several("entitlements", "Entitlements at the provider: they give nothing here"),
		several("addresses", "Postal addresses", text("formatted", "All of it"), text("streetAddress", "The street"), text("locality", "The town"), text("region", "The region"), text("postalCode", "The code"), text("country", "The country")),
		with(text("userName", "By which somebody is known there; our id is made of it"), func(a *attribute) { a.Required, a.Uniqueness = true, "server" }),
		{Name: "name", Type: "complex", Description: "The parts of a name", Mutability: "readWrite", Returned: "default", Uniqueness: "none", SubAttributes: []attribute{
			text("formatted", "All of it"), text("familyName", "The family's"), text("givenName", "Their own"), text("middleName", "Others"), text("honorificPrefix", "Before it"), text("honorificSuffix", "After it"),
		}},
		text("displayName", "As which somebody is shown"),
		with(text("active", "Whether somebody can do anything at all"), func(a *attribute) { a.Type = "boolean" }),
		{Name: "emails", Type: "complex", MultiValued: true, Description: "Addresses, of which the primary or the first is kept", Mutability: "readWrite", Returned: "default", Uniqueness: "none", SubAttributes: []attribute{
			text("value", "The address"), text("type", "work, home or other"), with(text("primary", "Whether it is the one"), func(a *attribute) { a.Type = "boolean" }), text("display", "As which it is shown"),
		}},
		{Name: "groups", Type: "complex", MultiValued: true, Description: "In which somebody is by this source", Mutability: "readOnly", Returned: "default", Uniqueness: "none", SubAttributes: []attribute{
			with(text("value", "The id of the group"), readOnly), with(text("$ref", "Its address"), func(a *attribute) { readOnly(a); a.Type = "reference" }), with(text("display", "Its name"), readOnly),
		}},
	},
	GroupSchema: {
		with(text("displayName", "By which the group is mapped to one of ours"), func(a *attribute) { a.Required = true }),
		{Name: "members", Type: "complex", MultiValued: true, Description: "Who is in it by this source", Mutability: "readWrite", Returned: "default", Uniqueness: "none", SubAttributes: []attribute{
			with(text("value", "The id of the user"), func(a *attribute) { a.Mutability = "immutable" }), with(text("$ref", "Their address"), func(a *attribute) { a.Mutability, a.Type = "immutable", "reference" }),
			with(text("type", "User, or Group for a group within the group"), func(a *attribute) { a.Mutability = "immutable" }), with(text("display", "Their name"), readOnly),
		}},
	},
}

func readOnly(a *attribute) { a.Mutability = "readOnly" }

// common are the attributes that every resource has.
var common = []attribute{
	with(text("id", ""), func(a *attribute) { readOnly(a); a.CaseExact, a.Returned = true, "always" }),
	with(text("externalId", ""), func(a *attribute) { a.CaseExact = true }),
	with(text("schemas", ""), func(a *attribute) { a.MultiValued, a.Returned = true, "always" }),
	{Name: "meta", Type: "complex", Mutability: "readOnly", Returned: "default", SubAttributes: []attribute{
		with(text("resourceType", ""), readOnly), with(text("created", ""), readOnly), with(text("lastModified", ""), readOnly), with(text("location", ""), readOnly), with(text("version", ""), readOnly),
	}},
}

// find finds what a schema says of an attribute, or of one within another.
func find(schema, name, sub string) (attribute, bool) {
	list := schemas[schema]
	i := slices.IndexFunc(list, func(a attribute) bool { return strings.EqualFold(a.Name, name) })
	if i < 0 {
		list = common
		i = slices.IndexFunc(list, func(a attribute) bool { return strings.EqualFold(a.Name, name) })
	}
	if i < 0 {
		return attribute{}, false
	}
	if sub == "" {
		return list[i], true
	}
	for _, a := range list[i].SubAttributes {
		if strings.EqualFold(a.Name, sub) {
			return a, true
		}
	}
	return attribute{}, false
}

// get finds a value of a resource, without regard to capitals.
func get(r Resource, name string) (any, bool) {
	if v, ok := r[name]; ok {
		return v, true
	}
	for key, v := range r {
		if strings.EqualFold(key, name) {
			return v, true
		}
	}
	return nil, false
}

// Text is a text of a resource, by its path: name.familyName; empty where there is none.
func Text(r Resource, path string) string {
	name, sub, deep := strings.Cut(path, ".")
	v, _ := get(r, name)
	if deep {
		inner, _ := v.(Resource)
		v, _ = get(inner, sub)
	}
	out, _ := v.(string)
	return out
}

// Values are the values of an attribute that may have several.
func Values(r Resource, name string) (out []Resource) {
	v, _ := get(r, name)
	switch v := v.(type) {
	case []any:
		for _, x := range v {
			if one, ok := x.(Resource); ok {
				out = append(out, one)
			}
		}
	case Resource:
		out = append(out, v)
	}
	return out
}

// Active tells whether somebody is active: they are where nothing is said. Some clients write it as a text.
func Active(r Resource) bool {
	v, ok := get(r, "active")
	switch v := v.(type) {
	case bool:
		return v
	case string:
		return !strings.EqualFold(v, "false")
	}
	return !ok || v != nil
}

// mostDeep is how deep what is sent may be.
const mostDeep = 8

// Clean takes what a schema does not know, and what cannot be written, out of a resource that was sent, and gives all else the names of the schema. The error is
// an [*Error] where a value is of another kind.
func Clean(schema string, sent Resource) (Resource, error) {
	out := Resource{}
	for key, v := range sent {
		name := key
		if uri, rest, ok := cutSchema(key); ok && uri == EnterpriseSchema && schema == UserSchema {
			inner, _ := v.(Resource)
			if rest != "" {
				inner = Resource{rest: v}
			}
			more, err := Clean(EnterpriseSchema, inner)
			if err != nil {
				return nil, err
			}
			have, _ := out[EnterpriseSchema].(Resource)
			if have == nil {
				have = Resource{}
			}
			for k, x := range more {
				have[k] = x
			}
			if len(have) > 0 {
				out[EnterpriseSchema] = have
			}
			continue
		}
		if uri, rest, ok := cutSchema(key); ok && strings.EqualFold(uri, schema) {
			if rest == "" { // a schema's attributes may stand in an object of its name
				inner, _ := v.(Resource)
				more, err := Clean(schema, inner)
				if err != nil {
					return nil, err
				}
				for k, x := range more {
					out[k] = x
				}
				continue
			}
			name = rest
		}
		a, known := find(schema, name, "")
		if !known || a.Mutability == "readOnly" || a.Name == "schemas" || v == nil {
			continue
		}
		clean, err := a.clean(v)
		if err != nil {
			return nil, err
		}
		if clean != nil {
			out[a.Name] = clean
		}
	}
	return out, nil
}

// cutSchema parts urn:…:User:name into the schema and the attribute.
func cutSchema(key string) (schema, name string, ok bool) {
	for _, s := range []string{EnterpriseSchema, UserSchema, GroupSchema} {
		if len(key) >= len(s) && strings.EqualFold(key[:len(s)], s) {
			return s, strings.TrimPrefix(key[len(s):], ":"), true
		}
	}
	return "", "", false
}

func (a *attribute) clean(v any) (any, error) {
	if !a.MultiValued {
		return a.one(v)
	}
	list, ok := v.([]any)
	if !ok {
		list = []any{v}
	}
	out := []any{}
	for _, x := range list {
		one, err := a.one(x)
		if err != nil {
			return nil, err
		}
		if one != nil {
			out = append(out, one)
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	return out, nil
}

const mostText = 2000 // characters of one value

func (a *attribute) one(v any) (any, error) {
	switch a.Type {
	case "complex":
		inner, ok := v.(Resource)
		if s, isText := v.(string); isText { // a value by itself
			inner, ok = Resource{"value": s}, true
		}
		if !ok {
			return nil, Wrong(InvalidValue, "%s is of another kind: an object belongs here", a.Name)
		}
		out := Resource{}
		for key, x := range inner {
			i := slices.IndexFunc(a.SubAttributes, func(s attribute) bool { return strings.EqualFold(s.Name, key) })
			if i < 0 || x == nil || a.SubAttributes[i].Mutability == "readOnly" {
				continue
			}
			clean, err := a.SubAttributes[i].one(x)
			if err != nil {
				return nil, err
			}
			out[a.SubAttributes[i].Name] = clean
		}
		if len(out) == 0 {
			return nil, nil
		}
		return out, nil
	case "boolean":
		switch x := v.(type) {
		case bool:
			return x, nil
		case string:
			if strings.EqualFold(x, "true") || strings.EqualFold(x, "false") {
				return strings.EqualFold(x, "true"), nil
			}
		}
		return nil, Wrong(InvalidValue, "%s is of another kind: true or false belongs here", a.Name)
	}
	s, ok := v.(string)
	if !ok {
		return nil, Wrong(InvalidValue, "%s is of another kind: a text belongs here", a.Name)
	}
	if len([]rune(s)) > mostText {
		return nil, Wrong(InvalidValue, "%s is longer than %d characters", a.Name, mostText)
	}
	return s, nil
}

// Read reads a body, bounded in its depth.
func Read(body []byte) (Resource, error) {
	depth, most, quoted := 0, 0, false
	for i := 0; i < len(body); i++ {
		switch c := body[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			depth++
			most = max(most, depth)
		case c == '}' || c == ']':
			depth--
		}
	}
	if most > mostDeep {
		return nil, Wrong(InvalidSyntax, "the body is nested deeper than %d", mostDeep)
	}
	var out Resource
	if err := strict.ReadOpen(body, &out); err != nil || out == nil {
		return nil, Wrong(InvalidSyntax, "the body is no JSON object, or holds a name twice in one")
	}
	return out, nil
}

// Project leaves of a resource the attributes that were asked for, and those that are always told.
func Project(schema string, r Resource, wanted, unwanted []string) Resource {
	if len(wanted)+len(unwanted) == 0 {
		return r
	}
	out := Resource{}
	for key, v := range r {
		a, _ := find(schema, key, "")
		if a.Returned == "always" {
			out[key] = v
			continue
		}
		if len(wanted) > 0 {
			if part, ok := picked(v, key, wanted); ok {
				out[key] = part
			}
			continue
		}
		if !slices.ContainsFunc(unwanted, func(n string) bool { return strings.EqualFold(bare(n), key) }) {
			out[key] = v
		}
	}
	return out
}

// bare is an attribute without the name of its schema.
func bare(name string) string {
	if _, rest, ok := cutSchema(name); ok {
		return rest
	}
	return name
}

// picked is of a value what some paths ask for.
func picked(v any, key string, wanted []string) (any, bool) {
	var subs []string
	for _, n := range wanted {
		name, sub, deep := strings.Cut(bare(n), ".")
		if !strings.EqualFold(name, key) {
			continue
		}
		if !deep {
			return v, true
		}
		subs = append(subs, sub)
	}
	if len(subs) == 0 {
		return nil, false
	}
	part := func(r Resource) Resource {
		out := Resource{}
		for k, x := range r {
			if slices.ContainsFunc(subs, func(s string) bool { return strings.EqualFold(s, k) }) {
				out[k] = x
			}
		}
		return out
	}
	switch v := v.(type) {
	case Resource:
		return part(v), true
	case []any:
		out := []any{}
		for _, x := range v {
			if r, ok := x.(Resource); ok {
				out = append(out, part(r))
			}
		}
		return out, true
	}
	return nil, false
}

// Sort puts resources in the order of an attribute; those that have none come last.
func Sort(schema string, list []Resource, by string, descending bool) error {
	name, sub, _ := strings.Cut(bare(by), ".")
	a, ok := find(schema, name, "")
	if !ok {
		return Wrong(InvalidPath, "%q is no attribute", policy.Clip(by))
	}
	if sub == "" && a.Type == "complex" {
		sub = "value"
	}
	key := func(r Resource) string {
		v, _ := get(r, name)
		if list := Values(r, name); a.MultiValued && len(list) > 0 {
			v = list[0]
			for _, x := range list {
				if x["primary"] == true {
					v = x
				}
			}
		}
		if inner, ok := v.(Resource); ok {
			v, _ = get(inner, sub)
		}
		switch v := v.(type) {
		case string:
			if a.CaseExact {
				return v
			}
			return strings.ToLower(v)
		case bool:
			return fmt.Sprint(v)
		}
		return ""
	}
	slices.SortStableFunc(list, func(x, y Resource) int {
		a, b := key(x), key(y)
		switch {
		case a == b:
			return 0
		case a == "":
			return 1
		case b == "":
			return -1
		}
		if descending {
			return strings.Compare(b, a)
		}
		return strings.Compare(a, b)
	})
	return nil
}

// ProviderConfig says what of SCIM is served: RFC 7643, 5.
func ProviderConfig(mostBulk, mostPayload, mostResults int) Resource {
	yes := Resource{"supported": true}
	return Resource{
		"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"}, "patch": yes, "sort": yes, "etag": yes, "changePassword": Resource{"supported": false},
		"bulk":                  Resource{"supported": true, "maxOperations": mostBulk, "maxPayloadSize": mostPayload},
		"filter":                Resource{"supported": true, "maxResults": mostResults},
		"authenticationSchemes": []Resource{{"type": "oauthbearertoken", "name": "Bearer token", "description": "A token of the source, which is made on its page", "primary": true}},
		"meta":                  Resource{"resourceType": "ServiceProviderConfig"},
	}
}

// ResourceTypes are the types of resource: RFC 7643, 6. base is the address of SCIM.
func ResourceTypes(base string) (out []Resource) {
	for _, t := range []struct{ name, path, schema string }{{"User", "/Users", UserSchema}, {"Group", "/Groups", GroupSchema}} {
		one := Resource{
			"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:ResourceType"}, "id": t.name, "name": t.name, "endpoint": t.path, "schema": t.schema,
			"meta": Resource{"resourceType": "ResourceType", "location": base + "/ResourceTypes/" + t.name},
		}
		if t.schema == UserSchema {
			one["schemaExtensions"] = []Resource{{"schema": EnterpriseSchema, "required": false}}
		}
		out = append(out, one)
	}
	return out
}

// Schemas are the schemas of the resources: RFC 7643, 7.
func Schemas(base string) (out []Resource) {
	for _, t := range []struct{ name, schema string }{{"User", UserSchema}, {"EnterpriseUser", EnterpriseSchema}, {"Group", GroupSchema}} {
		out = append(out, Resource{
			"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:Schema"}, "id": t.schema, "name": t.name, "description": "What is kept of a " + strings.ToLower(t.name), "attributes": schemas[t.schema],
			"meta": Resource{"resourceType": "Schema", "location": base + "/Schemas/" + t.schema},
		})
	}
	return out
}
