package sheet_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/sheet"
)

func TestCellsAreNeverFormulas(t *testing.T) {
	var out strings.Builder
	require.NoError(t, sheet.CSV(&out, []string{"a", "b"},
		[][]string{{"=1+1", "@x"}, {"plain", "a \"b\", c"}, {"", "-"}, {"-5", "+1.5e3"}}))
	assert.Equal(t, "a,b\n'=1+1,'@x\nplain,\"a \"\"b\"\", c\"\n,'-\n-5,+1.5e3\n", out.String())
}
