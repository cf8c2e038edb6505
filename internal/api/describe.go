package api

import (
	"bytes"
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"magpie/client"
	"magpie/internal/core"
	"magpie/internal/core/rules"
	"magpie/internal/dialect"
	"magpie/internal/history"
	"magpie/internal/history/place"
	"magpie/internal/job"
	"magpie/internal/said"
)

// Describe says in OpenAPI 3.1 what the API answers. Operations come from the table
// of routes, types and what their fields mean from package client, and the words of
// jobs from the kinds that are registered.
func Describe(kinds []job.Kind) ([]byte, error) {
	comments, err := said.OfAll(client.Source)
	if err != nil {
		return nil, err
	}
	d := describer{words: vocabulary(kinds), schemas: map[string]any{}, comments: comments}
	var paths yaml.MapSlice
	at := map[string]int{}
	var tags []string
	for _, r := range (&Server{}).routes(kinds) {
		path := colon.ReplaceAllString(r.path, "{$1}")
		i, known := at[path]
		if !known {
			i = len(paths)
			at[path] = i
			item := yaml.MapSlice{}
			var in []any
			for _, m := range colon.FindAllStringSubmatch(r.path, -1) {
				in = append(in, yaml.MapSlice{{Key: "name", Value: m[1]}, {Key: "in", Value: "path"}, {Key: "required", Value: true}, {Key: "schema", Value: text("string")}})
			}
			if in != nil {
				item = append(item, yaml.MapItem{Key: "parameters", Value: in})
			}
			paths = append(paths, yaml.MapItem{Key: path, Value: item})
		}
		paths[i].Value = append(paths[i].Value.(yaml.MapSlice), yaml.MapItem{Key: strings.ToLower(r.method), Value: d.operation(r)})
		if !slices.Contains(tags, r.tag) {
			tags = append(tags, r.tag)
		}
	}
	d.schema(reflect.TypeOf(client.Problem{}))
	var named []any
	for _, t := range tags {
		named = append(named, yaml.MapSlice{{Key: "name", Value: t}, {Key: "description", Value: tagged[t]}})
	}
	var schemas yaml.MapSlice
	for _, name := range slices.Sorted(maps.Keys(d.schemas)) {
		schemas = append(schemas, yaml.MapItem{Key: name, Value: d.schemas[name]})
	}
	var failures yaml.MapSlice
	for _, f := range problems {
		failures = append(failures, yaml.MapItem{Key: f.name, Value: yaml.MapSlice{{Key: "description", Value: f.means},
			{Key: "content", Value: yaml.MapSlice{{Key: "application/problem+json", Value: yaml.MapSlice{{Key: "schema", Value: schemaRef("Problem")}}}}}}})
	}
	if d.unsaid != nil {
		return nil, fmt.Errorf("package client says nothing of %s; or does not show where, in Source", strings.Join(d.unsaid, ", "))
	}
	return yaml.Marshal(yaml.MapSlice{
		{Key: "openapi", Value: "3.1.0"},
		{Key: "info", Value: yaml.MapSlice{{Key: "title", Value: "Steady Magpie"}, {Key: "version", Value: "1"}, {Key: "description", Value: said.Line(preface)},
			{Key: "contact", Value: yaml.MapSlice{{Key: "name", Value: "whoever runs this service"}, {Key: "url", Value: "/"}}},
			{Key: "license", Value: yaml.MapSlice{{Key: "name", Value: "as the service itself"}, {Key: "identifier", Value: "LicenseRef-Steady-Magpie"}}}}},
		{Key: "servers", Value: []any{yaml.MapSlice{{Key: "url", Value: "/api/v1"}}}},
		{Key: "tags", Value: named},
		{Key: "security", Value: []any{yaml.MapSlice{{Key: "bearer", Value: []any{}}}, yaml.MapSlice{{Key: "cookie", Value: []any{}}}}},
		{Key: "paths", Value: paths},
		{Key: "components", Value: yaml.MapSlice{
			{Key: "securitySchemes", Value: yaml.MapSlice{
				{Key: "bearer", Value: yaml.MapSlice{{Key: "type", Value: "http"}, {Key: "scheme", Value: "bearer"}}},
				{Key: "cookie", Value: yaml.MapSlice{{Key: "type", Value: "apiKey"}, {Key: "in", Value: "cookie"}, {Key: "name", Value: "magpie"}}}}},
			{Key: "parameters", Value: yaml.MapSlice{
				{Key: "IfMatch", Value: header("If-Match", true, `The revision that the change is based on, in quotes, as the ETag had it (RFC 9110 §13.1.1). Missing: 428. Changed since: 412; look again and make the change on top of what it is now.`, yaml.MapItem{Key: "pattern", Value: `^"[1-9][0-9]*"$`})},
				{Key: "IdempotencyKey", Value: header("Idempotency-Key", false, "One key makes one job, however often it is sent.", yaml.MapItem{Key: "maxLength", Value: 80})}}},
			{Key: "responses", Value: failures},
			{Key: "schemas", Value: schemas}}},
	})
}

