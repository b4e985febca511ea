package server

import (
	"encoding/json"
	"net/http"
	"reflect"
	"strings"

	"github.com/swaggest/jsonschema-go"
	"github.com/swaggest/openapi-go"
	"github.com/swaggest/openapi-go/openapi31"

	"sentier/internal/wire"
)

// describe writes the OpenAPI 3.1 document of the routes.
func describe(routes []route, version string) ([]byte, error) {
	r := openapi31.NewReflector()
	r.Spec.SetTitle("Sentier")
	r.Spec.SetVersion(version)
	r.Spec.SetDescription("Who may view and control which device, and when. Records have one shape here, in policy documents and in the store.")
	r.Spec.SetHTTPBearerTokenSecurity("bearer", "", "A token made by an owner.")
	r.Spec.SetAPIKeySecurity("session", cookieName, openapi.InCookie, "The console's session.")
	wire.TypeMappings(func(of, as any) { r.AddTypeMapping(of, as) })
	r.DefaultOptions = append(r.DefaultOptions,
		jsonschema.InterceptDefName(func(_ reflect.Type, name string) string {
			for _, prefix := range []string{"Wire", "Policy", "Server", "Decision"} {
				name = strings.TrimPrefix(name, prefix)
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
		op.SetSummary(route.summary)
		op.SetTags(route.tag)
		if !route.open {
			op.AddSecurity("bearer")
			op.AddSecurity("session")
		}
		parts, several := route.in.([]any)
		if !several && route.in != nil {
			parts = []any{route.in}
		}
		for _, part := range parts {
			op.AddReqStructure(part)
		}
		status := route.status
		if status == 0 {
			status = http.StatusOK
		}
		op.AddRespStructure(route.out, openapi.WithHTTPStatus(status))
		op.AddRespStructure(wire.Problem{}, func(cu *openapi.ContentUnit) {
			cu.IsDefault = true
			cu.ContentType = "application/problem+json"
			cu.Description = "What is wrong, RFC 9457"
		})
		if err := r.AddOperation(op); err != nil {
			return nil, err
		}
	}
	return json.MarshalIndent(r.Spec, "", "  ")
}
