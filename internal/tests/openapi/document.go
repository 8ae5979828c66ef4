// Package openapi makes the OpenAPI document of the service's routes, and holds answers against it. It knows the
// document's form, and nothing of what routes do.
//
// Document is called by a test, which writes what it returns to the file that the service carries; a Checker is in
// every service that tests run.
package openapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// Call is one route as the document tells of it.
type Call struct {
	Name    string // no two calls share one
	Subject string
	Method  string
	Path    string // with its parameters in braces
	Right   string // that it takes; empty for everybody
	Words   string
	Query   []Parameter

	In     reflect.Type // of the body in JSON; nil for none
	InText string       // the media type of a body that is not JSON
	Out    reflect.Type // of the answer in JSON; nil for none
	Texts  []string     // the media types of an answer that is not JSON
	Status int          // of an answer that says that all went well
}

// Parameter is a parameter in the query of an address.
type Parameter struct {
	Name    string
	IsText  bool // else a whole number from 0
	IsAsked bool
	Words   string
}

// Options say what a document is made of beside its calls.
type Options struct {
	Title   string
	Words   string
	Version string
	// Problem is the type of the body of every answer that says what went wrong.
	Problem reflect.Type
	// Home is the package whose types have their own names; those of others have their package's before.
	Home string
	// Comments are those of types and fields.
	Comments Comments
	// Changes are made to the schemas of types that write their JSON themselves.
	Changes map[reflect.Type]func(*huma.Schema)
}

// writer writes a document.
type writer struct {
	options  Options
	document *huma.OpenAPI
	registry huma.Registry
	types    map[string]reflect.Type // of schemas, by name
	taken    map[string]bool         // the names of schemas that callers send
}

// Document returns the OpenAPI 3.1 document of calls, as JSON with two spaces before what is within.
func Document(calls []Call, o Options) ([]byte, error) {
	w := &writer{options: o, types: map[string]reflect.Type{}, taken: map[string]bool{}}
	w.registry = huma.NewMapRegistry("#/components/schemas/", w.name)
	w.document = &huma.OpenAPI{
		OpenAPI: "3.1.0",
		Info: &huma.Info{
			Title:       o.Title,
			Description: o.Words,
			Version:     o.Version,
			License:     &huma.License{Name: "Apache-2.0", Identifier: "Apache-2.0"},
		},
		Components: &huma.Components{
			Schemas: w.registry,
			SecuritySchemes: map[string]*huma.SecurityScheme{
				"token":  {Type: "http", Scheme: "bearer", Description: "The token of an operator."},
				"cookie": {Type: "apiKey", In: "cookie", Name: "kamerad_sign_in", Description: "Of a browser."},
			},
		},
		Paths: map[string]*huma.PathItem{},
	}
	for _, c := range calls {
		w.add(c)
	}
	for name, schema := range w.registry.Map() {
		w.finish(name, schema)
	}
	raw, err := json.MarshalIndent(w.document, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("write the document: %w", err)
	}
	return append(raw, '\n'), nil
}

// name returns the name of a type's schema.
func (w *writer) name(t reflect.Type, hint string) string {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	name := t.Name()
	if name == "" {
		name = hint
	}
	if path := t.PkgPath(); path != "" && path != w.options.Home {
		prefix := path[strings.LastIndexByte(path, '/')+1:]
		prefix = strings.ToUpper(prefix[:1]) + prefix[1:]
		name = prefix + strings.TrimPrefix(strings.ToUpper(name[:1])+name[1:], prefix)
	}
	w.types[name] = t
	return name
}

// schema returns the schema of a type.
func (w *writer) schema(t reflect.Type, hint string) *huma.Schema {
	return w.registry.Schema(t, true, hint)
}

var inPath = regexp.MustCompile(`\{(\w+)\}`)

// add adds a call to the document.
func (w *writer) add(c Call) {
	out := &huma.Operation{
		OperationID: c.Name,
		Summary:     c.Words,
		Tags:        []string{c.Subject},
		Responses:   map[string]*huma.Response{},
		Security:    []map[string][]string{},
	}
	if c.Right != "" {
		out.Description = fmt.Sprintf("Takes the right to %s.", c.Right)
		out.Security = []map[string][]string{{"token": {}}, {"cookie": {}}}
	}
	w.addParameters(out, c)
	if c.In != nil {
		schema := w.schema(c.In, c.Name+"Body")
		w.take(schema)
		out.RequestBody = &huma.RequestBody{
			Content: map[string]*huma.MediaType{"application/json": {Schema: schema}},
		}
	}
	if c.InText != "" {
		out.RequestBody = &huma.RequestBody{Content: map[string]*huma.MediaType{c.InText: {}}, Required: true}
	}
	good := &huma.Response{Description: http.StatusText(c.Status)}
	if c.Out != nil || len(c.Texts) > 0 {
		good.Content = map[string]*huma.MediaType{}
	}
	if c.Out != nil {
		schema := w.schema(c.Out, c.Name+"Answer")
		schema.Nullable = false // a list without anything in it is an empty one
		good.Content["application/json"] = &huma.MediaType{Schema: schema}
	}
	for _, text := range c.Texts {
		good.Content[text] = &huma.MediaType{Schema: &huma.Schema{Type: huma.TypeString}}
	}
	out.Responses[strconv.Itoa(c.Status)] = good
	problem := &huma.MediaType{Schema: w.schema(w.options.Problem, "Problem")}
	out.Responses["default"] = &huma.Response{
		Description: "What went wrong (RFC 9457).",
		Content:     map[string]*huma.MediaType{"application/problem+json": problem},
	}
	w.put(c, out)
}

