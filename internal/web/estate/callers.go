package estate

import (
	"encoding/hex"
	"net/http"
	"slices"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/google/uuid"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var callersView = page.Parse(files, "callers.html")

type callersPage struct {
	page.Frame
	Rows   []callerRow
	APIs   []project.Part
	NewKey string // shown once
	Of     string // whose it is
}

type callerRow struct {
	store.APICaller
	May  []string // titles of the APIs that it may call; none: all
	Keys []keyRow
}

type keyRow struct {
	store.CallerKey
	Hex   string
	Ended bool
}

func callersOf(c *gin.Context, s *page.Site) (*callersPage, error) {
	p, err := s.Load(c)
	if err != nil {
		return nil, err
	}
	d := &callersPage{Frame: s.Frame(c, "estate", "Callers"), APIs: usable(p)}
	list, err := store.Callers(c, s.DB, s.Scope)
	if err != nil {
		return nil, err
	}
	keys, err := store.CallerKeys(c, s.DB, s.Scope)
	if err != nil {
		return nil, err
	}
	for _, caller := range list {
		row := callerRow{APICaller: caller}
		for _, id := range caller.APIs {
			at := slices.IndexFunc(d.APIs, func(part project.Part) bool { return part.ID == id })
			if at < 0 {
				row.May = append(row.May, id)
			} else {
				row.May = append(row.May, d.APIs[at].Title)
			}
		}
		for _, k := range keys {
			if k.Caller == caller.ID {
				row.Keys = append(row.Keys, keyRow{k, hex.EncodeToString(k.Digest), k.EndsAt != nil && k.EndsAt.Before(time.Now())})
			}
		}
		d.Rows = append(d.Rows, row)
	}
	return d, nil
}

// usable are the APIs and channels that callers can use; a channel by its folder and its id.
func usable(p *project.Project) []project.Part {
	list := p.Parts(project.APIs)
	for _, part := range p.Parts(project.Channels) {
		part.ID = project.ReleaseID(project.Channels, part.ID)
		list = append(list, part)
	}
	return list
}

// MayCall says whether a caller may call an API.
func (r callerRow) MayCall(id string) bool { return len(r.APIs) == 0 || slices.Contains(r.APIs, id) }

func callers(c *gin.Context, s *page.Site) error {
	d, err := callersOf(c, s)
	if err != nil {
		return err
	}
	callersView.Page(c, d)
	return nil
}

// shownOnce sends the page with a key that is kept nowhere.
func shownOnce(c *gin.Context, s *page.Site, key, of string) error {
	d, err := callersOf(c, s)
	if err != nil {
		return err
	}
	d.NewKey, d.Of = key, of
	callersView.Page(c, d)
	return nil
}

func addCaller(c *gin.Context, s *page.Site) error {
	key, err := s.Operator(c).AddCaller(c, c.PostForm("name"), may(c))
	if err != nil {
		return err
	}
	return shownOnce(c, s, key, c.PostForm("name"))
}

// may are the APIs that are chosen; none where all are.
func may(c *gin.Context) []string {
	if c.PostForm("all") != "" {
		return nil
	}
	return c.PostFormArray("api")
}

// changeCaller does what a button of a caller says.
func changeCaller(c *gin.Context, s *page.Site) error {
	id, err := uuid.Parse(c.Param("id"))
	if err != nil {
		return store.ErrNotFound
	}
	d, err := callersOf(c, s)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(d.Rows, func(r callerRow) bool { return r.ID == id })
	if at < 0 {
		return store.ErrNotFound
	}
	caller, o := d.Rows[at].APICaller, s.Operator(c)
	switch do := c.PostForm("do"); do {
	case "key":
		key, err := o.AddCallerKey(c, id, nil)
		if err != nil {
			return err
		}
		return shownOnce(c, s, key, caller.Name)
	case "end", "end in a week":
		digest, derr := hex.DecodeString(c.PostForm("digest"))
		if derr != nil {
			return store.ErrNotFound
		}
		in := map[string]time.Duration{"end in a week": 7 * 24 * time.Hour}[do]
		err = o.EndCallerKey(c, digest, c.PostForm("hint"), in)
	case "certificate":
		err = o.AddCallerCertificate(c, id, []byte(c.PostForm("certificate")))
	case "disable", "enable":
		caller.Disabled = do == "disable"
		err = o.SetCaller(c, caller)
	case "remove":
		err = o.RemoveCaller(c, caller)
	default:
		err = fault.Expect(fault.Unknown, "something to do", fault.Quote(do))
	}
	if err != nil {
		return err
	}
	c.Redirect(http.StatusSeeOther, "/estate/callers")
	return nil
}
