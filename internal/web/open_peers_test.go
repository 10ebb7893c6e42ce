package web_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/openbadge"
)

// peer runs somebody else's implementation of verifiable credentials.
func peer(t *testing.T, args ...string) string {
	t.Helper()
	node, err := exec.LookPath("node")
	require.NoError(t, err, "make setup installs it")
	cmd := exec.CommandContext(t.Context(), node, append([]string{"../../console/peers/credentials.mjs"}, args...)...)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return string(out)
}

// Somebody else's verifier accepts an award with the proof inside, finds its keys and both status lists, and
// refuses it altered; and what somebody else's issuer signs is accepted here.
func TestIndependentVerifierOfCredentials(t *testing.T) {
	x := open(t, nil)
	x.Badges.Public = x.URL + "/open"
	address := x.URL + awarded(t, x)
	assert.Contains(t, peer(t, "verify", address), "verified Cuttings; revocation false, suspension false")
	id := address[strings.LastIndex(address, "/")+1:]
	_, err := x.Badges.Suspend(t.Context(), "Maud", id, "Being looked into")
	require.NoError(t, err)
	assert.Contains(t, peer(t, "verify", address), "revocation false, suspension true")
	_, err = x.Badges.RotateKeys(t.Context(), "Maud", x.issuerOf(id))
	require.NoError(t, err)
	assert.Contains(t, peer(t, "verify", address), "suspension true", "with keys that are retired since")

	theirs := []byte(peer(t, "issue"))
	seen, err := x.Badges.CheckFile(t.Context(), theirs)
	require.NoError(t, err)
	assert.Equal(t, openbadge.Valid, seen.Verdict, "%+v", seen.Checks)
	assert.True(t, seen.Seen.BelongsTo("ana@example.org"))
	assert.Equal(t, openbadge.Altered, x.verdict(strings.Replace(string(theirs), "2.5", "25", 1)))
}

// issuerOf is the issuer of an award.
func (x *site) issuerOf(award string) string {
	a, err := x.Badges.FindListedAward(x.t.Context(), award)
	require.NoError(x.t, err)
	all, err := x.Badges.Badges(x.t.Context())
	require.NoError(x.t, err)
	for _, b := range all {
		if b.ID == a.BadgeID {
			return b.IssuerID
		}
	}
	return ""
}
