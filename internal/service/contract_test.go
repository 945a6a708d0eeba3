package service

import (
	"bytes"
	"encoding/json"
	"net/http"
	"regexp"
	"sort"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// contract is the description of the API, against which every answer that a
// test gets is held: its status must be declared, and its body fit the schema.
// OpenAPI 3.1 schemas are JSON Schema (2020-12), read by a validator of others.
type contract struct {
	compiler *jsonschema.Compiler
	paths    []describedPath
	lock     sync.Mutex
	schemas  map[string]*jsonschema.Schema
}

type describedPath struct {
	path    string
	pattern *regexp.Regexp
	methods map[string]map[string]map[string]bool // method to status to types of content
}

const describedAt = "https://mossledger.example/openapi.json"

var described = sync.OnceValues(func() (*contract, error) {
	raw, err := OpenAPI()
	if err != nil {
		return nil, err
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		return nil, err
	}
	c := &contract{compiler: jsonschema.NewCompiler(), schemas: map[string]*jsonschema.Schema{}}
	c.compiler.DefaultDraft(jsonschema.Draft2020)
	if err := c.compiler.AddResource(describedAt, document); err != nil {
		return nil, err
	}
	var api struct {
		Paths map[string]map[string]struct {
			Responses map[string]struct{ Content map[string]any }
		}
	}
	if err := json.Unmarshal(raw, &api); err != nil {
		return nil, err
	}
	parameter := regexp.MustCompile(`\\\{[^/]+\\\}`)
	for path, methods := range api.Paths {
		p := describedPath{path: path, pattern: regexp.MustCompile("^" + parameter.ReplaceAllString(regexp.QuoteMeta(path), "[^/]+") + "$"), methods: map[string]map[string]map[string]bool{}}
		for method, operation := range methods {
			statuses := map[string]map[string]bool{}
			for status, response := range operation.Responses {
				statuses[status] = map[string]bool{}
				for content := range response.Content {
					statuses[status][content] = true
				}
			}
			p.methods[strings.ToUpper(method)] = statuses
		}
		c.paths = append(c.paths, p)
	}
	// A path without parameters comes first.
	sort.Slice(c.paths, func(i, j int) bool { return strings.Count(c.paths[i].path, "{") < strings.Count(c.paths[j].path, "{") })
	return c, nil
})

// hold holds an answer against the description.
func (c *contract) hold(t *testing.T, method, path string, response *http.Response, body string) {
	t.Helper()
	path, _, _ = strings.Cut(path, "?")
	for _, p := range c.paths {
		statuses, known := p.methods[method]
		if !known || !p.pattern.MatchString(path) {
			continue
		}
		status := http.StatusText(response.StatusCode)
		number := strings.Fields(response.Status)[0]
		types, declared := statuses[number]
		if !assert.True(t, declared, "%s %s answered %s %s, which is not declared: %.200s", method, p.path, number, status, body) {
			return
		}
		content, _, _ := strings.Cut(response.Header.Get("Content-Type"), ";")
		if len(types) == 0 || !strings.Contains(content, "json") && types[content] {
			return
		}
		if !assert.True(t, types[content], "%s %s answered %s with %s", method, p.path, number, content) {
			return
		}
		c.fits(t, p.path, method, number, content, body)
		return
	}
}

func (c *contract) fits(t *testing.T, path, method, status, content, body string) {
	t.Helper()
	escape := strings.NewReplacer("~", "~0", "/", "~1", "{", "%7B", "}", "%7D")
	at := describedAt + "#/paths/" + escape.Replace(path) + "/" + strings.ToLower(method) + "/responses/" + status + "/content/" + escape.Replace(content) + "/schema"
	c.lock.Lock()
	schema := c.schemas[at]
	if schema == nil {
		var err error
		schema, err = c.compiler.Compile(at)
		require.NoError(t, err, at)
		c.schemas[at] = schema
	}
	c.lock.Unlock()
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(body))
	if assert.NoError(t, err, "%s %s: %.200s", method, path, body) {
		assert.NoError(t, schema.Validate(value), "%s %s: %.400s", method, path, body)
	}
}

// The description is complete in itself: servers, security of each operation,
// a summary, and schemas that a validator can read.
func TestDescriptionOfTheAPI(t *testing.T) {
	raw, err := OpenAPI()
	require.NoError(t, err)
	var api struct {
		OpenAPI string
		Servers []struct{ URL string }
		Paths   map[string]map[string]struct {
			OperationID, Summary string
			Security             []map[string][]string
			Parameters           []struct{ Name, In string }
			Responses            map[string]struct{ Description string }
		}
	}
	require.NoError(t, json.Unmarshal(raw, &api))
	assert.Equal(t, "3.1.0", api.OpenAPI)
	assert.NotEmpty(t, api.Servers)
	c, err := described()
	require.NoError(t, err)
	seen := map[string]bool{}
	for path, methods := range api.Paths {
		for method, operation := range methods {
			assert.False(t, seen[operation.OperationID], operation.OperationID)
			seen[operation.OperationID] = true
			assert.NotEmpty(t, operation.Summary, operation.OperationID)
			assert.NotEmpty(t, operation.Security, "%s says who may", operation.OperationID)
			for _, m := range regexp.MustCompile(`\{([^}]+)\}`).FindAllStringSubmatch(path, -1) {
				found := false
				for _, p := range operation.Parameters {
					found = found || p.In == "path" && p.Name == m[1]
				}
				assert.True(t, found, "%s %s: {%s} is described", method, path, m[1])
			}
			for status, response := range operation.Responses {
				assert.NotEmpty(t, response.Description, "%s %s", operation.OperationID, status)
			}
		}
	}
	for _, p := range c.paths {
		for method, statuses := range p.methods {
			for status, types := range statuses {
				for content := range types {
					if strings.HasSuffix(content, "json") {
						at := describedAt + "#/paths/" + strings.NewReplacer("~", "~0", "/", "~1", "{", "%7B", "}", "%7D").Replace(p.path) + "/" + strings.ToLower(method) + "/responses/" + status + "/content/" + strings.ReplaceAll(content, "/", "~1") + "/schema"
						_, err := c.compiler.Compile(at)
						require.NoError(t, err, at)
					}
				}
			}
		}
	}
}
