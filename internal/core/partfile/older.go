package partfile

// Older are the names that settings of one mapping had before, and choices of theirs, with those of today. Part files may still say
// the older ones.
type Older struct {
	Names   map[string]string            // of settings
	Choices map[string]map[string]string // by the name of the setting today
}

// Upgrade writes the names of today. It says whether there were older ones.
func (o Older) Upgrade(s Settings) (changed bool) {
	for was, now := range o.Names {
		changed = s.Rename(was, now) || changed
	}
	for name, choices := range o.Choices {
		if now, older := choices[s.Get(name)]; older {
			s.Set(name, now)
			changed = true
		}
	}
	return changed
}

// UpgradeList writes the names of today in the mappings of a list.
func (o Older) UpgradeList(list []Settings) (changed bool) {
	for _, s := range list {
		changed = o.Upgrade(s) || changed
	}
	return changed
}
