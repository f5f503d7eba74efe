package mappings

import (
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/formula"
	"hollowreed/internal/web/page"
)

var formulasView = page.Parse(files, "formulas.html")

// formulasPage is the reference of all functions.
type formulasPage struct {
	page.Frame
	Signs      []formula.Sign
	Families   []formula.Family
	Find       string
	Count, All int
}

func (b pages) formulas(c *gin.Context) error {
	d := formulasPage{Frame: b.Frame(c, "bench", "Functions"), Find: c.Query("find"), All: len(formula.Catalogue)}
	find := strings.ToLower(d.Find)
	for _, sign := range formula.Signs {
		if strings.Contains(strings.ToLower(sign.Form+" "+sign.About), find) {
			d.Signs = append(d.Signs, sign)
		}
	}
	for _, f := range formula.Families() {
		kept := formula.Family{Name: f.Name}
		for _, fn := range f.Functions {
			if strings.Contains(strings.ToLower(fn.Name+" "+fn.About), find) {
				kept.Functions = append(kept.Functions, fn)
			}
		}
		if d.Count += len(kept.Functions); len(kept.Functions) > 0 {
			d.Families = append(d.Families, kept)
		}
	}
	formulasView.Page(c, d)
	return nil
}
