package main

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestScreensUseTheWordsOfTheGlossary(t *testing.T) {
	found, err := checkWords("../..")
	require.NoError(t, err)
	require.Empty(t, found)
}

func TestAReplacedWordIsFoundWhereItIsShown(t *testing.T) {
	list := []word{{"Take out", "Remove"}}
	page := "<p>\n  {{if .Take}}Take\n out{{end}}</p>\n<b title=\"Take out a row\" id=\"Take out\">Takeout {{\"Take out\"}}</b>\n<i>Stake out</i>"
	require.Equal(t, []string{
		`a.html:2: says "Take out": the word is "Remove" (docs/glossary.md)`,
		`a.html:4: says "Take out": the word is "Remove" (docs/glossary.md)`,
	}, wrongWords("a.html", shownByPage(page), list))
	require.Empty(t, wrongWords("a.html", shownByPage(`<p class="Take out">Remove</p>`), list))
	code := "// Take out\nvar s = Setting{Name: \"Take out\",\n\tLabel: \"a \\\"b\\\" Take out\", Help: \"no\"}\n"
	require.Equal(t, []string{`a.go:3: says "Take out": the word is "Remove" (docs/glossary.md)`}, wrongWords("a.go", shownByKinds(code), list))
}

// TestTheGlossaryContradictsNothing: no word that is to be used is one that is not.
func TestTheGlossaryContradictsNothing(t *testing.T) {
	text, err := os.ReadFile("../../" + glossary)
	require.NoError(t, err)
	list := words(string(text))
	require.Greater(t, len(list), 20)
	not := map[string]bool{}
	for _, w := range list {
		require.False(t, not[w.not], w.not)
		not[w.not] = true
	}
	for _, w := range list {
		require.False(t, not[w.but], w.but)
	}
}
