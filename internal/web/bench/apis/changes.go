package apis

import (
	"net/http"
	"net/url"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/page"
)

// changesPage is what differs between the contract of the release and that of the draft, or a text that was pasted.
type changesPage struct {
	page.Frame
	ID, Title   string
	Draft       store.Draft // of the contract
	Path        string
	Text        string
	Release     int
	Breaking    []contract.Change
	Others      []contract.Change
	Faults      fault.List
	Fault       *fault.Fault
	OOB, Pasted bool
	SOAP        bool
}

func (b pages) contractPage(c *gin.Context) (*changesPage, error) {
	p, d, err := b.apiOf(c)
	if err != nil {
		return nil, err
	}
	out := &changesPage{Frame: b.Frame(c, "bench", d.API.Title+", contract"), ID: d.ID, Title: d.API.Title, Path: project.Path(project.Contracts, d.API.File.Value), Release: d.Release, SOAP: d.API.Contract != nil && d.API.Contract.WSDL != nil}
	text, there := p.Texts[out.Path]
	if !there {
		return nil, store.ErrNotFound
	}
	if out.Draft, err = store.PartDraft(c, b.DB, p.ID, out.Path); err != nil {
		return nil, err
	}
	out.Text = text
	return out, nil
}

// compare says what a text changes for callers of the release, or of the draft where none is released.
func (b pages) compare(c *gin.Context, d *changesPage, old, text string) error {
	if d.Release > 0 {
		was, err := store.ReleaseFiles(c, b.DB, b.Scope.Project, project.ReleaseID(project.APIs, d.ID), d.Release)
		if err != nil {
			return err
		}
		if released, there := was[d.Path]; there {
			old = released
		}
	}
	now, err := contract.Read(d.Path, []byte(text))
	if err != nil {
		d.Fault = fault.From(err, fault.Syntax)
		return nil
	}
	d.Faults = now.Faults
	before, err := contract.Read(d.Path, []byte(old))
	if err != nil {
		return nil // there is nothing to compare with
	}
	for _, ch := range contract.Compare(before, now) {
		if ch.Breaks {
			d.Breaking = append(d.Breaking, ch)
		} else {
			d.Others = append(d.Others, ch)
		}
	}
	return nil
}

// changes shows the contract as text, and what it changes.
func (b pages) changes(c *gin.Context) error {
	d, err := b.contractPage(c)
	if err != nil {
		return err
	}
	if err := b.compare(c, d, d.Text, d.Text); err != nil {
		return err
	}
	changesView.Page(c, d)
	return nil
}

// setContract looks at another text of the contract, and keeps it where that is said.
func (b pages) setContract(c *gin.Context) error {
	d, err := b.contractPage(c)
	if err != nil {
		return err
	}
	uploads, err := base.Uploads(c)
	if err != nil {
		return err
	}
	text := base.UnixLines(string(uploads[0].Content))
	if c.PostForm("keep") == "" {
		old := d.Text
		d.Text, d.Pasted = text, text != old
		if err := b.compare(c, d, old, text); err != nil {
			return err
		}
		changesView.Page(c, d)
		return nil
	}
	if err := b.Save(c, d.Path, func([]byte) ([]byte, error) {
		_, err := contract.Read(d.Path, []byte(text))
		return []byte(text), err
	}); err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/bench/apis/"+url.PathEscape(d.ID))
	return nil
}
