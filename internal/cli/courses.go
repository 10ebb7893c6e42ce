package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"strconv"
	"strings"

	"kanban/internal/client"
	"kanban/internal/core/learning"
	"kanban/internal/wire/api"
	"kanban/internal/wire/cartridge"

	"github.com/urfave/cli/v3"
)

func courses() *cli.Command {
	return &cli.Command{
		Name: "courses", Usage: "See courses and set their outlines", Category: "learning",
		Commands: []*cli.Command{
			coursesList(),
			outlineCommand(),
			coursesAcross(),
			coursesShow(),
			coursesVerbs(),
		},
	}
}

func coursesList() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "List courses",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			page, err := client.Get[api.Page[api.Course]](ctx, connect(cmd), "/courses")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "No course has been read yet.", []string{"course", "code", "activities"},
				func(c api.Course) []string {
					return []string{c.Title, c.Code, fmt.Sprint(c.Activities)}
				}).print(cmd)
		},
	}
}

func coursesAcross() *cli.Command {
	return &cli.Command{
		Name: "across", Usage: "Show or say whether progress in a course counts across its sections",
		ArgsUsage:   "[yes|no]",
		Description: "  kanban courses across\n  kanban courses across no",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c := connect(cmd)
			switch word := cmd.Args().First(); word {
			case "":
			case "yes", "no":
				if _, err := client.Send[api.LearningSettings](ctx, c, http.MethodPut, "/learning-settings",
					api.LearningSettings{Across: word == "yes"}); err != nil {
					return err
				}
			default:
				return usage(cmd, fmt.Sprintf("%q is neither yes nor no", word))
			}
			s, err := client.Get[api.LearningSettings](ctx, c, "/learning-settings")
			if err != nil {
				return err
			}
			return tableOf([]api.LearningSettings{s}, "", []string{"progress counts across the sections of a course"},
				func(s api.LearningSettings) []string {
					return []string{map[bool]string{true: "yes", false: "no"}[s.Across]}
				}).print(cmd)
		},
	}
}

func coursesShow() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "Show a course's outline as the table that outline reads",
		ArgsUsage: "COURSE", Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			course, err := findCourse(ctx, c, args[0])
			if err != nil {
				return err
			}
			if cmd.String("output") == "json" {
				o, err := client.Get[api.Outline](ctx, c, "/courses/"+course.ID+"/outline")
				if err != nil {
					return err
				}
				return printJSON(cmd, o)
			}
			text, err := c.Download(ctx, "/courses/"+course.ID+"/outline.csv")
			if err == nil {
				_, err = out(cmd).Write(text)
			}
			return err
		},
	}
}

func coursesVerbs() *cli.Command {
	return &cli.Command{
		Name: "verbs", Usage: "What platforms' verbs mean; with --file the institution's own are set",
		Flags: []cli.Flag{&cli.StringFlag{
			Name:  "file",
			Usage: `JSON such as [{"verb": "https://…/dug", "says": "completed"}]`,
		}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c := connect(cmd)
			if path := cmd.String("file"); path != "" {
				var own api.OwnVerbs
				if err := readJSON(path, &own.Own); err != nil {
					return err
				}
				if _, err := client.Send[client.Empty](ctx, c, http.MethodPut, "/verbs", own); err != nil {
					return err
				}
			}
			v, err := client.Get[api.Verbs](ctx, c, "/verbs")
			if err != nil {
				return err
			}
			return tableOf(append(v.Own, v.Default...), "", []string{"verb", "about", "says"},
				func(r learning.VerbRule) []string {
					return []string{r.Verb, r.Type, string(r.Says)}
				}).print(cmd)
		},
	}
}

func outlineCommand() *cli.Command {
	return &cli.Command{
		Name: "outline", Usage: "Set a course's outline from a Common Cartridge, its address, or a CSV table",
		ArgsUsage: "COURSE SOURCE",
		Description: `SOURCE is a package (.imscc) or its imsmanifest.xml, the address of either, or a .csv with the columns module,
module title, activity, title, kind, required, pass mark, inside, done by (itself, or inside for a lesson that its quiz completes) and
module required. The prefix and an item's identifier give the address under which the
platform reports the activity. With --preview nothing is changed. Percentages whose crossing is an event (progress.crossed) stay as they
are unless others are given.

  kanban courses outline PROP propagation.imscc --prefix https://platform.example/activities/
  kanban courses show PROP > outline.csv
  kanban courses outline PROP outline.csv --preview
  kanban courses outline PROP outline.csv --percentages 10,50,90`,
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:  "prefix",
				Usage: "for manifests: what stands before an item's identifier in reported activities",
			},
			&cli.StringFlag{
				Name:  "percentages",
				Usage: "of the course, whose crossing is an event, such as 10,50,90; without, 25,50,75,100",
			},
			&cli.BoolFlag{Name: "preview", Usage: "only say whom it would complete or reopen"},
		},
		Action: setOutline,
	}
}

