// Package e2e tests the product as it is shipped: the real programs, started on
// loopback, called through the client, the command line and a browser.
package e2e_test

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
)

// bin is the folder with the programs under test.
var bin string

// atEnd is done when all tests have ended.
var atEnd []func()

func TestMain(m *testing.M) {
	folder, err := os.MkdirTemp("", "kanban-e2e-")
	if err == nil {
		err = os.Chmod(folder, 0o755) // the user postgres passes through
	}
	if err == nil {
		bin = folder
		build := exec.Command("go", "build", "-o", folder+"/", "kanban/cmd/...")
		build.Stderr = os.Stderr
		err = build.Run()
	}
	code := 1
	if err == nil {
		code = m.Run()
		for _, end := range atEnd {
			end()
		}
	} else {
		fmt.Fprintln(os.Stderr, "building the programs:", err)
	}
	_ = os.RemoveAll(folder)
	os.Exit(code)
}

// world is a service with fresh data and stand-ins of its own.
type world struct {
	*scenario.Story
	t        *testing.T
	service  *scenario.Service
	standins *scenario.Standins
	data     string
}

func dataFolder(t *testing.T) string {
	t.Helper()
	folder, err := os.MkdirTemp("", "kanban-e2e-data-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	return folder
}

var environment = []string{"KANBAN_FAST_DATABASE=yes"}

func newWorld(t *testing.T) *world {
	t.Helper()
	t.Parallel() // most of it is waiting for what happens by itself
	return anotherWorld(t)
}

// anotherWorld is one more in the same test.
func anotherWorld(t *testing.T) *world {
	t.Helper()
	w := &world{t: t, data: dataFolder(t)}
	var err error
	w.standins, err = scenario.StartStandins(t.Context(), filepath.Join(bin, "standins"), 0)
	require.NoError(t, err)
	t.Cleanup(w.standins.Stop)
	w.start()
	t.Cleanup(func() { w.service.Stop() })
	w.Story = scenario.New(w.service.Address, w.standins.Addresses, output(t))
	return w
}

func output(t *testing.T) io.Writer {
	if testing.Verbose() {
		return os.Stdout
	}
	return io.Discard
}

func (w *world) start() {
	w.t.Helper()
	var err error
	w.service, err = scenario.StartService(context.Background(), filepath.Join(bin, "kanban"),
		scenario.ServiceOptions{Listen: "127.0.0.1:0", Data: w.data, Env: environment})
	require.NoError(w.t, err)
}

// to plays the story's steps up to and with the given number of them.
func (w *world) to(steps ...func(context.Context) error) {
	w.t.Helper()
	require.NoError(w.t, w.SetUp(w.t.Context(), w.service.SetupSecret))
	for _, step := range steps {
		require.NoError(w.t, step(w.t.Context()))
	}
}

// soon waits for something that must happen by itself.
func soon(t *testing.T, what string, happened func() bool) {
	t.Helper()
	require.Eventually(t, happened, scenario.Patience, 50*time.Millisecond, what)
}

// connect makes a connection with one interface.
func (w *world) connect(kind, name string, values map[string]string) api.Interface {
	w.t.Helper()
	c, err := client.Post[api.Connection](w.t.Context(), w.Client, "/connections", api.NewConnection{
		Name: name, Interfaces: []api.NewInterface{{Kind: kind, Values: values}},
	})
	require.NoError(w.t, err)
	return c.Interfaces[0]
}

// ruleOn makes a rule and switches it on.
func (w *world) ruleOn(r api.NewRule) api.Rule {
	w.t.Helper()
	made, err := client.Post[api.Rule](w.t.Context(), w.Client, "/rules", r)
	require.NoError(w.t, err)
	made, err = client.Post[api.Rule](w.t.Context(), w.Client, "/rules/"+made.ID+"/switch",
		api.Switch{On: true, Untried: true})
	require.NoError(w.t, err)
	return made
}

// outlined sets the outline of the course of a section, which is given by its code.
func (w *world) outlined(code string) {
	w.t.Helper()
	all, err := client.All[api.Section](w.t.Context(), w.Client, "/sections?hidden=*&called="+code)
	require.NoError(w.t, err)
	require.Len(w.t, all, 1)
	require.NoError(w.t, w.Outline(w.t.Context(), all[0].CourseID))
}