const preface = `Keeps the configurations of network devices and puts them back. Times are RFC 3339 in UTC.
Errors are RFC 9457 problem documents. Programs send a bearer token; browsers a cookie and, for writes, the header X-CSRF-Token.
Texts are masked for those who may not see secrets. x-role is the least role that an operation takes. Lists are pages: items, and
the cursor of the next page, if there is one. Bodies are JSON (dialect files YAML), at most 4 MiB, and hold no control characters
but in texts of several lines. What is not described in a query or a body is refused.`

// tagged says what operations of a tag are for.
var tagged = map[string]string{"sessions": "Who is signed in", "service": "How the service is", "devices": "Devices, and the hardware that has their place", "versions": "What devices ran, and how that differs",
	"credentials": "Logins that many devices share", "jobs": "Work under way, and what is said to it", "pushes": "Putting versions back", "relays": "Machines that lend their network reach",
	"snapshots": "Named sets of versions", "drift": "What devices are judged by, and how they stand to it", "search": "Lines of what runs now, and where they came from", "schedules": "What is done by itself, time after time", "retention": "For how long versions stay", "targets": "Copies of versions, and backups of the service, elsewhere", "notifications": "Who is told what, and by what way", "dialects": "How families of devices are spoken to", "users": "Who may sign in", "audit": "Who did what"}

// problems are the answers of operations that fail.
var problems = []struct {
	status, name, means string
}{
	{"400", "BadRequest", "something sent cannot be meant; the answer says what, where, and what to do"},
	{"401", "NotSignedIn", "nobody is signed in, or not any more"},
	{"403", "NotAllowed", "it takes another role, or the right to see secrets"},
	{"404", "NotFound", "nobody here has that name"},
	{"409", "Conflict", "it cannot be done as things stand"},
	{"412", "ChangedSince", "what the change is based on is not the newest any more"},
	{"413", "TooLarge", "the body is too large"},
	{"415", "WrongType", "the body is of another type"},
	{"422", "KeyUsed", "the key was used for another request"},
	{"428", "NoRevision", "the change does not say what it is based on"},
	{"429", "TooOften", "too many tries; wait as long as Retry-After says"},
	{"default", "Problem", "what went wrong, and what to do next"},
}

var colon = regexp.MustCompile(`:(\w+)`)

// vocabulary is what the words that stand in a field's enum tag are.
func vocabulary(kinds []job.Kind) map[string][]string {
	out := map[string][]string{
		"device states": core.States, "device kinds": core.Kinds, "job states": core.JobStates, "outcomes": core.Outcomes, "roles": core.Roles, "reasons": core.Reasons, "asides": core.Asides,
		"relations": dialect.Relations, "entry changes": rules.Kinds, "drift states": {core.InSync, core.Drifted, "no baseline", "not known"}, "target kinds": place.Kinds, "target states": history.TargetStates, "target files": core.FileForms, "copy states": core.CopyStates, "becomes": history.BecomesOf, "rule kinds": rules.OwnKinds, "line ops": {"same", "remove", "add"}, "topics": core.Topics, "methods": dialect.Methods,
		"transports": dialect.Transports, "step kinds": {"enter", "set", "remove", "leave", "live", "load", "commit", "stage", "restart"},
		"entry kinds": {"step", "info", "line", "warning", "trouble", "kept", "end"}}
	for _, e := range core.NotificationEvents {
		out["tell events"] = append(out["tell events"], e.Name)
	}
	out["recipient kinds"], out["syslog transports"], out["mail securities"], out["message states"] = core.RecipientKinds, core.SyslogTransports, core.MailSecurities, core.MessageStates
	for _, k := range kinds {
		out["kinds"] = append(out["kinds"], k.Name)
		for _, w := range k.Awaits {
			out["awaits"] = append(out["awaits"], w.For)
		}
	}
	out["recurring kinds"] = recurring(kinds)
	for _, w := range job.Words(kinds) {
		out["words"] = append(out["words"], w.Say)
	}
	slices.Sort(out["kinds"])
	slices.Sort(out["recurring kinds"])
	return out
}

