package traffic

import (
	"html/template"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/draw"
	"hollowreed/internal/web/page"
)

var figuresView = page.Parse(files, "figures.html", "views.html")

// figuresPage is how much the flows and connections have done, and how long it took.
type figuresPage struct {
	page.Frame
	views
	Span   string
	Spans  []string
	Groups []figureGroup
}

type figureGroup struct {
	Title, One, What string
	Rows             []figureRow
}

type figureRow struct {
	Title, Href    string
	Done, Failed   int
	Rate           string // in an hour
	Share          string // that failed
	Half, Most, Nn string // durations within which half, 95 and 99 of a hundred were done
	Backlog        int
	Line           template.HTML
}

// figureSpans are the times that can be looked at, in steps of so many minutes.
var figureSpans = []struct {
	name    string
	span    time.Duration
	minutes int
}{{"hour", time.Hour, 1}, {"day", 24 * time.Hour, 30}, {"week", 7 * 24 * time.Hour, 180}, {"month", 30 * 24 * time.Hour, 720}}

func (t traffic) figures(c *gin.Context) error {
	p, err := t.Load(c)
	if err != nil {
		return err
	}
	chosen := figureSpans[0]
	d := figuresPage{Frame: t.Frame(c, "traffic", "Metrics")}
	for _, s := range figureSpans {
		d.Spans = append(d.Spans, s.name)
		if s.name == c.Query("span") {
			chosen = s
		}
	}
	d.Span = chosen.name
	if d.views, err = t.views(c, "Metrics"); err != nil {
		return err
	}
	since := time.Now().Add(-chosen.span).Truncate(time.Minute)
	list, err := store.Metrics(c, t.DB, t.Scope, since, chosen.minutes)
	if err != nil {
		return err
	}
	backlog, err := store.Backlog(c, t.DB, t.Scope)
	if err != nil {
		return err
	}
	steps := int(chosen.span/(time.Duration(chosen.minutes)*time.Minute)) + 1
	rows := figureRows(list, since, chosen.minutes, steps, chosen.span)
	d.Groups = []figureGroup{
		{"Flows", "Flow", "runs", flowRows(p, rows["flow"], backlog)},
		{"Connections", "Connection", "uses", connectionRows(p, rows["connection"])},
	}
	for _, g := range apiGroups {
		if list := rows[g.kind]; len(list) > 0 {
			d.Groups = append(d.Groups, figureGroup{g.title, g.one, "calls", apiRows(p, list)})
		}
	}
	if page.Partial(c) {
		figuresView.Part(c, "figures", d)
		return nil
	}
	figuresView.Page(c, d)
	return nil
}

// figureRows adds up what was counted, by kind and name.
func figureRows(list []store.MetricAt, since time.Time, minutes, steps int, span time.Duration) map[string]map[string]*figureRow {
	sums, bars := map[[2]string]*store.Metric{}, map[[2]string][]draw.Bar{}
	for _, f := range list {
		key := [2]string{f.Kind, f.Name}
		if sums[key] == nil {
			sums[key], bars[key] = &store.Metric{Durations: make([]int32, store.Spans)}, make([]draw.Bar, steps)
		}
		sum := sums[key]
		sum.Count, sum.Failed = sum.Count+f.Count, sum.Failed+f.Failed
		for i, n := range f.Durations {
			sum.Durations[i] += n
		}
		if at := int(f.At.Sub(since) / (time.Duration(minutes) * time.Minute)); at >= -1 && at < steps {
			at = max(at, 0)
			bars[key][at].Runs += f.Count
			bars[key][at].Failed += f.Failed
		}
	}
	rows := map[string]map[string]*figureRow{}
	for key, sum := range sums {
		if rows[key[0]] == nil {
			rows[key[0]] = map[string]*figureRow{}
		}
		rows[key[0]][key[1]] = &figureRow{
			Done: sum.Count, Failed: sum.Failed, Rate: perHour(sum.Count, span), Share: share(sum.Failed, sum.Count),
			Half: within(sum, 0.5), Most: within(sum, 0.95), Nn: within(sum, 0.99), Line: draw.Spark(bars[key]),
		}
	}
	return rows
}

func within(f *store.Metric, share float64) string {
	d := f.Quantile(share)
	if d == 0 {
		return ""
	}
	return "≤ " + page.Took(d)
}

func perHour(n int, span time.Duration) string {
	rate := float64(n) / span.Hours()
	if rate >= 10 || rate == 0 {
		return page.Number(int(rate + 0.5))
	}
	return trimmed(rate)
}

// trimmed writes a number with one digit behind the point, where that is not 0.
func trimmed(x float64) string {
	return strings.TrimSuffix(strconv.FormatFloat(x, 'f', 1, 64), ".0")
}

func share(part, all int) string {
	if all == 0 || part == 0 {
		return ""
	}
	return trimmed(100*float64(part)/float64(all)) + " %"
}

// flowRows has a row for every flow of the project, and for those that are no longer part of it.
func flowRows(p *project.Project, rows map[string]*figureRow, backlog map[string]int) []figureRow {
	var out []figureRow
	for _, part := range p.Parts(project.Flows) {
		r := rows[part.ID]
		if r == nil {
			r = &figureRow{}
		}
		delete(rows, part.ID)
		r.Title, r.Href, r.Backlog = part.Title, "/traffic?flow="+part.ID, backlog[part.ID]
		out = append(out, *r)
	}
	return append(out, rest(rows)...)
}

func connectionRows(p *project.Project, rows map[string]*figureRow) []figureRow {
	var out []figureRow
	for _, part := range p.Parts(project.Connections) {
		if r := rows[part.ID]; r != nil {
			r.Title, r.Href = part.Title, "/bench/connections/"+part.ID
			out = append(out, *r)
			delete(rows, part.ID)
		}
	}
	return append(out, rest(rows)...)
}

// apiGroups are what calls of APIs are counted by, where there are any.
var apiGroups = []struct{ kind, title, one string }{
	{"api operation", "API operations", "Operation"}, {"api caller", "API callers", "Caller"}, {"api status", "API responses", "Status"},
}

// apiRows names what was counted of APIs by the API's title.
func apiRows(p *project.Project, rows map[string]*figureRow) []figureRow {
	out := rest(rows)
	for i := range out {
		id, what, _ := strings.Cut(out[i].Title, " ")
		out[i].Title = p.TitleOf(project.APIs, id) + " · " + what
		if p.API(id) != nil {
			out[i].Href = "/bench/apis/" + id
		}
	}
	return out
}

func rest(rows map[string]*figureRow) (out []figureRow) {
	for name, r := range rows {
		r.Title = name
		out = append(out, *r)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Title < out[j].Title })
	return out
}
