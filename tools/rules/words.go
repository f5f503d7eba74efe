package main

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
)

// The words that screens must not use stand in the last table of the glossary.
const (
	glossary = "docs/glossary.md"
	replaced = "## Not these words, but those"
)

// word is one that was replaced by another.
type word struct{ not, but string }

// words reads the table of a glossary.
func words(text string) (list []word) {
	_, table, _ := strings.Cut(text, replaced)
	for line := range strings.Lines(table) {
		cells := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), "|")
		if len(cells) != 2 || strings.HasPrefix(strings.TrimSpace(cells[0]), "---") || strings.TrimSpace(cells[0]) == "not" {
			continue
		}
		list = append(list, word{strings.TrimSpace(cells[0]), strings.TrimSpace(cells[1])})
	}
	return list
}

// checkWords looks at the templates, and the labels of settings and kinds, below a folder, and says where a word stands that the glossary has replaced.
func checkWords(root string) (found []string, err error) {
	text, err := os.ReadFile(filepath.Join(root, glossary))
	if err != nil {
		return nil, err
	}
	list := words(string(text))
	if len(list) == 0 {
		return nil, fmt.Errorf("%s has no table below %q", glossary, replaced)
	}
	err = filepath.WalkDir(filepath.Join(root, "internal"), func(path string, d fs.DirEntry, err error) error {
		show := showing[filepath.Ext(path)]
		if err != nil || d.IsDir() || show == nil || strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		name, err := filepath.Rel(root, path)
		found = append(found, wrongWords(filepath.ToSlash(name), show(string(text)), list)...)
		return err
	})
	return found, err
}

// showing are what files show, by their ending; all else of them is blank, so that lines stay where they are.
var showing = map[string]func(text string) string{".html": shownByPage, ".go": shownByKinds}

var (
	actions    = regexp.MustCompile(`(?s)\{\{.*?\}\}`)
	markup     = regexp.MustCompile(`(?s)<[^>]*>`)
	attributes = regexp.MustCompile(`(?:title|aria-label|placeholder)="([^"]*)"`)
	labels     = regexp.MustCompile(`\b(?:Label|Title|About|Help): "((?:[^"\\]|\\.)*)"`)
)

// shownByPage is the text of a template, and its attributes that are read.
func shownByPage(page string) string {
	page = actions.ReplaceAllStringFunc(page, blank)
	return markup.ReplaceAllStringFunc(page, func(tag string) string { return blank(tag) + texts(attributes, tag) })
}

// shownByKinds are the labels and descriptions of settings and kinds in Go.
func shownByKinds(code string) string {
	var out strings.Builder
	for line := range strings.Lines(code) {
		out.WriteString(texts(labels, line) + "\n")
	}
	return out.String()
}

// blank is as many lines as a text has, without anything in them.
func blank(text string) string { return strings.Repeat("\n", strings.Count(text, "\n")) + " " }

func texts(of *regexp.Regexp, text string) (out string) {
	for _, m := range of.FindAllStringSubmatch(text, -1) {
		out += " " + m[1] + " "
	}
	return out
}

// wrongWords are the replaced words in what is shown.
func wrongWords(name, text string, list []word) (found []string) {
	for _, w := range list {
		use := regexp.MustCompile(`\b` + strings.ReplaceAll(regexp.QuoteMeta(w.not), " ", `\s+`) + `\b`)
		for _, at := range use.FindAllStringIndex(text, -1) {
			found = append(found, fmt.Sprintf("%s:%d: says %q: the word is %q (%s)", name, 1+strings.Count(text[:at[0]], "\n"), w.not, w.but, glossary))
		}
	}
	return found
}
