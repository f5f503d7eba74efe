package mappings

import (
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/script"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/page"
)

// setRule changes, adds or (with an empty text) removes the rule of a target field, a variable or a
// condition.
func (b pages) setRule(c *gin.Context) error {
	_, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	field := c.PostForm("field")
	most := formula.MaxSource
	if field == scriptRow || c.PostForm("kind") == string(mapping.Script) {
		most = script.MaxSource
	}
	if len(c.PostForm("rule")) > most {
		return fault.New(fault.Limit, "the rule is longer than %d bytes", most)
	}
	err = b.Save(c, project.Path(project.Mappings, id), func(text []byte) ([]byte, error) {
		e := ruleEdit{plan: plan, text: text, field: field, form: c.GetPostForm}
		err := e.apply()
		field = e.field
		return e.text, err
	})
	if err != nil {
		return err
	}
	d, err := b.mappingPageOf(c, id, field, c.PostForm("record"), c.PostForm("show"), field)
	if err != nil {
		return err
	}
	mappingView.Part(c, "changed", d)
	return nil
}

// ruleEdit changes the text of a mapping's part as a form says. Settings that are not in the form stay
// as they are.
type ruleEdit struct {
	plan  *mapping.Plan
	text  []byte
	field string // afterwards that under which it is found
	form  func(name string) (string, bool)
}

func (e *ruleEdit) value(name string) string {
	v, _ := e.form(name)
	return strings.TrimSpace(v)
}

func (e *ruleEdit) apply() error {
	name, variable := strings.CutPrefix(e.field, variableRow)
	n, condition := strings.CutPrefix(e.field, conditionRow)
	switch {
	case e.field == scriptRow:
		if text := base.UnixLines(e.value("rule")); text != strings.TrimSpace(e.plan.Mapping.Script.Value) {
			return e.set([]any{"script"}, text)
		}
		return nil
	case variable:
		return e.variable(name)
	case condition:
		return e.condition(n)
	}
	return e.rule()
}

// set changes one setting; an empty text takes it out.
func (e *ruleEdit) set(path []any, to any) (err error) {
	e.text, err = partfile.Set(e.text, path, to)
	return err
}

// entry changes, adds or removes an entry of a list of the part; at is -1 for one that is new.
func (e *ruleEdit) entry(list string, at int, settings partfile.Ordered) (err error) {
	rule := e.value("rule")
	switch {
	case rule == "" && at < 0:
		return nil
	case rule == "":
		e.text, err = partfile.Remove(e.text, []any{list}, at)
		return err
	case at < 0:
		e.text, err = partfile.Insert(e.text, []any{list}, -1, settings)
		return err
	}
	for _, s := range settings {
		if err := e.set([]any{list, at, s.Key}, s.Value); err != nil {
			return err
		}
	}
	return nil
}

func (e *ruleEdit) variable(old string) error {
	at := slices.IndexFunc(e.plan.Mapping.Variables, func(v mapping.Variable) bool { return v.Name == old && old != "" })
	name := e.value("name")
	if name == "" {
		name = old
	}
	taken := slices.ContainsFunc(e.plan.Mapping.Variables, func(v mapping.Variable) bool { return v.Name == name })
	if !formula.Name(name) || taken && name != old {
		return fault.Expect(fault.Setting, "a name of letters, digits and _ that is not taken", fault.Quote(name))
	}
	e.field = variableRow + name
	if at >= 0 && name != old {
		for _, m := range e.plan.Renames(old, name) {
			if err := e.set(m.At, m.Now); err != nil {
				return err
			}
		}
	}
	return e.entry("variables", at, partfile.Ordered{{Key: "name", Value: name}, {Key: "formula", Value: e.value("rule")}})
}

func (e *ruleEdit) condition(n string) error {
	at, err := strconv.Atoi(n)
	if err != nil || at >= len(e.plan.Mapping.Conditions) {
		at = -1
	}
	settings := partfile.Ordered{{Key: "when", Value: e.value("rule")}}
	if why, there := e.form("reason"); there && (at >= 0 || why != "") {
		settings = append(settings, partfile.Entry{Key: "reason", Value: strings.TrimSpace(why)})
	}
	switch {
	case e.value("rule") == "": // the row is gone; what is typed next is a new one, not that which has its place now
		e.field = conditionRow
	case at < 0:
		e.field = conditionRow + strconv.Itoa(len(e.plan.Mapping.Conditions))
	}
	return e.entry("conditions", at, settings)
}

