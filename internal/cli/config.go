package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
	"kanban/internal/wire/config"
)

func configOf() *cli.Command {
	return &cli.Command{
		Name: "config", Usage: "The whole set-up as files: write it, compare it, take it in", Category: "service",
		Commands: []*cli.Command{
			{
				Name: "export", Usage: "Write the set-up into a folder, one file a kind, without secrets", ArgsUsage: "[FOLDER]",
				Description: "Without a folder everything is printed as one text.\n\n  kanban config export set-up\n  kanban config export > set-up.yaml",
				Action:      exportConfig,
			},
			{
				Name: "compare", Usage: "Show what files would change; nothing is changed", ArgsUsage: "FOLDER|FILE …",
				Description: "A folder stands for the .yaml files in it, - for standard input. What is here and not in the files stays.\n\n  kanban config compare set-up\n  kanban config compare set-up/rules.yaml\n  kanban rules show \"Welcome\" | kanban config compare -",
				Action:      compareConfig,
			},
			{
				Name: "apply", Usage: "Take files in, all of it or nothing; what comes in is off or paused", ArgsUsage: "FOLDER|FILE …",
				Flags: []cli.Flag{&cli.StringFlag{
					Name: "seen", Usage: "the fingerprint that compare printed: refused when anything was changed since",
				}},
				Description: "Whatever names a course or section that no register has yet waits until one was read.\n\n  kanban config apply set-up\n  kanban config apply set-up --seen 7d0c3a5e9b1f4c2d8e6a0b3c5d7e9f10",
				Action:      applyConfig,
			},
			{
				Name: "waiting", Usage: "List what came in and waits for a register, or let something wait no longer",
				Flags: []cli.Flag{&cli.StringFlag{
					Name: "forget", Usage: "the kind and the name of what shall not come in: `KIND/NAME`",
				}},
				Description: "  kanban config waiting\n  kanban config waiting --forget \"rules/Cuttings badge\"",
				Action:      waitingConfig,
			},
			{
				Name: "schema", Usage: "Print the JSON Schema of the files, with which editors check and complete them",
				Description: "  kanban config schema > kanban.schema.json",
				Action: func(_ context.Context, cmd *cli.Command) error {
					_, err := out(cmd).Write(config.Schema())
					return err
				},
			},
		},
	}
}

func exportConfig(ctx context.Context, cmd *cli.Command) error {
	if cmd.Args().Len() > 1 {
		return usage(cmd, "name one folder")
	}
	got, err := client.Get[api.ConfigFiles](ctx, connect(cmd), "/config")
	if err != nil {
		return err
	}
	names := slices.DeleteFunc(sortedKeys(got.Files), func(n string) bool { return n == config.SchemaFile })
	folder := cmd.Args().First()
	if folder == "" {
		if cmd.String("output") == "json" {
			return printJSON(cmd, got)
		}
		for i, name := range names {
			if i > 0 {
				fmt.Fprintln(out(cmd), "---")
			}
			fmt.Fprint(out(cmd), got.Files[name])
		}
		return nil
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return fmt.Errorf("writing the set-up: %w", err)
	}
	for name, text := range got.Files {
		if err := os.WriteFile(filepath.Join(folder, filepath.Base(name)), []byte(text), 0o644); err != nil {
			return fmt.Errorf("writing the set-up: %w", err)
		}
	}
	say(cmd, "Wrote %s into %s: %s", numbered(len(names), "file", "files"), folder, strings.Join(names, ", "))
	others, _ := filepath.Glob(filepath.Join(folder, "*.yaml"))
	for _, path := range others {
		if got.Files[filepath.Base(path)] == "" {
			say(cmd, "Left as it is: %s, of which nothing is set up here.", path)
		}
	}
	return nil
}

