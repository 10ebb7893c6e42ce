package permission

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What each role may do is written down once more here, so that a change of the table is seen.
func TestWhatRolesMay(t *testing.T) {
	want := map[Role]string{
		Administrator: "anyone own look report acknowledge finish-tasks rosters recognise carry-scores learning rules badges " +
			"award send-reports connect settings users ",
		Operator: "anyone own look report acknowledge finish-tasks rosters recognise carry-scores learning rules badges award " +
			"send-reports ",
		Support: "anyone own look report acknowledge finish-tasks ",
		Reader:  "anyone own report ",
		"":      "anyone ",
		"king":  "anyone ",
	}
	for r, acts := range want {
		got := ""
		for _, a := range Acts {
			if May(r, a) {
				got += string(a) + " "
			}
		}
		assert.Equal(t, acts, got, r)
	}
	assert.False(t, May(Administrator, ""), "what declares no act is done by nobody")
	assert.False(t, May(Administrator, "fly"))
}

func TestNobodyGivesMoreThanTheyHave(t *testing.T) {
	for i, own := range Roles {
		for j, given := range Roles {
			assert.Equal(t, i <= j, MayGive(own, given), "%s gives %s", own, given)
		}
	}
	assert.False(t, MayGive(Administrator, "king"))
}
