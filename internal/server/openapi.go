package server

import (
	"encoding/json"
	"maps"
	"net/http"
	"path"
	"reflect"
	"slices"
	"strings"

	"github.com/swaggest/jsonschema-go"
	"github.com/swaggest/openapi-go"
	"github.com/swaggest/openapi-go/openapi31"

	"sentier/internal/schema"
	"sentier/internal/service"
	"sentier/internal/wire"
)

// tagMeanings are what the tags of operations stand for, in the order in which they are told.
var tagMeanings = [][2]string{
	{"decisions", "May this user do this to that device, why, and until when?"},
	{"reach", "Who and what can be reached, now, later and in which circumstances."},
	{"records", "What the policy is made of, one record at a time."},
	{"changes", "Many changes at once, taking back, and following what changes."},
	{"drafts", "Changes that are gathered, looked at and agreed to before they count."},
	{"upkeep", "What may not be meant as it is, and what mends it."},
	{"hooks", "Others who are told what happens."},
	{"feeds", "Calendars that others read by a secret address."},
	{"sources", "Directories, and what else people and groups come from."},
	{"reviews", "Rounds in which those responsible confirm or take away what people hold."},
	{"policy", "The whole policy, as a document."},
	{"sheets", "Records as CSV."},
	{"session", "Signing in and out."},
	{"tokens", "Credentials of services."},
	{"own", "What everybody may do with what is their own, and what they ask for."},
	{"audit", "What was done, asked and refused."},
	{"machines", "The machines on which the service runs."},
	{"operation", "Whether the service and its files are well."},
}

// describe writes the OpenAPI 3.1 document of the routes. prefix is below what clients reach the service.
func describe(routes []route, version, prefix string) ([]byte, error) {
	spec, err := reflected(routes, version)
	if err != nil {
		return nil, err
	}
	d := &description{spec: spec, set: schema.NewSet("#/components/schemas/")}
	if prefix == "" {
		prefix = "/"
	}
	spec["servers"] = []any{map[string]any{"url": prefix, "description": "This service."}}
	info := spec["info"].(map[string]any)
	info["license"] = map[string]any{"name": "Apache-2.0", "identifier": "Apache-2.0"}
	info["contact"] = map[string]any{"name": "Whoever runs this service"}
	var tags []any
	for _, t := range tagMeanings {
		tags = append(tags, map[string]any{"name": t[0], "description": t[1]})
	}
	spec["tags"] = tags
	for _, r := range routes {
		d.operation(r)
	}
	d.components()
	return json.MarshalIndent(spec, "", "  ")
}

// reflected is the part of the document that the types of questions and answers say.
func reflected(routes []route, version string) (map[string]any, error) {
	r := openapi31.NewReflector()
	r.Spec.SetTitle("Sentier")
	r.Spec.SetVersion(version)
	r.Spec.SetDescription("Who may view and control which device, and when. Records have one shape here, in policy documents and in the store.")
	r.Spec.SetHTTPBearerTokenSecurity("bearer", "", "A token made by an owner.")
	r.Spec.SetAPIKeySecurity("session", cookieName, openapi.InCookie, "The console's session.")
	wire.TypeMappings(func(of, as any) { r.AddTypeMapping(of, as) })
	r.DefaultOptions = append(r.DefaultOptions,
		jsonschema.InterceptDefName(func(t reflect.Type, name string) string {
			if room := path.Base(t.PkgPath()); room != "." && room != "survey" { // WireCheck is told as Check
				name = strings.TrimPrefix(name, strings.ToUpper(room[:1])+room[1:])
			}
			return strings.NewReplacer("[", "Of", "]", "", "SentierInternalPolicy", "").Replace(name)
		}),
		jsonschema.InterceptProp(func(p jsonschema.InterceptPropParams) error {
			tag := p.Field.Tag.Get("json")
			always := tag != "" && !strings.Contains(tag, ",omit") && p.Name != "enabled" // which is true where it is left out
			if p.Processed && always {
				p.ParentSchema.Required = append(p.ParentSchema.Required, p.Name)
			}
			return nil
		}),
		// Lists and maps are never null here: the empty list is a list.
		jsonschema.InterceptNullability(func(p jsonschema.InterceptNullabilityParams) {
			if p.NullAdded && (p.Type.Kind() == reflect.Slice || p.Type.Kind() == reflect.Map) {
				p.Schema.RemoveType(jsonschema.Null)
			}
		}),
	)
	for _, route := range routes {
		op, err := r.NewOperationContext(route.method, route.path)
		if err != nil {
			return nil, err
		}
		op.SetID(route.id)
		op.SetSummary(route.summary)
		op.SetTags(route.tag)
		parts, several := route.in.([]any)
		if !several && route.in != nil {
			parts = []any{route.in}
		}
		for _, part := range parts {
			op.AddReqStructure(part)
		}
		op.AddRespStructure(route.out, openapi.WithHTTPStatus(route.good()))
		if err := r.AddOperation(op); err != nil {
			return nil, err
		}
	}
	// What the types refer to of a problem is described beside them.
	op, err := r.NewOperationContext(http.MethodGet, "/problem")
	if err != nil {
		return nil, err
	}
	op.AddRespStructure(wire.Problem{})
	if err := r.AddOperation(op); err != nil {
		return nil, err
	}
	data, err := json.Marshal(r.Spec)
	if err != nil {
		return nil, err
	}
	var out map[string]any
	if err := json.Unmarshal(data, &out); err != nil {
		return nil, err
	}
	delete(out["paths"].(map[string]any), "/problem")
	return out, nil
}

