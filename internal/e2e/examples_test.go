package e2e_test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	urfave "github.com/urfave/cli/v3"

	"kanban/internal/cli"
)

// wrongUse is what the command line says to calls that no data could make right.
var wrongUse = regexp.MustCompile(`Incorrect Usage|flag provided but not defined|has no command|[Rr]equired flag|exclude each other|No help topic|needs? \d+ argument|wrong number of arguments|not one of|cannot parse|invalid value|is no condition|arguments given|unexpected`)

// notHere are examples that start services, need a person at the keyboard, or end the
// sign-in under which the others run.
var notHere = regexp.MustCompile(`^kanban (serve|demo|sign-in|sign-out|set-up)\b|…|\$\(|^KANBAN_`)

// Every example of the help, the guide and the README is a call that the command line
// takes, tried on the demo's data one after the other. Whether its section or badge is
// there is another question: examples end things, too.
func TestEveryExampleIsACall(t *testing.T) {
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	folder := t.TempDir()
	env := []string{
		"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + folder,
		"PATH=" + bin + string(os.PathListSeparator) + os.Getenv("PATH"),
	}
	w.signIn(env)
	all := documented(t, "README.md", "docs/guide.md", "docs/operations.md", "docs/findings.md")
	all = append(all, helped(cli.App("test"))...)
	require.Greater(t, len(all), 200)
	worked, seen := 0, map[string]bool{}
	for _, example := range all {
		if seen[example] || notHere.MatchString(example) {
			continue
		}
		seen[example] = true
		switch { // what the others need goes on
		case strings.HasPrefix(example, "kanban maintenance on"):
			example += " && kanban maintenance off"
		case strings.Contains(example, " pause "):
			example += " && " + strings.Replace(example, " pause ", " resume ", 1)
		}
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		cmd := exec.CommandContext(ctx, "sh", "-c", example)
		cmd.Dir, cmd.Env, cmd.WaitDelay = folder, append(os.Environ(), env...), time.Second
		out, err := cmd.CombinedOutput()
		require.NoError(t, ctx.Err(), "%s does not end:\n%s", example, out)
		cancel()
		assert.NotRegexp(t, wrongUse, string(out), example)
		assert.NotContains(t, string(out), "panic", example)
		if err == nil || cmd.ProcessState.ExitCode() == cli.ExitNeedsPerson {
			worked++
		}
	}
	t.Logf("%d of %d examples worked on the demo's data", worked, len(seen))
	assert.Greater(t, worked, len(seen)/2)
}

// documented gives the calls in the shell blocks of documents.
func documented(t *testing.T, names ...string) (all []string) {
	t.Helper()
	for _, name := range names {
		text, err := os.ReadFile(filepath.Join("../..", name))
		require.NoError(t, err)
		inside, call := false, ""
		for line := range strings.Lines(string(text)) {
			line = strings.TrimRight(line, "\n")
			if strings.HasPrefix(line, "```") {
				inside = strings.HasPrefix(line, "```sh")
				continue
			}
			if !inside {
				continue
			}
			if more, ok := strings.CutSuffix(line, `\`); ok {
				call += more
				continue
			}
			if call += line; strings.HasPrefix(call, "kanban ") {
				all = append(all, strings.TrimSpace(comment.ReplaceAllString(call, "")))
			}
			call = ""
		}
	}
	return all
}

// comment is what stands behind a call in a document.
var comment = regexp.MustCompile(`\s+# .*$`)

// remark is what stands behind a call in a help text.
var remark = regexp.MustCompile(`\s{3,}\S.*$`)

// helped gives the examples of a command's help, and of all below it.
func helped(c *urfave.Command) (all []string) {
	call := ""
	for line := range strings.Lines(c.Description) {
		line = strings.TrimSpace(line)
		if call == "" && !strings.HasPrefix(line, "kanban ") {
			continue
		}
		more, ok := strings.CutSuffix(line, `\`)
		if call += more; !ok {
			all = append(all, remark.ReplaceAllString(call, ""))
			call = ""
		}
	}
	for _, below := range c.Commands {
		all = append(all, helped(below)...)
	}
	return all
}
