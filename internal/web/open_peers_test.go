package web_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/badges"
	"kanban/internal/store/badgestore"
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

// Everything that a badge can say is understood by somebody else's verifier: level, goals, tags, an end, a note,
// evidence, and an issuer with a picture.
func TestIndependentVerifierOfAllThatABadgeSays(t *testing.T) {
	x := open(t, nil)
	x.Badges.Public = x.URL + "/open"
	awarded(t, x)
	all, err := x.Badges.Badges(t.Context(), nil)
	require.NoError(t, err)
	tags, level, days := []string{"propagation", "растения"}, "advanced", 365
	goals := []badgestore.Alignment{{
		Name: "Plant care 3", Address: "https://frameworks.example/plants/3", Code: "PC3", Framework: "Plants",
		Description: "Cares for plants",
	}}
	_, err = x.Badges.EditBadge(t.Context(), "Maud", all[0].ID, 0, badges.EditBadge{
		Tags: &tags, Level: &level, ValidDays: &days, Alignments: &goals,
	})
	require.NoError(t, err)
	_, err = x.Badges.SetIssuerPicture(t.Context(), "Maud", all[0].IssuerID,
		[]byte(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 9 9"><path d="M1 1h4"/></svg>`))
	require.NoError(t, err)
	people := []string{x.Person("stu-003").ID}
	given, err := x.Badges.AwardByHand(t.Context(), badges.Anybody("Maud"), all[0].ID, people, badges.Wish{
		Note: "Helped the others", Evidence: []badgestore.Evidence{{Address: "https://fernmoor.example/photo", Text: "A photo"}},
	}, true)
	require.NoError(t, err)
	require.Equal(t, badges.AwardedNow, given[0].Outcome, given[0].Because)
	assert.Contains(t, peer(t, "verify", x.URL+"/open/awards/"+given[0].AwardID), "revocation false, suspension false")
}

// issuerOf is the issuer of an award.
func (x *site) issuerOf(award string) string {
	a, err := x.Badges.FindListedAward(x.t.Context(), award)
	require.NoError(x.t, err)
	all, err := x.Badges.Badges(x.t.Context(), nil)
	require.NoError(x.t, err)
	for _, b := range all {
		if b.ID == a.BadgeID {
			return b.IssuerID
		}
	}
	return ""
}
