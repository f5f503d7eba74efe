package project_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/project"
)

func demoTexts(t testing.TB) map[string]string {
	texts, err := project.Read(os.DirFS("../../../demo"))
	require.NoError(t, err)
	return texts
}

// told is what a project says of itself and of each of its parts.
func told(p *project.Project) []string {
	list := []string{p.Title}
	for _, f := range p.Faults {
		list = append(list, f.Error())
	}
	for _, f := range p.Warnings {
		list = append(list, "note "+f.Error())
	}
	for _, part := range p.Parts("") {
		list = append(list, part.Path+" "+part.Title)
		for _, by := range p.UsedBy(part.Path) {
			list = append(list, part.Path+" is used by "+by.Path)
		}
	}
	for _, part := range p.Parts(project.Flows) {
		list = append(list, part.ID+" uses "+strings.Join(p.Uses(part.ID), " "))
		for _, f := range p.Flow(part.ID).Faults {
			list = append(list, part.ID+" has "+f.Error())
		}
		for _, ps := range p.Flow(part.ID).Steps {
			for _, n := range ps.Before {
				list = append(list, fmt.Sprint(part.ID, " ", ps.Step.ID, " sees ", n.Name))
			}
		}
	}
	return list
}

// edits are changes of a text such as people make, half of which break something.
var edits = []func(text string, r *rand.Rand) string{
	func(text string, r *rand.Rand) string { // a line goes
		lines := strings.Split(text, "\n")
		at := r.IntN(len(lines))
		return strings.Join(slices.Delete(lines, at, at+1), "\n")
	},
	func(text string, r *rand.Rand) string { return text + "\n# a comment\n" },
	func(text string, r *rand.Rand) string {
		return strings.Replace(text, "type: text", "type: integer", 1)
	},
	func(text string, r *rand.Rand) string { return strings.Replace(text, "booking", "boking", 1) },
	func(text string, r *rand.Rand) string { return strings.Replace(text, "name: ", "name: x", 1) },
	func(text string, r *rand.Rand) string { return "" },
}

// TestAProjectThatIsChangedIsThatWhichIsReadAnew: after any edits, and when parts come and go, what is compiled of what has
// changed alone says the same as all of it compiled anew.
func TestAProjectThatIsChangedIsThatWhichIsReadAnew(t *testing.T) {
	texts := demoTexts(t)
	first := maps.Clone(texts)
	paths := slices.Sorted(maps.Keys(texts))
	r := rand.New(rand.NewPCG(1, 2))
	p := project.Load("demo", maps.Clone(texts))
	for range 120 {
		path := paths[r.IntN(len(paths))]
		switch was, there := texts[path]; {
		case !there || r.IntN(3) == 0:
			texts[path] = first[path]
		case r.IntN(4) == 0 && path != project.File:
			delete(texts, path)
		default:
			texts[path] = edits[r.IntN(len(edits))](was, r)
		}
		p = project.Next(p, "demo", maps.Clone(texts))
		require.Equal(t, told(project.Load("demo", maps.Clone(texts))), told(p), "after %s", path)
	}
}

// users are the ids of the parts that use a part, and of those that use them.
func users(p *project.Project, path string) (ids []string) {
	for _, by := range p.UsedBy(path) {
		ids = append(append(ids, by.ID), users(p, by.Path)...)
	}
	return ids
}

// TestOnlyWhatDependsOnAChangeIsCompiledAgain: of a flow that flow alone, of a schema what names it, of a table what looks
// into it.
func TestOnlyWhatDependsOnAChangeIsCompiledAgain(t *testing.T) {
	texts := demoTexts(t)
	p := project.Load("demo", texts)
	require.Empty(t, p.Faults)
	changed := func(path string) (list []string) {
		after := p.With(path, texts[path]+"\n# changed\n")
		for _, part := range p.Parts(project.Flows) {
			if p.Flow(part.ID) != after.Flow(part.ID) {
				list = append(list, part.ID)
			}
		}
		for _, part := range p.Parts(project.Mappings) {
			if p.Mapping(part.ID) != after.Mapping(part.ID) {
				list = append(list, part.ID)
			}
		}
		return list
	}
	require.Equal(t, []string{"vehicle"}, changed("flows/vehicle.yaml"))
	require.Empty(t, changed("alerts/trouble.yaml"))
	for _, part := range p.Parts(project.Schemas) {
		require.Subset(t, users(p, part.Path), changed(part.Path), part.Path)
	}
	for _, part := range p.Parts(project.Tables) {
		var users []string
		for _, by := range p.Dependents(project.Tables, part.ID) {
			users = append(users, by.Part.ID)
		}
		require.Subset(t, users, changed(part.Path), part.Path)
	}
	require.Same(t, p.Flow("vehicle"), p.With("samples/new.txt", "x").Flow("vehicle"))
	all := len(p.Parts(project.Flows)) + len(p.Parts(project.Mappings))
	named := p.With("tables/new.yaml", "table: New\ncolumns:\n  - {name: code, type: text, key: true}\n")
	n := 0
	for _, part := range p.Parts(project.Flows) {
		if p.Flow(part.ID) != named.Flow(part.ID) {
			n++
		}
	}
	require.Positive(t, n, "what formulas can name is another, and is suggested in each")
	require.Less(t, n, all)
}
