package console_test

import (
	"bytes"
	"compress/gzip"
	"io/fs"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/console"
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
