package finding_test

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/finding"
)

func TestCatalogueIsCompleteAndUnique(t *testing.T) {
	form := regexp.MustCompile(`^[a-z]+(-[a-z]+)*$`)
	seen := map[finding.Code]bool{}
	for _, e := range finding.All() {
		assert.False(t, seen[e.Code], "%s stands twice", e.Code)
		seen[e.Code] = true
		assert.Regexp(t, form, string(e.Code))
		for name, text := range map[string]string{
			"title": e.Title, "explanation": e.Explanation, "remedy": e.Remedy,
			"owner": string(e.Owner),
		} {
			assert.NotEmpty(t, text, "%s has no %s", e.Code, name)
		}
		if e.Severity == finding.Block {
			assert.NotEqual(t, finding.OwnerNobody, e.Owner, "%s blocks, so somebody must be able to mend it", e.Code)
		}
	}
}

func TestLookupOfUnknownCode(t *testing.T) {
	_, ok := finding.Lookup("no-such-code")
	assert.False(t, ok)
	assert.Equal(t, "no-such-code", finding.Title("no-such-code"))
}

var update = flag.Bool("update", false, "write docs/findings.md anew")

// The documentation takes its text from the catalogue.
func TestFindingsAreDocumented(t *testing.T) {
	var doc strings.Builder
	doc.WriteString("# Findings\n\nEverything Kanban can notice, by code. `kanban explain CODE` says the same. This page is made from the catalogue:\n`go test ./internal/core/finding -update`.\n")
	for _, e := range finding.All() {
		fmt.Fprintf(&doc, "\n## %s\n\n*%s* (%s). %s\n\n**Remedy:** %s **Who can mend it:** %s.\n", e.Code, e.Title,
			e.Severity, e.Explanation, e.Remedy, e.Owner)
	}
	path := filepath.Join("..", "..", "..", "docs", "findings.md")
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(doc.String()), 0o644))
	}
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, doc.String(), string(text), "run: go test ./internal/core/finding -update")
}
