// Package base is what the pages of the Bench share: saving a part, uploads, completion of formulas, cases, options of a try.
package base

import (
	"embed"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

// Pages is the site, with what the handlers of all pages of the Bench need. Each kind of part embeds it in its own.
type Pages struct{ *page.Site }

//go:embed *.html
var files embed.FS

// Count is a number of things in words, as "1 flow" or "3 flows".
func Count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return page.Number(n) + " " + what + "s"
}

// Named is a person's name; the id when the person is not known.
func (b Pages) Named(c *gin.Context, id string) (string, error) {
	people, err := store.People(c, b.DB)
	if p, ok := people[id]; ok {
		return p.Name, err
	}
	return id, err
}

// Save writes a changed part, from the revision that the form was made of.
func (b Pages) Save(c *gin.Context, path string, edit func(text []byte) ([]byte, error)) error {
	from, err := page.Revision(c)
	if err != nil {
		return err
	}
	return b.Designer(c).Edit(c, path, from, edit)
}

// UnixLines undoes what a browser does to the line ends of a form's text.
func UnixLines(s string) string { return strings.ReplaceAll(s, "\r\n", "\n") }

// FaultsIn are the faults of one part.
func FaultsIn(p *project.Project, path string) fault.List {
	var list fault.List
	for _, f := range p.Faults {
		if f.Place.Source == path {
			list = append(list, f)
		}
	}
	return list
}
