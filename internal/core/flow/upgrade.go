package flow

import (
	"slices"

	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
)

// Upgrade writes a flow part with the names of today where it has older ones, of kinds of step and of trigger, of branches and of
// settings. It says whether there were any.
func Upgrade(root partfile.Settings) (changed bool) {
	changed = Settings.Upgrade(root)
	changed = expandBridge(root) || changed
	if t, ok := root.Map("trigger"); ok {
		changed = upgradeTrigger(t) || changed
	}
	return upgradeSteps(root.List("steps")) || changed
}

// expandBridge writes what a bridge leaves out: a flow that says from which channel to which one moves messages as they are. It says
// whether it is one.
func expandBridge(root partfile.Settings) bool {
	from, to := root.Get("from"), root.Get("to")
	if _, has := root.Map("trigger"); from == "" || to == "" || has || len(root.List("steps")) > 0 {
		return false
	}
	root.Replace([]string{"from", "to"}, partfile.Ordered{
		{Key: "trigger", Value: partfile.Ordered{{Key: "kind", Value: "message"}, {Key: "channel", Value: from}}},
		{Key: "steps", Value: []partfile.Ordered{{{Key: "step", Value: "publish"}, {Key: "id", Value: "publish"}, {Key: "channel", Value: to}, {Key: "from", Value: "input"}}}},
	})
	return true
}

func upgradeTrigger(t partfile.Settings) (changed bool) {
	name := t.Get("kind")
	if name == "" {
		name = Triggers[0].Name
	}
	for _, k := range Triggers {
		if slices.Contains(k.Older, name) {
			t.Set("kind", k.Name)
			name, changed = k.Name, true
		}
	}
	if k := TriggerOf(name); k != nil {
		changed = k.Settings.Upgrade(t) || changed
	}
	return t.Change("with", func(text string) string { return formula.RenameName(text, "rising", "watermark") }) || changed
}

func upgradeSteps(steps []partfile.Settings) (changed bool) {
	for _, s := range steps {
		changed = upgradeStep(s) || changed
	}
	return changed
}

func upgradeStep(s partfile.Settings) (changed bool) {
	name := s.Get("step")
	k := KindCalled(name)
	if k == nil {
		return false
	}
	if k.Name != name {
		s.Set("step", k.Name)
		changed = true
	}
	changed = k.Settings.Upgrade(s) || changed
	for _, t := range k.Branches {
		for _, older := range t.Older {
			changed = s.Rename(older, t.Key) || changed
		}
		if !t.Many {
			changed = upgradeSteps(s.List(t.Key)) || changed
			continue
		}
		for _, one := range s.List(t.Key) {
			changed = upgradeSteps(one.List("steps")) || changed
		}
	}
	return changed
}
