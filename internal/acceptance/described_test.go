package acceptance

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// description is docs/openapi.json, against which every answer is held that any test here gets.
var description = sync.OnceValue(func() *describing {
	doc, err := openapi3.NewLoader().LoadFromFile(openAPIFile)
	if err != nil {
		panic(err)
	}
	doc.Servers = nil
	schemas := jsonschema.NewCompiler()
	schemas.DefaultDraft(jsonschema.Draft2020)
	schemas.AssertFormat()
	raw, err := os.ReadFile(openAPIFile)
	if err != nil {
		panic(err)
	}
	plain, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		panic(err)
	}
	if err := schemas.AddResource(describedAt, plain); err != nil {
		panic(err)
	}
	// Bodies are held against schemas that are compiled once. Under its own version each schema of a parameter would be compiled for each answer, which takes longer than most answers.
	doc.OpenAPI = "3.0.3"
	router, err := gorillamux.NewRouter(doc)
	if err != nil {
		panic(err)
	}
	return &describing{doc: doc, router: router, schemas: schemas}
})

// describedAt is the name by which the description is known to what compiles its schemas.
const describedAt = "openapi.json"

type describing struct {
	doc    *openapi3.T
	router routers.Router
	met    sync.Map // operation ids that were answered as they should

	compiling sync.Mutex
	schemas   *jsonschema.Compiler // which keeps what it has compiled
}

// as holds a body in JSON against the schema that an operation's content has at a place of the description.
func (d *describing) as(body []byte, place ...string) error {
	for i, step := range place {
		place[i] = strings.NewReplacer("~", "~0", "/", "~1").Replace(step)
	}
	d.compiling.Lock()
	schema, err := d.schemas.Compile(describedAt + "#/" + (&url.URL{Path: strings.Join(place, "/")}).EscapedPath())
	d.compiling.Unlock()
	if err != nil {
		return err
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
	if err != nil {
		return err
	}
	return schema.Validate(value)
}

// answer holds the body of an answer against what its operation describes for the status, or for all that it does not name.
func (d *describing) answer(route *routers.Route, status int, contentType string, body []byte) error {
	place := []string{"paths", route.Path, strings.ToLower(route.Method), "responses", strconv.Itoa(status)}
	response := route.Operation.Responses.Status(status)
	if response == nil {
		response, place[4] = route.Operation.Responses.Default(), "default"
	}
	if response == nil {
		return nil
	}
	if response.Ref != "" {
		place = strings.Split(strings.TrimPrefix(response.Ref, "#/"), "/")
	}
	return d.content(response.Value.Content, append(place, "content"), contentType, body)
}

// request holds the body of a request against what its operation describes.
func (d *describing) request(route *routers.Route, req *http.Request) error {
	ref := route.Operation.RequestBody
	if ref == nil {
		return nil
	}
	body, err := io.ReadAll(req.Body)
	if err != nil || len(body) == 0 && !ref.Value.Required {
		return err
	}
	return d.content(ref.Value.Content, []string{"paths", route.Path, strings.ToLower(route.Method), "requestBody", "content"}, req.Header.Get("Content-Type"), body)
}

// content holds a body in JSON against what is described for its media type.
func (d *describing) content(described openapi3.Content, place []string, contentType string, body []byte) error {
	if len(described) == 0 {
		return nil
	}
	for media, content := range described {
		if is, _, _ := mime.ParseMediaType(contentType); is != media {
			continue
		}
		if content.Schema == nil || !strings.HasSuffix(media, "json") {
			return nil
		}
		return d.as(body, append(place, media, "schema")...)
	}
	return fmt.Errorf("it is %q, which is not described", contentType)
}

// largeAnswer is from how many bytes on an answer is not looked at: reading it twice takes longer than the test that got it.
const largeAnswer = 1 << 20

// hold holds an answer against the description; and where it was a good one, the request as well.
func (d *describing) hold(t testing.TB, req *http.Request, status int, header http.Header, body []byte) {
	t.Helper()
	if os.Getenv("SENTIER_UPDATE") != "" || len(body) > largeAnswer || header.Get("Content-Encoding") != "" {
		return
	}
	route, params, err := d.router.FindRoute(req)
	if err != nil {
		if status < 300 && req.Method != http.MethodHead && req.Method != http.MethodOptions && header.Get("Content-Type") == "application/json" {
			t.Errorf("%s %s is answered, and not described: %v", req.Method, req.URL, err)
		}
		return
	}
	if binary := strings.HasPrefix(header.Get("Content-Type"), "text/html") || strings.Contains(header.Get("Content-Type"), "sqlite") || strings.Contains(header.Get("Content-Type"), "ndjson"); binary || route.Operation.OperationID == "evaluateMany" && status < 300 {
		d.met.Store(route.Operation.OperationID, true) // of many evaluations, one that cannot be read is told beside the answers of the others
		return
	}
	input := &openapi3filter.RequestValidationInput{Request: req, PathParams: params, Route: route, Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, ExcludeRequestBody: true}}
	answer := &openapi3filter.ResponseValidationInput{RequestValidationInput: input, Status: status, Header: header, Options: &openapi3filter.Options{ExcludeResponseBody: true}}
	if err := errors.Join(openapi3filter.ValidateResponse(req.Context(), answer), d.answer(route, status, header.Get("Content-Type"), body)); err != nil {
		t.Errorf("%s %s: the answer is not as described: %.500s", req.Method, req.URL, err.Error())
	}
	if status >= 300 {
		return
	}
	if err := errors.Join(openapi3filter.ValidateRequest(req.Context(), input), d.request(route, req)); err != nil {
		t.Errorf("%s %s is taken, and is not as described: %.500s", req.Method, req.URL, err.Error())
	}
	d.met.Store(route.Operation.OperationID, true)
}

// unmet lists the operations that nothing was answered well by.
func unmet() (missing []string) {
	if os.Getenv("SENTIER_UPDATE") != "" {
		return nil
	}
	for path, item := range description().doc.Paths.Map() {
		for method, o := range item.Operations() {
			// Events have no end, and are looked at as they come; whoever follows the log reads its objects.
			if _, met := description().met.Load(o.OperationID); !met && !slices.Contains([]string{"followEvents", "followAudit", "followLog", "getLogObject"}, o.OperationID) {
				missing = append(missing, method+" "+path)
			}
		}
	}
	slices.Sort(missing)
	return missing
}
