package base

import (
	"strconv"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var helpView = page.Parse(files, "help.html")

// Complete sends what could stand at the caret of a formula in a scope.
func Complete(c *gin.Context, scope *formula.Scope) error {
	rule := c.Query("rule")
	if len(rule) > formula.MaxSource {
		return store.ErrNotFound
	}
	caret, _ := strconv.Atoi(c.Query("at"))
	helpView.Part(c, "help", formula.Complete(rule, caret, scope))
	return nil
}

// FaultsAt divides a list into the faults at a place of a part's text and the others.
func FaultsAt(list fault.List, at partfile.Text) (there, left fault.List) {
	for _, f := range list {
		if at.Line > 0 && f.Place.Line == at.Line {
			there = append(there, f)
		} else {
			left = append(left, f)
		}
	}
	return there, left
}

// Unset says whether a required setting is not set yet, and gives the faults without that one.
func Unset(list fault.List, setting string) (is bool, left fault.List) {
	for _, f := range list {
		if f.Setting == setting {
			is = true
		} else {
			left = append(left, f)
		}
	}
	return is, left
}