func (e *ruleEdit) rule() error {
	at := slices.IndexFunc(e.plan.Mapping.Rules, func(r mapping.Rule) bool { return r.Field.Value == e.field })
	kind := mapping.RuleKind(e.value("kind"))
	if !slices.Contains(mapping.Kinds, kind) {
		kind = mapping.Formula
	}
	text := e.value("rule")
	if text = base.UnixLines(text); at >= 0 || kind == mapping.Script {
		text = e.turned(at, kind, text)
	}
	_, options := e.form("when")
	empty := text == "" && (kind != mapping.Record || e.value("when") == "" && !strings.HasSuffix(e.field, "]"))
	switch {
	case at < 0 && empty:
		return nil
	case empty:
		var err error
		e.text, err = partfile.Remove(e.text, []any{"rules"}, at)
		return err
	case at < 0:
		var err error
		at = len(e.plan.Mapping.Rules)
		if e.text, err = partfile.Insert(e.text, []any{"rules"}, -1, partfile.Ordered{{Key: "field", Value: e.field}}); err != nil {
			return err
		}
	}
	was := mapping.Rule{Kind: mapping.Record, Empty: mapping.Empties[0]}
	if at < len(e.plan.Mapping.Rules) {
		was = e.plan.Mapping.Rules[at]
	}
	if err := e.kind(at, &was, kind, text); err != nil {
		return err
	}
	if err := e.as(at, &was, kind); err != nil || !options {
		return err
	}
	return e.options(at, &was, kind)
}

// wasFormula begins the line of a script that tells the formula in whose place it stands.
const wasFormula = "// formula: "

// turned is the text of a rule whose kind changes to a script, or from one: a script begins with what the formula reads, and tells it
// for the way back.
func (e *ruleEdit) turned(at int, kind mapping.RuleKind, text string) string {
	was := mapping.Record
	if at >= 0 && at < len(e.plan.Mapping.Rules) {
		was = e.plan.Mapping.Rules[at].Kind
	}
	if (was == mapping.Script) == (kind == mapping.Script) {
		return text
	}
	if kind != mapping.Script {
		first, _, _ := strings.Cut(text, "\n")
		before, is := strings.CutPrefix(first, wasFormula)
		if !is {
			return ""
		}
		return before
	}
	gives := "undefined"
	for _, f := range e.plan.Fields {
		if f.Name() == e.field && len(f.Reads) > 0 {
			gives = strings.Join(f.Reads[0], ".")
		}
	}
	if text == "" || strings.Contains(text, "\n") || was != mapping.Formula {
		return "return " + gives + ";"
	}
	return wasFormula + text + "\nreturn " + gives + ";"
}

// kind keeps the kind of a rule with its text. Each change of the part reads all of it, so that only
// what differs is changed.
func (e *ruleEdit) kind(at int, was *mapping.Rule, kind mapping.RuleKind, text string) error {
	if was.Kind != kind && was.Kind != mapping.Record {
		if err := e.set([]any{"rules", at, string(was.Kind)}, ""); err != nil {
			return err
		}
	}
	if kind == mapping.Record || was.Kind == kind && was.Text.Value == text {
		return nil
	}
	return e.set([]any{"rules", at, string(kind)}, text)
}

// as keeps the name of an each's item.
func (e *ruleEdit) as(at int, was *mapping.Rule, kind mapping.RuleKind) error {
	as := e.value("as")
	switch {
	case kind != mapping.Each:
		as = ""
	case !formula.Name(as):
		return nil
	}
	if as == was.As {
		return nil
	}
	return e.set([]any{"rules", at, "as"}, as)
}

// options keeps the further settings of the form, and takes out those that the kind of rule does not
// have.
func (e *ruleEdit) options(at int, was *mapping.Rule, kind mapping.RuleKind) error {
	has := map[string]bool{}
	for _, o := range optionsOf(nil, kind) {
		has[o.Name] = true
	}
	has["key"] = kind == mapping.Each
	for _, o := range append(append(optionsOf(was, mapping.Formula), keyOption(was)), optionsOf(was, mapping.Each)[1:]...) {
		v, there := e.form(o.Name)
		old := strings.TrimSpace(o.Value)
		if has[o.Name] && (!there || strings.TrimSpace(base.UnixLines(v)) == old) || !has[o.Name] && settled([]ruleSetting{o}) == 0 {
			continue
		}
		to, err := settingOf(o, strings.TrimSpace(v), has[o.Name])
		if err != nil {
			return err
		}
		if err := e.set([]any{"rules", at, o.Name}, to); err != nil {
			return err
		}
	}
	return nil
}

// settingOf is what a text of the form is in the part.
func settingOf(o ruleSetting, text string, has bool) (any, error) {
	switch {
	case !has, text == "", o.Choices != nil && text == o.Choices[0]:
		return "", nil
	case o.Name == "nested lists":
		return listOfLines(text, " as ", "each", "as")
	case o.Name == "variables":
		return listOfLines(text, "=", "formula", "name")
	}
	return text, nil
}

