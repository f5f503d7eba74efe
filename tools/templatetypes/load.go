package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"go/ast"
	"go/importer"
	"go/parser"
	"go/token"
	"go/types"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
)

// pages is what the pages of the program draw.
type pages struct {
	funcs map[string]types.Type // functions of templates, by name
	views []*view
	faces []string // templates that every view has
}

// view is a set of template files that are parsed together, and what draws them.
type view struct {
	files []string
	draws []draw
}

// draw is one place in the code where a template is drawn.
type draw struct {
	name string // of the template
	data types.Type
	at   token.Position
}

// listed is a package as go list describes it.
type listed struct {
	Dir, ImportPath, Export string
	GoFiles                 []string
	DepOnly                 bool
}

// load reads the packages that match a pattern, with the views that they make and draw.
func load(pattern string) (*pages, error) {
	packages, err := list(pattern)
	if err != nil {
		return nil, err
	}
	exports := map[string]string{}
	for _, p := range packages {
		exports[p.ImportPath] = p.Export
	}
	fset := token.NewFileSet()
	from := importer.ForCompiler(fset, "gc", func(path string) (io.ReadCloser, error) {
		file, ok := exports[path]
		if !ok || file == "" {
			return nil, fmt.Errorf("no export data of %s", path)
		}
		return os.Open(file)
	})
	out := &pages{funcs: map[string]types.Type{}}
	for _, p := range packages {
		if p.DepOnly {
			continue
		}
		if err := out.read(fset, from, p); err != nil {
			return nil, fmt.Errorf("%s: %w", p.ImportPath, err)
		}
	}
	if len(out.funcs) == 0 || len(out.views) == 0 {
		return nil, errors.New("found no functions of templates, or no views")
	}
	return out, nil
}

func list(pattern string) (packages []listed, err error) {
	var stderr bytes.Buffer
	cmd := exec.Command("go", "list", "-deps", "-export", "-json=Dir,ImportPath,Export,GoFiles,DepOnly", pattern)
	cmd.Stderr = &stderr
	text, err := cmd.Output()
	if err != nil {
		return nil, fmt.Errorf("go list: %w\n%s", err, stderr.String())
	}
	for d := json.NewDecoder(bytes.NewReader(text)); ; {
		var p listed
		switch err := d.Decode(&p); {
		case errors.Is(err, io.EOF):
			return packages, nil
		case err != nil:
			return nil, err
		}
		packages = append(packages, p)
	}
}

// source is one package that is looked at.
type source struct {
	dir   string
	fset  *token.FileSet
	info  *types.Info
	views map[types.Object]*view
	*pages
}

func (p *pages) read(fset *token.FileSet, from types.Importer, of listed) error {
	var files []*ast.File
	for _, name := range of.GoFiles {
		f, err := parser.ParseFile(fset, filepath.Join(of.Dir, name), nil, 0)
		if err != nil {
			return err
		}
		files = append(files, f)
	}
	s := &source{dir: of.Dir, fset: fset, views: map[types.Object]*view{}, pages: p, info: &types.Info{
		Types: map[ast.Expr]types.TypeAndValue{}, Defs: map[*ast.Ident]types.Object{}, Uses: map[*ast.Ident]types.Object{},
	}}
	if _, err := (&types.Config{Importer: from}).Check(of.ImportPath, fset, files, s.info); err != nil {
		return err
	}
	for _, f := range files {
		ast.Inspect(f, s.declared)
	}
	for _, f := range files {
		ast.Inspect(f, s.drawn)
	}
	return nil
}

// declared finds the views of a package, the functions of its templates, and the templates that every view has.
func (s *source) declared(n ast.Node) bool {
	spec, ok := n.(*ast.ValueSpec)
	if !ok || len(spec.Names) != len(spec.Values) {
		return true
	}
	for i, name := range spec.Names {
		switch value := spec.Values[i].(type) {
		case *ast.CompositeLit:
			if strings.HasSuffix(types.TypeString(s.info.TypeOf(value), nil), "template.FuncMap") {
				s.functions(value)
			}
		case *ast.CallExpr:
			if called(value) == "Parse" && isView(s.info.TypeOf(value)) {
				s.view(s.info.Defs[name], value.Args)
			}
		}
	}
	return true
}

func (s *source) functions(of *ast.CompositeLit) {
	for _, e := range of.Elts {
		if pair, ok := e.(*ast.KeyValueExpr); ok {
			s.funcs[s.text(pair.Key)] = s.info.TypeOf(pair.Value)
		}
	}
}

// view notes a view. Its files stand beside the code, those of page and form with every view.
func (s *source) view(of types.Object, args []ast.Expr) {
	v := &view{}
	for _, a := range args[1:] {
		v.files = append(v.files, filepath.Join(s.dir, s.text(a)))
	}
	if s.faces == nil {
		web := s.dir[:strings.Index(s.dir, "/internal/web")] + "/internal/web"
		for _, folder := range []string{"page", "form"} {
			found, _ := filepath.Glob(filepath.Join(web, folder, "*.html")) // the pattern is good
			s.faces = append(s.faces, found...)
		}
	}
	s.views[of] = v
	s.pages.views = append(s.pages.views, v)
}

// drawn finds the calls that draw a view.
func (s *source) drawn(n ast.Node) bool {
	call, ok := n.(*ast.CallExpr)
	if !ok {
		return true
	}
	method, ok := call.Fun.(*ast.SelectorExpr)
	if !ok || !isView(s.info.TypeOf(method.X)) {
		return true
	}
	of, ok := method.X.(*ast.Ident)
	if !ok || s.views[s.info.Uses[of]] == nil {
		return true
	}
	d := draw{name: "layout", data: s.info.TypeOf(call.Args[len(call.Args)-1]), at: s.fset.Position(call.Pos())}
	if method.Sel.Name == "Part" {
		d.name = s.text(call.Args[1])
	}
	v := s.views[s.info.Uses[of]]
	v.draws = append(v.draws, d)
	return true
}

// text is the value of a constant text.
func (s *source) text(e ast.Expr) string {
	if v := s.info.Types[e].Value; v != nil {
		if text, err := strconv.Unquote(v.ExactString()); err == nil {
			return text
		}
	}
	return ""
}

func called(call *ast.CallExpr) string {
	switch f := call.Fun.(type) {
	case *ast.Ident:
		return f.Name
	case *ast.SelectorExpr:
		return f.Sel.Name
	}
	return ""
}

func isView(t types.Type) bool {
	return t != nil && strings.HasSuffix(types.TypeString(t, nil), "internal/web/page.View")
}
