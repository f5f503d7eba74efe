package schema

import "hollowreed/internal/core/partfile"

// The names that settings of schemas had before.
var (
	older         = partfile.Older{Names: map[string]string{"written": "notation settings", "left out": "not imported"}}
	olderSettings = partfile.Older{
		Names: map[string]string{"most bytes": "max record bytes", "begins": "starts with"},
		Choices: map[string]map[string]string{
			"null as": {"left out": Omitted}, "empty as": {"left out": Omitted}, "absent as": {"left out": Omitted},
		},
	}
	olderField = partfile.Older{Names: map[string]string{
		"must": "constraints", "begins": "starts with", "marks": "discriminator", "fill": "padding", "implied places": "implied decimals",
	}}
	olderConstraints = partfile.Older{Names: map[string]string{
		"least": "minimum", "greatest": "maximum", "least length": "min length", "most length": "max length", "digits": "total digits", "places": "fraction digits",
	}}
)

// Upgrade writes a schema part with the names of today where it has older ones. It says whether there were any.
func Upgrade(root partfile.Settings) (changed bool) {
	changed = older.Upgrade(root)
	if s, ok := root.Map("notation settings"); ok {
		changed = olderSettings.Upgrade(s) || changed
	}
	return upgradeFields(root.List("fields"), 0) || changed
}

func upgradeFields(fields []partfile.Settings, depth int) (changed bool) {
	if depth > MaxDepth {
		return false
	}
	for _, f := range fields {
		changed = olderField.Upgrade(f) || changed
		if c, ok := f.Map("constraints"); ok {
			changed = olderConstraints.Upgrade(c) || changed
		}
		changed = upgradeFields(f.List("fields"), depth+1) || changed
	}
	return changed
}
