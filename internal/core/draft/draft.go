// Package draft proposes how a wanted answer comes from what a caller gives: chains of calls of operations, each value bound to where it
// comes from, with scores and reasons. It looks at names, types, units, code lists, examples and descriptions, works without any
// other service, and gives the same each time.
package draft

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/value"
)

// Operation is one that could be called.
type Operation struct {
	ID    string // by which who asks knows it
	Name  string // as getVehicle; its words tell what it is about
	About string
	Reads bool // it changes nothing
	Needs []*Leaf
	Gives []*Leaf
	words []string // of what it is about
}

// Question is what is wanted.
type Question struct {
	Given []*Leaf // what the caller sends
	Want  []*Leaf
	About string
	Spare bool // more is given than is meant to be used: nothing speaks against what uses little of it
}

// From is where a value comes from: an operation of the chain, or the caller where that is nil.
type From struct {
	Operation *Operation
	Leaf      *Leaf
}

// Binding is a value and where it comes from.
type Binding struct {
	To      *Leaf
	From    From
	Score   float64 // 0 to 1
	Reasons []string
	Factor  string // by which a number is multiplied, as 0.001; empty where the units are the same
}

// Call is an operation of a chain with what it is asked with.
type Call struct {
	Operation *Operation
	Bindings  []Binding
	Open      []*Leaf // required, and nobody has it
	Cache     string  // why its answers could be kept for a while; empty: nothing speaks for it
}

// Proposal is a chain of calls and the answer that is made of it.
type Proposal struct {
	Score  float64
	Calls  []Call
	Answer []Binding
	Open   []*Leaf // of what is wanted, what nobody has
	Unused []*Leaf // of what is given, what nothing uses
}

// Bounds and weights of the search.
const (
	mostCalls    = 4
	mostStates   = 4000 // chains of one length that are followed up
	leastNeed    = 0.5  // of what an operation is asked with
	leastWant    = 0.45 // of what is wanted
	perCall      = 0.04 // that a call more has to bring
	perUnused    = 0.10 // for what the caller gives in vain
	perUnrelated = 0.2  // for a call that nothing of what is asked goes into
	optional     = 0.3  // weight of what may be absent
)

// Propose gives the best chains, the best first.
func Propose(q Question, operations []*Operation, most int) []Proposal {
	s := newSearch(q, operations)
	s.follow()
	return s.best(most)
}

// search has the likeness of all that could be bound, and the chains that were found.
type search struct {
	q     Question
	ops   []*Operation
	w     *weights
	want  []choice     // from the caller, by leaf
	needs [][]choice   // from the caller, by operation that needs, leaf
	feeds [][][]choice // by operation that needs, operation that gives, leaf
	wants map[string][]choice
	done  []chain
}

// choice is the best of the values of one source for a leaf.
type choice struct {
	from  *Leaf
	score float64
}

// chain is some operations in the order in which they are called.
type chain struct {
	ops   []int
	score float64
}

func newSearch(q Question, operations []*Operation) *search {
	s := &search{q: q, wants: map[string][]choice{}}
	for _, o := range operations {
		if o.Reads {
			s.ops = append(s.ops, o)
		}
	}
	slices.SortStableFunc(s.ops, func(a, b *Operation) int { return strings.Compare(a.ID, b.ID) })
	s.w = newWeights(q, s.ops)
	s.want = s.w.bestOf(q.Want, q.Given, nil)
	s.needs, s.feeds = make([][]choice, len(s.ops)), make([][][]choice, len(s.ops))
	for i, o := range s.ops {
		s.needs[i] = s.w.bestOf(o.Needs, q.Given, nil)
		onlyMoment(s.needs[i], o.Needs, q.Given)
		s.feeds[i] = make([][]choice, len(s.ops))
		for j, by := range s.ops {
			if i != j {
				s.feeds[i][j] = s.w.bestOf(o.Needs, by.Gives, nil)
			}
		}
	}
	return s
}

// onlyMoment lets the only time that is given be the only time that is needed, whatever it is called.
func onlyMoment(list []choice, needs, given []*Leaf) {
	moment := func(leaves []*Leaf) (at int) {
		at = -1
		for i, l := range leaves {
			if l.Field.Kind != value.Date && l.Field.Kind != value.Timestamp {
				continue
			}
			if at >= 0 {
				return -1
			}
			at = i
		}
		return at
	}
	if n, g := moment(needs), moment(given); n >= 0 && g >= 0 && allIn(needs[n].own, moments) && list[n].score < onlyDate {
		list[n] = choice{given[g], onlyDate}
	}
}

