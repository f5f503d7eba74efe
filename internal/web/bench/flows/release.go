package flows

import (
	"fmt"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var releaseView = page.Parse(files, "release.html")

type releasePage struct {
	page.Frame
	ID, FlowTitle string
	Upserts       int // steps that are held against their tables
	Next          int
	Faults        fault.List
	Files         []fileDiff
	Cases         int
	Failed        []project.Result
}

type fileDiff struct {
	Path  string
	Lines []diffLine
}

type diffLine struct{ Class, Mark, Text string }

func (b pages) releasePage(c *gin.Context) error {
	p, err := b.Load(c)
	if err != nil {
		return err
	}
	id := c.Param("id")
	plan := p.Flow(id)
	if plan == nil {
		return store.ErrNotFound
	}
	number, _, err := b.differs(c, p, id)
	if err != nil {
		return err
	}
	released := map[string]string{}
	if number > 0 {
		if released, err = store.ReleaseFiles(c, b.DB, p.ID, id, number); err != nil {
			return err
		}
	}
	d := releasePage{Frame: b.Frame(c, "bench", "Release "+plan.Flow.Title), ID: id, FlowTitle: plan.Flow.Title, Next: number + 1, Faults: plan.Faults}
	for _, r := range p.FlowCases(id) {
		if d.Cases++; !r.OK() {
			d.Failed = append(d.Failed, r)
		}
	}
	for _, ps := range plan.Steps {
		if ps.Upsert != nil {
			d.Upserts++
		}
	}
	for _, path := range changes(p, id, released) {
		d.Files = append(d.Files, fileDiff{Path: path, Lines: diff(released[path], p.Texts[path])})
	}
	releaseView.Page(c, d)
	return nil
}

func (b pages) release(c *gin.Context) error {
	id := c.Param("id")
	note := strings.TrimSpace(c.PostForm("note"))
	if len(note) > 500 {
		note = note[:500]
	}
	if c.PostForm("unchecked") == "" {
		_, plan, err := b.flowOf(c)
		if err != nil {
			return err
		}
		if faults, _ := b.Engine.Tries.CheckTables(c, b.Scope, plan); len(faults) > 0 {
			return faults[0].WithFix("Mend the step or the table, or release it without that check")
		}
	}
	if _, err := b.Designer(c).Release(c, id, note); err != nil {
		return err
	}
	c.Redirect(303, "/bench/flows/"+id)
	return nil
}

// maxDiff bounds the lines that are compared one by one.
const maxDiff = 2000

// diff compares two texts by their longest common subsequence of lines; long stretches without a
// change are folded.
func diff(old, now string) []diffLine {
	a, z := splitLines(old), splitLines(now)
	if len(a) > maxDiff || len(z) > maxDiff {
		return []diffLine{{Text: fmt.Sprintf("%d lines before, %d now", len(a), len(z))}}
	}
	common := make([][]int, len(a)+1)
	for i := range common {
		common[i] = make([]int, len(z)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(z) - 1; j >= 0; j-- {
			if a[i] == z[j] {
				common[i][j] = common[i+1][j+1] + 1
			} else {
				common[i][j] = max(common[i+1][j], common[i][j+1])
			}
		}
	}
	var lines []diffLine
	for i, j := 0, 0; i < len(a) || j < len(z); {
		switch {
		case i < len(a) && j < len(z) && a[i] == z[j]:
			lines = append(lines, diffLine{Mark: " ", Text: a[i]})
			i++
			j++
		case j == len(z) || i < len(a) && common[i+1][j] >= common[i][j+1]:
			lines = append(lines, diffLine{Class: "del", Mark: "−", Text: a[i]})
			i++
		default:
			lines = append(lines, diffLine{Class: "add", Mark: "+", Text: z[j]})
			j++
		}
	}
	return fold(lines)
}

func splitLines(s string) []string {
	if s == "" {
		return nil
	}
	return strings.Split(strings.TrimSuffix(s, "\n"), "\n")
}

// fold keeps three lines around each change.
func fold(lines []diffLine) []diffLine {
	keep := make([]bool, len(lines))
	for i, l := range lines {
		if l.Class == "" {
			continue
		}
		for k := max(0, i-3); k <= min(len(lines)-1, i+3); k++ {
			keep[k] = true
		}
	}
	var out []diffLine
	for i, l := range lines {
		switch {
		case keep[i]:
			out = append(out, l)
		case len(out) == 0 || out[len(out)-1].Text != "⋯":
			out = append(out, diffLine{Mark: " ", Text: "⋯"})
		}
	}
	return out
}
