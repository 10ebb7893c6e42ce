package cli

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"
)

// whole is the command line with commands as the programs add them.
func whole() *cli.Command {
	serve := &cli.Command{Name: "serve", Usage: "x", Description: "kanban serve", Flags: []cli.Flag{
		&cli.StringFlag{Name: "roles", Usage: "x"}, &cli.StringFlag{
			Name:  "listen",
			Usage: "x",
		}, &cli.StringFlag{Name: "public", Usage: "x"}, &cli.StringFlag{
			Name:  "time-zone",
			Usage: "x",
		}, &cli.StringFlag{Name: "read-every", Usage: "x"},
	}}
	demo := &cli.Command{
		Name: "demo", Usage: "x", Description: "kanban demo",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "once", Usage: "x"}},
	}
	openapi := &cli.Command{Name: "openapi", Usage: "x", Description: "kanban openapi"}
	return App("test", serve, demo, openapi)
}

// leaves calls f for every command that does something.
func leaves(c *cli.Command, path string, f func(c *cli.Command, path string)) {
	for _, sub := range c.Commands {
		leaves(sub, path+" "+sub.Name, f)
	}
	if len(c.Commands) == 0 {
		f(c, path)
	}
}

// Every command says what it does and shows how it is called, and every flag what it is
// for.
func TestEveryCommandHasHelp(t *testing.T) {
	leaves(whole(), "kanban", func(c *cli.Command, path string) {
		assert.NotEmpty(t, c.Usage, path)
		assert.Contains(t, c.Description, path, "%s has no example in its help", path)
		for _, f := range c.Flags {
			if d, ok := f.(cli.DocGenerationFlag); ok {
				assert.NotEmpty(t, d.GetUsage(), "%s --%s", path, f.Names()[0])
			}
		}
	})
}

// fields splits a line as a shell does: quotes hold together, a comment ends it.
func fields(line string) (list []string) {
	var word strings.Builder
	quote, begun := rune(0), false
	for _, r := range line + " " {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word.WriteRune(r)
		case r == '"' || r == '\'':
			quote, begun = r, true
		case r == ' ' && (word.Len() > 0 || begun):
			if !begun && strings.HasPrefix(word.String(), "#") {
				return list
			}
			list, begun = append(list, word.String()), false
			word.Reset()
		case r != ' ':
			word.WriteRune(r)
		}
	}
	return list
}

// check reports what of a call does not exist.
func check(app *cli.Command, call string) string {
	c, flags := app, []cli.Flag{}
	flags = append(flags, app.Flags...)
	for i, word := range fields(call) {
		if i == 0 || word == ">" || word == "<" {
			continue
		}
		if name, isFlag := strings.CutPrefix(word, "--"); isFlag {
			name, _, _ = strings.Cut(name, "=")
			if !slices.ContainsFunc(flags, func(f cli.Flag) bool {
				return slices.Contains(f.Names(), name) || slices.Contains(f.Names(), strings.TrimPrefix(name, "no-"))
			}) {
				return "there is no flag --" + name
			}
			continue
		}
		if len(c.Commands) == 0 {
			continue // an argument
		}
		at := slices.IndexFunc(c.Commands, func(x *cli.Command) bool { return x.Name == word })
		switch {
		case at >= 0:
			c = c.Commands[at]
			flags = append(flags, c.Flags...)
		case c == app || c.Action == nil:
			return "there is no command " + word
		}
	}
	return ""
}

// What help and guides tell people to type exists.
func TestExamplesExist(t *testing.T) {
	app := whole()
	checked := 0
	try := func(where, text string) {
		text = strings.ReplaceAll(text, "\\\n", " ")
		for line := range strings.Lines(text) {
			line = strings.TrimSpace(line)
			if line = strings.TrimPrefix(line, "bin/"); strings.HasPrefix(line, "kanban ") &&
				!strings.Contains(line, "…") {
				checked++
				assert.Empty(t, check(app, line), "%s: %s", where, line)
			}
		}
	}
	leaves(app, "kanban", func(c *cli.Command, path string) { try("the help of "+path, c.Description) })
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	for _, page := range append(pages, "../../README.md") {
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for i, part := range strings.Split(string(text), "```") {
			if i%2 == 1 { // inside a block of code
				try(filepath.Base(page), part)
			}
		}
	}
	assert.Greater(t, checked, 200)
}
