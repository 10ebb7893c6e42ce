package store_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every function that the packages of the store offer is called by the tests here, against
// PostgreSQL.
func TestEveryFunctionIsTested(t *testing.T) {
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	below, err := filepath.Glob("*/*.go")
	require.NoError(t, err)
	offered, tests := map[string]bool{}, ""
	for _, name := range append(files, below...) {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		if strings.HasSuffix(name, "_test.go") {
			tests += string(text)
			continue
		}
		tests += string(text) // what serves other packages of the store is called by those
		of := filepath.Dir(name)
		if of == "pgchild" || of == "storetest" {
			continue // with tests of their own, or for tests
		}
		tree, err := parser.ParseFile(token.NewFileSet(), name, text, 0)
		require.NoError(t, err)
		for _, d := range tree.Decls {
			if f, ok := d.(*ast.FuncDecl); ok && f.Name.IsExported() &&
				(f.Recv == nil || slices.Contains([]string{"Database", "Tx"}, receiver(f))) {
				offered[call(of, f)] = true
			}
		}
	}
	var untested []string
	for name := range offered {
		if !slices.ContainsFunc([]string{"(", "[", ",", ")"},
			func(after string) bool { return strings.Contains(tests, name+after) }) {
			untested = append(untested, name)
		}
	}
	slices.Sort(untested)
	assert.Empty(t, untested)
	assert.Greater(t, len(offered), 200)
}

// call is how a function of a package, or a method, is called.
func call(of string, f *ast.FuncDecl) string {
	if f.Recv != nil || of == "db" {
		return "." + f.Name.Name
	}
	return of + "." + f.Name.Name
}

// receiver is the type that a method is of.
func receiver(f *ast.FuncDecl) string {
	of := f.Recv.List[0].Type
	if star, ok := of.(*ast.StarExpr); ok {
		of = star.X
	}
	if name, ok := of.(*ast.Ident); ok {
		return name.Name
	}
	return ""
}
