// Package said reads what a Go file says of its types and their fields, so that a
// description for others (the API's, the dialect language's) is written once, beside
// what it describes.
package said

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"strings"
)

// OfAll are the comments of all files of a folder; see Of.
func OfAll(files fs.FS) (map[string]string, error) {
	all := map[string]string{}
	names, err := fs.Glob(files, "*.go")
	for _, name := range names {
		source, e := fs.ReadFile(files, name)
		if e == nil {
			var some map[string]string
			some, e = Of(source)
			maps.Copy(all, some)
		}
		if e != nil {
			return nil, fmt.Errorf("%s: %w", name, e)
		}
	}
	return all, err
}

// Of are the comments of a file's types, by "Type", and of their fields, by
// "Type.Field", each on one line. An error is the file's, from go/parser.
func Of(source []byte) (map[string]string, error) {
	out := map[string]string{}
	f, err := parser.ParseFile(token.NewFileSet(), "source.go", source, parser.ParseComments)
	if err != nil {
		return nil, err
	}
	for _, decl := range f.Decls {
		g, ok := decl.(*ast.GenDecl)
		if !ok || g.Tok != token.TYPE {
			continue
		}
		for _, sp := range g.Specs {
			t := sp.(*ast.TypeSpec)
			out[t.Name.Name] = Line(g.Doc.Text())
			st, ok := t.Type.(*ast.StructType)
			if !ok {
				continue
			}
			for _, field := range st.Fields.List {
				for _, n := range field.Names {
					out[t.Name.Name+"."+n.Name] = Line(field.Doc.Text() + " " + field.Comment.Text())
				}
			}
		}
	}
	return out, nil
}

// Line is a text on one line.
func Line(s string) string { return strings.Join(strings.Fields(s), " ") }
