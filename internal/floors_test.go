package internal_test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"go/types"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// floors lists the packages from the lowest floor up. A package imports only from
// floors below its own; within a floor nobody imports a neighbour, but a
// sub-package may be used by the package that holds it.
var floors = [][]string{
	{
		"internal/core/clock", "internal/core/finding", "internal/core/schedule", "internal/core/similarity",
		"internal/core/rest", "internal/core/pseudonym",
		"internal/notices",
	},
	{
		"internal/core/roster", "internal/core/learning", "internal/core/rule", "internal/core/badge",
		"internal/core/stage", "internal/core/naming", "internal/core/permission", "internal/core/refusal", "internal/core/grade",
	},
	// about sections and sets, above what they hold
	{"internal/core/visibility", "internal/core/linking", "internal/core/rollover", "internal/core/report"},
	{"internal/wire/call", "internal/wire/config"},
	{
		"internal/wire/oneroster", "internal/wire/scim", "internal/wire/xapi", "internal/wire/cartridge",
		"internal/wire/openbadge", "internal/wire/drawing", "internal/wire/webhook", "internal/wire/oauth",
		"internal/wire/sheet", "internal/wire/api",
	},
	// draws reports with what drawing can; signs in over what the grants of access have in common
	{"internal/wire/chart", "internal/wire/openid", "internal/wire/lti"},
	{"internal/standin"},
	{"internal/store/pgchild"},
	{"internal/store/db"},
	{
		"internal/store/jobs", "internal/store/leases", "internal/store/settingstore", "internal/store/accessstore",
		"internal/store/reachstore",
	},
	{
		"internal/store/runstore", "internal/store/rulestore", "internal/store/badgestore",
		"internal/store/taskstore",
		"internal/store/reportstore",
	},
	{"internal/store/mirror", "internal/store/eventstore"},
	{"internal/store/connectionstore", "internal/store/teachingstore", "internal/store/launchstore"},
	{"internal/store/rosterstore", "internal/store/deliverystore"},
	{
		"internal/store/pairingstore", "internal/store/learningstore", "internal/store/purchasestore",
		"internal/store/stagestore", "internal/store/walletstore",
	},
	{"internal/store/linkstore", "internal/store/matchstore", "internal/store/personstore"},
	{"internal/store", "internal/adapter"},
	{"internal/store/storetest"},
	{"internal/app", "internal/client", "console"},
	// say what sets mean for their classes, what rules would do, to people what they hold, and to teachers who is
	// missing, and open pages from courses of platforms
	{
		"internal/app/linking", "internal/app/rules", "internal/app/holders", "internal/app/teaching",
		"internal/app/launches",
	},
	{"internal/app/wallets"}, // lets programs take along what holders hold
	{"internal/app/batches"}, // does with many what the others do with one
	{"internal/app/proofs"},  // lets a test learner go through what the others do
	{"internal/app/config"},  // writes with the others what files say
	{"internal/wiring"},      // puts the use cases together
	{"internal/web/problem"},
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
					if strings.HasPrefix(path, prefix) &&
						(i == b || strings.HasPrefix(i, strings.TrimSuffix(b, "/")+"/")) {
						t.Errorf("%s may not import %s", path, i)
					}
				}
			}
			below, ours := strings.CutPrefix(i, "kanban/")
			if !ours {
				continue
			}
			sameStandin := strings.HasPrefix(path, "internal/standin/") &&
				strings.HasPrefix(below, "internal/standin/")
			if floorOf(below) >= own && !related(path, below) && !sameStandin {
				t.Errorf("%s imports %s, which is not below it", path, below)
			}
		}
	}
	assert.Greater(t, seen, 30)
}

// Whoever has a transaction in hand reads through it: what another connection says may be
// older, and waiting for one while holding one can stand still.
func TestTransactionsReadThroughThemselves(t *testing.T) {
	looked := 0
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		tree, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			kind, body := function(n)
			if body == nil || !slices.ContainsFunc(kind.Params.List,
				func(p *ast.Field) bool { return types.ExprString(p.Type) == "*db.Tx" }) {
				return true
			}
			looked++
			ast.Inspect(body, func(n ast.Node) bool {
				call, ok := n.(*ast.CallExpr)
				if !ok {
					return true
				}
				for _, a := range append([]ast.Expr{call.Fun}, call.Args...) {
					if text := types.ExprString(a); strings.HasSuffix(text, ".Store") ||
						strings.Contains(text, ".Store.Quickly") {
						assert.Fail(t, "reads through another connection", "%s: %s", set.Position(call.Pos()),
							types.ExprString(call))
					}
				}
				return true
			})
			return true
		})
		return nil
	}))
	assert.Greater(t, looked, 200)
}

func function(n ast.Node) (*ast.FuncType, *ast.BlockStmt) {
	switch f := n.(type) {
	case *ast.FuncDecl:
		return f.Type, f.Body
	case *ast.FuncLit:
		return f.Type, f.Body
	}
	return nil, nil
}

