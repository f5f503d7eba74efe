package mapping

import (
	"cmp"
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/compare"
	"hollowreed/internal/core/value"
)

// Move is a field of a schema that has another name or place than before.
type Move struct {
	Schema   string // id
	From, To []string
	Reason   string
}

// Moves finds the fields that were renamed, or stand elsewhere under their name, between two states of a
// schema.
func Moves(old, now *schema.Schema) []Move {
	var out []Move
	var gone, come []string
	renamed := map[string]string{} // names of fields, before and now
	for _, ch := range compare.Schemas(old, now) {
		to := strings.Split(ch.Path, "/")
		switch ch.Kind {
		case compare.Renamed:
			from := slices.Clone(to)
			from[len(from)-1] = ch.Was
			renamed[ch.Was] = to[len(to)-1]
			out = append(out, Move{Schema: now.ID, From: from, To: to, Reason: "renamed in " + now.Title})
		case compare.Removed:
			gone = append(gone, ch.Path)
		case compare.Added:
			come = append(come, ch.Path)
		}
	}
	for _, from := range gone {
		a := strings.Split(from, "/")
		for _, to := range come {
			if b := strings.Split(to, "/"); a[len(a)-1] == b[len(b)-1] {
				out = append(out, Move{Schema: now.ID, From: a, To: b, Reason: "moved in " + now.Title})
			}
		}
		if from, to := instead(old, now, a, renamed); to != nil {
			out = append(out, Move{Schema: now.ID, From: from, To: to, Reason: "stands in its place in " + now.Title})
		}
	}
	slices.SortStableFunc(out, func(a, b Move) int { return cmp.Compare(len(b.From), len(a.From)) })
	return out
}

// instead is the field that came in the place of one that is gone: at the same position of the same record,
// and of the same type. Both paths are given as they are written before and now.
func instead(old, now *schema.Schema, path []string, renamed map[string]string) (from, to []string) {
	was, record := old.Root, now.Root
	for _, name := range path[:len(path)-1] {
		before, after := name, name
		if was.Field(name) == nil {
			before = nameBefore(renamed, name)
		}
		if record.Field(name) == nil {
			after = renamed[name]
		}
		from, to = append(from, before), append(to, after)
		if was, record = was.Field(before), record.Field(after); was == nil || record == nil {
			return nil, nil
		}
	}
	name := path[len(path)-1]
	f := was.Field(name)
	if f == nil || f.Slot() >= len(record.Fields) {
		return nil, nil
	}
	next := record.Fields[f.Slot()]
	if next.Kind != f.Kind || next.List() != f.List() || was.Field(next.Name) != nil {
		return nil, nil
	}
	return append(from, name), append(to, next.Name)
}

// nameBefore finds the older name of a renamed field.
func nameBefore(renamed map[string]string, now string) string {
	for was, is := range renamed {
		if is == now {
			return was
		}
	}
	return now
}

// Fix is a change that would take a fault out of a mapping.
type Fix struct {
	Field  string // the rule, variable or condition that is changed, as a person reads it
	At     []any  // the setting in the part
	Was    string
	Now    string
	Reason string
}

// SuggestFixes proposes changes for rules that make fields which the target does not have, and for formulas that
// read names which are not there: by what is known of the schemas' changes, else by likeness. A changed
// formula is proposed only if it has no fault.
func (p *Plan) SuggestFixes(moves []Move) []Fix {
	m := fixer{plan: p, moves: moves}
	if len(p.Faults) == 0 {
		return nil
	}
	m.orphans()
	for i := range p.Mapping.Variables {
		v := &p.Mapping.Variables[i]
		m.formula(v.Name, []any{"variables", i, "formula"}, v.Formula, p.root.scope)
	}
	for i, k := range p.Mapping.Conditions {
		m.formula("only where", []any{"conditions", i, "when"}, k.When, p.root.scope)
	}
	var broken []string // lists whose items are not known before they are mended
	for _, f := range p.Fields {
		switch {
		case f.Rule == nil || len(f.Faults) == 0 || within(f.Name(), broken):
		case m.rule(f):
			broken = append(broken, f.Name()+"/")
		}
	}
	return m.found
}

func within(name string, lists []string) bool {
	return slices.ContainsFunc(lists, func(l string) bool { return strings.HasPrefix(name, l) })
}

type fixer struct {
	plan  *Plan
	moves []Move
	found []Fix
}

