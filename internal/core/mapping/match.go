package mapping

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Proposal is a rule that is proposed for a target field that has none.
type Proposal struct {
	Field  string // path of the target field
	Kind   RuleKind
	Text   string
	As     string // name of the item, for an each
	Score  int    // how sure it is, up to 100
	Reason string
}

// Bounds and weights of matching.
const (
	leastScore   = 55
	sameName     = 90 // and up to 10 more for where the fields stand
	sameForm     = 80
	sameWords    = 76
	likeName     = 40 // and up to 40 more for the words in common
	mostPairs    = 2_000_000
	mostMatching = 20_000 // fields of one record
)

// Match proposes rules for the target fields that have none, below a branch of the target or, with an
// empty one, everywhere: by the same name, by the same name in another form, then by what the names
// and the places of the fields have in common. A list of records that is matched onto another carries
// the fields inside with it. The proposals do not depend on the order of fields, and stand in the
// order of the target.
func (p *Plan) Match(branch string) []Proposal {
	m := &matcher{branch: branch}
	m.record(p.root, p.scopeOf())
	return m.found
}

type matcher struct {
	branch string
	found  []Proposal
}

// source is a field that rules can read, and how they name it.
type source struct {
	ref   string
	path  []string
	field *schema.Field
	words nameWords
}

// target is a field without a rule.
type target struct {
	name  string
	path  []string
	field *schema.Field
	words nameWords
}

// inside is what the rules at one level of the target can read.
type inside struct {
	scope   *formula.Scope
	sources []source
}

func (p *Plan) scopeOf() inside {
	in := inside{scope: p.root.scope}
	for i, src := range p.Mapping.From {
		in.sources = append(in.sources, reachable(in.scope, src.Name.Value, p.Sources[i].Root)...)
	}
	return in
}

// reachable are the fields of a record that can be read without entering a list.
func reachable(scope *formula.Scope, name string, record *schema.Field) []source {
	var out []source
	var walk func(f *schema.Field, path []string)
	walk = func(f *schema.Field, path []string) {
		for _, c := range f.Fields {
			at := append(path[:len(path):len(path)], c.Name)
			if len(out) == mostMatching {
				return
			}
			if c.Kind == value.RecordKind && !c.List() {
				walk(c, at)
				continue
			}
			if c.Kind == value.VariantKind && !c.List() {
				walk(c, at)
			}
			out = append(out, source{ref: reference(scope, name, at), path: at, field: c, words: wordsOf(at)})
		}
	}
	walk(record, nil)
	return out
}

// reference is how a formula names a field of a record in scope: without the record's name where that
// leads to the same.
func reference(scope *formula.Scope, name string, path []string) string {
	if b, ok := scope.ResolveName(path[0]); ok && b == name && formula.Name(path[0]) {
		return formula.Path(path)
	}
	return formula.Path(append([]string{name}, path...))
}

// record matches the fields of a record of the target, and those of the lists inside that are made by
// an each, or will be.
func (m *matcher) record(n *node, in inside) {
	var targets []target
	lists := map[string]*node{}
	var walk func(n *node)
	walk = func(n *node) {
		for _, c := range n.made() {
			name := c.info.Name()
			switch {
			case c.info.Rule != nil && c.info.Rule.Kind == Each && c.scope != nil:
				_, t, _ := c.scope.Slot(c.opened)
				m.list(c, c.scope, c.opened, t.Fields)
			case c.info.Rule != nil && c.info.Rule.Kind == Record:
				walk(c)
			case c.info.Rule != nil:
			case c.field.Kind == value.RecordKind && !c.field.List(), c.info.Branches:
				walk(c)
			case m.wanted(name) && len(targets) < mostMatching:
				targets = append(targets, target{name: name, path: c.info.Path, field: c.field, words: wordsOf(c.info.Path)})
				lists[name] = c
			}
		}
	}
	walk(n)
	for _, pr := range assign(targets, in) {
		m.found = append(m.found, pr.Proposal)
		if pr.Kind == Each {
			inner := in.scope.Inner()
			inner.Define(pr.As, *formula.Of(pr.list).Item)
			inner.Open(pr.As)
			m.list(lists[pr.Field], inner, pr.As, pr.list)
		}
	}
}

