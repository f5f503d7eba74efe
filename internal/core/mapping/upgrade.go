package mapping

import "hollowreed/internal/core/partfile"

// The names that settings of mappings had before.
var (
	older = partfile.Older{
		Names:   map[string]string{"keep": "conditions", "let": "variables"},
		Choices: map[string]map[string]string{"on fault": {"leave out entry": "skip entry", "leave out field": "omit field"}},
	}
	olderCondition = partfile.Older{Names: map[string]string{"else": "reason"}}
	olderRule      = partfile.Older{
		Names:   map[string]string{"inside": "nested lists", "position": "index", "let": "variables"},
		Choices: map[string]map[string]string{"when empty": {"leave out": "omit"}},
	}
)

// Upgrade writes a mapping part with the names of today where it has older ones. It says whether there were any.
func Upgrade(root partfile.Settings) (changed bool) {
	changed = older.Upgrade(root)
	changed = olderCondition.UpgradeList(root.List("conditions")) || changed
	return olderRule.UpgradeList(root.List("rules")) || changed
}
