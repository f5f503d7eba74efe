package project

import (
	"slices"

	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/fault"
)

var channelKind = &kind{
	folder: Channels, one: "channel", title: "channel", named: map[string]string{"schema": Schemas, "copies/*/to": Channels},
	compile: func(k *looking, u *unit) {
		d := u.doc.Again()
		c := channel.Parse(u.ID, d, k)
		for _, copied := range c.Copies {
			if to := copied.To.Value; to != "" && !k.has(Channels, to) {
				d.Fault(copied.To, fault.New(fault.Unknown, "there is no channel %s", fault.Quote(to)).InField("to"))
			}
		}
		u.value = c
		u.found(d.Faults)
	},
	titled: func(u *unit) string { return titleOf(u, func(c *channel.Channel) string { return c.Title }) },
	uses: func(s *usage, u *unit) {
		for _, r := range u.refs() {
			s.part(r.kind, r.id)
		}
		for _, k := range u.value.(*channel.Channel).Programs() {
			s.formulas(k.Tables, k.Libraries)
		}
	},
	stays: func(*Project, string) string { return "its messages are kept under its id" },
}

// Channel finds a channel; nil when there is none.
func (p *Project) Channel(id string) *channel.Channel {
	return compiled[*channel.Channel](p, Channels, id)
}

// copiedInCircles finds channels that get copies of their own messages.
func (p *Project) copiedInCircles() {
	for _, part := range p.Parts(Channels) {
		c := p.Channel(part.ID)
		for _, k := range c.Copies {
			if p.copiesReach(k.To.Value, part.ID, nil) {
				p.Faults = append(p.Faults, fault.New(fault.Setting, "what is copied to %s comes back to %s", k.To.Value, part.ID).InField("to").
					At(fault.Place{Source: part.Path, Line: k.To.Line, Column: k.To.Column}))
			}
		}
	}
}

// copiesReach says whether messages of a channel are copied to another one, at whatever remove.
func (p *Project) copiesReach(from, to string, seen []string) bool {
	c := p.Channel(from)
	if c == nil || slices.Contains(seen, from) {
		return false
	}
	if from == to {
		return true
	}
	return slices.ContainsFunc(c.Copies, func(k *channel.Copy) bool { return p.copiesReach(k.To.Value, to, append(seen, from)) })
}
