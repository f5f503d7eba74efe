// Package connector reaches outside systems. Each kind of system has its folder; this package holds
// the table of how each is opened, and a pool that opens a connection when it is first used and
// anew when its settings change.
package connector

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"hollowreed/internal/connector/directory"
	"hollowreed/internal/connector/file"
	"hollowreed/internal/connector/http"
	"hollowreed/internal/connector/http/openapi"
	"hollowreed/internal/connector/mail"
	"hollowreed/internal/connector/mailbox"
	"hollowreed/internal/connector/mariadb"
	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/sftp"
	"hollowreed/internal/connector/soap"
	"hollowreed/internal/connector/soap/wsdl"
	"hollowreed/internal/connector/sql"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/secret"
)

// driver is how a kind of system is reached. Opening it reaches nothing yet.
type driver struct {
	open     func(system.Env) (system.System, error)
	importer *system.Importer // nil: no document describes its operations
}

// drivers are the kinds of system by their names, as connections have them.
var drivers = map[string]driver{
	"file":      {open: file.Open},
	"http":      {open: http.Open, importer: openapi.Importer},
	"sftp":      {open: sftp.Open},
	"soap":      {open: soap.Open, importer: wsdl.Importer},
	"mail":      {open: mail.Open},
	"mailbox":   {open: mailbox.Open},
	"directory": {open: directory.Open},
	"sql":       {open: openSQL},
}

// ImporterOf reads the documents that describe the operations of a kind of system; nil where there are none.
func ImporterOf(kind string) *system.Importer { return drivers[kind].importer }

// openSQL opens a database of the engine that is set.
func openSQL(env system.Env) (system.System, error) {
	if env.Values["engine"] == "mariadb" {
		return mariadb.Open(env)
	}
	return sql.OpenSystem(env)
}

// Settings is how one connection is reached in an environment. It holds secrets: it is never shown,
// logged or exported.
type Settings struct {
	Kind    string
	Values  system.Values // with secrets in place of their names
	Secrets []string      // that are to be masked
	Page    string        // a page of the system's own, if it has one
	Version int64         // another one for other settings
}

// Source knows the setups of an environment.
type Source interface {
	// Settings gives how a connection is reached; nil when it has none.
	Settings(ctx context.Context, id string) (*Settings, error)
	system.SecretStore
}

// Rules are what an administrator allows.
type Rules struct {
	Net   *system.Net
	Roots []string // folders of this machine that may be used; any where there are none
	Never []string // folders and files of it that may not, wherever they are
	Own   string   // the name of the product's own database, on the server that Net names
}

// Pool opens connections on first use and keeps them. It is what running flows see of the outside.
type Pool struct {
	source Source
	rules  Rules
	mask   secret.Mask
	seen   func(id string, took time.Duration, failed bool)
	hears  atomic.Bool // of every change of settings and secrets
	mu     sync.Mutex
	open   map[string]*entry
	absent absent
}

type entry struct {
	setup   *Settings
	sys     system.System
	err     error
	looked  time.Time // when the setup was last asked for
	changed time.Time // when it was last told that the setup is another one
	breaker breaker
}

var _ running.Systems = (*Pool)(nil)

// NewPool makes a pool with nothing open.
func NewPool(s Source, r Rules) *Pool { return &Pool{source: s, rules: r, open: map[string]*entry{}} }

// Observe tells of every use of a connection: how long it took, and whether it failed. It is called before the pool is used.
func (p *Pool) Observe(seen func(id string, took time.Duration, failed bool)) { p.seen = seen }

// How long a setup is used before it is asked for anew: where nobody tells of changes, and where somebody does.
const (
	fresh = 400 * time.Millisecond
	heard = 10 * time.Minute
)

// Hears says whether Anew is called for every change of settings and secrets.
func (p *Pool) Hears(on bool) { p.hears.Store(on) }

// Close closes all connections.
func (p *Pool) Close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for id, e := range p.open {
		if e.sys != nil {
			e.sys.Close()
		}
		delete(p.open, id)
	}
}

// Settings gives how a connection is reached; nil where it has none in this environment.
func (p *Pool) Settings(ctx context.Context, id string) (*Settings, error) {
	e, err := p.entry(ctx, id)
	if err != nil {
		return nil, err
	}
	return e.setup, nil
}

// Reload makes the next use of a connection ask for its settings anew: they were just changed. An empty id is all connections.
func (p *Pool) Reload(id string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.absent.forget()
	for name, e := range p.open {
		if id == "" || name == id {
			e.changed = time.Now()
		}
	}
}

