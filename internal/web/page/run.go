package page

import (
	"fmt"
	"strings"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// StateTags are the colours of the states; the word stands beside them always.
var StateTags = map[store.State]string{
	store.Done: "ok", store.SetAside: "draft", store.Stopped: "bad", store.Retrying: "live", store.Running: "live",
}

// What tells in a line what happened.
func What(r store.Run) string {
	if r.Fault != nil {
		s := r.Fault.What()
		if r.State == store.Retrying {
			s = fmt.Sprintf("tried %d times: %s", r.Attempt, s)
		}
		return s
	}
	var parts []string
	say := func(n int, what string) {
		if n > 0 {
			parts = append(parts, Number(n)+" "+what)
		}
	}
	total := running.Counts{}
	for _, c := range r.Counts {
		total.Add(c)
	}
	say(total.Inserted, "inserted")
	say(total.Updated, "updated")
	say(total.Unchanged, "unchanged")
	say(total.Called, map[bool]string{true: "call", false: "calls"}[total.Called == 1])
	say(total.Skipped, "skipped")
	say(total.SetAside, "set aside")
	if len(parts) == 0 {
		return Number(r.RecordsRead) + " records"
	}
	return strings.Join(parts, ", ")
}

// PassedOver tells what was passed over in a run because schemas lack it, with the schemas that the project has.
func PassedOver(plan *running.Plan, p *project.Project, counts map[string]*running.Counts) []running.PassedOver {
	list := plan.PassedOver(counts)
	for i := range list {
		if s := list[i].Schema; s != nil {
			list[i].Schema = p.Schema(s.ID)
		}
	}
	return list
}