// bestOf gives for each leaf the value that is most like it.
func (w *weights) bestOf(to, from []*Leaf, more []string) []choice {
	list := make([]choice, len(to))
	for i, t := range to {
		for _, f := range from {
			if score := w.likeness(t, f, more, nil); score > list[i].score {
				list[i] = choice{f, score}
			}
		}
	}
	return list
}

// follow makes chains of operations longer and longer, as long as each can be called with what is there before it.
func (s *search) follow() {
	level := []chain{{}}
	if s.q.Spare { // what is there may be all that is wanted
		if score, all := s.value(nil); all {
			s.done = append(s.done, chain{score: score})
		}
	}
	for range mostCalls {
		seen := map[string]bool{}
		var next []chain
		for _, c := range level {
			for i := range s.ops {
				if slices.Contains(c.ops, i) || !s.callable(c.ops, i) {
					continue
				}
				longer := append(slices.Clip(slices.Clone(c.ops)), i)
				key := keyOf(longer)
				if seen[key] {
					continue
				}
				seen[key] = true
				n := chain{ops: longer}
				n.score = s.promise(longer)
				next = append(next, n)
			}
		}
		slices.SortStableFunc(next, func(a, b chain) int { return cmp.Compare(b.score, a.score) })
		next = next[:min(len(next), mostStates)]
		for _, c := range next {
			if score, all := s.value(c.ops); all {
				s.done = append(s.done, chain{c.ops, score})
			}
		}
		level = next
	}
}

func keyOf(ops []int) string {
	sorted := slices.Sorted(slices.Values(ops))
	return fmt.Sprint(sorted)
}

// callable says whether all that an operation must be asked with is there.
func (s *search) callable(before []int, op int) bool {
	for k, leaf := range s.ops[op].Needs {
		if leaf.Required && s.needOf(before, op, k).score < leastNeed {
			return false
		}
	}
	return true
}

// source is where a value comes from: a number of an operation, or -1 for the caller.
type source struct {
	choice
	by int
}

// needOf is the best source of something that an operation is asked with. Of equal ones the caller's goes first. What an operation only
// gives back of what it was asked with comes from where it had it.
func (s *search) needOf(before []int, op, k int) source {
	best := source{s.needs[op][k], -1}
	for n, by := range before {
		c := source{s.feeds[op][by][k], by}
		if c.from == nil || c.score <= best.score {
			continue
		}
		if c = s.origin(before[:n], c); c.score > best.score {
			best = c
		}
	}
	return best
}

// origin follows a value that an operation gives back to where it had it.
func (s *search) origin(before []int, c source) source {
	if c.by < 0 || c.from.echo < 0 {
		return c
	}
	had := s.needOf(before, c.by, c.from.echo)
	if had.score < leastNeed {
		return c
	}
	return source{choice{had.from, min(c.score, max(had.score, 0.7))}, had.by}
}

// wantOf is the best source of something that is wanted.
func (s *search) wantOf(ops []int, k int) source {
	best := source{s.want[k], -1}
	for n, by := range ops {
		c := source{s.wantsOf(ops[:n], by)[k], by}
		if c.from == nil || c.score <= best.score+1e-9 {
			continue
		}
		if c = s.origin(ops[:n], c); c.score > best.score+1e-9 {
			best = c
		}
	}
	return best
}

// wantsOf are the choices of what is wanted among what an operation gives, when others were called before it: what it was asked with
// says what its answer is about, as the badge of an officer says that a person is one.
func (s *search) wantsOf(before []int, op int) []choice {
	var more []string
	for k, leaf := range s.ops[op].Needs {
		if from := s.needOf(before, op, k); leaf.Required && from.score >= leastNeed && from.by >= 0 {
			for _, w := range from.from.own {
				if !generic[w] && !slices.Contains(more, w) && !slices.Contains(s.ops[op].words, w) {
					more = append(more, w)
				}
			}
		}
	}
	slices.Sort(more)
	key := strconv.Itoa(op) + " " + strings.Join(more, " ")
	list, there := s.wants[key]
	if !there {
		list = s.w.bestOf(s.q.Want, s.ops[op].Gives, more)
		s.wants[key] = list
	}
	return list
}

