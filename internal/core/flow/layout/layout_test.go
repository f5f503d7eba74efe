package layout

import (
	"fmt"
	"math/rand/v2"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/project"
)

// grower makes flows of random steps.
type grower struct {
	*rand.Rand
	n int
}

func (g *grower) steps(depth int) []*flow.Step {
	var list []*flow.Step
	if depth < 0 {
		return nil
	}
	for range g.IntN(4) {
		list = append(list, g.step(depth))
	}
	return list
}

func (g *grower) step(depth int) *flow.Step {
	kinds := []string{"set", "call", "call", "log", "stop", "each", "choose", "parallel", "try"}
	if depth == 0 {
		kinds = kinds[:4]
	}
	k := flow.KindOf(kinds[g.IntN(len(kinds))])
	g.n++
	s := &flow.Step{ID: fmt.Sprint("s", g.n), Kind: k.Name, Name: k.Title, Settings: k.Settings.Chosen(map[string]string{"connection": []string{"desk", "board", "ledger"}[g.IntN(3)]})}
	for i := range k.Branches {
		t := &k.Branches[i]
		for range 1 + g.IntN(3) {
			s.Branches = append(s.Branches, &flow.Branch{Kind: t, Name: "branch", Steps: g.steps(depth - 1), Path: []any{s.ID, t.Key}})
			if !t.Many {
				break
			}
		}
	}
	return s
}

func geometry(t testing.TB, steps []*flow.Step, folded map[string]bool) Geometry {
	t.Helper()
	f := &flow.Flow{Trigger: flow.Trigger{Kind: "person"}, Steps: steps}
	return Of(&running.Plan{Flow: f}, project.Load("p", nil), folded)
}

// TestNothingOverlaps: whatever the tree, no step lies on another, and no link runs through a step.
func TestNothingOverlaps(t *testing.T) {
	for seed := range uint64(150) {
		g := &grower{Rand: rand.New(rand.NewPCG(seed, 7))}
		steps := append(g.steps(3), g.steps(3)...)
		got := geometry(t, steps, nil)
		for i, a := range got.Nodes {
			require.LessOrEqual(t, a.X+a.W, got.Width)
			require.LessOrEqual(t, a.Y+a.H, got.Height)
			for _, b := range got.Nodes[i+1:] {
				require.True(t, a.X+a.W <= b.X || b.X+b.W <= a.X || a.Y+a.H <= b.Y || b.Y+b.H <= a.Y, "seed %d: %s and %s", seed, a.ID, b.ID)
			}
		}
		for _, k := range got.Links {
			for i := range k.Points[1:] {
				requireClear(t, got.Nodes, k, k.Points[i], k.Points[i+1], seed)
			}
		}
	}
}

// TestMarksDoNotCoverEachOther: the counts and the signs on the links lie neither on each other nor on a step.
func TestMarksDoNotCoverEachOther(t *testing.T) {
	marks, covered := 0, 0
	for seed := range uint64(150) {
		g := &grower{Rand: rand.New(rand.NewPCG(seed, 7))}
		got := geometry(t, append(g.steps(3), g.steps(3)...), nil)
		var taken []Point
		for _, k := range got.Links {
			if k.Gap == nil && k.Count == "" {
				continue
			}
			p := Point{k.CX, k.CY}
			require.True(t, k.through(p), "seed %d: the mark of %s to %s is on its link", seed, k.From, k.To)
			for _, n := range got.Nodes {
				require.False(t, p.X > n.X && p.X < n.X+n.W && p.Y > n.Y && p.Y < n.Y+n.H, "seed %d: a mark is on %s", seed, n.ID)
			}
			for _, other := range taken {
				if distance(p.X, other.X) < 17 && distance(p.Y, other.Y) < 17 {
					covered++
				}
			}
			taken = append(taken, p)
			marks++
		}
	}
	require.Zero(t, covered, "of %d", marks)
}

// requireClear fails where the line from p to q runs through a step.
func requireClear(t *testing.T, nodes []Node, k Link, p, q Point, seed uint64) {
	t.Helper()
	for _, n := range nodes {
		inX := max(p.X, q.X) > n.X && min(p.X, q.X) < n.X+n.W
		inY := max(p.Y, q.Y) > n.Y && min(p.Y, q.Y) < n.Y+n.H
		if p.X == q.X {
			inX = p.X > n.X && p.X < n.X+n.W
		} else {
			inY = p.Y > n.Y && p.Y < n.Y+n.H
		}
		require.False(t, inX && inY, "seed %d: the link from %s to %s (%v %v) runs through %s (%d,%d)", seed, k.From, k.To, p, q, n.ID, n.X, n.Y)
	}
}

// TestEveryGapIsThereOnce: a step can be put at any place of every list of steps.
func TestEveryGapIsThereOnce(t *testing.T) {
	for seed := range uint64(60) {
		g := &grower{Rand: rand.New(rand.NewPCG(seed, 9))}
		steps := g.steps(3)
		for len(steps) == 0 {
			steps = g.steps(3)
		}
		want := map[string]bool{}
		gaps(want, steps, []any{"steps"})
		for _, k := range geometry(t, steps, nil).Links {
			if k.Gap != nil {
				delete(want, fmt.Sprint(k.Gap.Path, k.Gap.At))
			}
		}
		require.Empty(t, want, "seed %d", seed)
	}
}

// gaps lists the places of a list of steps to which a way leads.
func gaps(all map[string]bool, steps []*flow.Step, path []any) {
	for i, s := range steps {
		all[fmt.Sprint(path, i)] = true
		for _, t := range s.Branches {
			if t.Kind.Key == "finally" && len(t.Steps) == 0 || t.Kind.Key == "compensate" {
				continue
			}
			gaps(all, t.Steps, t.Path)
		}
		if ends(s) {
			return
		}
	}
	all[fmt.Sprint(path, len(steps))] = true
}

// ends says whether no way leads on behind a step.
func ends(s *flow.Step) bool {
	k := flow.KindOf(s.Kind)
	if k.Ends {
		return true
	}
	if k.Drawn == flow.AsAttempt && endsAll(s.Branch("finally").Steps) {
		return true
	}
	if k.Drawn == flow.AsNode {
		return false
	}
	for _, t := range s.Branches {
		if t.Kind.Key != "finally" && !endsAll(t.Steps) {
			return false
		}
	}
	return true
}

func endsAll(steps []*flow.Step) bool {
	for _, s := range steps {
		if ends(s) {
			return true
		}
	}
	return false
}

func TestFoldedStepsAreOneNode(t *testing.T) {
	texts, err := project.Read(os.DirFS("../../../../demo"))
	require.NoError(t, err)
	p := project.Load("demo", texts)
	plan := p.Flow("gauge-readings")
	require.Len(t, Of(plan, p, nil).Nodes, 6)
	g := Of(plan, p, map[string]bool{"each": true})
	require.Len(t, g.Nodes, 3)
	require.True(t, g.Nodes[2].Folded)
	require.Equal(t, "4 steps folded", g.Nodes[2].Detail)
}

// BenchmarkALongFlowIsDrawn lays out a flow of 150 steps, as every look at its page does.
func BenchmarkALongFlowIsDrawn(b *testing.B) {
	g := &grower{Rand: rand.New(rand.NewPCG(1, 1))}
	var steps []*flow.Step
	for g.n < 150 {
		steps = append(steps, g.step(2))
	}
	for b.Loop() {
		geometry(b, steps, nil)
	}
}
