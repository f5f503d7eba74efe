package base

import (
	"encoding/json"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/script"
	"hollowreed/internal/store"
	"hollowreed/internal/web/page"
)

var helpView = page.Parse(files, "help.html")

// helpPart is what is said of a formula while it is typed: what could stand at the caret, and what is wrong.
type helpPart struct {
	formula.Help
	Wrong []formula.Span
}

// Faults is what is wrong as JSON, for the editor that underlines it.
func (h helpPart) Faults() (string, error) {
	text, err := json.Marshal(h.Wrong)
	return string(text), err
}

// Complete sends what could stand at the caret of a formula in a scope, and what is wrong in it. Without a caret it is only that.
func Complete(c *gin.Context, scope *formula.Scope) error {
	rule := c.Query("rule")
	if len(rule) > formula.MaxSource {
		return store.ErrNotFound
	}
	help := helpPart{Wrong: formula.Wrong(rule, scope)}
	if c.Query("sort") != "" {
		help.Wrong = wrongKeys(rule, scope)
	}
	if caret, err := strconv.Atoi(c.Query("at")); err == nil && caret >= 0 {
		help.Help = formula.Complete(rule, caret, scope)
	}
	helpView.Part(c, "help", help)
	return nil
}

// CompleteScript is Complete for a script of a mapping: the rule of a field, or in place of all rules where the field is empty.
func CompleteScript(c *gin.Context, plan *mapping.Plan, field string) error {
	text := c.Query("rule")
	if len(text) > script.MaxSource {
		return store.ErrNotFound
	}
	help := helpPart{Wrong: plan.ScriptWrong(field, text)}
	if caret, err := strconv.Atoi(c.Query("at")); err == nil && caret >= 0 {
		help.Help = plan.ScriptHelp(field, text, caret)
	}
	helpView.Part(c, "help", help)
	return nil
}

// wrongKeys are the places that are at fault in what entries are sorted by.
func wrongKeys(rule string, scope *formula.Scope) (wrong []formula.Span) {
	for key := range mapping.SortKeys(rule) {
		if strings.TrimSpace(key.Formula) == "" {
			continue
		}
		from := utf8.RuneCountInString(rule[:key.At])
		for _, m := range formula.Wrong(key.Formula, scope) {
			m.From, m.To = m.From+from, m.To+from
			wrong = append(wrong, m)
		}
	}
	return wrong
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
