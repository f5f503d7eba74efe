// Command templates formats the page templates: one block element a line, indented by depth, no line over 160 characters. It
// changes only white space that a browser does not show. With -w it writes the files; else it names those that differ.
package main

import (
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"
)

// Widths of lines, in characters.
const (
	maxLine = 160 // no line is longer
	wanted  = 120 // lines are filled up to this
)

func main() {
	write := flag.Bool("w", false, "write the files")
	flag.Parse()
	bad, err := run(flag.Args(), *write)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	for _, b := range bad {
		fmt.Fprintln(os.Stderr, b)
	}
	if len(bad) > 0 {
		os.Exit(1)
	}
}

// run formats the templates below folders, and says what is wrong with those that it does not write.
func run(folders []string, write bool) (bad []string, err error) {
	for _, folder := range folders {
		err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || filepath.Ext(path) != ".html" {
				return err
			}
			text, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			out := format(string(text))
			for i, line := range strings.Split(out, "\n") {
				if utf8.RuneCountInString(line) > maxLine {
					bad = append(bad, fmt.Sprintf("%s:%d: longer than %d characters", path, i+1, maxLine))
				}
			}
			if strings.Contains(out, ` style="`) {
				bad = append(bad, path+": has an inline style, which the content security policy forbids")
			}
			if out == string(text) {
				return nil
			}
			if write {
				return os.WriteFile(path, []byte(out), 0o644)
			}
			bad = append(bad, path+": not formatted; run make templates")
			return nil
		})
		if err != nil {
			return bad, err
		}
	}
	return bad, nil
}
