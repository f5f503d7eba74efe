// Package libraries holds the page of a library of functions.
package libraries

import (
	"embed"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/library"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/page"
)

//go:embed *.html
var files embed.FS

type pages struct{ base.Pages }

// Routes adds the addresses of libraries of functions.
func Routes(r gin.IRouter, s *page.Site) {
	b := pages{base.Pages{Site: s}}
	r.GET("/bench/libraries/:id", s.Do(b.library))
	r.POST("/bench/libraries", s.Do(b.addLibrary))
	r.POST("/bench/libraries/:id/function", s.Do(b.setFunction))
	r.POST("/bench/libraries/:id/functions", s.Do(b.changeFunctions))
	r.POST("/bench/libraries/:id/publish", s.Do(b.publish))
	r.POST("/bench/libraries/:id/use", s.Do(b.useVersion))
}

var libraryView = page.Parse(files, "library.html")

// libraryPage is a library with one of its functions to be changed.
type libraryPage struct {
	page.Frame
	ID, Path   string
	Library    *library.Library
	Draft      store.Draft
	Functions  []functionRow
	Selected   *functionRow
	Faults     fault.List
	Versions   []int
	Pinned     int
	Settings   int64 // the revision of the project's file
	Types      []string
	OOB        bool
	Failed     int
	CasesCount int
	Broken     []project.Part // that have faults with the version that is in use
}

type functionRow struct {
	library.Function
	At         int
	Results    []library.Result
	Failed     int
	Dependents []project.Dependent
	Fault      *fault.Fault
	Chosen     bool
}

// ParamsText writes the parameters one a line: name type.
func (f *functionRow) ParamsText() string {
	var b strings.Builder
	for _, p := range f.Params {
		b.WriteString(p.Name)
		if len(p.Kinds) > 0 {
			b.WriteString(" " + p.Kinds[0].String())
		}
		b.WriteString("\n")
	}
	return b.String()
}

// CasesText writes the cases one a line: call = result.
func (f *functionRow) CasesText() string {
	var b strings.Builder
	for _, c := range f.Cases {
		b.WriteString(c.Call.Value + " = " + c.Result.Value + "\n")
	}
	return b.String()
}

// ResultType is the type of the result as it is chosen.
func (f *functionRow) ResultType() string {
	if f.Result == 0 {
		return library.Types[0]
	}
	return f.Result.String()
}

func (b pages) libraryOf(c *gin.Context, name string) (*project.Project, *libraryPage, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, nil, err
	}
	id := c.Param("id")
	l := p.Library(id)
	if l == nil {
		return nil, nil, store.ErrNotFound
	}
	d := &libraryPage{
		Frame: b.Frame(c, "bench", l.Title, "↑ ↓", "choose a function"), ID: id, Path: project.Path(project.Libraries, id),
		Library: l, Versions: p.Versions(id), Pinned: p.LibraryVersion(id), Types: library.Types,
	}
	d.Faults = base.FaultsIn(p, d.Path)
	d.Broken = brokenBy(p, d.Path, id)
	d.functions(p, name)
	if d.Draft, err = store.PartDraft(c, b.DB, p.ID, d.Path); err != nil {
		return nil, nil, err
	}
	settings, err := store.PartDraft(c, b.DB, p.ID, project.File)
	d.Settings = settings.Revision
	return p, d, err
}

// brokenBy are the parts that use a library and have faults that name it: a version that is in use lacks what they use.
func brokenBy(p *project.Project, path, id string) (list []project.Part) {
	named := map[string]bool{}
	for _, f := range p.Faults {
		if what := f.What(); strings.Contains(what, "library "+id+" ") || strings.Contains(what, id+".") {
			named[f.Place.Source] = true
		}
	}
	for _, part := range p.Parts("") {
		if part.Path != path && named[part.Path] {
			list = append(list, part)
		}
	}
	return list
}

