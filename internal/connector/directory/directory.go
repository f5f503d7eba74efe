// Package directory searches and changes directories over LDAP v3 (RFC 4511).
package directory

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"

	"github.com/go-ldap/ldap/v3"

	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// Directory is one directory.
type Directory struct {
	env  system.Env
	tls  *tls.Config
	mu   sync.Mutex
	idle []*ldap.Conn
}

var (
	_ system.Caller          = (*Directory)(nil)
	_ system.Reader          = (*Directory)(nil)
	_ system.CatalogueReader = (*Directory)(nil)
)

// mostIdle is how many connections are kept open between calls.
const mostIdle = 4

// Open makes a directory of its settings.
func Open(env system.Env) (system.System, error) {
	for _, name := range []string{"host", "base"} {
		if env.Values[name] == "" {
			return nil, fault.New(fault.Required, "the connection has no %s", name).WithFix("Fill it in and save")
		}
	}
	if _, err := ldap.ParseDN(env.Values["base"]); err != nil {
		return nil, fault.Expect(fault.Setting, "a distinguished name, as dc=skerry,dc=example", fault.Quote(env.Values["base"])).InField("Base")
	}
	c, err := system.TLS(env.Values["host"], env.Values["authority"], "")
	return &Directory{env: env, tls: c}, err
}

// Close closes the idle connections.
func (d *Directory) Close() {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, c := range d.idle {
		c.Close()
	}
	d.idle = nil
}

// dial connects and agrees on encryption, without signing in.
func (d *Directory) dial(ctx context.Context) (*ldap.Conn, error) {
	v := d.env.Values
	nc, err := d.env.Net.Dial(ctx, v["host"], v.Int("port", 389))
	if err != nil {
		return nil, err
	}
	secure := v["encryption"] == "tls from the start"
	if secure {
		t := tls.Client(nc, d.tls)
		hctx, cancel := context.WithTimeout(ctx, v.Timeout())
		defer cancel()
		if err := t.HandshakeContext(hctx); err != nil {
			nc.Close()
			return nil, err
		}
		nc = net.Conn(t)
	}
	c := ldap.NewConn(nc, secure)
	c.Start()
	c.SetTimeout(v.Timeout())
	if v["encryption"] == "starttls" {
		if err := c.StartTLS(d.tls); err != nil {
			c.Close()
			return nil, err
		}
	}
	return c, nil
}

func (d *Directory) bind(c *ldap.Conn) error {
	if d.env.Values["user"] == "" {
		return c.UnauthenticatedBind("")
	}
	return c.Bind(d.env.Values["user"], d.env.Values["password"])
}

// get gives a connection that is signed in.
func (d *Directory) get(ctx context.Context) (*ldap.Conn, error) {
	d.mu.Lock()
	for len(d.idle) > 0 {
		c := d.idle[len(d.idle)-1]
		d.idle = d.idle[:len(d.idle)-1]
		if !c.IsClosing() {
			d.mu.Unlock()
			return c, nil
		}
	}
	d.mu.Unlock()
	c, err := d.dial(ctx)
	if err != nil {
		return nil, err
	}
	if err := d.bind(c); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

// put keeps a connection for the next call, unless it broke.
func (d *Directory) put(c *ldap.Conn, err error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if c.IsClosing() || ldap.IsErrorWithCode(err, ldap.ErrorNetwork) || len(d.idle) >= mostIdle {
		c.Close()
		return
	}
	d.idle = append(d.idle, c)
}

// with does something with a connection; a kept one that broke meanwhile is replaced once, where nothing was
// changed.
func (d *Directory) with(ctx context.Context, again bool, do func(c *ldap.Conn) error) error {
	for {
		c, err := d.get(ctx)
		if err != nil {
			return told(err)
		}
		stop := context.AfterFunc(ctx, func() { c.Close() })
		err = do(c)
		stop()
		d.put(c, err)
		if again && ldap.IsErrorWithCode(err, ldap.ErrorNetwork) && ctx.Err() == nil {
			again = false
			continue
		}
		return told(err)
	}
}

// Check says whether the directory lets us in.
func (d *Directory) Check(ctx context.Context) error {
	return d.with(ctx, true, func(c *ldap.Conn) error {
		_, err := c.Search(ldap.NewSearchRequest("", ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 5, false, "(objectClass=*)", []string{"1.1"}, nil))
		if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) || ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights) {
			return nil
		}
		return err
	})
}

// Probe tries the directory stage by stage.
func (d *Directory) Probe(ctx context.Context, r *probe.Run) {
	v := d.env.Values
	r.Reach(ctx, d.env.Net.Dialer(), v["host"], v.Int("port", 389))
	var c *ldap.Conn
	r.Do("encryption agreed", func() (string, error) {
		var err error
		if c, err = d.dial(ctx); err != nil {
			if why, is := system.Untrusted(err); is {
				return why, err
			}
			return "", err
		}
		if s, ok := c.TLSConnectionState(); ok {
			return probe.Agreed(s), nil
		}
		return "not asked for", nil
	}, func(error) string {
		return "Check which kind of encryption the port wants; give the authority's certificate under CA certificates where it is the directory's own"
	})
	if c == nil {
		return
	}
	defer c.Close()
	r.Do("signed in", func() (string, error) {
		if err := d.bind(c); err != nil {
			return told(err).Error(), err
		}
		if v["user"] == "" {
			return "as nobody", nil
		}
		return "as " + v["user"], nil
	}, func(error) string { return "Check the name to bind with and the password" })
	r.Do("permission to read", func() (string, error) {
		res, err := c.Search(ldap.NewSearchRequest(v["base"], ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 1, 10, false, "(objectClass=*)", []string{"1.1"}, nil))
		if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
			return told(err).Error(), err
		}
		if res == nil || len(res.Entries) == 0 {
			return "nothing can be read below " + v["base"], errors.New("nothing")
		}
		return "entries below " + v["base"] + " can be read", nil
	}, func(error) string { return "Check the base, and what the account may read" })
}

