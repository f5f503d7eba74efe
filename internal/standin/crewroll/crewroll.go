// Package crewroll is the stand-in for Crewroll, the staff directory: LDAP v3 with StartTLS, people by
// badge, and groups.
package crewroll

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"sync"

	"github.com/jimlambrt/gldap"

	"hollowreed/internal/standin"
	"hollowreed/internal/standin/trust"
)

// Where the people are, and who may look.
const (
	Base     = "dc=skerry,dc=example"
	User     = "cn=reader," + Base
	Password = "muster-list-5"
)

type entry struct {
	dn    string
	attrs map[string][]string // by names in lower case
	names map[string]string   // as they are written
}

// Roll is the directory.
type Roll struct {
	Moods   standin.FaultInjection
	Log     standin.Log
	mu      sync.Mutex
	entries []*entry
}

// New makes a directory with the same people each time.
func New() *Roll {
	r := &Roll{}
	r.add(Base, "objectClass", "domain", "dc", "skerry")
	r.add("ou=people,"+Base, "objectClass", "organizationalUnit", "ou", "people")
	r.add("ou=groups,"+Base, "objectClass", "organizationalUnit", "ou", "groups")
	people := [][5]string{
		{"tlind", "Tove Lind", "4117", "mate", "Skua"},
		{"jhaar", "Jon Haar", "4118", "engineer", "Skua"},
		{"smoe", "Sunniva Moe", "4119", "purser", "Fulmar"},
		{"edahl", "Eir Dahl", "4120", "captain", "Fulmar"},
		{"pjoensen", "Pall Joensen", "4121", "deckhand", "Tern"},
	}
	var members []string
	for i, p := range people {
		dn := "uid=" + p[0] + ",ou=people," + Base
		members = append(members, dn)
		r.add(dn, "objectClass", "person", "objectClass", "inetOrgPerson", "uid", p[0], "cn", p[1], "sn", strings.Fields(p[1])[1], "employeeNumber", p[2], "title", p[3], "ou", p[4],
			"mail", p[0]+"@skerry.example", "telephoneNumber", fmt.Sprintf("+47 555 01%02d", i), "telephoneNumber", fmt.Sprintf("+47 555 02%02d", i))
	}
	pairs := []string{"objectClass", "groupOfNames", "cn", "watch"}
	for _, m := range members[:3] {
		pairs = append(pairs, "member", m)
	}
	r.add("cn=watch,ou=groups,"+Base, pairs...)
	return r
}

func (r *Roll) add(dn string, pairs ...string) {
	e := &entry{dn: dn, attrs: map[string][]string{}, names: map[string]string{}}
	for i := 0; i+1 < len(pairs); i += 2 {
		key := strings.ToLower(pairs[i])
		e.attrs[key] = append(e.attrs[key], pairs[i+1])
		e.names[key] = pairs[i]
	}
	r.entries = append(r.entries, e)
}

func (r *Roll) find(dn string) *entry {
	i := slices.IndexFunc(r.entries, func(e *entry) bool { return strings.EqualFold(e.dn, dn) })
	if i < 0 {
		return nil
	}
	return r.entries[i]
}

// Serve serves LDAP with StartTLS until the context ends, and gives its port and the authority to trust.
func (r *Roll) Serve(ctx context.Context) (port int, authority string, err error) {
	a, err := trust.New()
	if err != nil {
		return 0, "", err
	}
	c, err := a.Config("crewroll")
	if err != nil {
		return 0, "", err
	}
	s, err := gldap.NewServer()
	if err != nil {
		return 0, "", err
	}
	mux, err := gldap.NewMux()
	if err != nil {
		return 0, "", err
	}
	mux.Bind(r.bind)
	mux.Search(r.search)
	mux.Add(r.addEntry)
	mux.Modify(r.modify)
	mux.Delete(r.remove)
	mux.ExtendedOperation(func(w *gldap.ResponseWriter, req *gldap.Request) {
		res := req.NewExtendedResponse(gldap.WithResponseCode(gldap.ResultSuccess))
		res.SetResponseName(gldap.ExtendedOperationStartTLS)
		w.Write(res)
		req.StartTLS(c)
	}, gldap.ExtendedOperationStartTLS)
	if err := s.Router(mux); err != nil {
		return 0, "", err
	}
	inner, err := inside(ctx, s)
	if err != nil {
		return 0, "", err
	}
	l, err := standin.Listen(ctx)
	if err != nil {
		return 0, "", err
	}
	go standin.Relay(r.Moods.Listener(l), inner)
	context.AfterFunc(ctx, func() { s.Stop() })
	return l.Addr().(*net.TCPAddr).Port, a.PEM, nil
}

// inside starts the server on a port of its own; the moods stand before it.
func inside(ctx context.Context, s *gldap.Server) (string, error) {
	free, err := standin.Listen(ctx)
	if err != nil {
		return "", err
	}
	at := free.Addr().String()
	free.Close()
	go s.Run(at)
	return at, standin.Reachable(ctx, at)
}

func (r *Roll) bind(w *gldap.ResponseWriter, req *gldap.Request) {
	res := req.NewBindResponse(gldap.WithResponseCode(gldap.ResultInvalidCredentials))
	defer func() { w.Write(res) }()
	m, err := req.GetSimpleBindMessage()
	if err == nil && strings.EqualFold(m.UserName, User) && string(m.Password) == Password && !r.Moods.Is(standin.Expire) {
		res.SetResultCode(gldap.ResultSuccess)
	}
}

