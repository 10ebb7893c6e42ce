package e2e_test

import (
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// A name that fits several records does nothing: they are listed with what tells them apart,
// and the id of one does what was meant.
func TestNameThatFitsSeveral_S4(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	env := []string{"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir()}
	w.signIn(env)
	cli := w.expecting(env)

	// A second register with the same codes and titles.
	req, err := http.NewRequest(http.MethodGet, w.At.Register+"/export.zip", nil)
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "register.zip")
	require.NoError(t, os.WriteFile(file, []byte(body(t, req)), 0o600))
	cli(0, "", "connections", "add", "Other school")
	cli(0, "", "interfaces", "add", "Other school", "oneroster-csv")
	cli(0, "", "interfaces", "read", "Other school", "--file", file)

	for _, args := range [][]string{
		{"pairings", "add", "PROP-A", "Chat workspace"},
		{"sections", "roster", "prop-a"},
		{
			"pairings", "preview",
			"Propagation A",
		},
		{"pairings", "hold", "PROP-A"},
		{"pairings", "remove", "PROP-A"},
		{"sections", "linkable", "PROP-A"},
		{"people", "show", "stu-001"},
	} {
		out := cli(2, "name one by its id", args...)
		assert.Regexp(t, `(?m)^  [0-9a-f-]{36}  .*(First term|stu-001)`, out, args)
	}
	pairings, err := client.All[api.Pairing](t.Context(), w.Client, "/pairings")
	require.NoError(t, err)
	assert.Empty(t, pairings, "nothing was done")

	out := cli(0, "Propagation A", "sections", "list", "--ids", "--find", "PROP-A")
	ids := regexp.MustCompile(`(?m)^[0-9a-f-]{36}`).FindAllString(out, -1)
	require.Len(t, ids, 2)
	for _, id := range ids {
		cli(0, "Ada Alder", "sections", "roster", id)
	}
	cli(0, "Nothing has happened there yet", "pairings", "add", ids[1], "Chat workspace")
	cli(0, "people", "pairings", "preview", ids[1])
	cli(2, `kanban pairings has no command "end"`, "pairings", "end", "PROP-A")
	cli(2, `kanban has no command "pairing"`, "pairing")
	cli(2, "flag provided but not defined", "pairings", "list", "--nonsense")
	cli(2, "there is no section", "sections", "roster", "PROP-Z")
}