// rule proposes mends for the formulas of a rule; it is true when that of its list has a fault.
func (m *fixer) rule(f *Field) (broken bool) {
	r, scope, inside := f.Rule, m.plan.Scope(f.Name()), m.plan.Scope(f.Name()+"/")
	for _, t := range []struct {
		key   string
		text  partfile.Text
		scope *formula.Scope
	}{
		{string(r.Kind), r.Text, scope},
		{"when", r.When, scope},
		{"default", r.Default, scope},
		{"key", r.Key, inside},
		{"where", r.Where, inside},
		{"distinct by", r.Distinct, inside},
		{"group by", r.Group, inside},
	} {
		if t.key == string(Constant) || t.key == string(Script) {
			continue
		}
		wrong := m.formula(f.Name(), []any{"rules", f.Index, t.key}, t.text, t.scope)
		if wrong && t.key == string(Each) {
			return true
		}
	}
	return false
}

// formula proposes another text for a formula that has a fault, and says whether it has.
func (m *fixer) formula(name string, at []any, t partfile.Text, scope *formula.Scope) bool {
	if t.Line == 0 {
		return false
	}
	_, faults := formula.Compile(t.Value, scope)
	if faults == nil {
		return false
	}
	now, reason := m.moved(t.Value)
	if !sound(now, scope) {
		now, reason = m.guessed(t.Value, faults)
	}
	if now != t.Value && sound(now, scope) {
		m.found = append(m.found, Fix{Field: name, At: at, Was: t.Value, Now: now, Reason: reason})
	}
	return true
}

func sound(source string, scope *formula.Scope) bool {
	_, faults := formula.Compile(source, scope)
	return faults == nil
}

// moved writes the new names of moved fields into a formula.
func (m *fixer) moved(source string) (text, reason string) {
	text = source
	for _, mv := range m.moves {
		for _, src := range m.plan.Mapping.From {
			if src.Schema.Value != mv.Schema {
				continue
			}
			for _, v := range variants(src.Name.Value, mv) {
				if now := v.in(text); now != text {
					text, reason = now, mv.Reason
					break
				}
			}
		}
	}
	return text, reason
}

// variant is one way in which a formula may name a field, before and after.
type variant struct{ from, to string }

// variants are the ways to name a field: from its source, by itself, from a list around it, and as the
// field of an item.
func variants(source string, mv Move) []variant {
	out := []variant{
		{formula.Path(append([]string{source}, mv.From...)), formula.Path(append([]string{source}, mv.To...))},
		{formula.Path(mv.From), formula.Path(mv.To)},
	}
	for i := 1; i < len(mv.From) && i < len(mv.To) && mv.From[i-1] == mv.To[i-1]; i++ {
		out = append(out, variant{formula.Path(mv.From[i:]), formula.Path(mv.To[i:])}, variant{"." + formula.Path(mv.From[i:]), "." + formula.Path(mv.To[i:])})
	}
	if len(mv.From) == len(mv.To) {
		last := len(mv.From) - 1
		out = append(out, variant{"." + mv.From[last], "." + mv.To[last]})
	}
	return out
}

// in puts the new name in place of the old one wherever it stands as a whole.
func (v variant) in(source string) string { return formula.RenameName(source, v.from, v.to) }

var (
	noName   = regexp.MustCompile(`(?:there is no|has no field) "([^"]+)"`)
	didYou   = regexp.MustCompile(`Did you mean (.+)\?`)
	leastFit = 0.5
)

// guessed puts the most likely names in place of those that are not there.
func (m *fixer) guessed(source string, faults fault.List) (text, reason string) {
	text = source
	for _, f := range faults {
		missing := noName.FindStringSubmatch(f.Message)
		if missing == nil {
			continue
		}
		name, why := "", "the name that is most like it"
		if hint := didYou.FindStringSubmatch(f.Fix); hint != nil {
			name = hint[1]
		} else if name = m.like(missing[1]); name == "" {
			continue
		}
		re := regexp.MustCompile(`\b` + regexp.QuoteMeta(missing[1]) + `\b`)
		now := formula.OutsideTexts(text, func(code string) string { return re.ReplaceAllString(code, strings.ReplaceAll(name, "$", "$$")) })
		if now != text {
			text, reason = now, why
		}
	}
	return text, reason
}

