package web

import (
	"context"
	"embed"
	"net/http"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/design"
	"hollowreed/internal/store"
	"hollowreed/internal/web/assets"
	"hollowreed/internal/web/bench/parts"
	"hollowreed/internal/web/page"
)

//go:embed welcome.html
var welcome embed.FS

var welcomeView = page.Parse(welcome, "welcome.html")

// Welcome serves the page on which a project is begun while there is none: an empty one, or one that is brought. Begin adds
// it; afterwards every address is answered by Then.
type Welcome struct {
	Begin  func(ctx context.Context, title string, texts map[string]string) (http.Handler, error)
	Person store.Person
	mu     sync.RWMutex
	then   http.Handler
}

type welcomePage struct {
	page.Frame
	Typed string // title that was typed
	Fault *fault.Fault
}

// ServeHTTP answers with the page, or passes on what comes once there is a project.
func (w *Welcome) ServeHTTP(res http.ResponseWriter, req *http.Request) {
	w.mu.RLock()
	then := w.then
	w.mu.RUnlock()
	if then == nil {
		then = http.NewCrossOriginProtection().Handler(w.routes())
	}
	then.ServeHTTP(res, req)
}

func (w *Welcome) routes() http.Handler {
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.Use(page.Loopback, guarded)
	r.StaticFS("/assets", http.FS(assets.FS()))
	r.POST("/bench/import", w.begin) // the address whose body may be large
	r.NoRoute(func(c *gin.Context) { welcomeView.Page(c, w.page("", nil)) })
	return r
}

func (w *Welcome) page(title string, f *fault.Fault) welcomePage {
	return welcomePage{Frame: page.Frame{Title: "A project of your own", Project: "No project yet", Person: w.Person, Version: assets.Version, Bare: true}, Typed: title, Fault: f}
}

// begin adds the project that the form describes.
func (w *Welcome) begin(c *gin.Context) {
	title := strings.TrimSpace(c.PostForm("title"))
	texts, err := map[string]string{project.File: ""}, error(nil)
	if c.PostForm("from") == "archive" {
		texts, err = parts.UnpackedFile(c)
		if err == nil {
			title = project.Load("new", texts).Title
		}
	} else {
		texts[project.File] = "project: " + title + "\n"
		if title == "" || strings.ContainsAny(title, "\r\n") || design.ID(title) == "" {
			err = fault.Expect(fault.Required, "a title with letters or digits", fault.Quote(title))
		}
	}
	var then http.Handler
	if err == nil {
		w.mu.Lock()
		defer w.mu.Unlock()
		if w.then == nil {
			then, err = w.Begin(c, title, texts)
		}
	}
	if err != nil {
		welcomeView.Refused(c, w.page(title, fault.From(err, fault.Setting)))
		return
	}
	if then != nil {
		w.then = then
	}
	c.Redirect(http.StatusSeeOther, "/bench/parts")
}