func setOutline(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 2)
	if err != nil {
		return err
	}
	c := connect(cmd)
	course, err := findCourse(ctx, c, args[0])
	if err != nil {
		return err
	}
	source := api.OutlineSource{Kind: "manifest", Prefix: cmd.String("prefix")}
	switch {
	case strings.HasPrefix(args[1], "http://"), strings.HasPrefix(args[1], "https://"):
		source.Kind, source.Address = "address", args[1]
	case strings.HasSuffix(strings.ToLower(args[1]), ".csv"):
		source.Kind = "table"
	}
	if source.Kind != "address" {
		if source.Text, err = outlineText(args[1], source.Kind == "table"); err != nil {
			return err
		}
	}
	o, err := client.Post[api.Outline](ctx, c, "/outlines/read", source)
	if err != nil {
		return err
	}
	if o.Percentages, err = percentages(ctx, cmd, c, course.ID); err != nil {
		return err
	}
	if cmd.Bool("preview") {
		return previewOutline(ctx, cmd, c, course, o)
	}
	if _, err := client.Send[client.Empty](ctx, c, http.MethodPut, "/courses/"+course.ID+"/outline", o); err != nil {
		return err
	}
	type line struct{ Module, Activity, Kind, ID string }
	var lines []line
	for _, m := range o.Modules {
		var add func(list []learning.Activity, indent string)
		add = func(list []learning.Activity, indent string) {
			for _, a := range list {
				lines = append(lines, line{m.Title, indent + a.Title, string(a.Kind), a.ID})
				add(a.Activities, indent+"· ")
			}
		}
		add(m.Activities, "")
	}
	return tableOf(lines, "", []string{"module", "activity", "kind", "reported as"},
		func(l line) []string { return []string{l.Module, l.Activity, l.Kind, l.ID} }).print(cmd)
}

// percentages are those that are given, or those that the course has.
func percentages(ctx context.Context, cmd *cli.Command, c *client.Client, courseID string) (out []int, err error) {
	if !cmd.IsSet("percentages") {
		o, err := client.Get[api.Outline](ctx, c, "/courses/"+courseID+"/outline")
		if problem := (*client.Problem)(nil); errors.As(err, &problem) && problem.Status == http.StatusNotFound {
			return nil, nil
		}
		return o.Percentages, err
	}
	for text := range strings.SplitSeq(cmd.String("percentages"), ",") {
		n, err := strconv.Atoi(strings.TrimSuffix(strings.TrimSpace(text), "%"))
		if err != nil {
			return nil, fmt.Errorf("%w: %q is not a percentage; write them as in 10,50,90", errUsage, text)
		}
		out = append(out, n)
	}
	return out, nil
}

// outlineText reads a table whole, and of a package its manifest.
func outlineText(path string, table bool) (string, error) {
	if table {
		text, err := os.ReadFile(path)
		return string(text), err
	}
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", err
	}
	text, err := cartridge.Manifest(f, info.Size())
	if err != nil {
		return "", fmt.Errorf("%w: %s: %w", errUsage, path, err)
	}
	return string(text), nil
}

func previewOutline(ctx context.Context, cmd *cli.Command, c *client.Client, course api.Course, o api.Outline) error {
	p, err := client.Post[api.OutlinePreview](ctx, c, "/courses/"+course.ID+"/outline/preview", o)
	if err != nil {
		return err
	}
	say(cmd, "%s with progress; the course would become done for %d and be open again for %d. Nothing was changed.",
		peopleCount(p.People), p.Completes, p.Reopens)
	for _, text := range p.Misses {
		say(cmd, "▲ Not in it any more: %s.", text)
	}
	return tableOf(p.Touched, "Nothing would change for anybody.",
		[]string{"person", "section", "before", "after", "done", "open again"}, func(t api.OutlineTouch) []string {
			return []string{
				t.Person, t.Section, fmt.Sprint(t.Before, " %"), fmt.Sprint(t.After, " %"),
				strings.Join(t.Completed, ", "), strings.Join(t.Reopened, ", "),
			}
		}).print(cmd)
}

func peopleCount(n int) string {
	if n == 1 {
		return "1 person"
	}
	return fmt.Sprintf("%d people", n)
}

func readJSON(path string, into any) error {
	text, err := os.ReadFile(path)
	if err == nil {
		err = json.Unmarshal(text, into)
	}
	if err != nil {
		return fmt.Errorf("reading %s: %w", path, err)
	}
	return nil
}
