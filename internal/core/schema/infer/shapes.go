package infer

import (
	"regexp"
	"strconv"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// group is one of the shapes that values of one field had, in a notation that tells them apart.
type group struct {
	name string
	seen func(c *node) int
	make func(b *builder, c *node, f *schema.Field) // gives a field of the shape its kind
}

// groups are in the order in which branches stand.
var groups []group

func init() {
	groups = []group{
		{"record", func(c *node) int { return c.kinds[value.RecordKind] }, (*builder).objects},
		{"list", func(c *node) int { return c.kinds[value.ListKind] }, func(_ *builder, _ *node, f *schema.Field) { f.Kind = value.ListKind }},
		{"number", func(c *node) int { return c.kinds[value.Integer] + c.kinds[value.Decimal] }, func(_ *builder, c *node, f *schema.Field) {
			if f.Kind = value.Integer; c.kinds[value.Decimal] > 0 {
				f.Kind = value.Decimal
			}
		}},
		{"boolean", func(c *node) int { return c.kinds[value.Boolean] }, func(_ *builder, _ *node, f *schema.Field) { f.Kind = value.Boolean }},
		{"text", func(c *node) int { return c.kinds[value.Text] }, func(_ *builder, c *node, f *schema.Field) {
			if f.Kind = value.Text; c.ev.Empty == 0 {
				f.Kind = c.textForm(f)
			}
		}},
	}
}

func newField(name string) *schema.Field {
	return &schema.Field{Name: name, Min: 1, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}}
}

// shapes are the groups of a node's values.
func (c *node) shapes() (seen []group) {
	for _, g := range groups {
		if g.seen(c) > 0 {
			seen = append(seen, g)
		}
	}
	return seen
}

// shape gives a field the kind of its values: one of several where they differ, and any where nothing was seen but null.
func (b *builder) shape(c *node, f *schema.Field) {
	switch seen := c.shapes(); {
	case len(seen) == 0 && c.nulls == 0:
		f.Kind = value.AnyKind
	case len(seen) == 0:
		f.Kind = value.Null
	case len(seen) > 1 || c.nulls > 0:
		f.Kind = value.VariantKind
	default:
		seen[0].make(b, c, f)
	}
}

// below describes what stands below a field.
func (b *builder) below(c *node, f *schema.Field, path []string) {
	switch f.Kind {
	case value.RecordKind:
		f.Fields = b.fields(c, path)
		b.content(c, f, path)
	case value.ListKind:
		b.inside(c.items, f, "item", path)
	case value.MapKind:
		b.inside(c.joined(), f, "value", path)
	case value.VariantKind:
		if c.split != nil && len(c.shapes()) == 1 && c.nulls == 0 {
			b.told(c.split, f, path)
			return
		}
		b.branches(c, f, path)
	}
}

// inside describes the one field that stands below a map or a list of lists.
func (b *builder) inside(c *node, f *schema.Field, name string, path []string) {
	inner := newField(name)
	c.could.json = b.json
	if b.shape(c, inner); c.ev.List {
		inner.Min, inner.Max = min(1, c.ev.Fewest), schema.Many
		inner.Single = c.ev.Single
	}
	inner.Nullable = c.ev.Nulls > c.nulls
	if f.Kind == value.ListKind {
		inner.Min = 0
	}
	b.add(c, f, inner, path)
}

// add puts a field below another one, with its evidence.
func (b *builder) add(c *node, f, inner *schema.Field, path []string) {
	at := append(path[:len(path):len(path)], inner.Name)
	c.ev.Of = max(c.records, c.ev.Seen)
	f.Fields = append(f.Fields, inner)
	b.result.Fields = append(b.result.Fields, Field{Path: at, Evidence: c.ev})
	b.below(c, inner, at)
}

// branches are those that are told by their type.
func (b *builder) branches(c *node, f *schema.Field, path []string) {
	for _, g := range c.shapes() {
		branch := newField(g.name)
		g.make(b, c, branch)
		b.add(c, f, branch, path)
	}
	if c.nulls > 0 {
		null := newField("null")
		null.Kind = value.Null
		b.add(&node{name: "null", ev: NewEvidence()}, f, null, path)
	}
}

// objects tells whether records are of one shape, of several that a field tells apart, or maps.
func (b *builder) objects(c *node, f *schema.Field) {
	switch {
	case c.isMap():
		f.Kind = value.MapKind
	case c.split.apart():
		f.Kind, f.ToldBy = value.VariantKind, c.split.by
	default:
		f.Kind, c.split = value.RecordKind, nil
	}
}

