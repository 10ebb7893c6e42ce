package internal_test

import (
	"encoding/json"
	"io"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors lists the packages from the lowest floor up. A package imports only from
// floors below its own; within a floor nobody imports a neighbour, but a
// sub-package may be used by the package that holds it.
var floors = [][]string{
	{"internal/core/finding", "internal/core/schedule", "internal/core/similarity", "internal/core/rest", "internal/notices"},
	{"internal/core/roster", "internal/core/learning", "internal/core/rule", "internal/core/badge", "internal/core/stage", "internal/core/naming", "internal/core/refusal"},
	{"internal/core/visibility", "internal/core/linking", "internal/core/rollover"}, // about sections and sets, above what they hold
	{"internal/wire/call"},
	{"internal/wire/oneroster", "internal/wire/scim", "internal/wire/xapi", "internal/wire/cartridge", "internal/wire/openbadge", "internal/wire/webhook", "internal/wire/sheet", "internal/wire/api"},
	{"internal/standin"},
	{"internal/store/pgchild"},
	{"internal/store/db"},
	{"internal/store/jobs", "internal/store/leases", "internal/store/settingstore", "internal/store/accessstore"},
	{"internal/store/runstore", "internal/store/rulestore", "internal/store/badgestore", "internal/store/taskstore", "internal/store/reportstore"},
	{"internal/store/mirror", "internal/store/eventstore"},
	{"internal/store/connectionstore"},
	{"internal/store/rosterstore", "internal/store/deliverystore"},
	{"internal/store/pairingstore", "internal/store/learningstore", "internal/store/purchasestore", "internal/store/stagestore"},
	{"internal/store/linkstore", "internal/store/matchstore"},
	{"internal/store/storetest", "internal/store", "internal/adapter"},
	{"internal/app", "internal/client", "console"},
	{"internal/app/linking"}, // says what sets mean for their classes
	{"internal/app/batches"}, // does with many what the others do with one
	{"internal/wiring"},      // puts the use cases together
	{"internal/scenario", "internal/cli", "internal/web", "internal/worker", "internal/apptest"},
	{"internal/service"},
	{"cmd"},
}

// banned says what a floor may not import beyond the order.
var banned = map[string][]string{
	"internal/core":    {"gorm.io/", "net/http", "database/sql", "github.com/jackc/", "os", "github.com/urfave/"},
	"internal/standin": {"kanban/internal/core", "kanban/internal/store", "kanban/internal/app"},
	"internal/client":  {"kanban/internal/store", "kanban/internal/app"},
	"internal/cli":     {"kanban/internal/store", "kanban/internal/app"},
}

func floorOf(path string) int {
	best, length := -1, 0
	for i, floor := range floors {
		for _, prefix := range floor {
			if (path == prefix || strings.HasPrefix(path, prefix+"/")) && len(prefix) > length {
				best, length = i, len(prefix)
			}
		}
	}
	return best
}

// related reports whether one of two packages holds the other.
func related(a, b string) bool {
	return strings.HasPrefix(a, b+"/") || strings.HasPrefix(b, a+"/")
}

func TestImportsPointDown(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "kanban/...").Output()
	require.NoError(t, err)
	decoder := json.NewDecoder(strings.NewReader(string(out)))
	seen := 0
	for {
		var p struct {
			ImportPath string
			Imports    []string
		}
		err := decoder.Decode(&p)
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		path := strings.TrimPrefix(p.ImportPath, "kanban/")
		if path == "internal" || path == "internal/e2e" || path == "internal/store" {
			continue // tests only
		}
		seen++
		own := floorOf(path)
		assert.GreaterOrEqual(t, own, 0, "%s is on no floor: add it to the list", path)
		for _, i := range p.Imports {
			for prefix, list := range banned {
				for _, b := range list {
					if strings.HasPrefix(path, prefix) && (i == b || strings.HasPrefix(i, strings.TrimSuffix(b, "/")+"/")) {
						t.Errorf("%s may not import %s", path, i)
					}
				}
			}
			below, ours := strings.CutPrefix(i, "kanban/")
			if !ours {
				continue
			}
			sameStandin := strings.HasPrefix(path, "internal/standin/") && strings.HasPrefix(below, "internal/standin/")
			if floorOf(below) >= own && !related(path, below) && !sameStandin {
				t.Errorf("%s imports %s, which is not below it", path, below)
			}
		}
	}
	assert.Greater(t, seen, 30)
}