// direct are the functions of the store that speak to PostgreSQL without GORM, each with
// the reason: figures are in docs/performance.md.
var direct = map[string]string{
	"deliverystore.EndAttempts":  "a batch: one round trip for what several deliveries came to",
	"deliverystore.EndPlain":     "the same, hundreds of times a second",
	"eventstore.RecordEvents":    "a batch that others add to",
	"eventstore.AddStatements":   "a batch: lock, rows and what awaited them in one round trip",
	"learningstore.Recognise":    "a batch: people and activities of a hundred facts in one round trip",
	"learningstore.LockProgress": "a batch: rows made, locked and read in one round trip",
	"learningstore.KeepProgress": "a batch: progress, events and the rules' mark in one round trip",
	"linkstore.RestoreResults":   "adds to the batch of learningstore.QueueReached",
	"mirror.remember":            "a million fingerprints, held as numbers",
	"mirror.copy":                "COPY",
	"pairingstore.sides":         "every person of thousands of pairings, compared after each read",
	"pairingstore.Listed":        "what changed of thousands of pairings, behind every list",
	"pairingstore.relist":        "thousands of pairings, behind the board",
	"scorestore.Records":         "thousands of scores of a gradebook, behind every comparison of a score link",
	"reportstore.EachBehind":     "a hundred thousand learners, one after the other",
	"reportstore.EachStopped":    "the same",
	"reportstore.Spans":          "a hundred thousand learners who finished",
	"reportstore.standings":      "the standings of ten thousand sections",
	"rosterstore.Sections":       "thousands of sections, behind the board",
}

// pgx is spoken where GORM cannot do it or would cost too much, and nowhere else.
func TestWhereGORMIsLeftOut(t *testing.T) {
	calls := map[string]int{}
	files, err := filepath.Glob("store/*/*.go")
	require.NoError(t, err)
	for _, path := range files {
		of := filepath.Base(filepath.Dir(path))
		if strings.HasSuffix(path, "_test.go") || of == "db" || of == "storetest" || of == "pgchild" {
			continue
		}
		tree, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		for _, d := range tree.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			ast.Inspect(f, func(n ast.Node) bool {
				if x, ok := n.(*ast.SelectorExpr); ok &&
					slices.Contains([]string{"PGX", "Pool", "Quick", "EachFast"}, x.Sel.Name) {
					calls[of+"."+f.Name.Name]++
				}
				return true
			})
		}
	}
	total := 0
	for name, n := range calls {
		assert.Contains(t, direct, name, "through db.Rows and db.Exec, or with a reason")
		total += n
	}
	for name := range direct {
		assert.Contains(t, calls, name, "goes through GORM by now")
	}
	assert.LessOrEqual(t, total, 25)
}

// Handlers ask use cases, which ask the store.
func TestHandlersAskUseCases(t *testing.T) {
	files, err := filepath.Glob("web/*.go")
	require.NoError(t, err)
	deeper, err := filepath.Glob("web/*/*.go")
	require.NoError(t, err)
	calls := 0
	for _, path := range append(files, deeper...) {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		set := token.NewFileSet()
		tree, err := parser.ParseFile(set, path, nil, 0)
		require.NoError(t, err)
		ast.Inspect(tree, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok {
				return true
			}
			calls++
			name := types.ExprString(call.Fun)
			of, _, _ := strings.Cut(name, ".")
			asked := strings.HasSuffix(of, "store") && of != "pgxstore" || of == "mirror" ||
				strings.HasSuffix(name, ".InTx")
			assert.False(t, asked && len(call.Args) > 0, "%s: %s", set.Position(call.Pos()), name)
			return true
		})
	}
	assert.Greater(t, calls, 1000)
}

// long are the functions of more than 60 lines, with the reason why they stay whole.
var long = map[string]string{
	"rules.checkAction":   "one case for each kind of action, side by side",
	"oneroster.rows":      "one pass over the columns of a file, whose cases need each other's state",
	"pipeline.writeWhole": "one transaction, whose order matters",
	"rule.CheckPossible":  "one partial evaluation, case by case",
	"batches.moves":       "one pass over what moves, in which each sees what those before took",
}

func TestFunctionsFitOnAPage(t *testing.T) {
	seen := map[string]bool{}
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		set := token.NewFileSet()
		tree, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		for _, d := range tree.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok {
				continue
			}
			if n := set.Position(f.End()).Line - set.Position(f.Pos()).Line + 1; n > 60 {
				name := tree.Name.Name + "." + f.Name.Name
				seen[name] = true
				assert.Contains(t, long, name, "%s has %d lines: take it apart", set.Position(f.Pos()), n)
			}
		}
		return nil
	}))
	for name := range long {
		assert.True(t, seen[name], "%s is no longer long", name)
	}
	assert.LessOrEqual(t, len(long), 5)
}

// Lines fit: under 120 columns, tabs counted as four, but for texts that stand in one piece.
func TestLinesFit(t *testing.T) {
	whole := regexp.MustCompile("\"(?:[^\"\\\\]|\\\\.)*\"|`[^`]*`|'[^']*'")
	lines := 0
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") {
			return err
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		raw := false // within a text over several lines
		for n, line := range strings.Split(string(text), "\n") {
			lines++
			before := raw
			if strings.Count(line, "`")%2 == 1 {
				raw = !raw
			}
			if before || raw || utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    ")) < 120 {
				continue
			}
			longest := 0
			for _, x := range whole.FindAllString(line, -1) {
				longest = max(longest, len(x))
			}
			assert.Greater(t, longest, 20, "%s:%d is too long", path, n+1)
		}
		return nil
	}))
	assert.Greater(t, lines, 50_000)
}
