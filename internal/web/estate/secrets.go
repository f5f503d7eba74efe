package estate

import (
	"errors"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/store"
	"hollowreed/internal/vault"
	"hollowreed/internal/web/page"
)

var secretsView = page.Parse(files, "secrets.html")

// secretRow is what is told of a secret: never its content.
type secretRow struct {
	store.Secret
	Who    string   // changed it last
	UsedBy []string // connections
	Places []store.Place
	Warn   string // that it expires
}

// ByName says whether flows use it by its name.
func (r secretRow) ByName() bool {
	return slices.Contains(r.Places, store.Place{Connection: store.ByName})
}

type secretsPage struct {
	page.Frame
	In     string
	Envs   []string
	Types  []string
	Rows   []secretRow
	Fault  *fault.Fault
	Said   string
	Name   string // what was typed, when it could not be kept
	About  string
	Kind   string
	Expiry string
}

func secretsOf(c *gin.Context, s *page.Site) (*secretsPage, error) {
	d := &secretsPage{Frame: s.Frame(c, "estate", "Secrets"), In: c.DefaultQuery("env", s.Environment), Envs: store.Environments, Types: vault.Types, Said: c.Query("said")}
	if !slices.Contains(d.Envs, d.In) {
		return nil, store.ErrNotFound
	}
	list, err := store.Secrets(c, s.DB, s.In(d.In))
	if err != nil {
		return nil, err
	}
	users, err := store.SecretUsers(c, s.DB, s.In(d.In))
	if err != nil {
		return nil, err
	}
	places, err := store.AllPlaces(c, s.DB, s.In(d.In))
	if err != nil {
		return nil, err
	}
	people, err := store.People(c, s.DB)
	if err != nil {
		return nil, err
	}
	for _, secret := range list {
		row := secretRow{Secret: secret, Who: secret.ChangedBy, UsedBy: users[secret.Name], Places: places[secret.Name]}
		if p, ok := people[secret.ChangedBy]; ok {
			row.Who = p.Name
		}
		if id, ok := strings.CutSuffix(secret.Name, " tokens"); ok && secret.Type == "oauth tokens" {
			row.UsedBy = append(row.UsedBy, id)
		}
		if at := secret.ExpiresAt; at != nil && secret.Type != "oauth tokens" {
			switch left := time.Until(*at); {
			case left < 0:
				row.Warn = "expired"
			case left < vault.Soon:
				row.Warn = "expires soon"
			}
		}
		d.Rows = append(d.Rows, row)
	}
	return d, nil
}

func secrets(c *gin.Context, s *page.Site) error {
	d, err := secretsOf(c, s)
	if err != nil {
		return err
	}
	secretsView.Page(c, d)
	return nil
}

// keepSecret seals a secret under its name.
func keepSecret(c *gin.Context, s *page.Site) error {
	d, err := secretsOf(c, s)
	if err != nil {
		return err
	}
	d.Name, d.About, d.Kind, d.Expiry = strings.TrimSpace(c.PostForm("name")), strings.TrimSpace(c.PostForm("about")), c.PostForm("type"), c.PostForm("expires")
	as := store.Secret{Name: d.Name, Type: d.Kind, About: d.About, ChangedBy: page.Person(c).ID}
	if !slices.Contains(vault.Types, as.Type) {
		return fault.Expect(fault.Setting, "one of "+strings.Join(vault.Types, ", "), fault.Quote(as.Type))
	}
	if d.Expiry != "" {
		at, err := time.Parse(time.DateOnly, d.Expiry)
		if err != nil {
			return fault.Expect(fault.Type, "a date", fault.Quote(d.Expiry))
		}
		as.ExpiresAt = &at
	}
	err = s.Vault.ForEnvironment(d.In).Save(c, as, strings.ReplaceAll(c.PostForm("content"), "\r\n", "\n"))
	if errors.As(err, &d.Fault) {
		secretsView.Page(c, d)
		return nil
	}
	if err != nil {
		return err
	}
	c.Redirect(303, "/estate/secrets?env="+url.QueryEscape(d.In)+"&said="+url.QueryEscape("Kept "+as.Name))
	return nil
}

// dropSecret removes a secret that no connection uses.
func dropSecret(c *gin.Context, s *page.Site) error {
	d, err := secretsOf(c, s)
	if err != nil {
		return err
	}
	name := c.PostForm("name")
	if err := s.Operator(c).DeleteSecret(c, d.In, name); err != nil {
		return err
	}
	c.Redirect(303, "/estate/secrets?env="+url.QueryEscape(d.In)+"&said="+url.QueryEscape("Removed "+name))
	return nil
}
