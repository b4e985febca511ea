package acceptance

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
)

// description is docs/openapi.json, against which every answer is held that any test here gets.
var description = sync.OnceValue(func() *describing {
	doc, err := openapi3.NewLoader().LoadFromFile(openAPIFile)
	if err != nil {
		panic(err)
	}
	doc.Servers = nil
	router, err := gorillamux.NewRouter(doc)
	if err != nil {
		panic(err)
	}
	openapi3filter.RegisterBodyDecoder("text/calendar", func(body io.Reader, _ http.Header, _ *openapi3.SchemaRef, _ openapi3filter.EncodingFn) (any, error) {
		text, err := io.ReadAll(body)
		return string(text), err
	})
	return &describing{doc: doc, router: router}
})

type describing struct {
	doc    *openapi3.T
	router routers.Router
	met    sync.Map // operation ids that were answered as they should
	seen   sync.Map // how many answers of an operation with a status there were: *atomic.Int64
}

// enough is how many answers of an operation with a status are all looked at; of those that come after them one in ten is, as each takes milliseconds.
const enough = 30

func (d *describing) passes(operation string, status int) bool {
	count, _ := d.seen.LoadOrStore(fmt.Sprint(operation, status), new(atomic.Int64))
	n := count.(*atomic.Int64).Add(1)
	return n > enough && n%10 != 0
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
	if d.passes(route.Operation.OperationID, status) {
		return
	}
	input := &openapi3filter.RequestValidationInput{Request: req, PathParams: params, Route: route, Options: &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc}}
	answer := &openapi3filter.ResponseValidationInput{RequestValidationInput: input, Status: status, Header: header}
	if err := openapi3filter.ValidateResponse(req.Context(), answer.SetBodyBytes(body)); err != nil {
		t.Errorf("%s %s: the answer is not as described: %.500s", req.Method, req.URL, err.Error())
	}
	if status >= 300 {
		return
	}
	if err := openapi3filter.ValidateRequest(req.Context(), input); err != nil {
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
