package connections

import (
	"errors"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/connector/http"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/design"
	"hollowreed/internal/store"
	"hollowreed/internal/vault"
	"hollowreed/internal/web/form"
	"hollowreed/internal/web/page"
)

// settings reads what is chosen in the page's environment.
func (b pages) settings(c *gin.Context, d *connectionPage) error {
	s, err := store.SettingOf(c, b.DB, b.In(d.In), d.ID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	d.Version, d.StandIn = s.Version, s.Page
	d.Consent = s.Chosen["sign in"] == "oauth consent"
	secrets, err := store.Secrets(c, b.DB, b.In(d.In))
	if err != nil {
		return err
	}
	d.Settings = form.Fields(d.Kind.Settings.Chosen(s.Chosen))
	for i := range d.Settings {
		f := &d.Settings[i]
		for _, secret := range secrets {
			if f.Type == setting.Secret && secret.Type == f.Of {
				f.Secrets = append(f.Secrets, secret.Name)
			}
		}
	}
	for _, secret := range secrets {
		if secret.Name == system.TokensOf(d.ID) {
			d.Consented = "consent was given; tokens of " + secret.ChangedAt.UTC().Format("2 Jan 15:04:05")
			if d.Gone, err = http.GoneSince(c, b.Vault.ForEnvironment(d.In), d.ID); err != nil {
				d.Consented = fault.From(err, fault.Setting).What()
			}
		}
	}
	return nil
}

// setConnection keeps the settings of an environment. A secret that is written here is sealed at once and
// only its name is kept; it never comes back to a page.
func (b pages) setConnection(c *gin.Context) error {
	_, d, err := b.connectionOf(c)
	if err != nil {
		return err
	}
	version, err := strconv.ParseInt(c.PostForm("version"), 10, 64)
	if err != nil {
		return fault.New(fault.Setting, "the form is not whole; load the page again")
	}
	chosen, ok := form.Check(c, d.Kind.Settings, d.Settings, func(s setting.Setting) bool {
		return s.Type == setting.Secret && newSecret(c, s.Name) != ""
	})
	if ok {
		if ok, err = b.maySend(c, d, chosen); err != nil {
			return err
		}
	}
	if !ok {
		d.Fault = fault.New(fault.Setting, "nothing was saved: see the marked settings")
		d.offered(c, b)
		connectionView.Page(c, d)
		return nil
	}
	if err := b.writeSecrets(c, d, chosen); err != nil {
		return err
	}
	s := store.Setting{Connection: d.ID, Kind: d.Kind.Name, Chosen: chosen, Page: d.StandIn}
	if err := b.Designer(c).Configure(c, d.In, s, version); err != nil {
		return err
	}
	b.Outside.Reload(d.ID)
	c.Redirect(303, connectionAt(d.ID, d.In, "Saved"))
	return nil
}

// newSecret is what was typed to be kept as the secret of a setting.
func newSecret(c *gin.Context, name string) string {
	return strings.ReplaceAll(c.PostForm("new "+name), "\r\n", "\n")
}

// maySend says whether the secrets that were chosen, and not written anew, may be sent to where the settings lead, and marks those
// that may not.
func (b pages) maySend(c *gin.Context, d *connectionPage, chosen map[string]string) (ok bool, err error) {
	ok = true
	place := store.Place{Connection: d.ID, Host: vault.HostOf(d.Kind, chosen)}
	for i := range d.Settings {
		r := &d.Settings[i]
		if r.Type != setting.Secret || chosen[r.Name] == "" || newSecret(c, r.Name) != "" {
			continue
		}
		err := b.Vault.ForEnvironment(d.In).May(c, chosen[r.Name], place)
		var why *fault.Fault
		switch {
		case errors.As(err, &why):
			r.Faults, ok = fault.List{why}, false
		case err != nil:
			return false, err
		}
	}
	return ok, nil
}

// writeSecrets seals what was typed into the secret fields.
func (b pages) writeSecrets(c *gin.Context, d *connectionPage, chosen map[string]string) error {
	for _, r := range d.Settings {
		plain := newSecret(c, r.Name)
		if r.Type != setting.Secret || plain == "" || !d.Kind.Settings.Applies(r.Setting, setting.Of(chosen)) {
			continue
		}
		name := chosen[r.Name]
		if name == "" {
			name = d.ID + " " + r.Name
		}
		as := store.Secret{Name: name, Type: r.Of, About: d.Connection.Title, ChangedBy: page.Person(c).ID}
		v := b.Vault.ForEnvironment(d.In)
		if err := v.Save(c, as, plain); err != nil {
			return err
		}
		if err := v.Place(c, name, store.Place{Connection: d.ID, Host: vault.HostOf(d.Kind, chosen)}); err != nil {
			return err
		}
		chosen[r.Name] = name
	}
	return nil
}

// newConnectionPage is where a kind of system is chosen.
type newConnectionPage struct {
	connectionPage
	Kinds       []*connection.Kind
	Chosen      string
	TitleWanted string
}

func (b pages) newConnection(c *gin.Context) error {
	d := newConnectionPage{Kinds: connection.Kinds, Chosen: c.DefaultQuery("kind", "http"), TitleWanted: c.Query("title")}
	d.Frame = b.Frame(c, "bench", "New connection")
	newConnectionView.Page(c, d)
	return nil
}

// addConnection makes the part; its settings are filled in on its page.
func (b pages) addConnection(c *gin.Context) error {
	d := newConnectionPage{Kinds: connection.Kinds, Chosen: c.PostForm("kind"), TitleWanted: strings.TrimSpace(c.PostForm("title"))}
	d.Frame = b.Frame(c, "bench", "New connection")
	id := design.ID(d.TitleWanted)
	k := connection.KindOf(d.Chosen)
	switch {
	case id == "":
		d.Fault = fault.New(fault.Required, "the connection needs a title")
	case k == nil:
		d.Fault = fault.Expect(fault.Unknown, "a kind of system", fault.Quote(d.Chosen))
	default:
		text := connection.New(d.TitleWanted, k)
		err := b.Designer(c).Add(c, connectionPath(id), string(text))
		if err == nil {
			c.Redirect(303, connectionAt(id, "", ""))
			return nil
		}
		if !errors.Is(err, store.ErrExists) {
			return err
		}
		d.Fault = fault.New(fault.Setting, "there is a connection %q already", id).WithFix("Choose another title")
	}
	newConnectionView.Page(c, d)
	return nil
}
