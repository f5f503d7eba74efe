// Package page is what all screens share: the site they belong to, the frame around them, and how
// they are rendered. Each place has a folder of its own beside this one.
package page

import (
	"bytes"
	"context"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"mime"
	"net/http"
	"net/url"
	"runtime"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/design"
	"hollowreed/internal/engine"
	"hollowreed/internal/operate"
	"hollowreed/internal/store"
	"hollowreed/internal/web/assets"
	"hollowreed/internal/web/form"
)

//go:embed *.html
var frame embed.FS

// Designer is who asks, at work on the project.
func (s *Site) Designer(ctx context.Context) design.Designer { return s.As(Person(ctx).ID) }

// Operator is who asks, at watch over the runs of the scope.
func (s *Site) Operator(ctx context.Context) operate.Operator {
	return operate.Operator{DB: s.DB, Engine: s.Engine, Scope: s.Scope, Person: Person(ctx).ID}
}

// Revision is the revision of a part that a form was made of.
func Revision(c *gin.Context) (int64, error) {
	from, err := strconv.ParseInt(c.PostForm("revision"), 10, 64)
	if err != nil {
		return 0, store.ErrChanged
	}
	return from, nil
}

// Frame is what the layout shows around every page.
type Frame struct {
	Title   string
	Place   string // bench, traffic, estate or releases
	Project string
	Person  store.Person
	Env     string
	Version string
	Keys    [][2]string // the keys of this page and what they do
	Bare    bool        // without the places, where there is no project
	Nonce   string      // with which scripts of the page may add styles
}

// Frame makes the frame of a page.
func (s *Site) Frame(c *gin.Context, place, title string, keys ...string) Frame {
	f := Frame{Title: title, Place: place, Person: Person(c), Env: s.Environment, Version: assets.Version, Project: s.Project, Nonce: Nonce(c)}
	if p, err := s.Load(c); err == nil {
		f.Project = p.Title
	}
	for i := 0; i+1 < len(keys); i += 2 {
		f.Keys = append(f.Keys, [2]string{keys[i], keys[i+1]})
	}
	f.Keys = append(f.Keys, generalKeys...)
	return f
}

// generalKeys mean the same on every page.
var generalKeys = [][2]string{
	{"/", "find anything"},
	{"Enter", "open what is chosen, or go on to the next field"},
	{"Tab", "take the suggestion that was begun"},
	{"Ctrl Enter", "test"},
	{"Ctrl Z, Y", "undo, redo"},
	{"Esc", "close what is open, then leave the field"},
	{"?", "these keys"},
}

// View is a parsed page: the layout with the page's own blocks.
type View struct{ t *template.Template }

var funcs = template.FuncMap{
	"clock":    func(t time.Time) string { return t.UTC().Format("15:04:05") },
	"when":     func(t time.Time) string { return t.UTC().Format("2 Jan 15:04:05") },
	"number":   Number,
	"cut":      Cut,
	"bytes":    Bytes,
	"where":    where,
	"parthref": PartHref,
	"rulehref": ruleHref,
	"inc":      func(n int) int { return n + 1 },
	"took":     Took,
	"dict":     dict,
	"chars":    func(s string) []string { return strings.Split(s, "") },
	"list":     func(items ...string) []string { return items },
	"code":     Code,
	"split":    func(s string) []string { return strings.Split(s, ",") },
}

// where is the place of a fault as a page tells it: in a message, or a line of a sample. The line of a part's text is only
// told beside that text, and on the command line.
func where(f *fault.Fault) string {
	if _, _, part := project.Kind(f.Place.Source); part {
		return f.Place.Path
	}
	return f.Where()
}

// ruleHref leads to the field of a schema that a fault of a check is about; empty where no schema says so.
func ruleHref(f *fault.Fault) string {
	kind, _, part := project.Kind(f.Rule.Source)
	if !part || kind != project.Schemas || f.Rule.Line < 1 {
		return ""
	}
	return PartHref(f.Rule.Source) + "?rule=" + strconv.Itoa(f.Rule.Line)
}

// asText are the kinds of part that have no page of their own but that of their text.
var asText = map[string]bool{project.Cases: true, project.Alerts: true, project.Contracts: true, "": true}

// PartHref is the page of a part: its own, or that of its text.
func PartHref(path string) string {
	kind, id, _ := project.Kind(path)
	if !asText[kind] {
		return "/bench/" + kind + "/" + url.PathEscape(id)
	}
	return "/bench/text?path=" + url.QueryEscape(path)
}

