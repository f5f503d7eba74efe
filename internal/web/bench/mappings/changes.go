package mappings

import (
	"context"
	"fmt"
	"slices"
	"strconv"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/project"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var changesView = page.Parse(files, "changes.html")

// compared are the choices of how many of the newest messages are mapped again.
var compared = []int{100, 1_000, 10_000}

// runsLookedAt bounds the runs in which messages are sought.
const runsLookedAt = 500

// changesPage says what the draft of a mapping makes otherwise than its release.
type changesPage struct {
	page.Frame
	ID, MapTitle string
	Flow         string
	FlowTitle    string
	Release      int // 0 when no flow with the mapping is released
	Most         int
	Reference    string // the beginning of the references of the runs that are looked at
	Choices      []int
	Report       mapping.Changes
	Rules        map[string][2]string // the rule of a field in the release and in the draft
}

func (b pages) mappingChanges(c *gin.Context) error {
	p, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	d := &changesPage{Frame: b.Frame(c, "bench", "What would change"), ID: id, MapTitle: plan.Mapping.Title, Choices: compared, Rules: map[string][2]string{}, Reference: c.Query("reference")}
	if d.Most, _ = strconv.Atoi(c.Query("most")); !slices.Contains(compared, d.Most) {
		d.Most = compared[1]
	}
	releases, err := store.NewestReleases(c, b.DB, p.ID)
	if err != nil {
		return err
	}
	for _, r := range releases {
		was, err := b.Engine.Release(c, p.ID, r.Flow, r.Number)
		if err != nil {
			return err
		}
		if old := was.Mapping(id); old != nil {
			d.Flow, d.FlowTitle, d.Release = r.Flow, r.Title, r.Number
			d.rules(old, plan)
			d.Report.Target = plan.Target
			if err := d.compare(c, b, p, old, plan); err != nil {
				return err
			}
			break
		}
	}
	changesView.Page(c, d)
	return nil
}

// rules keeps the rules that differ.
func (d *changesPage) rules(old, now *mapping.Plan) {
	texts := func(p *mapping.Plan) map[string]string {
		out := map[string]string{}
		for _, f := range p.Fields {
			if f.Rule != nil {
				out[f.Name()] = f.Rule.Text.Value + " " + passed(f.Rule, false)
			}
		}
		return out
	}
	was, is := texts(old), texts(now)
	for name, text := range is {
		if was[name] != text {
			d.Rules[name] = [2]string{was[name], text}
		}
	}
	for name, text := range was {
		if _, there := is[name]; !there {
			d.Rules[name] = [2]string{text, ""}
		}
	}
}

// compare maps the newest messages of the flow by both.
func (d *changesPage) compare(ctx context.Context, b pages, p *project.Project, old, now *mapping.Plan) error {
	runs, err := store.Runs(ctx, b.DB, store.RunFilter{Scope: b.Scope, Flow: d.Flow, Reference: d.Reference, Most: runsLookedAt})
	if err != nil {
		return err
	}
	was, is := old.NewFrame(), now.NewFrame()
	for _, r := range runs {
		err := journal.Entries(ctx, b.DB, r, func(e *journal.Entry) bool {
			if e.Fill(old, was, r) {
				told := fmt.Sprintf("/traffic/runs/%s?record=%d", r.ID, e.Record+1)
				result := old.Apply(was)
				next := mapping.Result{Faults: fault.List{fault.New(fault.Setting, "the message does not go with the draft's source")}}
				if e.Fill(now, is, r) {
					next = now.Apply(is)
				}
				d.Report.Add(told, result, next)
			}
			return d.Report.Messages < d.Most
		})
		if err != nil || d.Report.Messages >= d.Most {
			return err
		}
	}
	return nil
}

// Rule is the change of the rule of a field; ok is false where it did not change itself.
func (d *changesPage) Rule(field string) *[2]string {
	if r, ok := d.Rules[field]; ok {
		return &r
	}
	return nil
}