func (d *libraryPage) functions(p *project.Project, name string) {
	results := d.Library.Run(p.EnvOf(d.ID))
	for i, f := range d.Library.Functions {
		row := functionRow{Function: f, At: i, Dependents: p.Dependents(project.Libraries, d.ID+"."+f.Name), Chosen: f.Name == name || name == "" && i == 0}
		for _, r := range results {
			if r.Function != f.Name {
				continue
			}
			row.Results = append(row.Results, r)
			if d.CasesCount++; !r.OK() {
				row.Failed++
				d.Failed++
			}
		}
		if at := slices.IndexFunc(d.Faults, func(ft *fault.Fault) bool { return ft.Field == f.Name }); at >= 0 {
			row.Fault = d.Faults[at]
		}
		d.Functions = append(d.Functions, row)
	}
	for i := range d.Functions {
		if d.Functions[i].Chosen {
			d.Selected = &d.Functions[i]
		}
	}
}

func (b pages) library(c *gin.Context) error {
	_, d, err := b.libraryOf(c, c.Query("function"))
	if err != nil {
		return err
	}
	if page.Partial(c) {
		libraryView.Part(c, "work", d)
		return nil
	}
	libraryView.Page(c, d)
	return nil
}

// setFunction keeps what was changed of a function.
func (b pages) setFunction(c *gin.Context) error {
	_, d, err := b.libraryOf(c, c.PostForm("function"))
	if err != nil || d.Selected == nil {
		return store.ErrNotFound
	}
	name := strings.TrimSpace(c.PostForm("name"))
	if !formula.Name(name) || name != d.Selected.Name && d.Library.Formulas().Function(name) != nil {
		return fault.Expect(fault.Setting, "a name of letters, digits and _ that no other function has", fault.Quote(name))
	}
	err = b.Save(c, d.Path, func(text []byte) ([]byte, error) { return functionText(text, d.Selected, name, c) })
	if err != nil {
		return err
	}
	if _, d, err = b.libraryOf(c, name); err != nil {
		return err
	}
	d.OOB = true
	libraryView.Part(c, "changed", d)
	return nil
}

// functionText writes a function's settings into the text of its library.
func functionText(text []byte, f *functionRow, name string, c *gin.Context) ([]byte, error) {
	params, err := paramsOf(c.PostForm("params"))
	if err != nil {
		return nil, err
	}
	cases, err := casesOf(c.PostForm("cases"))
	if err != nil {
		return nil, err
	}
	source, other := "formula", "script"
	if c.PostForm("kind") == "script" {
		source, other = other, source
	}
	result := strings.TrimPrefix(c.PostForm("result"), library.Types[0])
	settings := []struct {
		key string
		to  any
	}{
		{"name", name},
		{"about", strings.TrimSpace(c.PostForm("about"))},
		{"params", params},
		{"result", result},
		{other, ""},
		{source, partfile.Text{Value: base.UnixLines(c.PostForm("source"))}},
		{"cases", cases},
	}
	for _, s := range settings {
		if text, err = partfile.Set(text, []any{"functions", f.At, s.key}, s.to); err != nil {
			return nil, err
		}
	}
	return text, nil
}

func paramsOf(lines string) ([]partfile.Ordered, error) {
	var out []partfile.Ordered
	for line := range strings.SplitSeq(base.UnixLines(lines), "\n") {
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		o := partfile.Ordered{{Key: "name", Value: words[0]}}
		if len(words) > 2 || len(words) == 2 && !slices.Contains(library.Types, words[1]) {
			return nil, fault.Expect(fault.Setting, "a parameter a line, with its type: "+strings.Join(library.Types, ", "), fault.Quote(line))
		}
		if len(words) == 2 && words[1] != library.Types[0] {
			o.Add("type", words[1])
		}
		out = append(out, o)
	}
	return out, nil
}

