package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// below lists the rooms from the bottom up: a room may import only rooms that
// stand before it.
var below = []string{"fault", "mask", "near", "shellwords", "wire", "har", "oauth", "bearer", "token", "seal", "sqlfile", "run", "project", "pouch", "journal", "landing", "finding", "exhibit", "flow", "round", "drill"}

// TestCoreHasNoInterfaceCode guards the rule that the core computes and never
// talks to a person.
func TestCoreHasNoInterfaceCode(t *testing.T) {
	banned := []string{"github.com/spf13/", "charm.land/", "golang.org/x/term", "tidycourier/cli", "tidycourier/show", "tidycourier/standin"}
	files := 0
	eachFile(t, func(path string, f *ast.File) {
		files++
		for _, im := range f.Imports {
			name, err := strconv.Unquote(im.Path.Value)
			require.NoError(t, err)
			for _, b := range banned {
				if strings.HasPrefix(name, b) {
					t.Errorf("%s imports %s", path, name)
				}
			}
		}
		ast.Inspect(f, func(n ast.Node) bool {
			sel, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			pkg, ok := sel.X.(*ast.Ident)
			if !ok || pkg.Obj != nil {
				return true
			}
			what := pkg.Name + "." + sel.Sel.Name
			if what == "os.Stdout" || what == "os.Stderr" || what == "os.Stdin" || strings.HasPrefix(what, "fmt.Print") || strings.HasPrefix(what, "log.Print") {
				t.Errorf("%s uses %s", path, what)
			}
			return true
		})
	})
	require.Greater(t, files, 30, "the walk must have found the rooms")
}

// TestImportsPointDown guards the order of the rooms.
func TestImportsPointDown(t *testing.T) {
	level := map[string]int{}
	for i, room := range below {
		level[room] = i
	}
	eachFile(t, func(path string, f *ast.File) {
		room := filepath.ToSlash(filepath.Dir(path))
		own, known := level[room]
		if !known {
			t.Errorf("the room %s has no place in the order", room)
			return
		}
		for _, im := range f.Imports {
			name, _ := strconv.Unquote(im.Path.Value)
			if other, ours := strings.CutPrefix(name, "tidycourier/core/"); ours && level[other] >= own {
				t.Errorf("%s imports %s, which does not stand below it", path, other)
			}
		}
	})
}

func eachFile(t *testing.T, visit func(path string, f *ast.File)) {
	t.Helper()
	fset := token.NewFileSet()
	err := filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(fset, path, nil, 0)
		if err == nil {
			visit(path, f)
		}
		return err
	})
	require.NoError(t, err)
}
