// Package all is the list of the simulated systems. Adding one adds its folder and one line here.
package all

import (
	"context"
	"net/url"
	"path/filepath"
	"strings"

	"hollowreed/internal/standin"
	"hollowreed/internal/standin/berthmaster"
	"hollowreed/internal/standin/crewroll"
	"hollowreed/internal/standin/driftbox"
	"hollowreed/internal/standin/gauges"
	"hollowreed/internal/standin/ledger"
	"hollowreed/internal/standin/noticeboard"
	"hollowreed/internal/standin/office"
	"hollowreed/internal/standin/postroom"
	"hollowreed/internal/standin/quayside"
	"hollowreed/internal/standin/registry"
	"hollowreed/internal/standin/sftpdrop"
	"hollowreed/internal/standin/tariff"
)

// Alone are those that need nothing else, and can be started by themselves.
var Alone = []standin.Standin{
	gauges.Standin, quayside.Standin, crewroll.Standin, berthmaster.Standin, noticeboard.Standin, postroom.Standin, driftbox.Standin, sftpdrop.Standin, office.Standin, registry.Standin, tariff.Standin,
}

// Demo are all that the demo starts: with the ledger, a database at an address, which an administrator of its server can stop.
func Demo(ledgerURL, admin string) []standin.Standin {
	database := "harbour_ledger"
	if u, err := url.Parse(ledgerURL); err == nil {
		database = strings.TrimPrefix(u.Path, "/")
	}
	return append([]standin.Standin{ledger.Standin(ledgerURL, admin, database)}, Alone...)
}

// Start starts stand-ins below a data folder, until the context ends.
func Start(ctx context.Context, list []standin.Standin, data string) ([]*standin.Running, error) {
	abs, err := filepath.Abs(data)
	if err != nil {
		return nil, err
	}
	var running []*standin.Running
	for _, s := range list {
		r, err := s.Start(ctx, abs)
		if err != nil {
			return nil, err
		}
		r.Name = s.Name
		running = append(running, r)
	}
	return running, nil
}