func casesOf(lines string) ([]partfile.Ordered, error) {
	var out []partfile.Ordered
	for line := range strings.SplitSeq(base.UnixLines(lines), "\n") {
		if strings.TrimSpace(line) == "" {
			continue
		}
		at := equalSign(line)
		if at < 0 {
			return nil, fault.Expect(fault.Setting, "a case a line: a call = its result", fault.Quote(line))
		}
		out = append(out, partfile.Ordered{{Key: "call", Value: strings.TrimSpace(line[:at])}, {Key: "result", Value: strings.TrimSpace(line[at+1:])}})
	}
	return out, nil
}

// equalSign finds the sign between a call and its result: the first that stands in no text and in no
// brackets.
func equalSign(line string) int {
	var quote byte
	depth := 0
	for i := range len(line) {
		switch ch := line[i]; {
		case quote != 0:
			if ch == quote && line[i-1] != '\\' {
				quote = 0
			}
		case ch == '"' || ch == '\'' || ch == '`':
			quote = ch
		case strings.IndexByte("([{", ch) >= 0:
			depth++
		case strings.IndexByte(")]}", ch) >= 0:
			depth--
		case ch == '=' && depth == 0:
			return i
		}
	}
	return -1
}

// changeFunctions adds a function, or takes one out.
func (b pages) changeFunctions(c *gin.Context) error {
	_, d, err := b.libraryOf(c, c.PostForm("remove"))
	if err != nil {
		return err
	}
	name := strings.TrimSpace(c.PostForm("name"))
	err = b.Save(c, d.Path, func(text []byte) ([]byte, error) {
		if c.PostForm("remove") != "" && d.Selected != nil {
			name = ""
			return partfile.Remove(text, []any{"functions"}, d.Selected.At)
		}
		if !formula.Name(name) || d.Library.Formulas().Function(name) != nil {
			return nil, fault.Expect(fault.Setting, "a name of letters, digits and _ that no other function has", fault.Quote(name))
		}
		return partfile.Insert(text, []any{"functions"}, -1, partfile.Ordered{{Key: "name", Value: name}, {Key: "params", Value: []partfile.Ordered{{{Key: "name", Value: "x"}}}}, {Key: "formula", Value: "x"}})
	})
	if err != nil {
		return err
	}
	c.Redirect(303, "/bench/libraries/"+url.PathEscape(d.ID)+"?function="+url.QueryEscape(name))
	return nil
}

// publish keeps the library as it is under its number, for ever; the draft goes on with the next.
func (b pages) publish(c *gin.Context) error {
	_, d, err := b.libraryOf(c, "")
	if err != nil {
		return err
	}
	if len(d.Faults) > 0 || d.Failed > 0 {
		return fault.New(fault.Setting, "a library is published only without faults, and with all its cases holding")
	}
	number := d.Library.Version
	if slices.Contains(d.Versions, number) {
		number = d.Versions[0] + 1
	}
	from, err := page.Revision(c)
	if err != nil {
		return err
	}
	if err := b.Designer(c).PublishLibrary(c, d.ID, number, from); err != nil {
		return err
	}
	c.Redirect(303, "/bench/libraries/"+url.PathEscape(d.ID))
	return nil
}

// useVersion makes the project use a published version of a library, or its draft.
func (b pages) useVersion(c *gin.Context) error {
	_, d, err := b.libraryOf(c, "")
	if err != nil {
		return err
	}
	version, _ := strconv.Atoi(c.PostForm("version"))
	to := strconv.Itoa(version)
	if version == 0 {
		to = ""
	} else if !slices.Contains(d.Versions, version) {
		return store.ErrNotFound
	}
	err = b.Save(c, project.File, func(text []byte) ([]byte, error) { return partfile.Set(text, []any{"libraries", d.ID}, to) })
	if err != nil {
		return err
	}
	c.Redirect(303, "/bench/libraries/"+url.PathEscape(d.ID))
	return nil
}

// addLibrary begins a library.
func (b pages) addLibrary(c *gin.Context) error {
	id, err := b.Designer(c).AddLibrary(c, strings.TrimSpace(c.PostForm("title")), c.PostForm("id"))
	if err != nil {
		return err
	}
	c.Redirect(303, "/bench/libraries/"+url.PathEscape(id))
	return nil
}
