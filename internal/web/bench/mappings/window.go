package mappings

import "strings"

// maxDrawn is how many rows of a tree are drawn at once.
const maxDrawn = 200

// windowed draws of large trees what the rules are about and the beginning; or what is sought.
func (d *mappingPage) windowed() {
	chosen := ""
	if d.Selected != nil {
		chosen = d.Selected.Name
	}
	d.Targets, d.HiddenTargets = window(d.Targets, d.FindTarget, chosen)
	d.Selected = nil
	drawn := map[string]bool{}
	for i := range d.Targets {
		if drawn[d.Targets[i].Name] = true; d.Targets[i].Chosen {
			d.Selected = &d.Targets[i]
		}
	}
	var links []link
	read := map[string]bool{}
	for _, l := range d.Links {
		if drawn[l.To] {
			links, read[l.From] = append(links, l), true
		}
	}
	for i := range d.Sources {
		d.Sources[i].read = read[d.Sources[i].Path]
	}
	d.Links = links
	d.Sources, d.HiddenSources = window(d.Sources, d.FindSource, "")
}

// row is a line of a tree.
type row interface {
	named() string // in the whole tree
	depth() int
	wanted() bool // among the first to be drawn
}

func (r sourceRow) named() string { return r.Path }
func (r sourceRow) depth() int    { return r.Indent }
func (r sourceRow) wanted() bool  { return r.read }
func (r targetRow) named() string { return r.Name }
func (r targetRow) depth() int    { return r.Indent }
func (r targetRow) wanted() bool  { return r.Rule != "" || r.Fault != nil }

// window chooses the rows that are drawn, in their order: the chosen one, those whose name holds a text or those that are wanted, the
// records around all of these, and where no text is sought others from the beginning. The rest is counted.
func window[R row](rows []R, text, chosen string) (drawn []R, hidden int) {
	if len(rows) <= maxDrawn && text == "" {
		return rows, 0
	}
	text = strings.ToLower(text)
	takes := make([]bool, len(rows))
	n := 0
	take := func(i int) {
		if !takes[i] {
			takes[i] = true
			n++
		}
	}
	var around []int // the rows around the one at hand, by depth
	for i, r := range rows {
		around = append(around[:min(r.depth(), len(around))], i)
		sought := text != "" && strings.Contains(strings.ToLower(lastName(r.named())), text)
		if r.named() != chosen && (n >= maxDrawn || !sought && (text != "" || !r.wanted())) {
			continue
		}
		for _, at := range around {
			take(at)
		}
	}
	for i := range rows {
		if text == "" && n < maxDrawn {
			take(i)
		}
		if takes[i] {
			drawn = append(drawn, rows[i])
		}
	}
	return drawn, len(rows) - len(drawn)
}

// lastName is what a row is called in its record.
func lastName(path string) string { return path[strings.LastIndexAny(path, "./")+1:] }
