package openapi

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"sync"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// Checker holds answers against a document. It takes the document by its word: an answer with a field that the document
// does not have is wrong, though callers have to bear one. Its methods may be called by any number of goroutines.
type Checker struct {
	paths map[string]any

	mu       sync.Mutex // guards what follows
	compiler *jsonschema.Compiler
	schemas  map[string]*jsonschema.Schema
}

const documentURL = "kamerad:openapi.json"

// NewChecker returns a Checker for a document.
func NewChecker(document []byte) (*Checker, error) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(document))
	if err != nil {
		return nil, fmt.Errorf("read the document: %w", err)
	}
	tighten(doc)
	c := &Checker{compiler: jsonschema.NewCompiler(), schemas: map[string]*jsonschema.Schema{}}
	c.compiler.AssertFormat()
	if err := c.compiler.AddResource(documentURL, doc); err != nil {
		return nil, fmt.Errorf("read the document: %w", err)
	}
	c.paths, _ = doc.(map[string]any)["paths"].(map[string]any)
	return c, nil
}

// tighten makes every schema of a document one that takes no other fields than those that it names.
func tighten(x any) {
	switch x := x.(type) {
	case []any:
		for _, within := range x {
			tighten(within)
		}
	case map[string]any:
		_, hasProperties := x["properties"].(map[string]any)
		_, saysMore := x["additionalProperties"]
		if hasProperties && !saysMore && x["type"] != nil {
			x["additionalProperties"] = false
		}
		for _, within := range x {
			tighten(within)
		}
	}
}

// Check returns what is wrong with an answer; nil when it is what the document says. path is the route's pattern.
func (c *Checker) Check(method, path string, status int, body []byte) error {
	operation, ok := dig(c.paths, path, strings.ToLower(method))
	if !ok {
		return fmt.Errorf("the document has no %s %s", method, path)
	}
	which, media := strconv.Itoa(status), "application/json"
	if status >= 400 {
		which, media = "default", "application/problem+json"
	}
	if _, ok := dig(operation, "responses", which, "content", media, "schema"); !ok {
		return fmt.Errorf("the document has no answer of the status %d to %s %s", status, method, path)
	}
	schema, err := c.schema("paths", path, strings.ToLower(method), "responses", which, "content", media, "schema")
	if err != nil {
		return err
	}
	value, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
	if err != nil {
		return fmt.Errorf("the answer to %s %s is no JSON: %w", method, path, err)
	}
	if err := schema.Validate(value); err != nil {
		return fmt.Errorf("the answer %d to %s %s is not as the document says: %w", status, method, path, err)
	}
	return nil
}

// schema returns the schema that stands where the keys lead.
func (c *Checker) schema(keys ...string) (*jsonschema.Schema, error) {
	pointer := documentURL + "#"
	for _, key := range keys {
		pointer += "/" + strings.NewReplacer("~", "~0", "/", "~1", "{", "%7B", "}", "%7D").Replace(key)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if known := c.schemas[pointer]; known != nil {
		return known, nil
	}
	made, err := c.compiler.Compile(pointer)
	if err != nil {
		return nil, fmt.Errorf("read the schema %s: %w", pointer, err)
	}
	c.schemas[pointer] = made
	return made, nil
}

// dig returns what stands in maps where the keys lead.
func dig(x any, keys ...string) (any, bool) {
	for _, key := range keys {
		m, isMap := x.(map[string]any)
		if !isMap {
			return nil, false
		}
		if x = m[key]; x == nil {
			return nil, false
		}
	}
	return x, true
}

// Operations returns the methods and paths that the document has, such as "GET /api/me".
func (c *Checker) Operations() (all []string) {
	for path, item := range c.paths {
		for method := range item.(map[string]any) {
			all = append(all, strings.ToUpper(method)+" "+path)
		}
	}
	return all
}