// Code is the language in which a text of a media type is shown in the editor; empty where it knows none.
func Code(media string) string {
	media, _, _ = strings.Cut(media, ";")
	for _, language := range []string{"json", "xml", "yaml"} {
		if strings.HasSuffix(media, language) {
			return language
		}
	}
	return ""
}

// dict makes the data of an inner template out of names and values.
func dict(pairs ...any) (map[string]any, error) {
	m := map[string]any{}
	for i := 0; i+1 < len(pairs); i += 2 {
		name, ok := pairs[i].(string)
		if !ok {
			return nil, errors.New("dict wants names")
		}
		m[name] = pairs[i+1]
	}
	return m, nil
}

// Bytes writes a size: 812 bytes, 4.1 KB, 3.0 MB.
func Bytes(n int64) string {
	switch {
	case n == 1:
		return "1 byte"
	case n < 1000:
		return fmt.Sprintf("%d bytes", n)
	case n < 1_000_000:
		return fmt.Sprintf("%.1f KB", float64(n)/1000)
	}
	return fmt.Sprintf("%.1f MB", float64(n)/1_000_000)
}

// Number writes a count with thin groups: 12,345.
func Number(n int) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Took writes a duration for a person.
func Took(d time.Duration) string {
	switch {
	case d < time.Millisecond && d > 0:
		return "< 1 ms"
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}

// Parse parses a page's template with the layout. It panics on a faulty template: they are embedded.
func Parse(files fs.FS, names ...string) View {
	t := template.Must(template.New("layout").Funcs(funcs).ParseFS(frame, "*.html"))
	template.Must(t.ParseFS(form.Files, "*.html"))
	return View{template.Must(t.ParseFS(files, names...))}
}

// Page sends the whole page.
func (v View) Page(c *gin.Context, data any) { v.send(c, http.StatusOK, "layout", data) }

// Refused sends the whole page of a form that was refused, with what was in it and why.
func (v View) Refused(c *gin.Context, data any) {
	v.send(c, http.StatusUnprocessableEntity, "layout", data)
}

// Part sends one named block, for a request by htmx.
func (v View) Part(c *gin.Context, block string, data any) { v.send(c, http.StatusOK, block, data) }

// send renders into a buffer first, so that a template's error is still a clean answer.
func (v View) send(c *gin.Context, status int, block string, data any) {
	var b bytes.Buffer
	if err := v.t.ExecuteTemplate(&b, block, data); err != nil {
		c.Error(err)
		c.Data(http.StatusInternalServerError, "text/plain; charset=utf-8", []byte("This page could not be drawn."))
		return
	}
	c.Header("Vary", "HX-Request")
	c.Data(status, "text/html; charset=utf-8", mounted(base(c), b.Bytes()))
}

// Partial says whether htmx asks for a part of the page.
func Partial(c *gin.Context) bool {
	return c.GetHeader("HX-Request") == "true" && c.GetHeader("HX-History-Restore-Request") != "true"
}

var failure = Parse(frame, "error.html")

// Fail answers an error: what there is to know, with a short id that is in the log, too.
func (s *Site) Fail(c *gin.Context, err error) {
	status, what := http.StatusInternalServerError, "Something went wrong here. The log has the details."
	switch {
	case errors.Is(err, store.ErrNotFound), errors.Is(err, project.ErrNoPart):
		status, what = http.StatusNotFound, "There is no such thing here. It may have been renamed."
	case errors.Is(err, store.ErrChanged):
		status, what = http.StatusConflict, "Someone else saved this after you opened it. Nothing was overwritten; load the page again to see it."
	case errors.Is(err, store.ErrExists):
		status, what = http.StatusConflict, "There is one of that name already. Choose another name."
	case errors.Is(err, engine.ErrFaults):
		status, what = http.StatusUnprocessableEntity, err.Error()
	}
	var f *fault.Fault
	if errors.As(err, &f) {
		status, what = http.StatusUnprocessableEntity, told(f)
	}
	id := uuid.NewString()[:8]
	s.Log.Error("request failed", "id", id, "path", c.Request.URL.Path, "error", err)
	data := struct {
		Frame
		What, ID string
		Status   int
	}{s.Frame(c, "", failureTitles[status]), what, id, status}
	if inPlace(c) {
		field := ""
		if f != nil {
			field = f.Field
		}
		c.JSON(http.StatusOK, gin.H{"refused": status, "what": what, "field": field, "id": id}) // to its own page it is no failure to load
		return
	}
	if Partial(c) {
		c.Header("HX-Retarget", "#problem")
		c.Header("HX-Reswap", "innerHTML")
		failure.send(c, status, "problem", data)
		return
	}
	failure.send(c, status, "layout", data)
}

// Missing answers that there is no such project, or why that cannot be said.
func (s *Sites) Missing(c *gin.Context, err error) {
	status, what := http.StatusNotFound, "There is no such project here."
	if !errors.Is(err, store.ErrNotFound) {
		s.Log.Error("request failed", "path", c.Request.URL.Path, "error", err)
		status, what = http.StatusInternalServerError, "Something went wrong here. The log has the details."
	}
	failure.send(c, status, "layout", struct {
		Frame
		What, ID string
		Status   int
	}{Frame{Title: failureTitles[status], Project: "No project", Person: s.Person, Version: assets.Version, Bare: true}, what, "", status})
}

// failureTitles are the titles of pages that say why nothing was done.
var failureTitles = map[int]string{
	http.StatusNotFound: "Not found", http.StatusConflict: "Not saved", http.StatusUnprocessableEntity: "This cannot be done so", http.StatusInternalServerError: "Something went wrong",
}

// told is a fault with its place, as a page tells it.
func told(f *fault.Fault) string {
	if at := where(f); at != "" {
		return at + ": " + f.What()
	}
	return f.What()
}

// largeForm is from how many bytes on a form has to wait for its turn; so has one that does not say how many it has.
const largeForm = 256 << 10

var turns = make(chan struct{}, max(1, runtime.GOMAXPROCS(0)/2))

// turn waits until the work on a large form may begin: they get half of the processors, so that they do not
// keep all other pages from whoever looks at them.
func turn(ctx context.Context) (done func(), err error) {
	select {
	case turns <- struct{}{}:
		return func() { <-turns }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Do wraps a handler that returns its error.
func (s *Site) Do(h func(c *gin.Context) error) gin.HandlerFunc {
	return func(c *gin.Context) {
		err := readable(c.Request)
		if err == nil && (c.Request.ContentLength > largeForm || c.Request.ContentLength < 0) {
			var done func()
			if done, err = turn(c); err == nil {
				defer done()
			}
		}
		if err == nil {
			err = h(c)
		}
		if err != nil {
			s.Fail(c, err)
			return
		}
		leadOn(c)
	}
}

// inPlace says whether a form was sent by the page's script, which shows a refusal beside what was typed.
func inPlace(c *gin.Context) bool { return c.GetHeader("HR-Form") == "yes" }

// leadOn tells the script of a page where a form leads: a redirection it would follow by itself, without saying so.
func leadOn(c *gin.Context) {
	w := c.Writer
	if to := w.Header().Get("Location"); to != "" && inPlace(c) && !w.Written() {
		w.Header().Del("Location")
		w.Header().Set("HR-Location", to)
		w.WriteHeader(http.StatusNoContent)
	}
}

// formMemory is how much of a form with files is kept in memory, in bytes; what is beyond lies in temporary files.
const formMemory = 16 << 20

// parsed reads the fields of a form, with files or without.
func parsed(r *http.Request) error {
	kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if kind == "multipart/form-data" && r.Method == http.MethodPost {
		return r.ParseMultipartForm(formMemory)
	}
	return r.ParseForm()
}

// readable refuses a form or address whose texts are no UTF-8 or hold NUL, which nothing here can keep.
func readable(r *http.Request) error {
	if err := parsed(r); err != nil {
		var large *http.MaxBytesError
		if errors.As(err, &large) {
			return fault.Expect(fault.Limit, fmt.Sprintf("a form of at most %d bytes", large.Limit), "more").WithFix("Send less at once")
		}
		return fault.New(fault.Syntax, "the form cannot be read: %v", err)
	}
	for name, values := range r.Form {
		for _, v := range values {
			if !utf8.ValidString(v) || strings.ContainsRune(v, 0) {
				return fault.Expect(fault.Encoding, "text in UTF-8 without NUL", fmt.Sprintf("%.40q", v)).InField(name)
			}
		}
	}
	return nil
}