// put puts an operation where its path and method have it.
func (w *writer) put(c Call, out *huma.Operation) {
	item := w.document.Paths[c.Path]
	if item == nil {
		item = &huma.PathItem{}
		w.document.Paths[c.Path] = item
	}
	switch c.Method {
	case http.MethodGet:
		item.Get = out
	case http.MethodPost:
		item.Post = out
	case http.MethodPut:
		item.Put = out
	case http.MethodDelete:
		item.Delete = out
	default:
		panic("the document has no place for the method " + c.Method)
	}
}

// addParameters adds those of a call's path and query.
func (w *writer) addParameters(out *huma.Operation, c Call) {
	whole := func() *huma.Schema {
		zero := 0.0
		return &huma.Schema{Type: huma.TypeInteger, Format: "int64", Minimum: &zero}
	}
	for _, found := range inPath.FindAllStringSubmatch(c.Path, -1) {
		parameter := &huma.Param{Name: found[1], In: "path", Required: true, Schema: whole()}
		if found[1] == "name" {
			parameter.Schema = &huma.Schema{Type: huma.TypeString}
		}
		out.Parameters = append(out.Parameters, parameter)
	}
	for _, q := range c.Query {
		parameter := &huma.Param{
			Name:        q.Name,
			In:          "query",
			Description: q.Words,
			Required:    q.IsAsked,
			Schema:      whole(),
		}
		if q.IsText {
			parameter.Schema = &huma.Schema{Type: huma.TypeString}
		}
		out.Parameters = append(out.Parameters, parameter)
	}
}

// take notes that callers send a schema, and those within.
func (w *writer) take(s *huma.Schema) {
	if s == nil {
		return
	}
	if s.Ref != "" {
		name := s.Ref[strings.LastIndexByte(s.Ref, '/')+1:]
		if w.taken[name] {
			return
		}
		w.taken[name] = true
		s = w.registry.SchemaFromRef(s.Ref)
	}
	w.take(s.Items)
	for _, within := range s.Properties {
		w.take(within)
	}
	if within, ok := s.AdditionalProperties.(*huma.Schema); ok {
		w.take(within)
	}
}

// finish says in the schema of a struct what its type does not: what it is about, what may be null, and that answers
// may get more fields. What callers send may have no others.
func (w *writer) finish(name string, s *huma.Schema) {
	t := w.types[name]
	if t == nil || t.Kind() != reflect.Struct {
		return
	}
	s.Description = w.options.Comments.of(t, "")
	if s.AdditionalProperties == false && !w.taken[name] {
		s.AdditionalProperties = nil
	}
	for _, f := range reflect.VisibleFields(t) {
		tag, rest, _ := strings.Cut(f.Tag.Get("json"), ",")
		if tag == "" {
			tag = f.Name
		}
		property := s.Properties[tag]
		if property == nil || f.Anonymous {
			continue
		}
		parent := t
		for _, i := range f.Index[:len(f.Index)-1] {
			parent = parent.Field(i).Type
		}
		property.Description = w.options.Comments.of(parent, f.Name)
		isOptional := strings.Contains(rest, "omit")
		canBeNil := slices.Contains([]reflect.Kind{reflect.Pointer, reflect.Map, reflect.Slice}, f.Type.Kind())
		switch {
		case property.Ref != "" && canBeNil && !isOptional:
			orNull(property)
		case f.Type.Kind() == reflect.Array && f.Type.Elem().Kind() == reflect.Pointer:
			orNull(property.Items) // each place may be empty
		case property.Ref == "" && property.Type != "":
			property.Nullable = canBeNil && !isOptional
		}
	}
	if change := w.options.Changes[t]; change != nil {
		change(s)
	}
}

// orNull makes a schema that stands for another one take null as well.
func orNull(s *huma.Schema) {
	s.OneOf = []*huma.Schema{{Ref: s.Ref}, {Type: "null"}}
	s.Ref = ""
}
