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
		Name: "matching", Usage: "How people are recognised at an interface, and who is left out",
		Category: "rosters",
		Commands: []*cli.Command{
			matchingProposals(),
			matchingDropMark(),
			{
				Name: "show", Usage: "Show keys, domain rules and who is left out", ArgsUsage: "CONNECTION",
				Action: showMatching,
			},
			matchingEdit(),
		},
	}
}

func matchingProposals() *cli.Command {
	return &cli.Command{
		Name:      "proposals",
		Usage:     "Records of a register that look like second accounts or test learners; accept or refuse them",
		ArgsUsage: "REGISTER", Action: proposals,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "accept-all", Usage: "all of them are so"},
			&cli.StringSliceFlag{
				Name:  "accept",
				Usage: "the one with this identifier is so; can be given several times",
			},
			&cli.StringSliceFlag{
				Name:  "refuse",
				Usage: "the one with this identifier is not, and is not proposed again",
			},
		},
		Description: "Nothing follows from a proposal before somebody says so. A second account is left out of classes in which the person is\nalready, and its sections are shown with the person; a test learner is left out everywhere.\n\n" +
			"  kanban matching proposals \"School register\"\n  kanban matching proposals \"School register\" --accept-all\n  kanban matching proposals \"School register\" --refuse stu-031",
	}
}

func matchingDropMark() *cli.Command {
	return &cli.Command{
		Name: "drop-mark", Usage: "Drop what was said of a person's record; it may be proposed again",
		ArgsUsage:   "PERSON",
		Description: "  kanban matching drop-mark stu-031",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			p, err := onePerson(ctx, c, args[0])
			if err != nil {
				return err
			}
			if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/people/"+p.ID+"/mark",
				nil); err != nil {
				return err
			}
			say(cmd, "Nothing is said of the record of %s any more.", p.Name)
			return nil
		},
	}
}

func matchingEdit() *cli.Command {
	return &cli.Command{
		Name: "edit", Usage: "Change them; shows whom it would touch and saves only with --save",
		ArgsUsage: "CONNECTION", Action: editMatching,
		Flags: []cli.Flag{
			&cli.StringSliceFlag{
				Name:  "key",
				Usage: "the keys in their order: account, identifier, email, user-name",
			},
			&cli.StringSliceFlag{
				Name:  "domain",
				Usage: "an old domain and its new one, `OLD=NEW` or OLD=NEW:ROLE",
			},
			&cli.StringSliceFlag{
				Name:  "leave-out",
				Usage: "a rule, `NAME:CONDITION=VALUE,...`; conditions are role, user-name, email, organisation, second-accounts, test-learners",
			},
			&cli.StringSliceFlag{
				Name:  "drop",
				Usage: "a rule by its name, or a domain rule by its old domain",
			},
			&cli.StringFlag{
				Name:  "file",
				Usage: "everything as JSON, as show -o json prints it; - for standard input",
			},
			&cli.BoolFlag{Name: "save", Usage: "save it"},
		},
		Description: "  kanban matching edit \"Chat workspace\" --domain old.school.example=school.example\n" +
			"  kanban matching edit \"Chat workspace\" --leave-out \"Office accounts:email=office.*\" --save\n" +
			"  kanban matching edit \"Chat workspace\" --key identifier --key email --save",
	}
}

func matchingOf(ctx context.Context, cmd *cli.Command) (*client.Client, api.Interface, roster.Matching, error) {
	c, conn, err := oneInterface(ctx, cmd)
	if err != nil {
		return c, conn, roster.Matching{}, err
	}
	m, err := client.Get[roster.Matching](ctx, c, "/interfaces/"+conn.ID+"/matching")
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
	parts := given(condition{"role", string(x.Role)}, condition{"user name", x.UserName}, condition{"email", x.Email},
		condition{"organisation", x.Organisation})
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
	touched, err := client.Post[api.Page[api.Touched]](ctx, c, "/interfaces/"+conn.ID+"/matching/preview", m)
	if err != nil {
		return err
	}
	t := tableOf(touched.Items, "It touches nobody who is in a paired section now.",
		[]string{"person", "role", "section", "effect"}, func(x api.Touched) []string {
			return []string{x.Name, x.Role, x.Section, x.Effect}
		})
	if err := t.print(cmd); err != nil {
		return err
	}
	if !cmd.Bool("save") {
		say(cmd, "\nNothing was saved. Save it with --save.")
		return nil
	}
	if _, err := client.Send[roster.Matching](ctx, c, http.MethodPut, "/interfaces/"+conn.ID+"/matching",
		m); err != nil {
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
		m.Domains = slices.DeleteFunc(m.Domains, func(d roster.DomainRule) bool {
			return strings.EqualFold(d.From,
				name)
		})
		m.Exclude = slices.DeleteFunc(m.Exclude, func(x roster.Exclusion) bool {
			return strings.EqualFold(x.Name,
				name)
		})
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

// proposedPeople are the ids of people about whom there are proposals, one for each name.
func proposedPeople(all []api.Proposal, names []string) (people []string, err error) {
	for _, name := range names {
		n := len(people)
		for _, p := range all {
			if p.Identifier == name || p.PersonID == name {
				people = append(people, p.PersonID)
			}
		}
		if len(people) != n+1 {
			return nil, fmt.Errorf("%w: %d proposals are about %q; give an identifier out of the list, or an id (--ids)", errUsage, len(people)-n, name)
		}
	}
	return people, nil
}

func proposals(ctx context.Context, cmd *cli.Command) error {
	c, conn, err := oneInterface(ctx, cmd)
	if err != nil {
		return err
	}
	at := "/interfaces/" + conn.ID + "/proposals"
	page, err := client.Get[api.Page[api.Proposal]](ctx, c, at)
	if err != nil {
		return err
	}
	decide := func(people []string, accept bool, word string) error {
		d, err := client.Post[api.Decided](ctx, c, at, api.Verdict{People: people, Accept: accept})
		if err == nil {
			say(cmd, "%s %s. The pairings are compared anew.", word, count(d.Count, "proposal"))
		}
		return err
	}
	if cmd.Bool("accept-all") {
		var people []string
		for _, p := range page.Items {
			people = append(people, p.PersonID)
		}
		if len(people) > 0 {
			return decide(people, true, "Accepted")
		}
	}
	decided := false
	for flag, accept := range map[string]bool{"accept": true, "refuse": false} {
		people, err := proposedPeople(page.Items, cmd.StringSlice(flag))
		if err != nil {
			return err
		}
		if len(people) == 0 {
			continue
		}
		decided = true
		if err := decide(people, accept, map[bool]string{true: "Accepted", false: "Refused"}[accept]); err != nil {
			return err
		}
	}
	if decided {
		return nil
	}
	return tableOf(page.Items,
		"No record looks like a second account or a test learner of which nobody has said anything.",
		[]string{
			"person", "identifier", "user name", "is", "of", "sections",
			"what speaks for it",
		}, func(p api.Proposal) []string {
			is, of := "a test learner", ""
			if p.Kind == "second" {
				is, of = "a second account", p.Of+" ("+p.OfIdentifier+")"
			}
			return []string{p.Person, p.Identifier, p.UserName, is, of, fmt.Sprint(p.Enrolments), p.Evidence}
		}).print(cmd)
}
