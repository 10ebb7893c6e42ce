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

// Every function that this package offers is called by its own tests, against PostgreSQL.
func TestEveryFunctionIsTested(t *testing.T) {
	files, err := filepath.Glob("*.go")
	require.NoError(t, err)
	offered, tests := map[string]bool{}, ""
	for _, name := range files {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		if strings.HasSuffix(name, "_test.go") {
			tests += string(text)
			continue
		}
		tree, err := parser.ParseFile(token.NewFileSet(), name, text, 0)
		require.NoError(t, err)
		for _, d := range tree.Decls {
			if f, ok := d.(*ast.FuncDecl); ok && f.Name.IsExported() && (f.Recv == nil || slices.Contains([]string{"Store", "Tx"}, receiver(f))) {
				offered[f.Name.Name] = true
			}
		}
	}
	var untested []string
	for name := range offered {
		if !strings.Contains(tests, "."+name+"(") && !strings.Contains(tests, "."+name+"[") && !strings.Contains(tests, "."+name+",") && !strings.Contains(tests, "."+name+")") {
			untested = append(untested, name)
		}
	}
	slices.Sort(untested)
	assert.Empty(t, untested)
	assert.Greater(t, len(offered), 200)
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
