package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/roster"
	"kanban/internal/wire/api"
)

func matching() *cli.Command {
	return &cli.Command{
		Name: "matching", Usage: "How people are recognised at a connection, and who is left out", Category: "rosters",
		Commands: []*cli.Command{
			{Name: "show", Usage: "Show keys, domain rules and who is left out", ArgsUsage: "CONNECTION", Action: showMatching},
			{
				Name: "edit", Usage: "Change them; shows whom it would touch and saves only with --save", ArgsUsage: "CONNECTION", Action: editMatching,
				Flags: []cli.Flag{
					&cli.StringSliceFlag{Name: "key", Usage: "the keys in their order: account, identifier, email, user-name"},
					&cli.StringSliceFlag{Name: "domain", Usage: "an old domain and its new one, `OLD=NEW` or OLD=NEW:ROLE"},
					&cli.StringSliceFlag{Name: "leave-out", Usage: "a rule, `NAME:CONDITION=VALUE,...`; conditions are role, user-name, email, organisation, second-accounts, test-learners"},
					&cli.StringSliceFlag{Name: "drop", Usage: "a rule by its name, or a domain rule by its old domain"},
					&cli.StringFlag{Name: "file", Usage: "everything as JSON, as show -o json prints it; - for standard input"},
					&cli.BoolFlag{Name: "save", Usage: "save it"},
				},
				Description: "  kanban matching edit \"Chat workspace\" --domain old.school.example=school.example\n" +
					"  kanban matching edit \"Chat workspace\" --leave-out \"Office accounts:email=office.*\" --save\n" +
					"  kanban matching edit \"Chat workspace\" --key identifier --key email --save",
			},
		},
	}
}

func matchingOf(ctx context.Context, cmd *cli.Command) (*client.Client, api.Connection, roster.Matching, error) {
	c, conn, err := oneConnection(ctx, cmd)
	if err != nil {
		return c, conn, roster.Matching{}, err
	}
	m, err := client.Get[roster.Matching](ctx, c, "/connections/"+conn.ID+"/matching")
	return c, conn, m, err
}

func showMatching(ctx context.Context, cmd *cli.Command) error {
	_, _, m, err := matchingOf(ctx, cmd)
	if err != nil {
		return err
	}
	return printMatching(cmd, m)
}

func printMatching(cmd *cli.Command, m roster.Matching) error {
	rows := [][]string{}
	for i, k := range m.Keys {
		rows = append(rows, []string{"key", fmt.Sprint(i + 1), string(k)})
	}
	for _, d := range m.Domains {
		rows = append(rows, []string{"domain", d.From, "is now " + d.To + only(d.Role)})
	}
	for _, x := range m.Exclude {
		rows = append(rows, []string{"left out", x.Name, conditions(x)})
	}
	return table{value: m, columns: []string{"what", "name", "how"}, rows: rows}.print(cmd)
}

func only(r roster.Role) string {
	if r == "" {
		return ""
	}
	return ", for " + string(r) + "s"
}

func conditions(x roster.Exclusion) string {
	parts := given([2]string{"role", string(x.Role)}, [2]string{"user name", x.UserName}, [2]string{"email", x.Email}, [2]string{"organisation", x.Organisation})
	if x.SecondAccounts {
		parts = append(parts, "second account of a person already in")
	}
	if x.TestLearners {
		parts = append(parts, "test learner")
	}
	return strings.Join(parts, " and ")
}

func editMatching(ctx context.Context, cmd *cli.Command) error {
	c, conn, m, err := matchingOf(ctx, cmd)
	if err != nil {
		return err
	}
	if err := changeMatching(cmd, &m); err != nil {
		return err
	}
	touched, err := client.Post[api.Page[api.Touched]](ctx, c, "/connections/"+conn.ID+"/matching/preview", m)
	if err != nil {
		return err
	}
	t := tableOf(touched.Items, "It touches nobody who is in a paired section now.", []string{"person", "role", "section", "effect"}, func(x api.Touched) []string {
		return []string{x.Name, x.Role, x.Section, x.Effect}
	})
	if err := t.print(cmd); err != nil {
		return err
	}
	if !cmd.Bool("save") {
		say(cmd, "\nNothing was saved. Save it with --save.")
		return nil
	}
	if _, err := client.Send[roster.Matching](ctx, c, http.MethodPut, "/connections/"+conn.ID+"/matching", m); err != nil {
		return err
	}
	say(cmd, "\nSaved. The pairings with %s are compared anew.", conn.Name)
	return nil
}

func changeMatching(cmd *cli.Command, m *roster.Matching) error {
	if path := cmd.String("file"); path != "" {
		in := io.Reader(os.Stdin)
		if path != "-" {
			file, err := os.Open(path)
			if err != nil {
				return err
			}
			defer file.Close()
			in = file
		}
		*m = roster.Matching{}
		d := json.NewDecoder(in)
		d.DisallowUnknownFields()
		if err := d.Decode(m); err != nil {
			return fmt.Errorf("%w: %s holds no matching: %w", errUsage, path, err)
		}
	}
	if keys := cmd.StringSlice("key"); len(keys) > 0 {
		m.Keys = nil
		for _, k := range keys {
			m.Keys = append(m.Keys, roster.Key(k))
		}
	}
	for _, name := range cmd.StringSlice("drop") {
		was := len(m.Domains) + len(m.Exclude)
		m.Domains = slices.DeleteFunc(m.Domains, func(d roster.DomainRule) bool { return strings.EqualFold(d.From, name) })
		m.Exclude = slices.DeleteFunc(m.Exclude, func(x roster.Exclusion) bool { return strings.EqualFold(x.Name, name) })
		if was == len(m.Domains)+len(m.Exclude) {
			return fmt.Errorf("%w: there is no rule %q", errUsage, name)
		}
	}
	for _, text := range cmd.StringSlice("domain") {
		from, to, ok := strings.Cut(text, "=")
		to, role, _ := strings.Cut(to, ":")
		if !ok {
			return fmt.Errorf("%w: --domain %q is not of the form OLD=NEW", errUsage, text)
		}
		m.Domains = append(m.Domains, roster.DomainRule{From: from, To: to, Role: roster.Role(role)})
	}
	for _, text := range cmd.StringSlice("leave-out") {
		x, err := parseExclusion(text)
		if err != nil {
			return err
		}
		m.Exclude = append(m.Exclude, x)
	}
	return nil
}

// parseExclusion reads NAME:CONDITION=VALUE,CONDITION=VALUE.
func parseExclusion(text string) (roster.Exclusion, error) {
	name, rest, _ := strings.Cut(text, ":")
	x := roster.Exclusion{Name: strings.TrimSpace(name)}
	for _, part := range strings.Split(rest, ",") {
		condition, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		switch condition {
		case "role":
			x.Role = roster.Role(value)
		case "user-name":
			x.UserName = value
		case "email":
			x.Email = value
		case "organisation":
			x.Organisation = value
		case "second-accounts":
			x.SecondAccounts = true
		case "test-learners":
			x.TestLearners = true
		default:
			return x, fmt.Errorf("%w: --leave-out %q: %q is no condition", errUsage, text, condition)
		}
	}
	return x, nil
}
