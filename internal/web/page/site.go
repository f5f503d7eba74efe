package page

import (
	"context"
	"crypto/x509"
	"log/slog"
	"slices"
	"sync"

	"hollowreed/internal/connector"
	"hollowreed/internal/design"
	"hollowreed/internal/engine"
	"hollowreed/internal/store"
	"hollowreed/internal/vault"
)

// Shared is what the sites of all projects have in common.
type Shared struct {
	DB          *store.Pool
	Engine      *engine.Engine
	Pools       *engine.Connections
	Vault       *vault.Vault // gives that of each scope
	Hub         *Hub
	Log         *slog.Logger
	Environment string         // in which runs are that are shown
	Person      store.Person   // who asks: nobody signs in yet
	Address     string         // of the pages, as http://127.0.0.1:8420
	Calls       string         // of the requests that start flows, as http://127.0.0.1:8421
	CallsTrust  *x509.CertPool // by which that address is known, where it is not known otherwise; nil: it is
	TrustsProxy bool           // a proxy that ends TLS tells the certificates of clients (RFC 9440)
}

// Site is what the handlers work with: the pages of one project in an environment.
type Site struct {
	*design.Workspace
	Outside *connector.Pool     // of the scope
	Pools   *engine.Connections // of all scopes
	Vault   *vault.Vault        // of the scope
	Hub     *Hub
	Log     *slog.Logger
	Address string // of the project's pages, as http://127.0.0.1:8420/p/skerry
	Calls   string // of the requests that start its flows, as http://127.0.0.1:8421/p/skerry

	CallsTrust  *x509.CertPool
	TrustsProxy bool
}

// NewSite makes the site of a project.
func NewSite(of Shared, projectID string) *Site {
	s := store.Scope{Project: projectID, Environment: of.Environment}
	w := &design.Workspace{DB: of.DB, Scope: s, Compiled: of.Engine.Compiled(), Engine: of.Engine}
	return &Site{
		Workspace: w, Outside: of.Pools.Of(s), Pools: of.Pools, Vault: of.Vault.Of(s), Hub: of.Hub, Log: of.Log,
		Address: of.Address + Base(projectID), Calls: of.Calls + Base(projectID), CallsTrust: of.CallsTrust, TrustsProxy: of.TrustsProxy,
	}
}

// Sites are the sites of all projects.
type Sites struct {
	Shared
	mu    sync.Mutex
	known map[string]*Site
	first string // the oldest project, once it is known
}

// Of gives the site of a project; ErrNotFound where there is none of that id.
func (s *Sites) Of(ctx context.Context, projectID string) (*Site, error) {
	s.mu.Lock()
	site := s.known[projectID]
	s.mu.Unlock()
	if site != nil {
		return site, nil
	}
	projects, err := store.Projects(ctx, s.DB)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(projects, projectID) {
		return nil, store.ErrNotFound
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.known == nil {
		s.known = map[string]*Site{}
	}
	if s.known[projectID] == nil {
		s.known[projectID] = NewSite(s.Shared, projectID)
	}
	return s.known[projectID], nil
}

// First is the oldest project, to which addresses lead that name none; ErrNotFound where there is no project. It stays the oldest,
// so it is asked for once.
func (s *Sites) First(ctx context.Context) (string, error) {
	s.mu.Lock()
	first := s.first
	s.mu.Unlock()
	if first != "" {
		return first, nil
	}
	projects, err := store.Projects(ctx, s.DB)
	if err == nil && len(projects) == 0 {
		err = store.ErrNotFound
	}
	if err != nil {
		return "", err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.first = projects[0]
	return s.first, nil
}
