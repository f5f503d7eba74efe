// Package connector reaches outside systems. Each kind of system has its folder; this package
// holds their settings, which belong to an environment and never to a part, and a pool that opens
// a connection when it is first used.
package connector

import (
	"context"
	"os"
	"sync"

	"go.yaml.in/yaml/v3"

	"hollowreed/internal/connector/sql"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/value"
)

// Settings are the settings of every connection in one environment, by connection id. They hold
// secrets: they are never shown, logged or exported.
type Settings map[string]Setting

// Setting is how to reach one system.
type Setting struct {
	Folder string `yaml:"folder,omitempty"` // file: the watched folder
	Done   string `yaml:"done,omitempty"`   // file: where picked-up files go
	URL    string `yaml:"url,omitempty"`    // sql: a connection address
	Page   string `yaml:"page,omitempty"`   // a page of the system's own, if it has one
}

// ReadSettings reads a settings file.
func ReadSettings(path string) (Settings, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	s := Settings{}
	if err := yaml.Unmarshal(text, &s); err != nil {
		return nil, fault.New(fault.Syntax, "the settings cannot be read: %s", err).At(fault.Place{Source: path})
	}
	return s, nil
}

// Write keeps the settings in a file that only its owner can read.
func (s Settings) Write(path string) error {
	text, err := yaml.Marshal(s)
	if err != nil {
		return err
	}
	return os.WriteFile(path, text, 0o600)
}

// Pool opens connections on first use and keeps them. It is what running flows see of the outside.
type Pool struct {
	settings Settings
	mu       sync.Mutex
	open     map[string]*sql.DB
}

var _ flow.Outside = (*Pool)(nil)

// NewPool makes a pool with nothing open.
func NewPool(s Settings) *Pool { return &Pool{settings: s, open: map[string]*sql.DB{}} }

// Settings gives a connection's settings.
func (p *Pool) Settings(id string) Setting { return p.settings[id] }

// Close closes all connections.
func (p *Pool) Close() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for id, db := range p.open {
		db.Close()
		delete(p.open, id)
	}
}

// DB gives the database behind a connection.
func (p *Pool) DB(id string) (*sql.DB, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if db := p.open[id]; db != nil {
		return db, nil
	}
	url := p.settings[id].URL
	if url == "" {
		return nil, fault.New(fault.Setting, "the connection %s has no address in this environment", id)
	}
	db, err := sql.Open(url)
	if err != nil {
		return nil, err
	}
	p.open[id] = db
	return db, nil
}

// Lookup finds rows.
func (p *Pool) Lookup(ctx context.Context, l flow.Lookup, keys [][]value.Value) ([]value.Value, error) {
	db, err := p.DB(l.Connection)
	if err != nil {
		return nil, err
	}
	return db.Lookup(ctx, l, keys)
}

// Upsert writes rows.
func (p *Pool) Upsert(ctx context.Context, u flow.Upsert, rows []value.Value) ([]flow.Written, error) {
	db, err := p.DB(u.Connection)
	if err != nil {
		return nil, err
	}
	return db.Upsert(ctx, u, rows)
}

// Check says whether a connection's system answers now.
func (p *Pool) Check(ctx context.Context, id string) error {
	s := p.settings[id]
	if s.Folder != "" {
		_, err := os.ReadDir(s.Folder)
		return err
	}
	db, err := p.DB(id)
	if err != nil {
		return err
	}
	return db.Ping(ctx)
}