// showAsFile prints one thing in the form of files; as JSON it is the record of the API.
func showAsFile(ctx context.Context, cmd *cli.Command, c *client.Client, kind config.Kind, name string,
	record any,
) error {
	if cmd.String("output") == "json" {
		return printJSON(cmd, record)
	}
	got, err := client.Get[api.ConfigFiles](ctx, c,
		"/config?kind="+string(kind)+"&name="+url.QueryEscape(name))
	for _, file := range sortedKeys(got.Files) {
		if file != config.SchemaFile {
			fmt.Fprint(out(cmd), got.Files[file])
		}
	}
	return err
}

func sortedKeys(m map[string]string) (names []string) {
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// configFiles reads the files that a command names.
func configFiles(cmd *cli.Command) (api.ConfigFiles, error) {
	files := map[string]string{}
	if cmd.Args().Len() == 0 {
		return api.ConfigFiles{}, usage(cmd, "name a folder or files")
	}
	for _, arg := range cmd.Args().Slice() {
		paths := []string{arg}
		if info, err := os.Stat(arg); err == nil && info.IsDir() {
			paths = nil
			for _, pattern := range []string{"*.yaml", "*.yml"} {
				found, _ := filepath.Glob(filepath.Join(arg, pattern))
				paths = append(paths, found...)
			}
			if len(paths) == 0 {
				return api.ConfigFiles{}, usage(cmd, fmt.Sprintf("the folder %s holds no .yaml file", arg))
			}
		}
		for _, path := range paths {
			text, err := readFile(path)
			if err != nil {
				return api.ConfigFiles{}, fmt.Errorf("%w: reading %s: %w", errUsage, path, err)
			}
			files[path] = text
		}
	}
	return api.ConfigFiles{Files: files}, nil
}

func readFile(path string) (string, error) {
	if path == "-" {
		text, err := io.ReadAll(os.Stdin)
		return string(text), err
	}
	text, err := os.ReadFile(path)
	return string(text), err
}

func compareConfig(ctx context.Context, cmd *cli.Command) error {
	files, err := configFiles(cmd)
	if err != nil {
		return err
	}
	c, err := client.Post[api.ConfigComparison](ctx, connect(cmd), "/config/compare", files)
	if err != nil {
		return err
	}
	if err := printComparison(cmd, c, "To be done"); err != nil {
		return err
	}
	if len(c.Changes) > 0 {
		say(cmd, "Do exactly this: kanban config apply %s --seen %s", strings.Join(cmd.Args().Slice(), " "), c.Fingerprint)
	}
	return nil
}

func applyConfig(ctx context.Context, cmd *cli.Command) error {
	files, err := configFiles(cmd)
	if err != nil {
		return err
	}
	c, err := client.Post[api.ConfigComparison](ctx, connect(cmd), "/config/apply",
		api.ConfigApply{ConfigFiles: files, Fingerprint: cmd.String("seen")})
	if err != nil {
		return err
	}
	return printComparison(cmd, c, "Done")
}

// kindWords name one thing of each kind.
var kindWords = map[config.Kind]string{
	config.Connections: "connection", config.MatchingKind: "matching at", config.Mappings: "mapping of",
	config.Templates: "", config.HiddenSections: "", config.Issuers: "issuer", config.Badges: "badge",
	config.Outlines: "outline of", config.Offers: "offer", config.Rules: "rule", config.StagePlans: "stage plan",
	config.SettingsKind: "",
}

func thingInWords(r api.ConfigReference) string {
	name := map[config.Kind]string{config.HiddenSections: "hidden sections"}[r.Kind]
	if name == "" {
		name = r.Name
	}
	return strings.TrimSpace(kindWords[r.Kind] + " " + name)
}

// printComparison prints what files change; done says whether that has happened.
func printComparison(cmd *cli.Command, c api.ConfigComparison, done string) error {
	if len(c.Faults) > 0 {
		if err := printFaults(cmd, c.Faults); err != nil {
			return err
		}
		return fmt.Errorf("%w: %s in the files; nothing was changed", errUsage, numbered(len(c.Faults), "fault", "faults"))
	}
	if cmd.String("output") != "table" {
		t := tableOf(c.Changes, "", []string{"what", "kind", "name", "field", "before", "after", "notes"},
			func(x api.ConfigChange) []string { return nil })
		t.value, t.rows = c, changeRows(c)
		return t.print(cmd)
	}
	w := out(cmd)
	for _, x := range c.Changes {
		fmt.Fprintf(w, "%-7s %s\n", x.What, thingInWords(x.ConfigReference))
		for _, f := range x.Fields {
			fmt.Fprintf(w, "          %s: %s → %s\n", f.Path, brief(f.Before), brief(f.After))
		}
		for _, n := range x.Notes {
			fmt.Fprintf(w, "          %s\n", n)
		}
		if x.Waits != "" {
			fmt.Fprintf(w, "          waits: %s; it comes in once a register has it\n", x.Waits)
		}
	}
	what := map[string]int{}
	for _, x := range c.Changes {
		what[x.What]++
	}
	if len(c.Changes) == 0 {
		say(cmd, "Nothing to change: %s as in the files.", numbered(c.Same, "thing is", "things are"))
	} else {
		say(cmd, "%s: %d added, %d changed; %d wait for a register; %s as in the files already.", done, what["add"],
			what["change"], what["wait"], numbered(c.Same, "thing is", "things are"))
	}
	if len(c.Only) > 0 {
		var names []string
		for _, r := range c.Only {
			names = append(names, thingInWords(r))
		}
		say(cmd, "Only here, and staying: %s.", strings.Join(names, ", "))
	}
	return nil
}

func changeRows(c api.ConfigComparison) (rows [][]string) {
	for _, x := range c.Changes {
		notes := strings.Join(append(slices.Clone(x.Notes), x.Waits), " ")
		if len(x.Fields) == 0 {
			rows = append(rows, []string{x.What, string(x.Kind), x.Name, "", "", "", strings.TrimSpace(notes)})
		}
		for _, f := range x.Fields {
			rows = append(rows, []string{
				x.What, string(x.Kind), x.Name, f.Path, f.Before, f.After, strings.TrimSpace(notes),
			})
		}
	}
	return rows
}

func printFaults(cmd *cli.Command, faults []config.Fault) error {
	if cmd.String("output") == "table" {
		for _, f := range faults {
			fmt.Fprintln(out(cmd), f.Error())
		}
		return nil
	}
	return tableOf(faults, "", []string{"file", "line", "path", "detail"}, func(f config.Fault) []string {
		return []string{f.File, fmt.Sprint(f.Line), f.Path, f.Detail}
	}).print(cmd)
}

// longestValue is how many characters of a value are shown in a line.
const longestValue = 60

// brief is a value in one line.
func brief(text string) string {
	if text == "" {
		return "nothing"
	}
	runes := []rune(strings.ReplaceAll(text, "\n", "⏎"))
	if len(runes) > longestValue {
		return string(runes[:longestValue-1]) + "…"
	}
	return string(runes)
}

func waitingConfig(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	if what := cmd.String("forget"); what != "" {
		kind, name, ok := strings.Cut(what, "/")
		if !ok {
			return usage(cmd, "write the kind, a slash and the name, such as \"rules/Cuttings badge\"")
		}
		if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete,
			"/config/waiting/"+url.PathEscape(kind)+"/"+url.PathEscape(name), nil); err != nil {
			return err
		}
		say(cmd, "%q waits no longer and does not come in.", name)
		return nil
	}
	all, err := client.Get[[]api.ConfigWaiting](ctx, c, "/config/waiting")
	if err != nil {
		return err
	}
	return tableOf(all, "Nothing waits.", []string{"kind", "name", "waits for", "taken in by"},
		func(w api.ConfigWaiting) []string { return []string{string(w.Kind), w.Name, w.For, w.Who} }).print(cmd)
}
