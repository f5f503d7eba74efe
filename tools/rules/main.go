// Command rules checks what the packages of this module may know of each other and of the world, and that the screens use the words
// of the glossary. Each rule gives its reason; an exception gives its own.
package main

import (
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
)

// rule forbids something in the files of some folders. Tests are not looked at.
type rule struct {
	in       string            // folders, as a regular expression on the path of a file
	imports  string            // that a file must not have, as a regular expression
	calls    string            // of other packages, as time.Now, that a file must not make
	literals string            // texts that must not stand in a file
	reason   string            // why
	but      map[string]string // exceptions: the beginning of a path, and why it is one
}

var rules = []rule{
	{
		in: "^internal/core/", imports: `^(net|net/http|net/smtp|database/sql|html/template|text/template)$|pgx|gin-gonic|riverqueue|chromedp`,
		reason: "the core computes: it reaches no network, no database and no page",
		but:    map[string]string{"internal/core/schema/sample/": "it only formats made-up addresses"},
	},
	{
		in: "^internal/core/", imports: `^hollowreed/internal/(app|cli|compiled|connector|design|engine|hostile|localpg|loopback|operate|outfile|secret|spool|standin|store|testdb|vault|web)\b`,
		reason: "everything may know the core, the core knows nothing but itself",
	},
	{
		in: "^internal/core/", imports: `^(crypto/rand|math/rand)$`,
		reason: "what the core gives depends on what it is given, so randomness is handed to it",
	},
	{
		in: "^internal/core/", calls: `^time\.(Now|Since|Until|After|AfterFunc|Sleep|Tick|NewTimer|NewTicker)$`,
		reason: "what the core gives depends on what it is given, so the time is handed to it",
		but: map[string]string{
			"internal/core/formula/program.go": "bounds how long an evaluation takes; no result depends on it",
			"internal/core/script/":            "bounds how long a script takes; no result depends on it",
		},
	},
	{
		in: "^internal/core/", imports: `^os/exec$`,
		reason: "the core starts no processes",
		but:    map[string]string{"internal/core/script/internal/worker/": "scripts run in processes of this program: nothing inside of one bounds the memory of their engine"},
	},
	{
		in: "^internal/", literals: `(?i)^\s*(select\s[^;]*\sfrom\s|insert into\s|update\s+\w+\s+set\s|delete from\s|with\s+\w+\s+as\s*\()`,
		reason: "only store knows the tables",
		but: map[string]string{
			"internal/store/": "it is the store", "internal/connector/": "the tables are those of other systems",
			"internal/standin/": "the tables are those of the simulated systems", "internal/localpg/": "the server's own catalogue, before there is a database",
		},
	},
	{
		in: "^internal/", literals: `river_job`,
		reason: "River's own tables are changed only through River, or in one file",
		but:    map[string]string{"internal/store/queue.go": "it is that file"},
	},
	{
		in: "^internal/", imports: `^html/template$`,
		reason: "only web knows HTML",
		but:    map[string]string{"internal/web/": "it is web", "internal/standin/": "the simulated systems have pages of their own"},
	},
	{
		in: "^internal/web/", imports: `pgx`,
		reason: "pages have no transactions: use cases of design, operate and the engine do",
		but:    map[string]string{"internal/web/webtest/": "it makes what tests begin with"},
	},
	{
		in: "^internal/web/", calls: `/store\.((Save|Add|Delete|Remove|Note|Move|Restore|Record|Create)[A-Z]\w*|SetWorkNote|SetCallMode|TypeTry|Undo|Redo|Assign|Pause|Unpause|Cancel)$`,
		reason: "pages change nothing by themselves: use cases of design and operate do, with a name, so that rights are asked for and deeds are noted in one place",
		but:    map[string]string{"internal/web/webtest/": "it makes what tests begin with"},
	},
	{
		in: "^internal/(web|design|operate)/", calls: `/store\.(RunByID|AsideByID)$`,
		reason: "an id that a person sends may be one of another project or environment: RunOf and AsideOf find it in the scope only",
	},
	{
		in: "^internal/(design|operate)/", imports: `gin-gonic|^hollowreed/internal/(web|app|cli)\b`,
		reason: "use cases are for pages, commands and interfaces alike, and know none of them",
	},
	{
		in: "^internal/(engine|store|vault|outfile|spool|cli)/", imports: `^net/(http|smtp)$`,
		reason: "only connectors talk to other systems",
	},
	{
		in: "^internal/", literals: `^(fixedwidth|ndjson)$`,
		reason: "only a notation's own folder names it: others ask what it can do (schema.Notation)",
		but:    map[string]string{"internal/core/notation/": "they are the notations"},
	},
	{
		in: "^internal/", imports: `^hollowreed/internal/web\b`,
		reason: "nothing stands on the pages",
		but:    map[string]string{"internal/web/": "it is web", "internal/app/": "it starts the server"},
	},
}

func main() {
	root := "."
	if len(os.Args) > 1 {
		root = os.Args[1]
	}
	found, err := check(root, rules)
	said, werr := checkWords(root)
	if err = errors.Join(err, werr); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	found = append(found, said...)
	for _, f := range found {
		fmt.Fprintln(os.Stderr, f)
	}
	if len(found) > 0 {
		os.Exit(1)
	}
}

// check looks at all Go files below a folder, and says what breaks a rule: where, what, and why it must not.
func check(root string, rules []rule) (found []string, err error) {
	err = filepath.WalkDir(filepath.Join(root, "internal"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, parser.SkipObjectResolution)
		if err != nil {
			return err
		}
		name, err := filepath.Rel(root, path)
		for _, r := range rules {
			if r.holdsIn(filepath.ToSlash(name)) {
				found = append(found, r.broken(set, file)...)
			}
		}
		return err
	})
	return found, err
}

func (r *rule) holdsIn(path string) bool {
	if !regexp.MustCompile(r.in).MatchString(path) {
		return false
	}
	for begins := range r.but {
		if strings.HasPrefix(path, begins) {
			return false
		}
	}
	return true
}

// broken says what of a file breaks the rule.
func (r *rule) broken(set *token.FileSet, file *ast.File) (found []string) {
	say := func(at token.Pos, what string) {
		found = append(found, fmt.Sprintf("%s: %s: %s", set.Position(at), what, r.reason))
	}
	imported := map[string]string{} // by the name in the file
	for _, i := range file.Imports {
		path, _ := strconv.Unquote(i.Path.Value)
		name := path[strings.LastIndexByte(path, '/')+1:]
		if i.Name != nil {
			name = i.Name.Name
		}
		imported[name] = path
		if r.imports != "" && regexp.MustCompile(r.imports).MatchString(path) {
			say(i.Pos(), "imports "+path)
		}
	}
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.ImportSpec:
			return false
		case *ast.SelectorExpr:
			of, ok := n.X.(*ast.Ident)
			if ok && r.calls != "" && regexp.MustCompile(r.calls).MatchString(imported[of.Name]+"."+n.Sel.Name) {
				say(n.Pos(), "uses "+imported[of.Name]+"."+n.Sel.Name)
			}
		case *ast.BasicLit:
			text, err := strconv.Unquote(n.Value)
			if n.Kind == token.STRING && err == nil && r.literals != "" && regexp.MustCompile(r.literals).MatchString(text) {
				say(n.Pos(), "has the text "+strconv.Quote(text[:min(len(text), 60)]))
			}
		}
		return true
	})
	return found
}
