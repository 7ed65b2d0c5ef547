package layers

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// wordTypes are the types whose values are the vocabulary between the rooms.
var wordTypes = map[string]bool{"Reason": true, "Answer": true, "Outcome": true, "Question": true, "Result": true,
	"KeyFit": true,
	"Mark":   true, "TraceKind": true, "LogEvent": true, "ProbeKind": true, "ProbeResult": true}

// wordFields are the names of what holds a value of the vocabulary.
var wordFields = map[string]bool{"Reason": true, "Answer": true, "Outcome": true, "Question": true, "Purpose": true,
	"Result": true,
	"Asked":  true, "Marks": true}

// otherWords are places with words of their own that are spelled like one of
// the vocabulary: the names of causes and of findings, the aspects and faults of
// a site, and the answers of the protocols, which `ask` shows as they are.
var otherWords = []string{"core/diagnose/catalogue.go", "core/diagnose/sign.go", "core/findings/", "core/site/",
	"live/lab/faults.go",
	"live/lab/extra.go"}

// parsed returns the files of the program that are no tests.
func parsed(t *testing.T) (*token.FileSet, map[string]*ast.File) {
	set, files := token.NewFileSet(), map[string]*ast.File{}
	root := ".."
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(set, path, nil, parser.SkipObjectResolution)
		files[filepath.ToSlash(strings.TrimPrefix(path, "../"))] = f
		return err
	}))
	return set, files
}

// declarations returns the words of the vocabulary, and where each literal of a
// declaration stands.
func declarations(files map[string]*ast.File) (words map[string]string, at map[token.Pos]bool) {
	words, at = map[string]string{}, map[token.Pos]bool{}
	for _, f := range files {
		ast.Inspect(f, func(n ast.Node) bool {
			v, ok := n.(*ast.ValueSpec)
			if !ok {
				return true
			}
			kind := ""
			switch e := v.Type.(type) {
			case *ast.Ident:
				kind = e.Name
			case *ast.SelectorExpr:
				kind = e.Sel.Name
			}
			for _, value := range v.Values {
				if lit, ok := value.(*ast.BasicLit); ok && lit.Kind == token.STRING && wordTypes[kind] {
					word, _ := strconv.Unquote(lit.Value)
					words[word], at[lit.Pos()] = kind, true
				}
			}
			return true
		})
	}
	return words, at
}

// A word of the vocabulary is written once, in its declaration. Elsewhere its
// constant stands: rooms that share words by hand drift apart.
func TestNoWordIsWrittenTwice(t *testing.T) {
	t.Parallel()
	set, files := parsed(t)
	words, declared := declarations(files)
	require.Greater(t, len(words), 60)
	for path, f := range files {
		if strings.HasPrefix(path, "cli/") && strings.HasSuffix(path, "help.go") ||
			strings.HasPrefix(path, "randomsite/") {
			continue // texts for people, and of site files
		}
		other := false
		for _, place := range otherWords {
			other = other || strings.HasPrefix(path, place)
		}
		report := func(e ast.Expr, always bool) {
			lit, ok := e.(*ast.BasicLit)
			if !ok || lit.Kind != token.STRING || declared[lit.Pos()] {
				return
			}
			word, _ := strconv.Unquote(lit.Value)
			if kind, is := words[word]; is && (always || strings.Contains(word, "-") && !other) {
				t.Errorf("%s: %q is a word of %s: use its constant", set.Position(lit.Pos()), word, kind)
			}
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch v := n.(type) {
			case *ast.BasicLit:
				report(v, false)
			case *ast.BinaryExpr:
				if holdsWord(v.X) {
					report(v.Y, true)
				}
			case *ast.KeyValueExpr:
				if id, ok := v.Key.(*ast.Ident); ok && wordFields[id.Name] {
					report(v.Value, true)
				}
			case *ast.SwitchStmt:
				if !holdsWord(v.Tag) {
					return true
				}
				for _, c := range v.Body.List {
					for _, e := range c.(*ast.CaseClause).List {
						report(e, true)
					}
				}
			case *ast.AssignStmt:
				for i, left := range v.Lhs {
					if holdsWord(left) && i < len(v.Rhs) {
						report(v.Rhs[i], true)
					}
				}
			}
			return true
		})
	}
}