// entry gives a connection as its settings are now.
func (p *Pool) entry(ctx context.Context, id string) (*entry, error) {
	p.mu.Lock()
	e := p.open[id]
	asked := time.Now()
	most := fresh
	if p.hears.Load() {
		most = heard
	}
	known := e != nil && e.looked.After(e.changed) && asked.Sub(e.looked) < most
	p.mu.Unlock()
	if known {
		return e, nil
	}
	setup, err := p.source.Settings(ctx, id)
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if e = p.open[id]; e != nil && same(e.setup, setup) {
		e.looked = asked // before the answer: a change while it was on its way is seen next time
		return e, nil
	}
	var changed time.Time
	if e != nil {
		changed = e.changed
	}
	if e != nil && e.sys != nil {
		go e.sys.Close() // those that use it still may end
	}
	e = &entry{setup: setup, looked: asked, changed: changed}
	p.open[id] = e
	if setup == nil {
		return e, nil
	}
	p.hide(setup)
	e.sys, e.err = p.opened(id, setup)
	return e, nil
}

func same(a, b *Settings) bool {
	if a == nil || b == nil {
		return a == b
	}
	return a.Version == b.Version && a.Kind == b.Kind && maps.Equal(a.Values, b.Values)
}

func (p *Pool) opened(id string, s *Settings) (system.System, error) {
	open := drivers[s.Kind].open
	if open == nil {
		return nil, fault.New(fault.Unknown, "there is no kind of system %q", s.Kind)
	}
	return open(p.env(id, s))
}

// env is what a setup is opened in, with the defaults of its kind in place of what is not set.
func (p *Pool) env(id string, s *Settings) system.Env {
	values := maps.Clone(s.Values)
	for _, set := range connection.KindOf(s.Kind).Settings {
		if values[set.Name] == "" && set.Default != "" {
			values[set.Name] = set.Default
		}
	}
	return system.Env{ID: id, Values: values, Net: p.rules.Net, Roots: p.rules.Roots, Never: p.rules.Never, Own: p.rules.Own, Secrets: keeping{p.source, p}}
}

// keeping hides the tokens that a system learns, too. One that is not there is not asked for again until something changes.
type keeping struct {
	system.SecretStore
	pool *Pool
}

func (k keeping) Get(ctx context.Context, name string) (string, error) {
	gone, asked := k.pool.absent.has(name)
	if gone && k.pool.hears.Load() {
		return "", nil
	}
	text, err := k.SecretStore.Get(ctx, name)
	k.hide(text)
	if err == nil && text == "" {
		k.pool.absent.note(name, asked)
	}
	return text, err
}

func (k keeping) Set(ctx context.Context, name, text string) error {
	k.hide(text)
	defer k.pool.absent.forget()
	return k.SecretStore.Set(ctx, name, text)
}

// absent are the secrets that were asked for and are not there.
type absent struct {
	mu      sync.Mutex
	names   map[string]bool
	changes int // how often secrets changed
}

// has says whether a secret was not there, and after how many changes that is asked.
func (a *absent) has(name string) (gone bool, asked int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.names[name], a.changes
}

// note notes that a secret is not there, unless one has changed since that was asked.
func (a *absent) note(name string, asked int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.changes != asked {
		return
	}
	if a.names == nil {
		a.names = map[string]bool{}
	}
	a.names[name] = true
}

func (a *absent) forget() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.changes++
	clear(a.names)
}

// hide makes the tokens in a text of JSON known to the mask.
func (k keeping) hide(text string) {
	var fields map[string]any
	if json.Unmarshal([]byte(text), &fields) != nil {
		return
	}
	for name, v := range fields {
		if s, ok := v.(string); ok && strings.HasSuffix(name, "_token") {
			k.pool.mask.Add(s)
		}
	}
}

// Env is what a connection is opened in.
func (p *Pool) Env(ctx context.Context, id string) (system.Env, error) {
	e, err := p.entry(ctx, id)
	if err != nil {
		return system.Env{}, err
	}
	if e.setup == nil {
		return system.Env{}, fault.New(fault.Setting, "the connection %s has no settings in this environment", id)
	}
	return p.env(id, e.setup), nil
}

