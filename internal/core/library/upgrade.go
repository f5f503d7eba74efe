package library

import "hollowreed/internal/core/partfile"

// olderCase are the names that settings of a function's case had before.
var olderCase = partfile.Older{Names: map[string]string{"gives": "result"}}

// Upgrade writes a library part with the names of today where it has older ones. It says whether there were any.
func Upgrade(root partfile.Settings) (changed bool) {
	for _, f := range root.List("functions") {
		changed = olderCase.UpgradeList(f.List("cases")) || changed
	}
	return changed
}
