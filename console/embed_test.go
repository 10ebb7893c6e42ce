package console_test

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"io/fs"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/console"
	"kanban/internal/core/rule"
)

// maxFirstLoad is the most script, gzipped, that opening the board may take.
const maxFirstLoad = 250_000

// Every script that the first page needs: what index.html names, and whatever
// those import at once.
func TestFirstLoadIsSmall(t *testing.T) {
	page, err := fs.ReadFile(console.Files(), "index.html")
	require.NoError(t, err, "the console is not built: run make console")
	board, err := fs.Glob(console.Files(), "assets/Board-*.js")
	require.NoError(t, err)
	require.Len(t, board, 1)
	todo := board
	for _, m := range regexp.MustCompile(`/(assets/[^"]+\.js)`).FindAllSubmatch(page, -1) {
		todo = append(todo, string(m[1]))
	}
	static := regexp.MustCompile(`(?:from|import)\s*"\./([^"]+\.js)"`)
	total, seen := 0, map[string]bool{}
	for len(todo) > 0 {
		name := todo[0]
		todo = todo[1:]
		if seen[name] {
			continue
		}
		seen[name] = true
		text, err := fs.ReadFile(console.Files(), name)
		require.NoError(t, err)
		var zipped bytes.Buffer
		w := gzip.NewWriter(&zipped)
		_, _ = w.Write(text)
		require.NoError(t, w.Close())
		total += zipped.Len()
		for _, m := range static.FindAllSubmatch(text, -1) {
			todo = append(todo, "assets/"+string(m[1]))
		}
	}
	t.Logf("%d files, %d bytes gzipped", len(seen), total)
	assert.Greater(t, len(seen), 3)
	assert.Less(t, total, maxFirstLoad)
}

// The console's words for types of event are the service's.
func TestEventsAreCalledTheSameEverywhere(t *testing.T) {
	text, err := os.ReadFile("src/parts/triggers.ts")
	require.NoError(t, err)
	catalogue, err := os.ReadFile("src/texts/en/parts.json")
	require.NoError(t, err)
	var texts struct{ Parts map[string]string }
	require.NoError(t, json.Unmarshal(catalogue, &texts))
	_, table, _ := strings.Cut(string(text), "export const happenings")
	table, _, _ = strings.Cut(table, "}")
	var here []rule.Trigger
	for _, m := range regexp.MustCompile(`'([a-z.-]+)': \$t\('parts.([^']+)'\),`).FindAllStringSubmatch(table, -1) {
		here = append(here, rule.Trigger(m[1]))
		assert.Equal(t, rule.Trigger(m[1]).Name(), texts.Parts[m[2]])
	}
	assert.Equal(t, rule.Triggers, here, "the same types in the same order")
	for _, trigger := range rule.Triggers {
		assert.NotEqual(t, string(trigger), trigger.Name(), "%s has no name in words", trigger)
	}
}
