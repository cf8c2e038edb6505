package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/legacy"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// described holds every call to the API's description, as the service that answers
// serves it.
type described struct{ t testing.TB }

// description is what a program says of its API. What an answer is held to is
// compiled once.
type description struct {
	routers.Router
	mu      sync.Mutex
	compile *jsonschema.Compiler
	schemas map[string]*jsonschema.Schema
}

// descriptions are kept by service and by text; programs tells whose a service is.
// One program says the same wherever it runs.
var descriptions, programs sync.Map

func known(url, program string) {
	host := strings.TrimPrefix(url, "http://")
	descriptions.Delete(host) // another program may have had that port
	programs.Store(host, program)
}

func describes(host string) (*description, error) {
	if d, ok := descriptions.Load(host); ok {
		return d.(*description), nil
	}
	program, ok := programs.Load(host)
	if ok {
		if d, ok := descriptions.Load(program); ok {
			return d.(*description), nil
		}
	}
	res, err := http.Get("http://" + host + "/openapi.yaml")
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		return nil, err
	}
	d, have := descriptions.Load(string(raw))
	if !have {
		if d, err = readDescription(raw); err != nil {
			return nil, err
		}
		descriptions.Store(string(raw), d)
	}
	descriptions.Store(host, d)
	if ok {
		descriptions.Store(program, d)
	}
	return d.(*description), nil
}

func readDescription(raw []byte) (*description, error) {
	doc, err := openapi3.NewLoader().LoadFromData(raw)
	if err != nil {
		return nil, err
	}
	d := &description{compile: jsonschema.NewCompiler(), schemas: map[string]*jsonschema.Schema{}}
	text, err := json.Marshal(doc)
	if err != nil {
		return nil, err
	}
	tree, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	if err := d.compile.AddResource("description.json", tree); err != nil {
		return nil, err
	}
	doc.Servers = openapi3.Servers{{URL: "/api/v1"}}
	d.Router, err = legacy.NewRouter(doc)
	return d, err
}

// answer holds the body of an answer to what is said of it.
func (d *description) answer(route *routers.Route, res *http.Response, body []byte) error {
	said, under := route.Operation.Responses.Status(res.StatusCode), fmt.Sprint(res.StatusCode)
	if said == nil {
		said, under = route.Operation.Responses.Default(), "default"
	}
	if said == nil {
		return fmt.Errorf("this status is not described")
	}
	kind, _, _ := strings.Cut(res.Header.Get("Content-Type"), ";")
	if len(said.Value.Content) == 0 && len(body) == 0 {
		return nil
	}
	if said.Value.Content.Get(kind) == nil {
		return fmt.Errorf("its type, %q, is not described", kind)
	}
	if kind != "application/json" && kind != "application/problem+json" {
		return nil
	}
	place := fmt.Sprintf("/paths/%s/%s/responses/%s", token(route.Path), strings.ToLower(route.Method), under)
	if said.Ref != "" {
		place = strings.TrimPrefix(said.Ref, "#")
	}
	schema, err := d.schema(place + "/content/" + token(kind) + "/schema")
	if err != nil {
		return err
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
	if err != nil {
		return err
	}
	return schema.Validate(value)
}

func (d *description) schema(place string) (*jsonschema.Schema, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	s, err := d.schemas[place], error(nil)
	if s == nil {
		s, err = d.compile.Compile("description.json#" + (&url.URL{Fragment: place}).EscapedFragment())
		d.schemas[place] = s
	}
	return s, err
}

// token is a key as it stands in a JSON Pointer (RFC 6901, section 3).
func token(key string) string {
	return strings.NewReplacer("~", "~0", "/", "~1").Replace(key)
}

func (d described) RoundTrip(r *http.Request) (*http.Response, error) {
	of, err := describes(r.URL.Host)
	if err != nil {
		d.t.Fatalf("openapi.yaml: %v", err)
	}
	bare := r.Clone(r.Context())
	bare.URL = &url.URL{Path: r.URL.Path, RawQuery: r.URL.RawQuery}
	route, _, err := of.FindRoute(bare)
	if err != nil {
		d.t.Errorf("%s %s is not described: %v", r.Method, r.URL.Path, err)
		return http.DefaultTransport.RoundTrip(r)
	}
	res, err := http.DefaultTransport.RoundTrip(r)
	if err != nil || res.Header.Get("Content-Type") == "text/event-stream" {
		return res, err
	}
	body, err := io.ReadAll(res.Body)
	res.Body.Close()
	res.Body = io.NopCloser(bytes.NewReader(body))
	if err != nil {
		return res, err
	}
	if err := of.answer(route, res, body); err != nil {
		d.t.Errorf("%s %s answers %d, which is not as described: %v", r.Method, r.URL.Path, res.StatusCode, err)
	}
	return res, nil
}

// TestAnswersAreHeldToTheDescription: what holds the tests' calls to it sees what
// does not fit.
func TestAnswersAreHeldToTheDescription(t *testing.T) {
	t.Parallel()
	w := newWorld(t, 1)
	of := must(describes(strings.TrimPrefix(w.url, "http://")))(t)
	r, _ := http.NewRequest("GET", "/api/v1/devices", nil)
	route, _, err := of.FindRoute(r)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		status     int
		kind, body string
		fits       bool
	}{
		{200, "application/json; charset=utf-8", `{"items":[]}`, true},
		{200, "application/json", `{"items":[{"name":7}]}`, false},
		{200, "application/json", `{"items":`, false},
		{200, "text/html", ``, false},
		{201, "application/json", `{"items":[]}`, false},
		{400, "application/problem+json", `{"status":"400"}`, false},
	} {
		err := of.answer(route, &http.Response{StatusCode: c.status, Header: http.Header{"Content-Type": {c.kind}}}, []byte(c.body))
		if (err == nil) != c.fits {
			t.Errorf("%d %s %s: %v", c.status, c.kind, c.body, err)
		}
	}
}
