// Package bench is the place of design. Each kind of part has a folder of its own for its pages.
package bench

import (
	"github.com/gin-gonic/gin"

	"hollowreed/internal/web/bench/apis"
	"hollowreed/internal/web/bench/channels"
	"hollowreed/internal/web/bench/chart"
	"hollowreed/internal/web/bench/connections"
	"hollowreed/internal/web/bench/flows"
	"hollowreed/internal/web/bench/libraries"
	"hollowreed/internal/web/bench/mappings"
	"hollowreed/internal/web/bench/parts"
	"hollowreed/internal/web/bench/schemas"
	"hollowreed/internal/web/bench/tables"
	"hollowreed/internal/web/page"
)

// Routes adds the place's addresses.
func Routes(r gin.IRouter, s *page.Site) {
	for _, add := range []func(gin.IRouter, *page.Site){
		chart.Routes, parts.Routes, flows.Routes, mappings.Routes, schemas.Routes, connections.Routes, tables.Routes, libraries.Routes, apis.Routes, channels.Routes,
	} {
		add(r, s)
	}
}