// list matches what is inside of a list with the fields of its items.
func (m *matcher) list(n *node, scope *formula.Scope, item string, fields *schema.Field) {
	in := inside{scope: scope}
	if fields != nil {
		in.sources = reachable(scope, item, fields)
	}
	m.record(n, in)
}

func (m *matcher) wanted(name string) bool {
	return m.branch == "" || name == m.branch || strings.HasPrefix(name, m.branch+"/")
}

// pair is a target with a source that could feed it.
type pair struct {
	target, source int
	score          int
	reason         string
	text           string
}

type proposed struct {
	Proposal
	list *schema.Field
}

// assign gives every target the best source; one that is only like it is given once.
func assign(targets []target, in inside) []proposed {
	pairs := pairsOf(targets, in)
	slices.SortFunc(pairs, func(a, b pair) int {
		return cmp.Or(cmp.Compare(b.score, a.score), strings.Compare(targets[a.target].name, targets[b.target].name),
			strings.Compare(in.sources[a.source].ref, in.sources[b.source].ref))
	})
	taken, used := map[int]*pair{}, map[int]bool{}
	for i := range pairs {
		p := &pairs[i]
		if taken[p.target] == nil && (!used[p.source] || p.score >= sameForm) {
			taken[p.target], used[p.source] = p, true
		}
	}
	var out []proposed
	for i, t := range targets {
		p := taken[i]
		if p == nil {
			continue
		}
		pr := proposed{Proposal: Proposal{Field: t.name, Kind: Formula, Text: p.text, Score: p.score, Reason: p.reason}}
		if t.field.Kind == value.RecordKind {
			pr.Kind, pr.list = Each, in.sources[p.source].field
			pr.As = itemName(in.scope, pr.list.Name)
		}
		out = append(out, pr)
	}
	return out
}

// itemName is what an item of a list is called inside of its each.
func itemName(scope *formula.Scope, list string) string {
	if _, _, taken := scope.Slot(list); !taken && formula.Name(list) {
		return list
	}
	for i := 1; ; i++ {
		name := "item" + strings.TrimPrefix(strconv.Itoa(i), "1")
		if _, _, taken := scope.Slot(name); !taken {
			return name
		}
	}
}

func pairsOf(targets []target, in inside) []pair {
	var pairs []pair
	for i, t := range targets {
		for j, s := range in.sources {
			if len(pairs) == mostPairs {
				return pairs
			}
			score, reason := likeness(&t, &s)
			if score < leastScore {
				continue
			}
			text, off := written(t.field, s.field, s.ref)
			if text == "" || score-off < leastScore {
				continue
			}
			if text != s.ref {
				reason += ", made a " + t.field.Kind.String()
			}
			pairs = append(pairs, pair{i, j, score - off, reason, text})
		}
	}
	return pairs
}

// written is the formula that makes the target's type of a source's; empty where there is none. off is
// what a conversion takes from the score.
func written(to, from *schema.Field, ref string) (text string, off int) {
	switch {
	case to.List() != from.List(), (to.Kind == value.RecordKind) != (from.Kind == value.RecordKind):
		return "", 0
	case to.Kind == from.Kind, to.Kind == value.Decimal && from.Kind == value.Integer, to.Kind == value.AnyKind:
		return ref, 0
	case to.Nests() || from.Nests() || from.Kind == value.AnyKind:
		return "", 0
	case to.List():
		return "", 0
	case to.Kind == value.Text && from.Kind != value.Binary:
		return "text(" + ref + ")", 8
	case to.Kind == value.Date && from.Kind == value.Timestamp:
		return "date(" + ref + ")", 8
	}
	return "", 0
}

// likeness says how much two fields have in common by their names and places.
func likeness(t *target, s *source) (score int, reason string) {
	place := int(10 * overlap(t.words.around, s.words.around))
	from, to := s.path[len(s.path)-1], t.path[len(t.path)-1]
	switch {
	case from == to:
		return sameName + place, "the same name"
	case t.words.name == s.words.name:
		return sameForm + place, fmt.Sprintf("the same name in another form: %s", from)
	case t.words.whole == s.words.whole:
		return sameWords, "the same words: " + strings.Join(s.path, ".")
	}
	share := overlap(t.words.last, s.words.last)
	if share == 0 {
		return 0, ""
	}
	all := overlap(t.words.all, s.words.all)
	score = likeName + int(20*share+20*all)
	if share < 0.5 {
		score -= 15
	}
	return score, "like " + strings.Join(s.path, ".")
}
