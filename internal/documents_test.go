package internal_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the architecture says about where something is decided is there.
func TestWhereItIsDecided(t *testing.T) {
	text, err := os.ReadFile("../docs/architecture.md")
	require.NoError(t, err)
	rows := regexp.MustCompile("(?m)^\\| ([^|`]+) \\| `([^`]+\\.go)` \\| `([^`]+)` \\|$").FindAllStringSubmatch(string(text), -1)
	assert.GreaterOrEqual(t, len(rows), 25)
	for _, row := range rows {
		tree, err := parser.ParseFile(token.NewFileSet(), "../"+row[2], nil, 0)
		if !assert.NoError(t, err, row[1]) {
			continue
		}
		found := false
		ast.Inspect(tree, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.FuncDecl:
				found = found || x.Name.Name == row[3]
				return false
			case *ast.ValueSpec:
				for _, name := range x.Names {
					found = found || name.Name == row[3]
				}
			}
			return true
		})
		assert.True(t, found, "%s: %s has no %s", row[1], row[2], row[3])
	}
}

// gone are words that were replaced, with what replaced them.
var gone = map[string]string{
	`\b(sections|--)aside\b|[Ll]eft aside|[Ll]eaves? aside`: "hidden",
	`take-back|[Tt]akeBack|[Tt]akenBack|\btakes? back\b`:    "revert",
	`whole-comparison|WholeComparison`:                      "full comparison",
	`look-around|lookAround`:                                "check now",
	`\b[Aa]miss\b`:                                          "mismatches",
	`ComesOut|GoesIn\b|"comes? out"|Save, off`:              "is removed, is added",
	`[Pp]rogressions?\b|\bClimb|\bladder\b`:                 "stage plan, stage progress",
	`/keeping\b|\bKeeping"`:                                 "settings",
	`\blikeness\.|\bnextterm\.`:                             "similarity, rollover",
	`\b(Edition|Editions|Tally|Tallies|Looker|KeepStanding|GuardTold|FoldTallies|AppendSheet)\b`: "compiled outline, done bits, directory reader, status, guard notified",
	`Kind: "(send|operate|row)"|"--(operate|row|quiet)"|'(operate|row|send)':`:                   "send-event, call-operation, append-row, quiet hours",
	`internal/app/(observing|reacting)\b|\b(observing|reacting)\.`:                               "pipeline, rules, outlines",
	`app/(reading|connecting|pairing|syncing|many|awarding|offering|progressing|reporting)\b`:    "what the package handles",
}

// One word, one thing: what was replaced is nowhere any more but in the migrations of old
// records, and where this says so.
func TestWordsThatAreGone(t *testing.T) {
	out, err := exec.Command("git", "-C", "..", "ls-files", "*.go", "console/src", "docs/*.md", "README.md",
		"scripts", "Makefile").Output()
	require.NoError(t, err)
	looked := 0
	for name := range strings.FieldsSeq(string(out)) {
		if name == "internal/documents_test.go" || strings.HasSuffix(name, "migrate_test.go") {
			continue
		}
		text, err := os.ReadFile("../" + name)
		if os.IsNotExist(err) {
			continue
		}
		require.NoError(t, err)
		looked++
		for word, instead := range gone {
			if at := regexp.MustCompile(word).FindIndex(text); at != nil {
				assert.Fail(t, "an old word", "%s: %q; say %s", name, text[max(0, at[0]-30):min(len(text), at[1]+30)],
					instead)
			}
		}
	}
	assert.Greater(t, looked, 300)
}

// Wherever a finding leads, the console has a page.
func TestFindingsLeadToPages(t *testing.T) {
	routes, err := os.ReadFile("../console/src/router.ts")
	require.NoError(t, err)
	pages := map[string]bool{}
	for _, m := range regexp.MustCompile(`path: '([^']+)'`).FindAllStringSubmatch(string(routes), -1) {
		pages[strings.TrimSuffix(m[1], "?")] = true
		if page, optional := strings.CutSuffix(m[1], "/:id?"); optional {
			pages[page] = true
		}
	}
	require.Greater(t, len(pages), 20)
	files, err := filepath.Glob("app/findings/*.go")
	require.NoError(t, err)
	links := 0
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, m := range regexp.MustCompile(`"(/[a-z-]+/?)"(?:\+[^"\n]*"(/[a-z-]+)")?`).FindAllStringSubmatch(string(text), -1) {
			links++
			link := m[1]
			if strings.HasSuffix(link, "/") {
				link += ":id" + m[2]
			}
			assert.True(t, pages[link], "%s: %s leads to no page", file, link)
		}
	}
	assert.Greater(t, links, 10)
}
