package main

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWhatContributingNamesIsThere: every path, command, package, name and test that CONTRIBUTING.md names exists.
func TestWhatContributingNamesIsThere(t *testing.T) {
	root := "../.."
	text, err := os.ReadFile(filepath.Join(root, "CONTRIBUTING.md"))
	require.NoError(t, err)
	makefile, err := os.ReadFile(filepath.Join(root, "Makefile"))
	require.NoError(t, err)
	files, names := declared(t, root)

	there := func(path string) bool {
		for _, below := range []string{"", "internal", "internal/core"} {
			if _, err := os.Stat(filepath.Join(root, below, path)); err == nil {
				return true
			}
		}
		return false
	}
	selector := regexp.MustCompile(`^[a-z]+\.[A-Z]\w*$`)
	looked := 0
	for _, m := range regexp.MustCompile("`([^`\n]+)`").FindAllStringSubmatch(string(text), -1) {
		word, checked := m[1], true
		switch {
		case strings.HasPrefix(word, "make "):
			require.Contains(t, string(makefile), "\n"+strings.TrimPrefix(word, "make ")+":", word)
		case strings.HasSuffix(word, ".go") && !strings.Contains(word, "/"):
			require.True(t, files[word], word)
		case selector.MatchString(word), strings.HasPrefix(word, "Test"), strings.HasPrefix(word, "Fuzz"):
			require.True(t, names[word], word)
		case strings.Contains(word, "/"):
			require.True(t, there(word), word)
		default:
			checked = false
		}
		if checked {
			looked++
		}
	}
	require.Greater(t, looked, 20)

	_, tree, _ := strings.Cut(string(text), "```\n")
	tree, _, _ = strings.Cut(tree, "```")
	folder := regexp.MustCompile(`^( *)([a-z]+/( [a-z]+/)*)`)
	around := []string{}
	for _, line := range strings.Split(tree, "\n") {
		m := folder.FindStringSubmatch(line)
		if m == nil || len(m[1])/2 > len(around) { // a description that goes on
			continue
		}
		depth := len(m[1]) / 2
		for _, name := range strings.Fields(m[2]) {
			around = append(around[:depth:depth], name)
			_, err := os.Stat(filepath.Join(root, filepath.Join(around...)))
			require.NoError(t, err, line)
			looked++
		}
	}
	require.Greater(t, looked, 50)
}

// declared are the names of all Go files, and what they declare: package.Name of what is exported, and tests.
func declared(t *testing.T, root string) (files, names map[string]bool) {
	t.Helper()
	files, names = map[string]bool{}, map[string]bool{}
	pkg := regexp.MustCompile(`(?m)^package (\w+)$`)
	name := regexp.MustCompile(`(?m)^(?:func|type|var|const|\t)\s*([A-Z]\w*)`)
	method := regexp.MustCompile(`(?m)^func \(\w+ \*?(\w+)\) ([A-Z]\w*)`)
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			return filepath.SkipDir
		}
		if !strings.HasSuffix(path, ".go") {
			return nil
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		files[d.Name()] = true
		of := pkg.FindStringSubmatch(string(text))[1]
		for _, m := range name.FindAllStringSubmatch(string(text), -1) {
			names[of+"."+m[1]] = true
			names[m[1]] = names[m[1]] || strings.HasSuffix(path, "_test.go")
		}
		for _, m := range method.FindAllStringSubmatch(string(text), -1) {
			names[m[1]+"."+m[2]] = true
		}
		return nil
	}))
	return files, names
}