// holdsWord reports whether an expression is a field with a value of the
// vocabulary.
func holdsWord(e ast.Expr) bool {
	s, ok := e.(*ast.SelectorExpr)
	return ok && wordFields[s.Sel.Name]
}

// goFiles are the paths of all code.
func goFiles(t *testing.T) []string {
	var paths []string
	require.NoError(t, filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && strings.HasSuffix(path, ".go") {
			paths = append(paths, path)
		}
		return err
	}))
	return paths
}

// A comment that says what something is begins with its name: one that outlived a rename begins with another.
func TestACommentBeginsWithTheNameOfWhatItIsAbout(t *testing.T) {
	t.Parallel()
	set := token.NewFileSet()
	for _, path := range goFiles(t) {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(set, path, nil, parser.ParseComments)
		require.NoError(t, err)
		check := func(name string, doc *ast.CommentGroup) {
			if doc == nil || doc.Text() == "" { // an instruction to the compiler has no text
				return
			}
			first, _, _ := strings.Cut(doc.Text(), " ")
			if strings.TrimRight(first, ",:\n") != name {
				t.Errorf("%s: the comment of %s begins with %q", set.Position(doc.Pos()), name, first)
			}
		}
		if about, is := strings.CutPrefix(f.Doc.Text(), "Package "); is && f.Name.Name != "main" {
			if name, _, _ := strings.Cut(about, " "); name != f.Name.Name {
				t.Errorf("%s: the comment of package %s is about %q", set.Position(f.Doc.Pos()), f.Name.Name, name)
			}
		}
		for _, d := range f.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				check(d.Name.Name, d.Doc)
			case *ast.GenDecl:
				if d.Lparen.IsValid() || len(d.Specs) != 1 {
					continue
				}
				switch s := d.Specs[0].(type) {
				case *ast.TypeSpec:
					check(s.Name.Name, d.Doc)
				case *ast.ValueSpec:
					if len(s.Names) == 1 {
						check(s.Names[0].Name, d.Doc)
					}
				}
			}
		}
	}
}

// Code goes to 120 columns, that of tests too, where a tab is four columns; what stands in a raw string is text,
// and may be wider.
func TestLinesGoTo120Columns(t *testing.T) {
	t.Parallel()
	const most = 120
	set := token.NewFileSet()
	for _, path := range goFiles(t) {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		f, err := parser.ParseFile(set, path, text, parser.SkipObjectResolution)
		require.NoError(t, err)
		raw := map[int]bool{}
		ast.Inspect(f, func(n ast.Node) bool {
			if lit, ok := n.(*ast.BasicLit); ok && strings.HasPrefix(lit.Value, "`") {
				for line := set.Position(lit.Pos()).Line; line <= set.Position(lit.End()).Line; line++ {
					raw[line] = true
				}
			}
			return true
		})
		for i, line := range strings.Split(string(text), "\n") {
			if n := len([]rune(line)) + 3*strings.Count(line, "\t"); n > most && !raw[i+1] {
				t.Errorf("%s:%d: %d columns", path, i+1, n)
			}
		}
	}
}

// before matches words of the site file that have another name now, and words for them that nobody of the trade says.
var before = regexp.MustCompile(`(?i)\b(kinds:|traits?|habits?|all-resting|rest-ends|heeds-icmp|login-window|` +
	`built-in-login|record-failure|recorded-secrets|takes-back|password-as|level-from|account-from|teams-from|` +
	`questions-per-client)\b`)

// No page, help text, schema or demo has a word of before; the names of JSON fields stay.
func TestNoPageHasAWordOfBefore(t *testing.T) {
	t.Parallel()
	var files []string
	for _, pattern := range []string{"../../*.md", "../../docs/*.md", "../../docs/*.json", "../../demo/*/*.yaml",
		"../cli/begin/starter/*"} {
		found, err := filepath.Glob(pattern)
		require.NoError(t, err)
		files = append(files, found...)
	}
	require.Greater(t, len(files), 35)
	for _, file := range files {
		if name := filepath.Base(file); name == "words.md" || name == "CHANGELOG.md" {
			continue // they say what the words were
		}
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for number, line := range strings.Split(string(text), "\n") {
			if strings.Contains(line, "`trait`") || strings.Contains(line, `"trait"`) {
				continue // a field of JSON
			}
			require.NotRegexp(t, before, line, "%s:%d", file, number+1)
		}
	}
}
