package management

import (
	"encoding/json"
	"net/http"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"sync"

	"github.com/invopop/jsonschema"

	"innergate/api"
)

var described struct {
	sync.Once
	document []byte
}

func openAPI(*call) (any, error) { return json.RawMessage(Description()), nil }

// Description is the OpenAPI 3.1 document of the management API, made from the list of routes and the types that they
// take and give.
func Description() []byte {
	described.Do(func() { described.document = describe() })
	return described.document
}

var pathParameter = regexp.MustCompile(`\{(\w+)\}`)

func describe() []byte {
	schemas := map[string]any{}
	paths := map[string]map[string]any{}
	problem := map[string]any{
		"description": "A problem (RFC 9457)",
		"content":     map[string]any{"application/problem+json": map[string]any{"schema": schemaOf(api.Problem{}, schemas)}},
	}
	for _, r := range Routes() {
		status := r.Status
		if status == 0 {
			status = http.StatusOK
		}
		answer := map[string]any{"description": http.StatusText(status)}
		switch {
		case r.Media != "":
			answer["content"] = map[string]any{r.Media: map[string]any{"schema": map[string]any{"type": "string"}}}
		case r.Response != nil:
			answer["content"] = map[string]any{"application/json": map[string]any{"schema": schemaOf(r.Response, schemas)}}
		}
		op := map[string]any{
			"summary":     r.Summary,
			"operationId": operationID(r),
			"responses":   map[string]any{strconv.Itoa(status): answer, "default": problem},
		}
		if r.Role != "" {
			op["description"] = "Needs at least the role " + r.Role + "."
			op["security"] = []any{map[string]any{"token": []any{}}, map[string]any{"session": []any{}}}
		}
		var parameters []any
		for _, m := range pathParameter.FindAllStringSubmatch(r.Path, -1) {
			parameters = append(
				parameters,
				map[string]any{"name": m[1], "in": "path", "required": true, "schema": map[string]any{"type": "string"}},
			)
		}
		if r.Role != "" && r.Method != http.MethodGet {
			parameters = append(
				parameters,
				map[string]any{
					"name":        "remark",
					"in":          "query",
					"description": "Why; it stands in the history of what is changed.",
					"schema":      map[string]any{"type": "string", "maxLength": 1000},
				},
			)
		}
		for _, q := range r.Query {
			kind := "string"
			if q == "limit" || q == "revision" {
				kind = "integer"
			}
			parameters = append(parameters, map[string]any{"name": q, "in": "query", "schema": map[string]any{"type": kind}})
		}
		if parameters != nil {
			op["parameters"] = parameters
		}
		if r.Request != nil {
			op["requestBody"] = map[string]any{
				"required": true,
				"content":  map[string]any{"application/json": map[string]any{"schema": schemaOf(r.Request, schemas)}},
			}
		}
		if r.Upload {
			op["requestBody"] = map[string]any{
				"required": true,
				"content": map[string]any{
					"application/octet-stream": map[string]any{"schema": map[string]any{"type": "string", "format": "binary"}},
				},
			}
		}
		if paths[r.Path] == nil {
			paths[r.Path] = map[string]any{}
		}
		paths[r.Path][strings.ToLower(r.Method)] = op
	}
	doc := map[string]any{
		"openapi": "3.1.0",
		"info": map[string]any{
			"title":   "Inner Gate management API",
			"version": "1",
			"license": map[string]any{"name": "Apache-2.0", "identifier": "Apache-2.0"},
		},
		"servers": []any{map[string]any{"url": "/api/v1"}}, "paths": paths,
		"components": map[string]any{"schemas": schemas, "securitySchemes": map[string]any{
			"token":   map[string]any{"type": "http", "scheme": "bearer"},
			"session": map[string]any{"type": "apiKey", "in": "cookie", "name": "__Host-ig-console"},
		}},
	}
	out, err := json.MarshalIndent(doc, "", " ")
	if err != nil {
		panic(err) // made of plain maps
	}
	return append(out, '\n')
}

var wordBorder = regexp.MustCompile(`[^a-zA-Z]+`)

func operationID(r route) string {
	id := strings.ToLower(r.Method)
	for _, w := range wordBorder.Split(r.Path, -1) {
		if w != "" {
			id += strings.ToUpper(w[:1]) + w[1:]
		}
	}
	return id
}

var generic = regexp.MustCompile(`^List\[(?:.*[./])?(\w+)\]$`)

// schemaOf adds a type's schema, and those of the types in it, to the components and returns a reference to it.
func schemaOf(v any, schemas map[string]any) any {
	if t := reflect.TypeOf(v); t.Kind() == reflect.Map {
		if t.Elem().Kind() == reflect.Bool {
			return map[string]any{"type": "object", "additionalProperties": map[string]any{"type": "boolean"}}
		}
		return map[string]any{"type": "object"}
	}
	reflector := jsonschema.Reflector{AllowAdditionalProperties: true, Anonymous: true, Namer: schemaName, Mapper: mapType}
	s := reflector.Reflect(v)
	for name, d := range s.Definitions {
		schemas[name] = relocated(d)
	}
	return map[string]any{"$ref": "#/components/schemas/" + schemaName(reflect.TypeOf(v))}
}

// schemaName names a type's schema; where packages use a name twice, the package goes before it.
func schemaName(t reflect.Type) string {
	name := t.Name()
	if m := generic.FindStringSubmatch(name); m != nil {
		return m[1] + "List"
	}
	pkg := t.PkgPath()[strings.LastIndexByte(t.PkgPath(), '/')+1:]
	switch pkg {
	case "config", "trace", "saml", "people", "moves", "files":
		return strings.ToUpper(pkg[:1]) + pkg[1:] + name
	case "access":
		return "Policy" + strings.TrimSuffix(name, "Policy")
	case "claims":
		if name == "Problem" || name == "Attribute" {
			return "Mapping" + name
		}
	}
	return name
}

// mapType describes the types that write their own JSON.
func mapType(t reflect.Type) *jsonschema.Schema {
	text := &jsonschema.Schema{Type: "string"}
	switch t.PkgPath() + "." + t.Name() {
	case "innergate/core/claims.Names":
		return &jsonschema.Schema{OneOf: []*jsonschema.Schema{text, {Type: "array", Items: text}}}
	case "innergate/core/claims.Step", "innergate/core/people.Way":
		return &jsonschema.Schema{OneOf: []*jsonschema.Schema{text, {Type: "object"}}}
	case "innergate/core/saml.Document":
		return &jsonschema.Schema{Type: "object"}
	}
	return nil
}

// relocated turns a schema's references to where OpenAPI keeps schemas.
func relocated(s *jsonschema.Schema) any {
	b, err := json.Marshal(s)
	if err != nil {
		panic(err) // made by the reflector
	}
	var out any
	if err := json.Unmarshal([]byte(strings.ReplaceAll(string(b), "#/$defs/", "#/components/schemas/")), &out); err != nil {
		panic(err)
	}
	return out
}

// serviceRoutes are the operations on the service itself.
func serviceRoutes() []route {
	get := http.MethodGet
	return []route{
		{Method: get, Path: "/openapi.json", Summary: "This description", handle: openAPI, Response: map[string]any{}},
	}
}
