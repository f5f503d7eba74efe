package project

import (
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/partfile"
)

func loadDemo(t testing.TB, change func(texts map[string]string)) *Project {
	t.Helper()
	texts, err := Read(os.DirFS("../../../demo"))
	require.NoError(t, err)
	texts = maps.Clone(texts)
	if change != nil {
		change(texts)
	}
	return Load("skerry", texts)
}

const surge = "cases/surge-at-orma-slip.yaml"

// TestTheDemosCasesHold, and break when a rule is changed: with the field, what was expected and found.
func TestTheDemosCasesHold(t *testing.T) {
	p := loadDemo(t, nil)
	require.NotEmpty(t, p.CasesOf(""))
	for _, c := range p.CasesOf("") {
		r := p.RunCase(c)
		require.True(t, r.OK(), "%s: %v %v", c.Title, r.Fault, r.Differences)
	}
	p = loadDemo(t, func(texts map[string]string) {
		path := "mappings/reading-to-tide-level.yaml"
		texts[path] = strings.Replace(strings.Replace(texts[path], "level_cm - station", "level_cm + station", 1), "constant: cm", "constant: mm", 1)
	})
	r := p.RunCase(surgeCase(p))
	require.Equal(t, []Difference{{"/above_datum_cm", "462.5", "470.5"}, {"/unit", `"cm"`, `"mm"`}}, r.Differences)
}

func TestCasesAllowWhatTheySay(t *testing.T) {
	for _, c := range []struct{ add, change, want string }{
		{"ignore: [unit]\n", `"cm"->"mm"`, ""},
		{"within: {above_datum_cm: 0.5}\n", "462.5->462.1", ""},
		{"within: {above_datum_cm: 0.1}\n", "462.5->462.1", "/above_datum_cm"},
		{"within: {taken_at: 60}\n", "06:12:00Z->06:12:59Z", ""},
		{"within: {taken_at: 10}\n", "06:12:00Z->06:12:59Z", "/taken_at"},
	} {
		p := loadDemo(t, func(texts map[string]string) {
			old, now, _ := strings.Cut(c.change, "->")
			begin, expected, _ := strings.Cut(texts[surge], "expected: |")
			require.Contains(t, expected, old)
			texts[surge] = c.add + begin + "expected: |" + strings.Replace(expected, old, now, 1)
		})
		r := p.RunCase(surgeCase(p))
		require.Nil(t, r.Fault)
		require.Equal(t, c.want == "", r.OK(), "%s %v", c.add, r.Differences)
		if c.want != "" {
			require.Equal(t, c.want, r.Differences[0].Path)
		}
	}
}

// TestACaseCanExpectAFault, and one that is no case is a fault of the project.
func TestACaseCanExpectAFault(t *testing.T) {
	fails := func(text string) func(map[string]string) {
		return func(texts map[string]string) {
			begin, _, _ := strings.Cut(texts[surge], "expected: |")
			texts[surge] = strings.Replace(begin, `"name": " Orma slip ", `, "", 1) + text
		}
	}
	p := loadDemo(t, fails("fails: a value\n"))
	r := p.RunCase(surgeCase(p))
	require.True(t, r.OK(), "%v", r.Fault)
	p = loadDemo(t, fails("fails: something else\n"))
	r = p.RunCase(surgeCase(p))
	require.False(t, r.OK())
	for _, wrong := range []string{"", "fails: x\nexpected: '{}'\n", "fails: x\nwithin: {a: many}\n", "fails: x\nodd: 1\n"} {
		require.NotEmpty(t, loadDemo(t, fails(wrong)).Faults, wrong)
	}
	p = loadDemo(t, func(texts map[string]string) { texts[surge] = "case: X\nmapping: none\nfails: x\n" })
	require.Contains(t, p.Faults.Error(), `there is no mapping "none"`)
	r = p.RunCase(surgeCase(p))
	require.False(t, r.OK())
}

// TestWhatIsKeptAsACaseHolds: the present result, until something changes.
func TestWhatIsKeptAsACaseHolds(t *testing.T) {
	p := loadDemo(t, nil)
	plan := p.Mapping("reading-to-tide-level")
	c := surgeCase(p)
	fr := plan.NewFrame()
	for i, src := range plan.Mapping.From {
		rows, err := ReadJSON(plan.Sources[i], c.From[src.Name.Value])
		require.NoError(t, err)
		fr.Slots[1+i] = rows[0]
	}
	fr.Slots[0] = c.facts
	text, err := NewCase("Kept", "reading-to-tide-level", plan, fr)
	require.NoError(t, err)
	d := partfile.Parse("cases/kept.yaml", text)
	kept := parseCase("kept", d)
	require.Empty(t, d.Faults, string(text))
	r := p.RunCase(kept)
	require.True(t, r.OK(), "%v %v\n%s", r.Fault, r.Differences, text)
	_, err = NewCase("None", "m", plan, plan.NewFrame())
	require.ErrorContains(t, err, "no message at hand")
}

// surgeCase is the case of the surge, whatever mapping it names.
func surgeCase(p *Project) Case {
	all := p.CasesOf("")
	return all[slices.IndexFunc(all, func(c Case) bool { return c.ID == "surge-at-orma-slip" })]
}

func TestAccountsAreComparedWhateverTheOrder(t *testing.T) {
	want := Outcomes{{"asked by post", "a"}, {"asked by post", "b"}, {"run", "done"}, {"record 1", "done"}}
	require.Empty(t, differing(want, Outcomes{{"asked by post", "b"}, {"run", "done"}, {"asked by post", "a"}, {"record 1", "done"}}, nil))
	got := Outcomes{{"asked by post", "c"}, {"asked by post", "a"}, {"asked by post", "d"}, {"run", "done"}}
	require.Equal(t, []Difference{{"asked by post", "b", "c"}, {"record 1", "done", "nothing"}, {"asked by post", "nothing", "d"}}, differing(want, got, nil))
	require.Equal(t, []Difference{{"record 1", "done", "nothing"}}, differing(want, got, []string{"asked by post"}))
}
