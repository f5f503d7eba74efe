package form

import (
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/setting"
)

// Parts are the parts that a setting can name, those that fit; fits may be nil. What is chosen is among them.
func Parts(p *project.Project, s setting.Setting, chosen string, fits func(id string) bool) []Option {
	list := []Option{{Title: "none"}}
	switch {
	case s.Required:
		list[0].Title = "choose…"
	case s.None != "":
		list[0].Title = s.None
	}
	there := chosen == ""
	for _, part := range p.Parts(project.FolderOf(s.Of)) {
		if fits == nil || part.ID == chosen || fits(part.ID) {
			list = append(list, Option{part.ID, part.Title})
			there = there || part.ID == chosen
		}
	}
	if !there {
		list = append(list, Option{chosen, chosen + " is not there"})
	}
	return list
}
