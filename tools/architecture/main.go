// Command architecture writes docs/architecture.md from the code: the rooms of the house, what each is for in the words of its
// package comment, and which knows which.
package main

import (
	"bytes"
	"fmt"
	"go/doc"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

const module = "hollowreed/internal/"

// room is a folder below internal with all that is in it; of the core each folder is one.
type room struct {
	name     string
	packages []pkg
	knows    map[string]bool // other rooms
}

type pkg struct{ path, about string }

func main() {
	root := "."
	if len(os.Args) > 1 {
		root = os.Args[1]
	}
	text, err := describe(root)
	if err == nil {
		err = os.WriteFile(filepath.Join(root, "docs", "architecture.md"), text, 0o644)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// describe is the text of docs/architecture.md for the code below a folder.
func describe(root string) ([]byte, error) {
	rooms, err := read(root)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	b.WriteString("# The architecture\n\n`make architecture` writes this from the code. The rules that it follows stand in `tools/rules`.\n\n")
	core := func(r *room) bool { return strings.HasPrefix(r.name, "core/") }
	var outside, inside []*room
	for _, name := range slices.Sorted(maps.Keys(rooms)) {
		if core(rooms[name]) {
			inside = append(inside, rooms[name])
		} else {
			outside = append(outside, rooms[name])
		}
	}
	b.WriteString("## Who knows whom\n\nAll may know the core; the drawing leaves those arrows out.\n\n")
	draw(&b, outside, func(to string) bool { return !strings.HasPrefix(to, "core/") })
	b.WriteString("\n## Within the core\n\n`value`, `fault` and `partfile` are known by nearly all; the drawing leaves those arrows out.\n\n")
	low := map[string]bool{"core/value": true, "core/fault": true, "core/partfile": true}
	draw(&b, inside, func(to string) bool { return !low[to] })
	b.WriteString("\n## Packages\n\n| package | what it is for |\n| --- | --- |\n")
	for _, r := range append(outside, inside...) {
		for _, p := range r.packages {
			fmt.Fprintf(&b, "| `%s` | %s |\n", p.path, p.about)
		}
	}
	return b.Bytes(), nil
}

// draw writes the rooms with their arrows as a Mermaid graph.
func draw(b *bytes.Buffer, rooms []*room, shown func(to string) bool) {
	id := func(name string) string { return strings.ReplaceAll(strings.TrimPrefix(name, "core/"), "/", "_") }
	b.WriteString("```mermaid\ngraph TD\n")
	for _, r := range rooms {
		fmt.Fprintf(b, "  %s\n", id(r.name))
		for _, to := range slices.Sorted(maps.Keys(r.knows)) {
			if shown(to) {
				fmt.Fprintf(b, "  %s --> %s\n", id(r.name), id(to))
			}
		}
	}
	b.WriteString("```\n")
}

func roomOf(path string) string {
	parts := strings.Split(path, "/")
	if parts[0] == "core" && len(parts) > 1 {
		return "core/" + parts[1]
	}
	return parts[0]
}

// read looks at all packages below internal; tests are left out.
func read(root string) (map[string]*room, error) {
	rooms := map[string]*room{}
	base := filepath.Join(root, "internal")
	err := filepath.WalkDir(base, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return err
		}
		files, err := filepath.Glob(filepath.Join(path, "*.go"))
		if err != nil {
			return err
		}
		files = slices.DeleteFunc(files, func(f string) bool { return strings.HasSuffix(f, "_test.go") })
		if len(files) == 0 {
			return nil
		}
		rel, err := filepath.Rel(base, path)
		if err != nil {
			return err
		}
		rel = filepath.ToSlash(rel)
		r := rooms[roomOf(rel)]
		if r == nil {
			r = &room{name: roomOf(rel), knows: map[string]bool{}}
			rooms[r.name] = r
		}
		about, err := r.add(files)
		r.packages = append(r.packages, pkg{rel, about})
		return err
	})
	return rooms, err
}

// add notes what the files of a package know, and gives the first sentence of its comment.
func (r *room) add(files []string) (about string, err error) {
	set := token.NewFileSet()
	for _, f := range files {
		file, err := parser.ParseFile(set, f, nil, parser.ImportsOnly|parser.ParseComments)
		if err != nil {
			return "", err
		}
		if file.Doc != nil {
			about = new(doc.Package).Synopsis(file.Doc.Text())
		}
		for _, i := range file.Imports {
			path, _ := strconv.Unquote(i.Path.Value)
			if of, ok := strings.CutPrefix(path, module); ok && roomOf(of) != r.name {
				r.knows[roomOf(of)] = true
			}
		}
	}
	return about, nil
}
