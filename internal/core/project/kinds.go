package project

import (
	"regexp"
	"slices"

	"hollowreed/internal/core/partfile"

	_ "hollowreed/internal/core/flow/step"    // makes the kinds of step known,
	_ "hollowreed/internal/core/flow/trigger" // and those of trigger
)

// The kinds of part, by their folder.
const (
	Schemas     = "schemas"
	Mappings    = "mappings"
	Connections = "connections"
	Flows       = "flows"
	Samples     = "samples"
	Cases       = "cases"
	Tables      = "tables"
	Libraries   = "libraries"
	Alerts      = "alerts"
	APIs        = "apis"
	Contracts   = "contracts"
	Channels    = "channels"
)

// Upgraded is the text of a part with the names of today, where it has older ones.
func Upgraded(path string, text []byte) []byte {
	name, _, ok := Kind(path)
	if k := kindOf(name); ok && k != nil && k.older != nil {
		return partfile.Upgraded(text, k.older)
	}
	return text
}

// kind is one kind of part: all that a project does with parts of it.
type kind struct {
	folder string
	one    string // what one is called in settings that name it
	title  string // the setting that has the title; empty where a part has none, and is shown by its id
	files  bool   // its parts are files of any name, whose name is the id

	older   func(root partfile.Settings) bool    // writes what has older names with those of today; nil: there are none
	parse   func(id string, d *partfile.Doc) any // what others may know of a part without compiling it; nil: nothing
	compile func(k *looking, u *unit)            // sets the unit's value and faults; nil: what was parsed is all
	titled  func(u *unit) string                 // the title; empty where there is none

	named map[string]string                         // settings that name other parts, by the names on their way, with the kind of those: * is any position
	refs  func(u *unit) []ref                       // the settings that name other parts; nil: as named says
	uses  func(s *usage, u *unit)                   // what a release with the part needs beside it; nil: nothing
	stays func(p *Project, id string) string        // why a part keeps its id; nil: it may get another
	calls func(id string) *regexp.Regexp            // finds where formulas name a part, between two groups; nil: none does
	users func(p *Project, id string, by Part) bool // whether another part uses one in its formulas; nil: none does
}

// kinds is the list of the kinds of part.
var kinds []*kind

func init() { // what compiles a part knows the list
	kinds = []*kind{connectionKind, schemaKind, mappingKind, flowKind, sampleKind, caseKind, tableKind, libraryKind, alertKind, apiKind, contractKind, channelKind}
}

func kindOf(folder string) *kind {
	i := slices.IndexFunc(kinds, func(k *kind) bool { return k.folder == folder })
	if i < 0 {
		return nil
	}
	return kinds[i]
}

// Folders are the folders of the kinds of part.
func Folders() []string {
	list := make([]string, len(kinds))
	for i, k := range kinds {
		list[i] = k.folder
	}
	return list
}

// OneOf is what a part of a folder is called.
func OneOf(folder string) string {
	if k := kindOf(folder); k != nil {
		return k.one
	}
	return folder
}

// FolderOf is the folder of a kind by what one is called in settings.
func FolderOf(one string) string {
	i := slices.IndexFunc(kinds, func(k *kind) bool { return k.one == one })
	if i < 0 {
		return one
	}
	return kinds[i].folder
}

// TitleKey is the setting in which parts of a kind have their title; empty where they have none.
func TitleKey(folder string) string {
	if k := kindOf(folder); k != nil {
		return k.title
	}
	return ""
}