func (r *Roll) search(w *gldap.ResponseWriter, req *gldap.Request) {
	res := req.NewSearchDoneResponse(gldap.WithResponseCode(gldap.ResultNoSuchObject))
	defer func() { w.Write(res) }()
	m, err := req.GetSearchMessage()
	if err != nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.Log.Add("search", m.BaseDN, m.Filter)
	if m.BaseDN != "" && r.find(m.BaseDN) == nil {
		return
	}
	res.SetResultCode(gldap.ResultSuccess)
	n := int64(0)
	for _, e := range r.entries {
		if !within(e.dn, m.BaseDN, m.Scope) || !Matches(m.Filter, e.attrs) {
			continue
		}
		if n++; m.SizeLimit > 0 && n > m.SizeLimit {
			res.SetResultCode(gldap.ResultSizeLimitExceeded)
			return
		}
		out := req.NewSearchResponseEntry(e.dn)
		for key, values := range e.attrs {
			if wanted(m.Attributes, key) {
				out.AddAttribute(e.names[key], values)
			}
		}
		w.Write(out)
	}
}

func wanted(asked []string, key string) bool {
	if len(asked) == 0 {
		return true
	}
	return slices.ContainsFunc(asked, func(a string) bool { return a == "*" || strings.EqualFold(a, key) })
}

func within(dn, base string, scope gldap.Scope) bool {
	dn, base = strings.ToLower(dn), strings.ToLower(base)
	switch scope {
	case gldap.BaseObject:
		return dn == base
	case gldap.SingleLevel:
		_, parent, _ := strings.Cut(dn, ",")
		return parent == base
	}
	return dn == base || strings.HasSuffix(dn, ","+base)
}

func (r *Roll) addEntry(w *gldap.ResponseWriter, req *gldap.Request) {
	res := req.NewResponse(gldap.WithApplicationCode(gldap.ApplicationAddResponse), gldap.WithResponseCode(gldap.ResultOperationsError))
	defer func() { w.Write(res) }()
	m, err := req.GetAddMessage()
	if err != nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.find(m.DN) != nil {
		res.SetResultCode(gldap.ResultEntryAlreadyExists)
		return
	}
	var pairs []string
	for _, a := range m.Attributes {
		for _, v := range a.Vals {
			pairs = append(pairs, a.Type, v)
		}
	}
	r.add(m.DN, pairs...)
	r.Log.Add("add", m.DN, "")
	res.SetResultCode(gldap.ResultSuccess)
}

func (r *Roll) modify(w *gldap.ResponseWriter, req *gldap.Request) {
	res := req.NewModifyResponse(gldap.WithResponseCode(gldap.ResultNoSuchObject))
	defer func() { w.Write(res) }()
	m, err := req.GetModifyMessage()
	if err != nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	e := r.find(m.DN)
	if e == nil {
		return
	}
	for _, change := range m.Changes {
		key := strings.ToLower(change.Modification.Type)
		e.attrs[key], e.names[key] = change.Modification.Vals, change.Modification.Type
		if len(change.Modification.Vals) == 0 {
			delete(e.attrs, key)
		}
	}
	r.Log.Add("change", m.DN, "")
	res.SetResultCode(gldap.ResultSuccess)
}

func (r *Roll) remove(w *gldap.ResponseWriter, req *gldap.Request) {
	res := req.NewResponse(gldap.WithApplicationCode(gldap.ApplicationDelResponse), gldap.WithResponseCode(gldap.ResultNoSuchObject))
	defer func() { w.Write(res) }()
	m, err := req.GetDeleteMessage()
	if err != nil {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	n := len(r.entries)
	r.entries = slices.DeleteFunc(r.entries, func(e *entry) bool { return strings.EqualFold(e.dn, m.DN) })
	if len(r.entries) < n {
		r.Log.Add("delete", m.DN, "")
		res.SetResultCode(gldap.ResultSuccess)
	}
}

// Page shows the people and what was asked for.
func (r *Roll) Page(context.Context) (standin.Page, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	t := standin.Table{Title: "People", Head: []string{"name", "badge", "title", "ship", "entry"}}
	for _, e := range r.entries {
		if e.attrs["employeenumber"] != nil {
			t.Rows = append(t.Rows, []string{first(e, "cn"), first(e, "employeenumber"), first(e, "title"), first(e, "ou"), e.dn})
		}
	}
	return standin.Page{
		Title: "Crewroll", About: "The staff directory. Bind as " + User, Actions: r.Moods.Actions(standin.Slow, standin.Refuse, standin.Wrong, standin.Drop, standin.Expire),
		Tables: []standin.Table{t, {Title: "Asked for", Head: []string{"at", "what", "where", "filter"}, Rows: r.Log.Rows()}},
	}, nil
}

func first(e *entry, key string) string {
	if len(e.attrs[key]) == 0 {
		return ""
	}
	return e.attrs[key][0]
}

// Settings are those of a connection to a roll at a port.
func Settings(port int, authority string) map[string]string {
	return map[string]string{"host": "127.0.0.1", "port": fmt.Sprint(port), "encryption": "starttls", "authority": authority, "user": User, "password": Password, "base": Base}
}

// Standin is Crewroll.
var Standin = standin.Standin{
	Name: "crewroll", About: "the staff directory: LDAP v3 with StartTLS",
	Start: func(ctx context.Context, _ string) (*standin.Running, error) {
		r := New()
		port, authority, err := r.Serve(ctx)
		if err != nil {
			return nil, err
		}
		page, err := standin.Serve(ctx, r.Page)
		return &standin.Running{Page: page, Reach: map[string]standin.Reach{"crewroll": {Kind: "directory", Values: Settings(port, authority)}}}, err
	},
}