// good is the status of an answer that is none of a problem.
func (r route) good() int {
	if r.status != 0 {
		return r.status
	}
	return http.StatusOK
}

// description is a document that is being completed.
type description struct {
	spec map[string]any
	set  *schema.Set
}

func (d *description) schemas() map[string]any {
	return d.spec["components"].(map[string]any)["schemas"].(map[string]any)
}

// operation completes what the types say of a route.
func (d *description) operation(r route) {
	op := d.spec["paths"].(map[string]any)[r.path].(map[string]any)[strings.ToLower(r.method)].(map[string]any)
	op["description"] = r.summary + ". " + r.takesWords()
	op["security"] = []any{}
	if !r.open {
		op["security"] = []any{map[string]any{"bearer": []any{}}, map[string]any{"session": []any{}}}
	}
	parameters, _ := op["parameters"].([]any)
	parameters = slices.DeleteFunc(parameters, func(p any) bool { return p.(map[string]any)["in"] == "cookie" })
	for _, name := range r.filters {
		parameters = append(parameters, map[string]any{
			"name": name, "in": "query", "description": "Only those with this " + name + ".", "schema": map[string]any{"type": "string"},
		})
	}
	if r.past {
		parameters = append(parameters, map[string]any{
			"name": asOf, "in": "query", "schema": map[string]any{"type": "string"},
			"description": "Asks of the policy as it was: at a revision, by its number, or at a time (RFC 3339, or a local time of the policy), which is what the time is taken to be then. It takes a mandate of the role owner or auditor.",
		})
	}
	for _, p := range parameters {
		one := p.(map[string]any)
		if one["description"] == nil {
			one["description"] = parameterMeanings[one["name"].(string)]
		}
		if s, ok := one["schema"].(map[string]any); ok {
			delete(s, "description") // which the parameter has
		}
	}
	if op["parameters"] = parameters; len(parameters) == 0 {
		delete(op, "parameters")
	}
	d.body(r, op)
	d.answers(r, op)
}

// parameterMeanings are those that no tag of a field says.
var parameterMeanings = map[string]string{
	"id": "The id.", "entry": "The user, device, tag or point.", "kind": "The kind of problem.", "type": "The type of record.", "user": "Only those of this user.",
	"limit": "How many are told at most.", "cursor": "Where the page before ended.", "q": "A word to search for.", "at": "When; left out: now.",
	"strong_sign_in": "The user signed in with a second factor.", "attended": "Someone is present at the device.", "format": "How the document is written.",
}

// takesWords says what a caller must be allowed.
func (r route) takesWords() string {
	switch {
	case r.open:
		return "Answers without a credential."
	case r.needs == "":
		return "About oneself it takes no mandate."
	case r.needs == service.Ask:
		return "About others it takes a mandate of the role auditor, enforcement or owner."
	case r.needs == service.Read:
		return "It takes a mandate of the role auditor or owner."
	case r.needs == service.Follow:
		return "It takes a mandate of the role auditor, enforcement or owner."
	}
	return "It takes a mandate of the role owner; a dry run one of the role auditor."
}

// body completes the body of a request: of which media types it can be, and what the records in it are.
func (d *description) body(r route, op map[string]any) {
	if r.takes == nothing {
		delete(op, "requestBody")
		return
	}
	var of any = map[string]any{"type": "string"}
	if given, ok := op["requestBody"].(map[string]any); ok {
		for _, content := range given["content"].(map[string]any) {
			of = content.(map[string]any)["schema"]
		}
	}
	switch {
	case r.record != "" && r.takes == mergePatch:
		of = d.set.Patch(schema.TypeNamed(r.record))
	case r.record != "":
		of = d.set.Input(schema.TypeNamed(r.record))
	case r.takes == policyText:
		of = map[string]any{
			"type": "object", "description": "A policy document: its JSON Schema is at /schemas/policy.json.", "required": []any{"format"},
			"properties": map[string]any{"format": map[string]any{"type": "string"}},
		}
	}
	content := map[string]any{}
	for _, media := range contents[r.takes].types {
		content[media] = map[string]any{"schema": of}
	}
	op["requestBody"] = map[string]any{"required": !r.bodyless, "content": content}
}

