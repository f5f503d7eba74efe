package running

import (
	"encoding/json"
	"maps"
	"slices"
	"strconv"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
)

// CountsJSON writes the counts of steps as encoding/json does, without reflection: it is done for each run.
func CountsJSON(counts map[string]*Counts) []byte {
	b := make([]byte, 0, 2+40*len(counts))
	b = append(b, '{')
	for i, step := range slices.Sorted(maps.Keys(counts)) {
		if i > 0 {
			b = append(b, ',')
		}
		name, _ := json.Marshal(step) // a text can always be written
		b = append(append(b, name...), ':')
		b = counts[step].appendJSON(b)
	}
	return append(b, '}')
}

func (c *Counts) appendJSON(b []byte) []byte {
	if c == nil {
		return append(b, "null"...)
	}
	put := func(name string, n int64, always bool) {
		if n != 0 || always {
			b = strconv.AppendInt(append(b, name...), n, 10)
		}
	}
	put(`{"in":`, int64(c.In), true)
	put(`,"out":`, int64(c.Out), true)
	put(`,"left_out":`, int64(c.Skipped), true)
	put(`,"set_aside":`, int64(c.SetAside), true)
	put(`,"inserted":`, int64(c.Inserted), false)
	put(`,"updated":`, int64(c.Updated), false)
	put(`,"unchanged":`, int64(c.Unchanged), false)
	put(`,"called":`, int64(c.Called), false)
	put(`,"collected":`, int64(c.Collected), false)
	put(`,"caught":`, int64(c.Caught), false)
	put(`,"took":`, int64(c.Duration), false)
	put(`,"blank":`, int64(c.Blank), false)
	if len(c.Ignored) > 0 {
		paths, _ := json.Marshal(c.Ignored) // texts and numbers can always be written
		b = append(append(b, `,"ignored":`...), paths...)
	}
	return append(b, '}')
}

// maxIgnored bounds the paths of fields that the schema lacks.
const maxIgnored = 50

func (c *Counts) ignore(path string, n int) {
	if c.Ignored == nil {
		c.Ignored = map[string]int{}
	}
	if _, known := c.Ignored[path]; !known && len(c.Ignored) >= maxIgnored {
		path = notation.MoreIgnored
	}
	c.Ignored[path] += n
}

// IgnoredText tells which fields were passed over because the schema lacks them; empty where there were none.
func (c *Counts) IgnoredText() string { return notation.IgnoredText(c.Ignored) }

// PassedOver tells of which fields something was passed over because its schema lacks them.
type PassedOver struct {
	Step   string         // whose answers they were in; empty for the message, or the records, of the run
	Schema *schema.Schema // that lacks them
	Text   string
}

// PassedOver tells what was passed over in a run, by its counts.
func (p *Plan) PassedOver(counts map[string]*Counts) (list []PassedOver) {
	tell := func(id, name string, s *schema.Schema) {
		if c := counts[id]; c != nil && c.IgnoredText() != "" {
			list = append(list, PassedOver{name, s, c.IgnoredText()})
		}
	}
	begins := p.Input
	if p.Poll != nil {
		begins = p.Poll.Op.Response
	}
	tell(InputStep, "", begins)
	for _, ps := range p.Steps {
		switch {
		case ps.Step == p.ReadStep:
			tell(ps.Step.ID, "", p.Source)
		case ps.Op != nil:
			tell(ps.Step.ID, ps.Step.Name, ps.Op.Response)
		}
	}
	return list
}