// The least numbers of names that make records maps: names that are values, as dates and codes; names of which each record has
// few; names of records that are all alike.
const (
	leastValues  = 3
	leastSparse  = 12
	leastRecords = 5
)

// nameForms are the forms of names that are values rather than names.
var nameForms = []*regexp.Regexp{
	regexp.MustCompile(`^[0-9]{4}-[0-9]{2}-[0-9]{2}`), regexp.MustCompile(`^[0-9]+$`), regexp.MustCompile(`^[A-Z]{2,4}$`),
	regexp.MustCompile(`^[0-9a-fA-F]{8}-([0-9a-fA-F]{4}-){3}[0-9a-fA-F]{12}$`), regexp.MustCompile(`^[A-Z]{1,4}[-_]?[0-9]{2,}$`),
}

// isMap says whether the names of the records are values themselves: there are many, and what stands at each is alike.
func (c *node) isMap() bool {
	n := len(c.children)
	if n == 0 || c.index[""] != nil { // nothing is known of its names, or one is none that a field can have
		return true
	}
	if n < leastValues || !c.childrenAlike() {
		return false
	}
	for _, form := range nameForms {
		if c.allNames(form) {
			return true
		}
	}
	seen := 0
	for _, child := range c.children {
		seen += child.ev.Seen
	}
	if n >= leastSparse && 2*seen < n*c.records {
		return true
	}
	first := c.children[0]
	return n >= leastRecords && len(first.children) >= 2 && first.kinds[value.RecordKind] > 0
}

func (c *node) allNames(form *regexp.Regexp) bool {
	for _, child := range c.children {
		if !form.MatchString(child.name) {
			return false
		}
	}
	return true
}

// childrenAlike says whether the values at all names are of one shape, and records of the same names.
func (c *node) childrenAlike() bool {
	first := c.children[0]
	for _, child := range c.children[1:] {
		if !alike(first, child) {
			return false
		}
	}
	return true
}

func alike(a, b *node) bool {
	sa, sb := a.shapes(), b.shapes()
	if len(sa) != 1 || len(sb) != 1 || sa[0].name != sb[0].name || a.ev.List != b.ev.List {
		return false
	}
	same := 0
	for name := range a.index {
		if b.index[name] != nil {
			same++
		}
	}
	return 2*same >= len(a.children) && 2*same >= len(b.children)
}

// joined is what stands at all names of a map, taken together.
func (c *node) joined() *node {
	all := newNode("value")
	for _, child := range c.children {
		all.join(child)
	}
	all.records = all.ev.Seen
	for _, child := range c.children {
		if child.kinds[value.RecordKind] > 0 {
			all.records = 0
		}
	}
	if all.records == 0 {
		for _, child := range c.children {
			all.records += child.records
		}
	}
	return all
}

// join adds what another node has seen.
func (c *node) join(o *node) {
	for k, n := range o.kinds {
		c.kinds[k] += n
	}
	c.nulls += o.nulls
	c.records += o.records
	c.ev.join(&o.ev)
	c.could.join(&o.could)
	if o.items != nil {
		if c.items == nil {
			c.items = newNode("item")
		}
		c.items.join(o.items)
	}
	for _, child := range o.children {
		mine := c.index[child.name]
		if mine == nil {
			mine = newNode(child.name)
			if c.index == nil {
				c.index = map[string]*node{}
			}
			c.index[child.name] = mine
			c.children = append(c.children, mine)
		}
		mine.join(child)
	}
}

func (e *Evidence) join(o *Evidence) {
	switch {
	case e.Seen == 0:
		e.Fewest = o.Fewest
	case o.Seen > 0:
		e.Fewest = min(e.Fewest, o.Fewest)
	}
	e.Seen, e.Empty, e.Nulls, e.Values = e.Seen+o.Seen, e.Empty+o.Empty, e.Nulls+o.Nulls, e.Values+o.Values
	e.Most, e.Longest, e.Scale = max(e.Most, o.Most), max(e.Longest, o.Longest), max(e.Scale, o.Scale)
	e.List, e.Single = e.List || o.List, e.Single || o.Single
	if e.Shortest == 0 || o.Shortest > 0 && o.Shortest < e.Shortest {
		e.Shortest = o.Shortest
	}
	if o.Least.Kind() != value.Absent && less(o.Least, e.Least) {
		e.Least = o.Least
	}
	if o.Greatest.Kind() != value.Absent && less(e.Greatest, o.Greatest) {
		e.Greatest = o.Greatest
	}
	if o.Codes == nil {
		e.Codes = nil
	}
	for code, n := range o.Codes {
		if e.Codes == nil {
			return
		}
		if e.Codes[code] += n; len(e.Codes) > maxDistinct {
			e.Codes = nil
		}
	}
}

