package api

import (
	"encoding/json"
	"flag"
	"maps"
	"os"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"lumtra/client"
)

var update = flag.Bool("update", false, "write openapi.json")

// told is what is said of each route: what it answers and takes, in words and as types.
var told = map[string]struct {
	does string
	out  any
	in   any
}{
	"GET /v1/about":                     {"The service.", client.About{}, nil},
	"GET /v1/endpoints":                 {"Where objects lie, by name.", []client.Endpoint{}, nil},
	"GET /v1/jobs":                      {"All jobs, by name.", []client.Job{}, nil},
	"GET /v1/jobs/{job}":                {"One job.", client.Job{}, nil},
	"GET /v1/jobs/{job}/plans/{number}": {"A plan by its number; 0 is the newest.", client.Plan{}, nil},
	"POST /v1/jobs/{job}/plans": {"Survey both sides and plan. It takes as long as that takes.", client.Plan{},
		client.Make{}},
	"POST /v1/jobs/{job}/proofs": {"Survey both sides and compare them. It takes as long as that takes.",
		client.Proof{}, client.Prove{}},
	"GET /v1/jobs/{job}/runs": {"The newest runs of a job, newest first.", []client.Run{}, nil},
	"POST /v1/jobs/{job}/runs": {"Begin to carry out a saved plan. What holds it back is answered with 409.",
		struct{}{}, client.Begin{}},
	"GET /v1/jobs/{job}/run": {"The run under way, or the last that ended since the service began.",
		client.Progress{}, nil},
	"GET /v1/runs":              {"The runs under way.", []client.Progress{}, nil},
	"POST /v1/jobs/{job}/steer": {"Change the run under way.", struct{}{}, client.Steer{}},
	"GET /v1/jobs/{job}/proof":  {"The newest proof of a job.", client.Proof{}, nil},
	"GET /v1/starts": {"The newest starts of jobs by themselves, newest first.", []client.Start{},
		nil},
	"GET /v1/coming": {"The starts of the coming week.", []client.Coming{}, nil},
}

// schema is a type as JSON Schema; named types are put into all by their names.
func schema(t reflect.Type, all map[string]any) map[string]any {
	if t == reflect.TypeFor[json.RawMessage]() {
		return map[string]any{} // whatever there is
	}
	switch t.Kind() {
	case reflect.Pointer:
		return schema(t.Elem(), all)
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schema(t.Elem(), all)}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": schema(t.Elem(), all)}
	case reflect.String:
		return map[string]any{"type": "string"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Float64:
		return map[string]any{"type": "number"}
	case reflect.Int, reflect.Int64:
		return map[string]any{"type": "integer"}
	}
	if t == reflect.TypeFor[time.Time]() {
		return map[string]any{"type": "string", "format": "date-time"}
	}
	properties, required := map[string]any{}, []string{}
	for i := range t.NumField() {
		name, options, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
		properties[name] = schema(t.Field(i).Type, all)
		if !strings.HasPrefix(options, "omit") {
			required = append(required, name)
		}
	}
	s := map[string]any{"type": "object", "properties": properties}
	if len(required) > 0 {
		s["required"] = required
	}
	if t.Name() == "" {
		return s
	}
	all[t.Name()] = s
	return map[string]any{"$ref": "#/components/schemas/" + t.Name()}
}

// described is the whole document.
func described() []byte {
	all, paths := map[string]any{}, map[string]map[string]any{}
	add := func(pattern, does string, ok map[string]any, in any) {
		method, path, _ := strings.Cut(pattern, " ")
		op := map[string]any{"summary": does, "responses": map[string]any{"200": ok,
			"default": map[string]any{"description": "Why it was not done.",
				"content": map[string]any{"application/json": map[string]any{
					"schema": schema(reflect.TypeFor[client.Error](), all)}}}}}
		var params []any
		for _, m := range regexp.MustCompile(`\{(\w+)\}`).FindAllStringSubmatch(path, -1) {
			params = append(params, map[string]any{"name": m[1], "in": "path", "required": true,
				"schema": map[string]any{"type": "string"}})
		}
		if params != nil {
			op["parameters"] = params
		}
		if in != nil {
			op["requestBody"] = map[string]any{"content": map[string]any{"application/json": map[string]any{
				"schema": schema(reflect.TypeOf(in), all)}}}
		}
		if paths[path] == nil {
			paths[path] = map[string]any{}
		}
		paths[path][strings.ToLower(method)] = op
	}
	for _, pattern := range slices.Sorted(maps.Keys(told)) {
		x := told[pattern]
		add(pattern, x.does, map[string]any{"description": x.does,
			"content": map[string]any{"application/json": map[string]any{
				"schema": schema(reflect.TypeOf(x.out), all)}}}, x.in)
	}
	schema(reflect.TypeFor[client.Event](), all)
	add("GET /v1/events", "What changes from now on.", map[string]any{
		"description": "Server-sent events; the data of each is an Event.",
		"content":     map[string]any{"text/event-stream": map[string]any{}}}, nil)
	add("GET /v1/jobs/{job}/run/events", "The run under way each time it has moved on, until it is over.",
		map[string]any{"description": "Server-sent events; the data of each is a Progress.",
			"content": map[string]any{"text/event-stream": map[string]any{}}}, nil)
	add("GET /v1/openapi.json", "This document.", map[string]any{"description": "OpenAPI 3.1."}, nil)
	raw, err := json.MarshalIndent(map[string]any{"openapi": "3.1.0", "paths": paths,
		"info": map[string]any{"title": "Lumtra's background service", "version": Version,
			"description": "Over the socket service.sock in the state folder, or over TLS with a token (lumtra " +
				"service --api). " +
				"Version 1 only ever gains: pass over what you do not know."},
		"components": map[string]any{"schemas": all,
			"securitySchemes": map[string]any{"token": map[string]any{"type": "http", "scheme": "bearer"}}},
		"security": []any{map[string]any{}, map[string]any{"token": []string{}}}}, "", "  ")
	if err != nil {
		panic(err)
	}
	return append(raw, '\n')
}

// Every route is described, nothing else is, and openapi.json is that description.
func TestOpenAPI(t *testing.T) {
	assert.Equal(t, slices.Sorted(maps.Keys((&API{}).routes())), slices.Sorted(maps.Keys(told)))
	if *update {
		require.NoError(t, os.WriteFile("openapi.json", described(), 0o644))
	}
	written, err := os.ReadFile("openapi.json")
	require.NoError(t, err)
	assert.Equal(t, string(described()), string(written), "go test ./service/api -update")
}