// describer gathers the schemas that operations name.
type describer struct {
	words    map[string][]string
	schemas  map[string]any
	comments map[string]string // by type, and by type and field
	unsaid   []string          // types that nothing is said of
}

// operation describes one.
func (d *describer) operation(r route) yaml.MapSlice {
	op := yaml.MapSlice{{Key: "operationId", Value: r.id}, {Key: "tags", Value: []string{r.tag}}, {Key: "x-role", Value: r.role}, {Key: "summary", Value: r.does}}
	add := func(key string, v any) { op = append(op, yaml.MapItem{Key: key, Value: v}) }
	more := r.more
	if more == "" {
		more = r.does + "."
	}
	add("description", more)
	if r.role == nobody {
		add("security", []any{})
	}
	var in []any
	for _, p := range r.params() {
		sch := text(p.kind)
		if words, ok := d.words[p.does]; ok {
			sch = append(sch, yaml.MapItem{Key: "enum", Value: words})
		}
		one := yaml.MapSlice{{Key: "name", Value: p.name}, {Key: "in", Value: "query"}, {Key: "required", Value: p.must}, {Key: "schema", Value: sch}}
		if p.does != "" {
			one = append(one, yaml.MapItem{Key: "description", Value: p.does})
		}
		in = append(in, one)
	}
	if r.match {
		in = append(in, yaml.MapSlice{{Key: "$ref", Value: "#/components/parameters/IfMatch"}})
	}
	if r.once {
		in = append(in, yaml.MapSlice{{Key: "$ref", Value: "#/components/parameters/IdempotencyKey"}})
	}
	if in != nil {
		add("parameters", in)
	}
	if r.takes != nil {
		add("requestBody", yaml.MapSlice{{Key: "required", Value: true}, {Key: "content", Value: d.content(r.takes, r.as)}})
	}
	status := r.status
	if status == 0 {
		status = 200
	}
	good := yaml.MapSlice{{Key: "description", Value: map[int]string{200: "as asked", 201: "made", 202: "asked for, and under way", 204: "done", 303: "go on there", 101: "the roles are turned around"}[status]}}
	if r.match || r.method == "GET" && (strings.HasSuffix(r.path, "/:name") || r.id == "getVersionText") {
		good = append(good, yaml.MapItem{Key: "headers", Value: yaml.MapSlice{{Key: "ETag", Value: yaml.MapSlice{{Key: "description", Value: "which revision this is"}, {Key: "schema", Value: text("string")}}}}})
	}
	if r.gives != nil {
		good = append(good, yaml.MapItem{Key: "content", Value: d.content(r.gives, r.mime)})
	}
	answers := yaml.MapSlice{{Key: fmt.Sprint(status), Value: good}}
	for _, p := range problems {
		if r.fails(p.status) {
			answers = append(answers, yaml.MapItem{Key: p.status, Value: yaml.MapSlice{{Key: "$ref", Value: "#/components/responses/" + p.name}}})
		}
	}
	add("responses", answers)
	return op
}

// fails tells whether an operation may answer with a status.
func (r route) fails(status string) bool {
	switch status {
	case "401":
		return true
	case "403":
		return r.role != nobody && r.role != core.Reader || strings.HasPrefix(r.path, "/version")
	case "404":
		return strings.Contains(r.path, ":") || len(r.query) > 0 || r.takes != nil && r.role != nobody
	case "409":
		return r.method != "GET" && r.role != nobody
	case "412", "428":
		return r.match
	case "413", "415":
		return r.takes != nil
	case "422":
		return r.once
	case "429":
		return r.role == nobody
	}
	return true
}

// content describes a body.
func (d *describer) content(v any, mime string) yaml.MapSlice {
	if mime == "" {
		mime = "application/json"
	}
	var sch any = d.schema(reflect.TypeOf(v))
	if strings.Contains(mime, ", ") {
		var out yaml.MapSlice
		for _, m := range strings.Split(mime, ", ") {
			out = append(out, yaml.MapItem{Key: m, Value: yaml.MapSlice{{Key: "schema", Value: text("string")}}})
		}
		return out
	}
	if mime == "application/schema+json" {
		sch = text("object")
	}
	return yaml.MapSlice{{Key: mime, Value: yaml.MapSlice{{Key: "schema", Value: sch}}}}
}

