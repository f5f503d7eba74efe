package traffic

import (
	"fmt"
	"path"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench"
)

// sample keeps a record of a run as a sample with the schema by which it was read.
func (t traffic) sample(c *gin.Context) error {
	r, p, released, err := t.runOf(c)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(c.PostForm("record"))
	if err != nil || n < 1 || n > r.Taken {
		return store.ErrNotFound
	}
	entry, err := t.Engine.Journal(c, r.ID, n-1)
	if err != nil {
		return err
	}
	plan := released.Flow(r.Flow)
	s := p.Schema(plan.Source.ID)
	if s == nil {
		return fault.New(fault.Unknown, "the schema %s is no longer part of the project", plan.Source.ID)
	}
	text, err := sampleText(plan, entry)
	if err != nil {
		return err
	}
	base := strings.TrimSuffix(path.Base(r.Reference), path.Ext(r.Reference))
	name := bench.FileName(fmt.Sprintf("%s-record-%d%s", base, n, path.Ext(r.Reference)))
	if err := bench.KeepSample(c, t.Site, p, s, name, text); err != nil {
		return err
	}
	c.Redirect(303, "/bench/schemas/"+s.ID+"?sample="+name)
	return nil
}

// sampleText is the record as it came in: its own text where it can be read by itself, else its
// value written in its notation.
func sampleText(plan *flow.Plan, e *engine.Entry) (string, error) {
	if engine.Mendable(plan.Source) && e.Raw != "" {
		end := "\r\n"
		if plan.Source.Settings.LineEnd == "LF" {
			end = "\n"
		}
		return e.Raw + end, nil
	}
	v := item(plan, e).Frame.Slots[plan.Planned(plan.ReadStep.ID).Result.Slot]
	if v.Kind() == value.Absent {
		return "", fault.New(fault.Setting, "this record could not be read, and its text cannot be read by itself")
	}
	n, err := all.Named(plan.Source.Notation)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	w, err := n.NewWriter(&b, notation.Options{Schema: plan.Source})
	if err != nil {
		return "", err
	}
	if err := w.Write(v); err != nil {
		return "", err
	}
	err = w.Close()
	return b.String(), err
}