// like is the name of a field of the sources whose words are most like those of a name.
func (m *fixer) like(name string) string {
	words, best, most := wordsOf([]string{name}), "", leastFit
	for _, s := range m.plan.Sources {
		s.Root.Walk(func(path []string, f *schema.Field) {
			if len(path) == 0 || !formula.Name(f.Name) {
				return
			}
			if fit := overlap(words.last, wordsOf(path).last); fit > most {
				best, most = f.Name, fit
			}
		})
	}
	return best
}

// orphans proposes a field for every rule whose field the target does not have.
func (m *fixer) orphans() {
	taken := map[string]string{} // old path to new, of those that were found
	for _, i := range m.plan.Orphans {
		r := &m.plan.Mapping.Rules[i]
		now, reason := m.follow(r.Field.Value, taken)
		if now == "" {
			now, reason = m.likeliest(r)
		}
		if now == "" {
			continue
		}
		taken[r.Field.Value] = now
		m.found = append(m.found, Fix{Field: r.Field.Value, At: []any{"rules", i, "field"}, Was: r.Field.Value, Now: now, Reason: reason})
	}
}

// follow finds the new path of a field by the moves of the target's schema, or with a list or record
// around it that has a new path.
func (m *fixer) follow(path string, taken map[string]string) (now, reason string) {
	for _, mv := range m.moves {
		from, to := strings.Join(mv.From, "/"), strings.Join(mv.To, "/")
		rest, below := strings.CutPrefix(path, from)
		if mv.Schema != m.plan.Mapping.To.Value || !below || rest != "" && rest[0] != '/' && rest[0] != '[' {
			continue
		}
		if m.has(to + rest) {
			return to + rest, mv.Reason
		}
	}
	for old, to := range taken {
		if rest, below := strings.CutPrefix(path, old+"/"); below && m.has(to+"/"+rest) {
			return to + "/" + rest, "it stands in " + to
		}
	}
	return "", ""
}

// has says whether the target has a field, with a rule or without.
func (m *fixer) has(path string) bool {
	f := m.plan.Target.Root
	for name := range strings.SplitSeq(path, "/") {
		if list, _, ok := labelled(name); ok && f.Field(name) == nil {
			name = list
		}
		if f = f.Field(name); f == nil {
			return false
		}
	}
	return true
}

// likeliest is the field without a rule that is most like the one of a rule.
func (m *fixer) likeliest(r *Rule) (path, reason string) {
	names := strings.Split(r.Field.Value, "/")
	old := source{path: names, words: wordsOf(names)}
	best := leastScore - 1
	for _, f := range m.plan.Fields {
		if f.Rule != nil || !slices.Contains(KindsFor(f.Field), r.Kind) || len(f.Path) != len(names) && f.Field.Kind == value.RecordKind {
			continue
		}
		score, why := likeness(&target{name: f.Name(), path: f.Path, field: f.Field, words: wordsOf(f.Path)}, &old)
		if score > best {
			best, path, reason = score, f.Name(), why
		}
	}
	return path, reason
}

// Renames are the changes that give a variable another name wherever a formula reads it.
func (p *Plan) Renames(old, now string) []Fix {
	var out []Fix
	v := variant{old, now}
	change := func(field, text string, at ...any) {
		if to := v.in(text); to != text {
			out = append(out, Fix{Field: field, At: at, Was: text, Now: to, Reason: "renamed"})
		}
	}
	for i, l := range p.Mapping.Variables {
		change(l.Name, l.Formula.Value, "variables", i, "formula")
	}
	for i, k := range p.Mapping.Conditions {
		change("only where", k.When.Value, "conditions", i, "when")
	}
	for i := range p.Mapping.Rules {
		r := &p.Mapping.Rules[i]
		for key, text := range map[string]string{
			string(r.Kind): r.Text.Value, "when": r.When.Value, "default": r.Default.Value, "key": r.Key.Value, "where": r.Where.Value,
			"distinct by": r.Distinct.Value, "group by": r.Group.Value, "sort by": r.Sort.Value,
		} {
			if key != string(Constant) {
				change(r.Field.Value, text, "rules", i, key)
			}
		}
		for j, in := range r.Nested {
			change(r.Field.Value, in.List.Value, "rules", i, "nested lists", j, "each")
		}
		for j, l := range r.Variables {
			change(r.Field.Value, l.Formula.Value, "rules", i, "variables", j, "formula")
		}
	}
	return out
}
