package flows

import (
	"html/template"
	"sort"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/examples"
	"hollowreed/internal/core/flow/layout"
	"hollowreed/internal/store"
	"hollowreed/internal/web/draw"
	"hollowreed/internal/web/page"
)

var stepsView = page.Parse(files, "steps.html")

type stepsPage struct {
	page.Frame
	Groups  []stepGroup
	Kind    *flow.Kind
	Example *examples.Example
	Drawing template.HTML
	Parts   []examplePart
	Yields  []yielded
}

type stepGroup struct {
	Title string
	Kinds []*flow.Kind
}

type examplePart struct{ Path, Text string }

// yielded is what the example's steps of the kind give.
type yielded struct {
	Step string
	Rows []page.Row
	Told string
}

// stepReference is the reference of the kinds of step, made of their table, each with an example that is run.
func (b pages) stepReference(c *gin.Context) error {
	if page.Partial(c) { // a step of the drawing leads to the page of its kind
		c.Header("HX-Redirect", c.Request.URL.RequestURI())
		return nil
	}
	name := c.DefaultQuery("kind", flow.Kinds[0].Name)
	d := &stepsPage{Frame: b.Frame(c, "bench", "Steps", "↑ ↓", "choose a kind of step"), Kind: flow.KindCalled(name)}
	if d.Kind == nil {
		return store.ErrNotFound
	}
	at := map[string]int{}
	for _, k := range flow.Kinds {
		i, there := at[k.Group]
		if !there {
			i = len(d.Groups)
			at[k.Group] = i
			d.Groups = append(d.Groups, stepGroup{Title: k.Group})
		}
		d.Groups[i].Kinds = append(d.Groups[i].Kinds, k)
	}
	if err := d.example(c, d.Kind.Name); err != nil {
		return err
	}
	stepsView.Page(c, d)
	return nil
}

// example runs the example of a kind and shows it.
func (d *stepsPage) example(c *gin.Context, kind string) error {
	if d.Example = examples.Of(kind); d.Example == nil {
		return nil
	}
	r, err := d.Example.Run(c)
	if err != nil {
		return err
	}
	d.Drawing = draw.Flow(layout.Of(r.Plan, r.Project, nil), draw.FlowOptions{
		Target: "#main", Counts: r.Counts,
		Href: func(step string) string {
			if ps := r.Plan.Planned(step); ps != nil {
				return "/bench/steps?kind=" + ps.Step.Kind
			}
			return "/bench/steps"
		},
	})
	for path, text := range d.Example.Texts {
		if !strings.HasPrefix(path, "project") {
			d.Parts = append(d.Parts, examplePart{path, text})
		}
	}
	sort.Slice(d.Parts, func(i, j int) bool {
		a, b := strings.HasPrefix(d.Parts[i].Path, "flows/"), strings.HasPrefix(d.Parts[j].Path, "flows/")
		if a != b {
			return a
		}
		return d.Parts[i].Path < d.Parts[j].Path
	})
	for _, ps := range r.Plan.Steps {
		if ps.Step.Kind != kind {
			continue
		}
		it := r.Whole
		if InBody(r.Plan, ps) {
			it = r.Items[0]
		}
		_, out, told, _ := Passage(r.Plan, it, ps.Step.ID)
		d.Yields = append(d.Yields, yielded{Step: ps.Step.Name, Rows: out, Told: told})
	}
	return nil
}
