package apis

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/connector/apicall"
	"hollowreed/internal/core/api"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

// where says where a parameter stands and how often.
func where(p *contract.Parameter) string {
	in := map[string]string{"path": "in the path", "query": "query", "header": "header", "cookie": "cookie"}[p.In]
	if !p.Required {
		in += ", 0..1"
	}
	if p.Deprecated {
		in += ", deprecated"
	}
	return in
}

// example is a value of a parameter.
func example(k *contract.Contract, p *contract.Parameter) string {
	text, _ := k.SampleText(p)
	return text
}

// bodies are the media types of a message with their schemas and an example each.
func bodies(k *contract.Contract, list []contract.Media) (rows []bodyRow) {
	for _, m := range list {
		row := bodyRow{Media: m.Type}
		if at := strings.LastIndex(m.Schema, "/"); strings.HasPrefix(m.Schema, "/components/") {
			row.Schema = m.Schema[at+1:]
		}
		if body, ft := k.SampleBody(m); ft == nil {
			row.Example = apicall.Pretty(body)
		}
		rows = append(rows, row)
	}
	return rows
}

// givenBy says whether a step of a flow gives an answer.
func givenBy(p *project.Project, flowID string, a *contract.Answer) (gives bool) {
	plan := p.Flow(flowID)
	plan.Flow.Walk(func(s *flow.Step) {
		if s.Kind == flow.AnswerKind {
			gives = gives || plan.Promised(s) == a
		}
	})
	return gives
}

// guards says in words what stands before the operations, and what was counted in the last hour.
func (b pages) guards(c *gin.Context, a *api.API) ([]guardRow, error) {
	list, err := store.Metrics(c, b.DB, b.Scope, time.Now().Add(-time.Hour), 60)
	if err != nil {
		return nil, err
	}
	calls, broken := 0, map[string]int{}
	statuses, callers, cache := map[int]int{}, map[string]bool{}, map[string]int{}
	sum := store.Metric{Durations: make([]int32, store.Spans)}
	for _, m := range list {
		name, is := strings.CutPrefix(m.Name, a.ID+" ")
		switch {
		case !is:
		case m.Kind == "api operation":
			calls += m.Count
			for i, n := range m.Durations {
				sum.Durations[i] += n
			}
		case m.Kind == "api status":
			if status, err := strconv.Atoi(name); err == nil {
				statuses[status] += m.Count
			}
		case m.Kind == "api caller":
			callers[name] = true
		case m.Kind == "api cache":
			cache[name] += m.Count
		case m.Kind == "api contract":
			broken[name[strings.LastIndex(name, " ")+1:]] += m.Count
		}
	}
	g := a.Guards
	says := func(limit int, text string) string {
		if limit == 0 {
			return "none"
		}
		return fmt.Sprintf(text, page.Number(limit))
	}
	who := g.Callers
	switch who {
	case api.WithKey:
		who += " in the header " + g.KeyHeader
	case api.WithToken:
		who += " of " + g.Tokens.Issuer
	}
	validated := fmt.Sprintf("requests: %s, responses: %s", g.Requests, g.Answers)
	if a.Contract != nil && a.Contract.WSDL != nil {
		validated = "none: envelopes go on as they come"
	}
	limits := says(g.PerMinute, "%s a minute")
	if g.PerDay > 0 {
		limits = strings.TrimPrefix(limits+", "+says(g.PerDay, "%s a day"), "none, ")
	}
	if limits != "none" && g.LimitsOf != api.LimitCaller {
		limits += ", of " + g.LimitsOf
	}
	requests := statuses[422] + statuses[415]
	if g.Requests == api.Report {
		requests = broken["request"]
	}
	rows := []guardRow{
		{"Callers", who, fmt.Sprintf("%s refused", page.Number(statuses[401]+statuses[403]))},
		{"Validation", validated, fmt.Sprintf("%s of %s broken", page.Number(requests+broken["response"]), page.Number(calls))},
		{"Limits", limits, fmt.Sprintf("%s refused", page.Number(statuses[429]))},
		{"Timeout", g.Timeout.String() + " of a backend", "p99 " + quantile(sum, 0.99)},
	}
	if text := cached(a); text != "" {
		lately := fmt.Sprintf("%s of %s from it", page.Number(cache["hit"]), page.Number(cache["hit"]+cache["miss"]))
		rows = append(rows, guardRow{"Cache", fmt.Sprintf("%s; %s kept here", text, page.Number(b.Engine.Responses().Kept(b.Scope, a.ID))), lately})
	}
	if g.Concurrency > 0 {
		rows = append(rows, guardRow{"At once", says(g.Concurrency, "at most %s in each worker"), fmt.Sprintf("%s refused", page.Number(statuses[503]))})
	}
	if statuses[413] > 0 {
		rows = append(rows, guardRow{"Sizes", "requests up to " + page.Bytes(g.MaxBody), fmt.Sprintf("%s refused", page.Number(statuses[413]))})
	}
	if len(g.Origins) > 0 {
		rows = append(rows, guardRow{"Other sites", strings.Join(g.Origins, ", "), ""})
	}
	rows = append(rows, guardRow{"Log", logged(g), ""})
	if calls == 0 {
		for i := range rows {
			rows[i].Lately = ""
		}
	}
	return rows, nil
}

// logged says which calls are logged.
func logged(g api.Guards) string {
	if g.Log == api.LogNone {
		return "no calls"
	}
	text := fmt.Sprintf("%s calls for %d days, ", g.Log, g.LogDays)
	if g.LogBodies == api.LogNone {
		return text + "without bodies"
	}
	text += fmt.Sprintf("with bodies of %s", g.LogBodies)
	if len(g.Masked) > 0 {
		text += ", without " + strings.Join(g.Masked, ", ")
	}
	return text
}

// cached says which operations have their responses kept, and for how long.
func cached(a *api.API) string {
	var list []string
	for _, k := range a.Caches {
		if k.Operation != nil && k.Fresh > 0 {
			list = append(list, k.Operation.ID+" "+k.Says())
		}
	}
	return strings.Join(list, ", ")
}

func quantile(m store.Metric, share float64) string {
	if d := m.Quantile(share); d > 0 {
		return "≤ " + page.Took(d)
	}
	return ""
}