// told makes a fault of what the directory refuses (RFC 4511, 4.1.9); what waiting may mend stays an error.
func told(err error) error {
	var e *ldap.Error
	if !errors.As(err, &e) {
		return err
	}
	if why, is := system.Untrusted(err); is {
		return fault.New(fault.Setting, "%s", why).WithFix("%s", system.TrustMends)
	}
	switch e.ResultCode {
	case ldap.ErrorNetwork, ldap.LDAPResultBusy, ldap.LDAPResultUnavailable, ldap.LDAPResultTimeLimitExceeded, ldap.LDAPResultServerDown, ldap.LDAPResultTimeout:
		return fmt.Errorf("the directory does not answer: %w", e.Err)
	case ldap.LDAPResultInvalidCredentials:
		return fault.New(fault.Setting, "the directory does not take the sign-in").WithFix("Check the name to bind with and the password")
	case ldap.LDAPResultNoSuchObject:
		return fault.Expect(fault.NotFound, "the entry", "none of that name")
	}
	text := ldap.LDAPResultCodeMap[e.ResultCode]
	if e.Err != nil && e.Err.Error() != "" {
		text += ": " + e.Err.Error()
	}
	return fault.New(fault.Outside, "the directory refuses it: %s", text)
}

// Call looks one entry up, or changes one.
func (d *Directory) Call(ctx context.Context, r system.Request) (v value.Value, err error) {
	dn := r.Value.Field("dn").String()
	x := system.ExchangeOf(ctx)
	switch r.Op.Kind.Name {
	case "look up", "search", "members":
		for v, err = range d.Read(ctx, r) {
			return v, err
		}
		return value.Value{}, nil
	case "delete":
		x.Sent("delete", dn)
		return v, d.with(ctx, false, func(c *ldap.Conn) error { return c.Del(ldap.NewDelRequest(dn, nil)) })
	case "compare":
		var same bool
		err := d.with(ctx, true, func(c *ldap.Conn) (err error) {
			same, err = c.Compare(dn, r.Value.Field("attribute").String(), r.Value.Field("value").String())
			return err
		})
		return value.NewRecord(r.Op.Response.Root.Layout(), []value.Value{value.Bool(same)}), err
	case "add":
		req := ldap.NewAddRequest(dn, nil)
		attributes(r.Value, func(name string, list []string) { req.Attribute(name, list) })
		x.Sent("add", fmt.Sprintf("%s\n%v", dn, req.Attributes))
		return v, d.with(ctx, false, func(c *ldap.Conn) error { return c.Add(req) })
	}
	req := ldap.NewModifyRequest(dn, nil)
	attributes(r.Value, func(name string, list []string) { req.Replace(name, list) })
	x.Sent("change", fmt.Sprintf("%s\n%v", dn, req.Changes))
	return v, d.with(ctx, false, func(c *ldap.Conn) error { return c.Modify(req) })
}

// attributes are the fields of a request beside its dn that are there.
func attributes(v value.Value, use func(name string, list []string)) {
	r := v.Record()
	if r == nil {
		return
	}
	for i, name := range r.Layout.Names {
		f := r.Fields[i]
		if name == "dn" || f.Kind() == value.Absent {
			continue
		}
		list := []string{}
		switch {
		case f.Kind() == value.Null:
		case f.Kind() == value.ListKind:
			for _, item := range f.Items() {
				list = append(list, written(item))
			}
		default:
			list = append(list, written(f))
		}
		use(name, list)
	}
}

func written(v value.Value) string {
	switch v.Kind() {
	case value.Boolean:
		return strings.ToUpper(v.String())
	case value.Timestamp:
		return v.GoTime().UTC().Format("20060102150405Z")
	case value.Binary, value.Text:
		return v.Text()
	}
	return v.String()
}

// Catalogue lists what stands one level below the base.
func (d *Directory) Catalogue(ctx context.Context, find string) (list []system.CatalogueEntry, err error) {
	filter := "(objectClass=*)"
	if find != "" {
		f := ldap.EscapeFilter(find)
		filter = fmt.Sprintf("(|(cn=*%s*)(ou=*%s*)(uid=*%s*))", f, f, f)
	}
	scope := ldap.ScopeSingleLevel
	if find != "" {
		scope = ldap.ScopeWholeSubtree
	}
	err = d.with(ctx, true, func(c *ldap.Conn) error {
		res, err := c.Search(ldap.NewSearchRequest(d.env.Values["base"], scope, ldap.NeverDerefAliases, 200, 10, false, filter, []string{"objectClass"}, nil))
		if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
			return err
		}
		for _, e := range res.Entries {
			classes := e.GetAttributeValues("objectClass")
			kind := ""
			if len(classes) > 0 {
				kind = classes[len(classes)-1]
			}
			list = append(list, system.CatalogueEntry{Name: e.DN, Kind: kind, Detail: strings.Join(classes, ", ")})
		}
		return nil
	})
	return list, err
}