// value says how well a chain answers. all is false where a call of it is of no use.
func (s *search) value(ops []int) (score float64, all bool) {
	used := make([]bool, len(s.ops))
	given := map[*Leaf]bool{}
	covered, weight := 0.0, 0.0
	for k, leaf := range s.q.Want {
		w := 1.0
		if !leaf.Required {
			w = optional
		}
		weight += w
		from := s.wantOf(ops, k)
		if from.score < leastWant {
			continue
		}
		covered += w * from.score
		if from.by >= 0 {
			used[from.by] = true
		}
	}
	quality, unrelated := 1.0, 0
	for n := len(ops) - 1; n >= 0; n-- { // the last one can only be of use for the answer
		op := ops[n]
		if !used[op] {
			return 0, false
		}
		least, bound := 1.0, false
		for k, leaf := range s.ops[op].Needs {
			from := s.needOf(ops[:n], op, k)
			if from.score < leastNeed {
				continue
			}
			bound = true
			if from.by >= 0 {
				used[from.by] = true
			} else {
				given[from.from] = true
			}
			if leaf.Required {
				least = min(least, from.score)
			}
		}
		if !bound && len(s.q.Given) > 0 {
			unrelated++
		}
		quality *= 0.4 + 0.6*least
	}
	if weight == 0 || covered == 0 {
		return 0, false
	}
	score = covered/weight*math.Pow(quality, 0.5) - perCall*float64(len(ops)-1) - perUnrelated*float64(unrelated)
	for _, g := range s.q.Given {
		if !given[g] && !s.q.Spare {
			score -= perUnused
		}
	}
	return score, true
}

// promise says how much a chain could come to: what it has of what is wanted, and what it makes callable that has it.
func (s *search) promise(ops []int) float64 {
	have := 0.0
	reach := make([]float64, len(s.q.Want))
	for k := range s.q.Want {
		from := s.wantOf(ops, k)
		reach[k] = from.score
		have += from.score
	}
	for i := range s.ops {
		if slices.Contains(ops, i) || !s.callable(ops, i) {
			continue
		}
		for k, c := range s.wantsOf(ops, i) {
			reach[k] = max(reach[k], c.score)
		}
	}
	for _, r := range reach {
		have += r
	}
	return have - perCall*float64(len(ops))
}

// best makes proposals of the chains that answer best; of chains with the same operations one.
func (s *search) best(most int) (list []Proposal) {
	slices.SortStableFunc(s.done, func(a, b chain) int {
		return cmp.Or(cmp.Compare(b.score, a.score), cmp.Compare(len(a.ops), len(b.ops)), slices.Compare(a.ops, b.ops))
	})
	seen := map[string]bool{}
	for _, c := range s.done {
		if key := keyOf(c.ops); len(list) < most && !seen[key] && c.score > 0 {
			seen[key] = true
			list = append(list, s.propose(c))
		}
	}
	return list
}

func (s *search) propose(c chain) Proposal {
	p := Proposal{Score: c.score}
	given := map[*Leaf]bool{}
	bind := func(to *Leaf, from source) Binding {
		b := Binding{To: to, From: From{Leaf: from.from}, Score: from.score}
		if from.by >= 0 {
			b.From.Operation = s.ops[from.by]
		} else {
			given[from.from] = true
		}
		s.w.likeness(to, from.from, nil, &b.Reasons)
		b.Factor = factorBetween(from.from.unit, to.unit)
		return b
	}
	for n, op := range c.ops {
		o := s.ops[op]
		call := Call{Operation: o, Cache: cacheable(o)}
		for k, leaf := range o.Needs {
			switch from := s.needOf(c.ops[:n], op, k); {
			case from.score >= leastNeed:
				call.Bindings = append(call.Bindings, bind(leaf, from))
			case leaf.Required:
				call.Open = append(call.Open, leaf)
			}
		}
		p.Calls = append(p.Calls, call)
	}
	for k, leaf := range s.q.Want {
		if from := s.wantOf(c.ops, k); from.score >= leastWant {
			p.Answer = append(p.Answer, bind(leaf, from))
		} else {
			p.Open = append(p.Open, leaf)
		}
	}
	for _, g := range s.q.Given {
		if !given[g] {
			p.Unused = append(p.Unused, g)
		}
	}
	return p
}

// slow are words of things that change rarely.
var slow = []string{"tariff", "price", "rate", "country", "currency", "island", "port", "harbour", "station", "registry", "vehicle", "product", "catalogue", "class", "category", "code", "holiday", "tax", "route", "vessel", "branch"}

// quick are words of values that change often.
var quick = []string{"status", "now", "position", "stock", "free", "available", "availability", "level", "weather", "balance", "queue", "changed", "updated"}

// cacheable says why the answers of an operation could be kept: it is about something that changes rarely, and has nothing in it that
// changes often.
func cacheable(o *Operation) string {
	if len(o.Needs) == 0 || len(o.Needs) > 3 {
		return ""
	}
	for _, g := range o.Gives {
		for _, w := range g.own {
			if slices.Contains(quick, w) {
				return ""
			}
		}
	}
	for _, w := range o.words {
		if slices.Contains(slow, w) {
			return "a " + w + " changes rarely"
		}
	}
	return ""
}
