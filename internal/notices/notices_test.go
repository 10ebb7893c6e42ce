package notices_test

import (
	"bytes"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/notices"
)

var update = flag.Bool("update", false, "write THIRD_PARTY_NOTICES.md anew")

// Everything that ships is named with its licence.
func TestNoticesAreComplete(t *testing.T) {
	root := filepath.Join("..", "..")
	if _, err := os.Stat(filepath.Join(root, "console", "node_modules")); err != nil {
		t.Skip("the console's packages are not installed")
	}
	var now bytes.Buffer
	require.NoError(t, notices.Write(&now, root))
	path := filepath.Join(root, "THIRD_PARTY_NOTICES.md")
	if *update {
		require.NoError(t, os.WriteFile(path, now.Bytes(), 0o644))
	}
	kept, err := os.ReadFile(path)
	require.NoError(t, err)
	for _, name := range []string{"github.com/go-chi/chi/v5 ", "vue 3", "primevue 4", "The Go standard library"} {
		assert.Contains(t, now.String(), name)
	}
	// The standard library's own text changes with the toolchain.
	assert.Equal(t, headings(string(kept)), headings(now.String()), "run: make notices")
}

// headings are the names and versions.
func headings(text string) (all []string) {
	for _, line := range strings.Split(text, "\n") {
		if strings.HasPrefix(line, "### ") {
			all = append(all, line)
		}
	}
	return all
}