// Fetch reads a document that a system gives of itself.
func (p *Pool) Fetch(ctx context.Context, id, at string) ([]byte, error) {
	f, _, err := as[system.Fetcher](ctx, p, id, "give a document of itself")
	if err != nil {
		return nil, err
	}
	text, err := f.Fetch(ctx, at)
	return text, p.Redact(err)
}

// hide makes a setup's secrets known to the mask, also as they are sent for basic authentication.
func (p *Pool) hide(s *Settings) {
	p.mask.Add(s.Secrets...)
	if user := s.Values["user"]; user != "" {
		for _, word := range s.Secrets {
			p.mask.Add(base64.StdEncoding.EncodeToString([]byte(user + ":" + word)))
		}
	}
}

// Mask hides all secrets that the pool has come to know in a text.
func (p *Pool) Mask(s string) string { return p.mask.Text(s) }

// System gives an open connection.
func (p *Pool) System(ctx context.Context, id string) (system.System, error) {
	e, err := p.entry(ctx, id)
	switch {
	case err != nil:
		return nil, err
	case e.setup == nil:
		return nil, fault.New(fault.Setting, "the connection %s has no settings in this environment", id).WithFix("Open the connection and fill them in")
	case e.err != nil:
		return nil, e.err
	}
	return e.sys, nil
}

// as gives a connection that can do something; what names that.
func as[T any](ctx context.Context, p *Pool, id, what string) (T, *entry, error) {
	var none T
	s, err := p.System(ctx, id)
	if err != nil {
		return none, nil, err
	}
	t, ok := s.(T)
	if !ok {
		return none, nil, fault.New(fault.Setting, "the connection %s cannot %s", id, what)
	}
	e, err := p.entry(ctx, id)
	return t, e, err
}

// guarded does something with a connection unless its breaker is open, and tells the breaker how it went.
func (p *Pool) guarded(e *entry, id string, do func() error) error {
	if err := e.breaker.before(id); err != nil {
		return err
	}
	began := time.Now()
	err := do()
	if p.seen != nil {
		p.seen(id, time.Since(began), err != nil)
	}
	e.breaker.after(err)
	return p.Redact(err)
}

// Redact gives an error with the secrets in its texts masked.
func (p *Pool) Redact(err error) error {
	var f *fault.Fault
	switch {
	case err == nil:
		return nil
	case errors.As(err, &f):
		f.Message, f.Found, f.Expected, f.Fix = p.Mask(f.Message), p.Mask(f.Found), p.Mask(f.Expected), p.Mask(f.Fix)
		return err
	}
	if text := err.Error(); p.Mask(text) != text {
		return errors.New(p.Mask(text))
	}
	return err
}

// Probe tries a connection stage by stage; each is told to seen as it ends, when seen is not nil.
func (p *Pool) Probe(ctx context.Context, id string, seen func(probe.Stage)) *probe.Run {
	p.Reload(id)
	r := &probe.Run{Seen: seen, Hide: p.Mask, Why: system.Untrusted}
	s, err := p.System(ctx, id)
	r.Do("settings read", func() (string, error) {
		if err != nil {
			return "", err
		}
		return "all that are needed are there", nil
	}, func(err error) string {
		var f *fault.Fault
		if errors.As(err, &f) && f.Fix != "" {
			return f.Fix
		}
		return "Fill the settings in and save them"
	})
	if err == nil {
		s.Probe(ctx, r)
	}
	return r
}

// Check says whether a connection's system answers now.
func (p *Pool) Check(ctx context.Context, id string) error {
	s, err := p.System(ctx, id)
	if err != nil {
		return err
	}
	return p.Redact(s.Check(ctx))
}

// Catalogue lists what a system has; nothing where it cannot say, or has no settings yet.
func (p *Pool) Catalogue(ctx context.Context, id, find string) ([]system.CatalogueEntry, error) {
	e, err := p.entry(ctx, id)
	if err != nil || e.setup == nil {
		return nil, err
	}
	s, err := p.System(ctx, id)
	if err != nil {
		return nil, err
	}
	o, ok := s.(system.CatalogueReader)
	if !ok {
		return nil, nil
	}
	list, err := o.Catalogue(ctx, find)
	return list, p.Redact(err)
}

// Breaker says how a connection's breaker stands, in words; empty when it is closed.
func (p *Pool) Breaker(id string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	if e := p.open[id]; e != nil {
		return e.breaker.told()
	}
	return ""
}

// Kinds lists the kinds of system that can be opened.
func Kinds() []string { return slices.Sorted(maps.Keys(drivers)) }