func (c *fitting) join(o *fitting) {
	for i := range o.misses {
		if c.misses[i] == 0 {
			c.first[i] = o.first[i]
		}
		c.misses[i] += o.misses[i]
	}
	c.texts += o.texts
}

// telling is what is seen of records by the value of a field of theirs.
type telling struct {
	by     string
	values []string
	nodes  map[string]*node
}

// mostBranches bounds the shapes that a field can tell apart.
const mostBranches = 8

// branch is the node of the records that have the value of one.
func (s *telling) branch(v value.Value) *node {
	key := v.Field(s.by).Text()
	n := s.nodes[key]
	if n == nil {
		n = newNode(key)
		n.kinds[value.RecordKind] = 1
		s.nodes[key] = n
		s.values = append(s.values, key)
	}
	return n
}

// apart says whether the field tells shapes apart: two of them at least have fields that no other one has, and hardly a field is
// there in some records of a shape only.
func (s *telling) apart() bool {
	if s == nil || len(s.values) < 2 || len(s.values) > mostBranches {
		return false
	}
	own, partly, all := 0, 0, map[string]int{}
	for _, key := range s.values {
		for _, child := range s.nodes[key].children {
			all[child.name]++
		}
	}
	for _, key := range s.values {
		n, has := s.nodes[key], false
		for _, child := range n.children {
			has = has || all[child.name] == 1
			if child.ev.Seen < n.records {
				partly++
			}
		}
		if has {
			own++
		}
	}
	return own >= 2 && 4*partly <= len(all)
}

// told makes the branches that a field tells apart.
func (b *builder) told(s *telling, f *schema.Field, path []string) {
	for i, key := range s.values {
		name := key
		if name == "" {
			name = "branch_" + strconv.Itoa(i+1)
		}
		branch := newField(name)
		branch.Kind = value.RecordKind
		b.add(s.nodes[key], f, branch, path)
		for _, c := range branch.Fields {
			if c.Name == s.by {
				c.Constraints.Codes = []schema.Code{{Value: key}}
			}
		}
	}
}

// candidates are, by their paths, the records that may be of several shapes, with the field that may tell them: a text that all of
// them have, of few different values.
func (o *Observer) candidates() map[string]string {
	found := map[string]string{}
	if o.as.Types {
		o.root.candidates("", found)
	}
	return found
}

func (c *node) candidates(path string, found map[string]string) {
	optional := false
	for _, child := range c.children {
		optional = optional || child.ev.Seen < c.records
	}
	for _, child := range c.children {
		if by := child.name; optional && found[path] == "" && child.tells(c.records) {
			found[path] = by
		}
		child.candidates(path+"/"+schema.Escape(child.name), found)
	}
	if c.items != nil {
		c.items.candidates(path+"/-", found)
	}
}

// tells says whether a field may tell the shapes of records.
func (c *node) tells(records int) bool {
	e := &c.ev
	if e.Seen != records || e.List || c.kinds[value.Text] != records || e.Empty > 0 || len(e.Codes) < 2 || len(e.Codes) > mostBranches {
		return false
	}
	return records >= fewTimes*len(e.Codes) || kindName.MatchString(c.name)
}

// fewTimes is how often each value must stand on average for a field to tell shapes apart that is not called as such fields are.
const fewTimes = 3

var kindName = regexp.MustCompile(`(?i)(type|kind|class|event|variant|^is_?a$)`)

// splitAt prepares a node for being told apart.
func (o *Observer) splitAt(parent, c *node) {
	if o.splits == nil {
		return
	}
	c.path = parent.path + "/" + schema.Escape(c.name)
	if by := o.splits[c.path]; by != "" {
		c.split = &telling{by: by, nodes: map[string]*node{}}
	}
}

// holdsLists says whether messages may be lists by themselves.
func (c *node) holdsLists() bool { return c.kinds[value.ListKind] > 0 || len(c.shapes()) == 0 }
