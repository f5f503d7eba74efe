package traffic

import (
	"bytes"
	"fmt"
	"io"
	"net/url"
	"path"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/excerpt"
	"hollowreed/internal/core/value"
	"hollowreed/internal/engine/journal"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
)

// sample keeps a record of a run as a sample with the schema by which it was read.
func (t traffic) sample(c *gin.Context) error {
	r, p, released, err := t.runOf(c)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(c.PostForm("record"))
	if err != nil || n < 1 || n > r.RecordsRead {
		return store.ErrNotFound
	}
	entry, err := journal.Of(c, t.DB, r.ID, n-1)
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
	stem := strings.TrimSuffix(path.Base(r.Reference), path.Ext(r.Reference))
	name := base.FileName(fmt.Sprintf("%s-record-%d%s", stem, n, path.Ext(r.Reference)))
	if name, err = t.Designer(c).AddSample(c, s.ID, name, text); err != nil {
		return err
	}
	c.Redirect(303, "/bench/schemas/"+s.ID+"?sample="+url.QueryEscape(name))
	return nil
}

// sampleText is the record as it came in: its own text where it can be read by itself, else its
// value written in its notation.
func sampleText(plan *running.Plan, e *journal.Entry) (string, error) {
	if !plan.Source.Notation.Cells && excerpt.Kept(plan.Source) && e.Raw != "" {
		end := "\r\n"
		if plan.Source.Settings.LineEnd == "LF" {
			end = "\n"
		}
		return e.Raw + end, nil
	}
	v := e.Item(plan).Frame.Slots[plan.Planned(plan.ReadStep.ID).Result.Slot]
	if v.Kind() == value.Absent {
		return "", fault.New(fault.Setting, "this record could not be read, and its text cannot be read by itself")
	}
	var b strings.Builder
	w, err := all.Of(plan.Source).NewWriter(&b, notation.Options{Schema: plan.Source})
	if err != nil {
		return "", err
	}
	if err := w.Write(v); err != nil {
		return "", err
	}
	err = w.Close()
	return b.String(), err
}

// download sends a run's journal: one JSON value for each record, the run as a whole first.
func (t traffic) download(c *gin.Context) error {
	r, _, _, err := t.runOf(c)
	if err != nil {
		return err
	}
	c.Header("Content-Disposition", `attachment; filename="`+base.FileName(r.Reference+".ndjson")+`"`)
	c.Header("Content-Type", "application/x-ndjson")
	return journal.Write(c, t.DB, r.ID, c.Writer)
}

// message sends what a run began with: its message, or the records that are kept with it.
func (t traffic) message(c *gin.Context) error {
	r, _, _, err := t.runOf(c)
	if err != nil {
		return err
	}
	content, name := io.Reader(bytes.NewReader(r.Input)), r.Reference+".json"
	switch {
	case r.Input != nil:
	case r.HasInput:
		content, name = store.OpenInput(c, t.DB, r.ID), r.Reference+".txt"
	default:
		return store.ErrNotFound
	}
	c.Header("Content-Disposition", `attachment; filename="`+base.FileName(name)+`"`)
	c.Header("Content-Type", "application/octet-stream")
	_, err = io.Copy(c.Writer, content)
	return err
}

// keepRun keeps a run, with what systems answered then, as a case of its flow.
func (t traffic) keepRun(c *gin.Context) error {
	r, p, _, err := t.runOf(c)
	if err != nil {
		return err
	}
	run, released, err := t.Engine.Tries.RunCase(c, r)
	if err != nil {
		return err
	}
	if p.Flow(r.Flow) == nil {
		return fault.New(fault.Unknown, "the flow %s is no longer part of the project", r.Flow)
	}
	if err := t.Designer(c).AddFlowCase(c, released, r.Flow, r.Reference, run); err != nil {
		return err
	}
	c.Redirect(303, "/bench/flows/"+r.Flow+"/cases")
	return nil
}

// keepCase keeps a record of a run, with what the draft's mapping makes of it now, as a case.
func (t traffic) keepCase(c *gin.Context) error {
	r, p, released, err := t.runOf(c)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(c.PostForm("record"))
	ps := released.Flow(r.Flow).Planned(c.PostForm("step"))
	if err != nil || n < 1 || n > r.RecordsRead || ps == nil {
		return store.ErrNotFound
	}
	id := ps.Step.Setting("mapping")
	plan := p.Mapping(id)
	if plan == nil {
		return fault.New(fault.Unknown, "the mapping %s is no longer part of the project", id)
	}
	entry, err := journal.Of(c, t.DB, r.ID, n-1)
	if err != nil {
		return err
	}
	fr := plan.NewFrame()
	if !entry.Fill(plan, fr, r) {
		return fault.New(fault.Setting, "this record did not come to the mapping, or does not go with its sources now")
	}
	title := fmt.Sprintf("Record %d of %s", n, r.Reference)
	if err := t.Designer(c).AddMappingCase(c, title, id, plan, fr); err != nil {
		return err
	}
	c.Redirect(303, "/bench/mappings/"+id+"/cases")
	return nil
}