// answers completes what a route can answer.
func (d *description) answers(r route, op map[string]any) {
	responses := op["responses"].(map[string]any)
	status := statusText(r.good())
	good := responses[status].(map[string]any)
	good["description"] = "Done."
	if r.good() == http.StatusOK {
		good["description"] = "The answer."
	}
	headers := map[string]any{}
	switch {
	case r.list:
		name := d.set.List(schema.TypeNamed(r.record))
		good["content"] = map[string]any{"application/json": map[string]any{"schema": name}}
	case r.out == nil && r.record != "" && r.method == http.MethodGet:
		good["content"] = map[string]any{"application/json": map[string]any{"schema": d.set.Record(schema.TypeNamed(r.record))}}
	case len(r.produces) > 0:
		content := map[string]any{}
		for _, media := range r.produces {
			kind := "string"
			if strings.HasSuffix(media, "json") || strings.HasSuffix(media, "yaml") {
				kind = "object"
			}
			content[media] = map[string]any{"schema": map[string]any{"type": kind}}
		}
		good["content"] = content
	case r.out == nil && r.good() == http.StatusOK:
		good["content"] = map[string]any{"application/json": map[string]any{"schema": map[string]any{"type": "object"}}}
	}
	if r.method == http.MethodGet && r.good() == http.StatusOK && !r.stream {
		headers["ETag"] = header("The entity tag of the answer, RFC 9110.")
		responses["304"] = map[string]any{"description": "As the caller has it already."}
	}
	if r.record != "" && r.needs == service.Write {
		headers["ETag"] = header("The entity tag of the record in the version that was made.")
	}
	if r.good() == http.StatusCreated && r.record != "" {
		headers["Location"] = header("Where the record is.")
		responses["200"] = map[string]any{"description": "A dry run: what it would do.", "content": good["content"]}
	}
	if known, _ := r.parameters(); slices.Contains(known, "cursor") {
		headers["Link"] = header("The next page, RFC 8288.")
	}
	if len(headers) > 0 {
		good["headers"] = headers
	}
	for _, code := range r.refusals() {
		responses[statusText(code)] = map[string]any{"$ref": "#/components/responses/" + problemName(code)}
	}
	responses["default"] = map[string]any{"$ref": "#/components/responses/" + problemName(http.StatusInternalServerError)}
}

func header(meaning string) map[string]any {
	return map[string]any{"description": meaning, "schema": map[string]any{"type": "string"}}
}

// refusals are the statuses with which a route can refuse.
func (r route) refusals() []int {
	out := []int{http.StatusBadRequest, http.StatusTooManyRequests, http.StatusServiceUnavailable}
	if !r.open || r.path == "/api/v1/session" || r.path == "/api/v1/welcome" {
		out = append(out, http.StatusUnauthorized)
	}
	if !r.open {
		out = append(out, http.StatusForbidden)
	}
	if strings.Contains(r.path, "{") {
		out = append(out, http.StatusNotFound)
	}
	if r.takes != nothing {
		out = append(out, http.StatusRequestEntityTooLarge, http.StatusUnsupportedMediaType)
	}
	if r.needs == service.Write || r.needs == service.Manage {
		out = append(out, http.StatusConflict, http.StatusPreconditionFailed, http.StatusUnprocessableEntity, http.StatusInsufficientStorage)
	}
	return out
}

// problemName is the name of a kind of problem among the components.
func problemName(status int) string {
	name := ""
	for _, word := range strings.Split(problems[status], "-") {
		name += capital(word)
	}
	return name + "Problem"
}

func capital(word string) string { return strings.ToUpper(word[:1]) + word[1:] }

func statusText(code int) string {
	return string([]byte{byte('0' + code/100), byte('0' + code/10%10), byte('0' + code%10)})
}

// components puts the schemas of records and the problems in their places, and takes out what nothing refers to.
func (d *description) components() {
	components := d.spec["components"].(map[string]any)
	d.set.Examples(d.schemas())
	for name, s := range d.set.Named {
		d.schemas()[name] = map[string]any(s)
	}
	responses := map[string]any{}
	for status := range problems {
		if status == http.StatusMethodNotAllowed {
			continue
		}
		answer := map[string]any{
			"description": service.English.Say("problem." + problems[status] + ".title"),
			"content":     map[string]any{"application/problem+json": map[string]any{"schema": map[string]any{"$ref": "#/components/schemas/Problem"}}},
		}
		switch status {
		case http.StatusUnauthorized:
			answer["headers"] = map[string]any{"WWW-Authenticate": header("How to come with a credential.")}
		case http.StatusTooManyRequests, http.StatusServiceUnavailable:
			answer["headers"] = map[string]any{"Retry-After": header("After how many seconds to come again.")}
		}
		responses[problemName(status)] = answer
	}
	components["responses"] = responses
	data, err := json.Marshal(d.spec)
	if err != nil {
		panic("server: the description does not marshal: " + err.Error())
	}
	for gone := true; gone; {
		gone = false
		for _, name := range slices.Collect(maps.Keys(d.schemas())) {
			if !strings.Contains(string(data), `"#/components/schemas/`+name+`"`) {
				delete(d.schemas(), name)
				gone = true
			}
		}
		if data, err = json.Marshal(d.spec); err != nil {
			panic("server: the description does not marshal: " + err.Error())
		}
	}
}
