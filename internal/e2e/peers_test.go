package e2e_test

import (
	"os/exec"
	"testing"

	"github.com/stretchr/testify/require"
)

// Somebody else's xAPI client is understood, in both versions of the standard.
func TestIndependentClientOfXAPI(t *testing.T) {
	w := newWorld(t)
	w.to()
	node, err := exec.LookPath("node")
	require.NoError(t, err, "make setup installs it")
	for _, version := range []string{"1.0.3", "2.0.0"} {
		t.Run(version, func(t *testing.T) {
			c := w.connect("xapi", "Platform "+version, nil)
			cmd := exec.CommandContext(t.Context(), node, "../../console/peers/xapi.mjs", w.service.Address+"/xapi/",
				c.Made["key"], c.Made["secret"], version)
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", out)
			require.Contains(t, string(out), "all of it, as xAPI "+version)
		})
	}
}
