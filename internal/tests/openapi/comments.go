package openapi

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"reflect"
	"strings"
)

// Comments are the comments of a module's types and of their fields, which it reads from the source as they are asked
// for.
type Comments struct {
	Module string // its path
	Folder string // where it is

	packages map[string]map[string]string // comments by the names of types, or of types and fields, by package
}

// of returns the comment of a type, or of a field of it, as one line; empty for none.
func (c *Comments) of(t reflect.Type, field string) string {
	path, isOurs := strings.CutPrefix(t.PkgPath(), c.Module+"/")
	if !isOurs {
		return ""
	}
	if c.packages == nil {
		c.packages = map[string]map[string]string{}
	}
	if c.packages[path] == nil {
		c.packages[path] = readComments(filepath.Join(c.Folder, filepath.FromSlash(path)))
	}
	name := t.Name()
	if field != "" {
		name += "." + field
	}
	return c.packages[path][name]
}

// readComments reads the comments of a package.
func readComments(folder string) map[string]string {
	out := map[string]string{}
	files, err := filepath.Glob(filepath.Join(folder, "*.go"))
	if err != nil {
		panic(err) // the pattern is not one
	}
	for _, name := range files {
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ParseComments|parser.SkipObjectResolution)
		if err != nil {
			panic(fmt.Sprintf("read the comments of %s: %s", name, err)) // it has been compiled
		}
		for _, d := range file.Decls {
			if d, isGen := d.(*ast.GenDecl); isGen {
				addComments(out, d)
			}
		}
	}
	return out
}

// addComments adds the comments of the types that a declaration has.
func addComments(out map[string]string, d *ast.GenDecl) {
	for _, spec := range d.Specs {
		t, isType := spec.(*ast.TypeSpec)
		if !isType {
			continue
		}
		out[t.Name.Name] = oneLine(t.Doc)
		if out[t.Name.Name] == "" && len(d.Specs) == 1 {
			out[t.Name.Name] = oneLine(d.Doc)
		}
		s, isStruct := t.Type.(*ast.StructType)
		if !isStruct {
			continue
		}
		for _, f := range s.Fields.List {
			for _, name := range f.Names {
				text := oneLine(f.Doc)
				if text == "" {
					text = oneLine(f.Comment)
				}
				out[t.Name.Name+"."+name.Name] = text
			}
		}
	}
}

// oneLine returns a comment as one line.
func oneLine(g *ast.CommentGroup) string { return strings.Join(strings.Fields(g.Text()), " ") }