// schema describes a type; structs are gathered, and named.
func (d *describer) schema(t reflect.Type) yaml.MapSlice {
	switch {
	case t == reflect.TypeOf(time.Time{}):
		return append(text("string"), yaml.MapItem{Key: "format", Value: "date-time"})
	case t.Kind() == reflect.Pointer:
		return d.schema(t.Elem())
	}
	switch t.Kind() {
	case reflect.String:
		return text("string")
	case reflect.Bool:
		return text("boolean")
	case reflect.Int:
		return text("integer")
	case reflect.Int64:
		return append(text("integer"), yaml.MapItem{Key: "format", Value: "int64"})
	case reflect.Slice, reflect.Array:
		out := append(text("array"), yaml.MapItem{Key: "items", Value: d.schema(t.Elem())})
		if t.Kind() == reflect.Array {
			out = append(out, yaml.MapItem{Key: "minItems", Value: t.Len()}, yaml.MapItem{Key: "maxItems", Value: t.Len()})
		}
		return out
	case reflect.Map:
		return append(text("object"), yaml.MapItem{Key: "additionalProperties", Value: d.schema(t.Elem())})
	case reflect.Interface:
		return yaml.MapSlice{}
	}
	name := t.Name()
	if p, ok := reflect.Zero(t).Interface().(interface{ Pages() bool }); ok && p.Pages() {
		name = t.Field(0).Type.Elem().Name() + "Page"
	}
	if _, known := d.schemas[name]; !known {
		d.schemas[name] = nil // so that one that holds itself comes to an end
		d.schemas[name] = d.object(name, t)
	}
	return schemaRef(name)
}

// object describes a struct.
func (d *describer) object(name string, t reflect.Type) yaml.MapSlice {
	var props yaml.MapSlice
	var must []string
	from, _, _ := strings.Cut(t.Name(), "[")
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous {
			in := d.object("", f.Type)
			for _, x := range in {
				switch x.Key {
				case "properties":
					props = append(props, x.Value.(yaml.MapSlice)...)
				case "required":
					must = append(must, x.Value.([]string)...)
				}
			}
			continue
		}
		key, opts, _ := strings.Cut(f.Tag.Get("json"), ",")
		if key == "-" || key == "" {
			continue
		}
		sch := d.schema(f.Type)
		if words, ok := d.words[f.Tag.Get("enum")]; ok {
			if f.Type.Kind() == reflect.Slice {
				for i := range sch {
					if of, is := sch[i].Value.(yaml.MapSlice); is && sch[i].Key == "items" {
						sch[i].Value = append(of, yaml.MapItem{Key: "enum", Value: words})
					}
				}
			} else {
				sch = append(sch, yaml.MapItem{Key: "enum", Value: words})
			}
		}
		if does := d.comments[from+"."+f.Name]; does != "" {
			sch = append(sch, yaml.MapItem{Key: "description", Value: does})
		}
		props = append(props, yaml.MapItem{Key: key, Value: sch})
		if opts == "" {
			must = append(must, key)
		}
	}
	out := text("object")
	if does := d.comments[from]; does != "" && name != "" {
		out = append(out, yaml.MapItem{Key: "description", Value: does})
	} else if name != "" {
		d.unsaid = append(d.unsaid, name)
	}
	if must != nil {
		out = append(out, yaml.MapItem{Key: "required", Value: must})
	}
	return append(out, yaml.MapItem{Key: "properties", Value: props})
}

func text(kind string) yaml.MapSlice { return yaml.MapSlice{{Key: "type", Value: kind}} }

func schemaRef(name string) yaml.MapSlice {
	return yaml.MapSlice{{Key: "$ref", Value: "#/components/schemas/" + name}}
}

func header(name string, must bool, does string, more ...yaml.MapItem) yaml.MapSlice {
	return yaml.MapSlice{{Key: "name", Value: name}, {Key: "in", Value: "header"}, {Key: "required", Value: must}, {Key: "description", Value: does},
		{Key: "schema", Value: append(text("string"), more...)}}
}

// Differs tells where two descriptions differ first; empty when they do not.
func Differs(a, b []byte) string {
	x, y := bytes.Split(a, []byte("\n")), bytes.Split(b, []byte("\n"))
	for i := range max(len(x), len(y)) {
		if i >= len(x) || i >= len(y) || !bytes.Equal(x[i], y[i]) {
			return fmt.Sprintf("from line %d on", i+1)
		}
	}
	return ""
}
