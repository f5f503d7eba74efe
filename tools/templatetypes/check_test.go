package main

import (
	"go/ast"
	"go/importer"
	"go/parser"
	"go/token"
	"go/types"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"
)

const code = `package p

import "time"

type page struct {
	Title string
	Rows  []row
	By    map[string]row
	Any   any
}

type row struct {
	Name string
	At   *time.Time
}

func (r row) Long(least int) bool { return len(r.Name) > least }

func (p *page) First() row { return p.Rows[0] }
`

// column is the place in a line, which the test does not count.
var column = regexp.MustCompile(`:\d+:\d+:`)

// pageOf is the type of a page of the code above.
func pageOf(t *testing.T) types.Type {
	t.Helper()
	fset := token.NewFileSet()
	file, err := parser.ParseFile(fset, "p.go", code, 0)
	require.NoError(t, err)
	p, err := (&types.Config{Importer: importer.ForCompiler(fset, "source", nil)}).Check("p", fset, []*ast.File{file}, nil)
	require.NoError(t, err)
	return types.NewPointer(p.Scope().Lookup("page").Type())
}

func TestWhatATemplateNamesIsThere(t *testing.T) {
	data := pageOf(t)
	clock := types.NewSignatureType(nil, nil, nil, types.NewTuple(types.NewParam(0, nil, "", types.Typ[types.String])), types.NewTuple(types.NewParam(0, nil, "", types.Typ[types.String])), false)
	for text, want := range map[string]string{
		`{{.Title}} {{len .Rows}} {{range .Rows}}{{.Name}} {{.Long 3}}{{end}}`:      "",
		`{{range $i, $r := .Rows}}{{$i}} {{$r.Name}} {{$.Title}}{{end}}`:            "",
		`{{with .First}}{{.At.Year}}{{else}}{{.Title}}{{end}}`:                      "",
		`{{range $k, $v := .By}}{{$k}} {{$v.Name}}{{end}} {{(index .Rows 0).Name}}`: "",
		`{{.Any.Whatever}}`:                                    "",
		`{{.Titel}}`:                                           "t.html: .Titel: *p.page has no Titel",
		`{{range .Rows}}{{.Title}}{{end}}`:                     "t.html: .Title: p.row has no Title",
		`{{range .Rows}}{{.Long}}{{end}}`:                      "t.html: Long takes 1 arguments, and is given 0",
		`{{range .Title}}{{end}}`:                              "t.html: .Title is ranged over, and is string",
		`{{template "row" .}}{{define "row"}}{{.Name}}{{end}}`: "t.html: .Name: *p.page has no Name",
		`{{template "row" dict "Of" .First}}{{define "row"}}{{.Of.Name}} {{.In}}{{end}}`: "t.html: .In: what it is given has no In",
		`{{template "gone" .}}`:           "t.html: there is no template \"gone\"",
		`{{cut .Title}} {{.Title | cut}}`: "",
		`{{cut .Rows}}`:                   "t.html: cut: its argument 1 is string, and is given []p.row",
		`{{nothing .Rows}}`:               "t.html: there is no function nothing",
	} {
		file := filepath.Join(t.TempDir(), "t.html")
		require.NoError(t, os.WriteFile(file, []byte(`{{define "layout"}}    `+text[:end(text)]+`{{end}}`+text[end(text):]), 0o600))
		bad := check(&pages{
			funcs: map[string]types.Type{"cut": clock},
			views: []*view{{files: []string{file}, draws: []draw{{name: "layout", data: data}}}},
		})
		if want == "" {
			require.Empty(t, bad, text)
			continue
		}
		require.Len(t, bad, 1, text)
		require.Equal(t, want, column.ReplaceAllString(bad[0], ":"), text)
	}
}

// end is where the definitions behind a text begin.
func end(text string) int {
	for i := range text {
		if len(text) > i+9 && text[i:i+9] == "{{define " {
			return i
		}
	}
	return len(text)
}

// TestTheViewsOfThePagesAreFound: the program's own pages are looked at, and nothing is wrong with them.
func TestTheViewsOfThePagesAreFound(t *testing.T) {
	found, err := load("../../internal/web/...")
	require.NoError(t, err)
	require.Greater(t, len(found.views), 25)
	require.Contains(t, found.funcs, "clock")
	drawn := 0
	for _, v := range found.views {
		drawn += len(v.draws)
	}
	require.Greater(t, drawn, 50)
	require.Empty(t, check(found))
}