// listOfLines makes a list of settings of lines with a sign between two texts. Lines of variables begin
// with the name, those of lists end in it.
func listOfLines(text, sign, formulaKey, nameKey string) (any, error) {
	var out []partfile.Ordered
	for line := range strings.SplitSeq(base.UnixLines(text), "\n") {
		if strings.TrimSpace(line) == "" {
			continue
		}
		a, b, ok := strings.Cut(line, sign)
		if formulaKey == "each" {
			if at := strings.LastIndex(line, sign); at >= 0 {
				a, b = line[at+len(sign):], line[:at]
			}
		}
		if a, b = strings.TrimSpace(a), strings.TrimSpace(b); !ok || a == "" || b == "" {
			return nil, fault.Expect(fault.Syntax, "a name and a formula with "+strings.TrimSpace(sign)+" between in each line", fault.Quote(line))
		}
		out = append(out, partfile.Ordered{{Key: nameKey, Value: a}, {Key: formulaKey, Value: b}})
	}
	return out, nil
}

// setMapping changes a setting of the mapping as a whole: what a fault does.
func (b pages) setMapping(c *gin.Context) error {
	_, id, _, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	choice := mapping.OnFault(c.PostForm("on_fault"))
	if !slices.Contains(mapping.OnFaults, choice) {
		return store.ErrNotFound
	}
	to := string(choice)
	if choice == mapping.Fail {
		to = ""
	}
	err = b.Save(c, project.Path(project.Mappings, id), func(text []byte) ([]byte, error) { return partfile.Set(text, []any{"on fault"}, to) })
	if err != nil {
		return err
	}
	return b.redrawn(c, id)
}

// redrawn answers with the page as it is now.
func (b pages) redrawn(c *gin.Context, id string) error {
	if !page.Partial(c) {
		c.Redirect(303, "/bench/mappings/"+id+"?field="+c.PostForm("field"))
		return nil
	}
	d, err := b.mappingPage(c, id, c.PostForm("field"), c.PostForm("record"), c.PostForm("show"))
	if err != nil {
		return err
	}
	mappingView.Part(c, "work", d)
	return nil
}

// feed adds one more feed to a list of the target: an entry, until it is made an each. With remove it
// takes a feed out again, and the rules inside.
func (b pages) feed(c *gin.Context) error {
	_, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	list, label := c.PostForm("field"), strings.TrimSpace(c.PostForm("label"))
	if c.PostForm("remove") != "" {
		return b.removeFeed(c, id, plan, list)
	}
	if at := strings.LastIndexByte(list, '['); at > strings.LastIndexByte(list, '/') {
		list = list[:at]
	}
	field := list + "[" + label + "]"
	if label == "" || strings.ContainsAny(label, "[]/") || slices.ContainsFunc(plan.Mapping.Rules, func(r mapping.Rule) bool { return r.Field.Value == field }) {
		return fault.Expect(fault.Setting, "a label for the further feed that is not taken", fault.Quote(label))
	}
	err = b.Save(c, project.Path(project.Mappings, id), func(text []byte) ([]byte, error) {
		return partfile.Insert(text, []any{"rules"}, -1, partfile.Ordered{{Key: "field", Value: field}})
	})
	if err != nil {
		return err
	}
	c.Request.PostForm.Set("field", field)
	return b.redrawn(c, id)
}

func (b pages) removeFeed(c *gin.Context, id string, plan *mapping.Plan, feed string) error {
	err := b.Save(c, project.Path(project.Mappings, id), func(text []byte) ([]byte, error) {
		var err error
		for i, r := range slices.Backward(plan.Mapping.Rules) {
			if r.Field.Value != feed && !strings.HasPrefix(r.Field.Value, feed+"/") {
				continue
			}
			if text, err = partfile.Remove(text, []any{"rules"}, i); err != nil {
				return nil, err
			}
		}
		return text, nil
	})
	if err != nil {
		return err
	}
	return b.redrawn(c, id)
}

// setSources adds a further source to the mapping, a message or a list of them, or takes one out.
func (b pages) setSources(c *gin.Context) error {
	p, id, plan, err := b.mappingOf(c)
	if err != nil {
		return err
	}
	of, name := c.PostForm("schema"), strings.TrimSpace(c.PostForm("name"))
	if name == "" {
		name = base.SourceName(of)
	}
	taken := slices.IndexFunc(plan.Mapping.From, func(s mapping.Source) bool { return s.Name.Value == name })
	err = b.Save(c, project.Path(project.Mappings, id), func(text []byte) ([]byte, error) {
		if out := slices.IndexFunc(plan.Mapping.From, func(s mapping.Source) bool { return s.Name.Value == c.PostForm("remove") }); out > 0 {
			return partfile.Remove(text, []any{"from"}, out)
		}
		if p.Schema(of) == nil || !formula.Name(name) || taken >= 0 {
			return nil, fault.Expect(fault.Setting, "a schema, and a name of letters, digits and _ that no other source has", fault.Quote(name))
		}
		o := partfile.Ordered{{Key: "name", Value: name}, {Key: "schema", Value: of}}
		if c.PostForm("list") != "" {
			o.Add("list", "true")
		}
		return partfile.Insert(text, []any{"from"}, -1, o)
	})
	if err != nil {
		return err
	}
	return b.redrawn(c, id)
}
