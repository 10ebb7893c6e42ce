package finding_test

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"

	"kanban/internal/core/finding"
)

func TestCatalogueIsCompleteAndUnique(t *testing.T) {
	form := regexp.MustCompile(`^[a-z]+(-[a-z]+)*$`)
	seen := map[finding.Code]bool{}
	for _, e := range finding.All() {
		assert.False(t, seen[e.Code], "%s stands twice", e.Code)
		seen[e.Code] = true
		assert.Regexp(t, form, string(e.Code))
		for name, text := range map[string]string{"title": e.Title, "explanation": e.Explanation, "remedy": e.Remedy, "owner": string(e.Owner)} {
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
