package store_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"kanban/internal/store/db"
	"kanban/internal/store/storetest"
)

// What is said to be storable is stored, and what is not would be refused.
func TestUnstorableAgreesWithTheDatabase(t *testing.T) {
	s := storetest.New(t)
	for _, text := range []string{
		`{}`, `"a"`, `"\\u0000"`, `"\\\u0000"`, `"\u0000"`, `{"a\u0000":1}`, `["\"", "e99999"]`, `1e400`, `-1E-400`,
		`1e99999`, `1e1000000`, `1.5e+0000001`,
		`[1,` + strings.Repeat("2", 15_000) + `]`, strings.Repeat("9", 200_000), `0.` + strings.Repeat("1",
			17_000), strings.Repeat(`"x",`, 3) + `1`,
	} {
		if strings.HasPrefix(text, `"x",`) {
			text = "[" + text + "]"
		}
		why := db.Unstorable([]byte(text))
		_, err := s.Pool.Exec(t.Context(), `SELECT $1::text::jsonb`, text)
		if why == "" {
			assert.NoError(t, err, "%.60s", text)
		}
		if err != nil {
			assert.NotEmpty(t, why, "%.60s: %v", text, err)
		}
	}
	assert.Contains(t, db.Unstorable([]byte(`{"a": "x\u0000"}`)), "NUL")
	assert.Empty(t, db.Unstorable([]byte(`"\\u0000"`)), "a backslash and some letters")
}
