package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// peopleLists are lists of people that can be paired like a section.
func peopleLists() *cli.Command {
	return &cli.Command{
		Name: "lists", Usage: "Lists of people that can be paired like a section: of a course, of an organisation, or those you name", Category: "rosters",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "List them, with how many are on each and where it is paired", Action: listLists,
				Description: "  kanban lists list",
			},
			{
				Name: "make", Usage: "Make a list", ArgsUsage: "[NAME]", Action: makeList,
				Flags: []cli.Flag{
					&cli.StringFlag{
						Name:  "course",
						Usage: "everybody of a course, whatever the section (code or title)",
					},
					&cli.StringFlag{
						Name:  "organisation",
						Usage: "everybody of an organisation, and of those within it",
					},
					&cli.StringSliceFlag{
						Name:  "person",
						Usage: "somebody (name, identifier, address or id); can be given several times",
					},
				},
				Description: "Who is on a list of a course or organisation follows the register. The list is paired like a section, by its name or id.\n\n" +
					"  kanban lists make --course PROP\n  kanban lists make \"All of the school\" --organisation \"Fernmoor Garden School\"\n  kanban lists make \"Harvest committee\" --person stu-001 --person tea-001",
			},
			{Name: "show", Usage: "Who is on a list now", ArgsUsage: "LIST", Action: showList},
			{
				Name: "change", Usage: "Rename a list, or put people on one of named people and take some off",
				ArgsUsage: "LIST", Action: changeList,
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "name", Usage: "another name"},
					&cli.StringSliceFlag{Name: "add", Usage: "somebody who comes on it"},
					&cli.StringSliceFlag{Name: "drop", Usage: "somebody who is taken off"},
				},
			},
			{Name: "remove", Usage: "Remove a list that is not paired", ArgsUsage: "LIST", Action: removeList},
			{
				Name: "organisations", Usage: "Organisations of the registers", Action: listOrganisations,
				Description: "  kanban lists organisations",
			},
		},
	}
}

func findList(ctx context.Context, c *client.Client, name string) (api.PeopleList, error) {
	return named[api.PeopleList]{
		"/people-lists", "people list", "people lists", "lists list",
		func(x api.PeopleList) string { return x.ID },
		func(x api.PeopleList) []string { return []string{x.Name} },
		func(x api.PeopleList) string { return apart(x.Kind, fmt.Sprintf("%d learners", x.Learners)) },
	}.find(ctx, c, name)
}

func listLists(ctx context.Context, cmd *cli.Command) error {
	all, err := client.All[api.PeopleList](ctx, connect(cmd), "/people-lists")
	if err != nil {
		return err
	}
	return tableOf(all, "There is no people list. Make one: kanban lists make --help",
		[]string{"list", "of", "learners", "teachers", "classes", "made by"}, func(l api.PeopleList) []string {
			kind := l.Kind
			if l.Gone {
				kind += ", which is no longer in the register"
			}
			return []string{
				l.Name, kind, fmt.Sprint(l.Learners), strings.Join(l.Teachers, ", "),
				strings.Join(l.Targets, ", "), l.MadeBy,
			}
		}).print(cmd)
}

func makeList(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	in := api.NewPeopleList{Name: cmd.Args().First()}
	given := 0
	if name := cmd.String("course"); name != "" {
		course, err := findCourse(ctx, c, name)
		if err != nil {
			return err
		}
		in.Kind, in.OfID, given = "course", course.ID, given+1
	}
	if name := cmd.String("organisation"); name != "" {
		org, err := findOrganisation(ctx, c, name)
		if err != nil {
			return err
		}
		in.Kind, in.OfID, given = "organisation", org.ID, given+1
	}
	if people := cmd.StringSlice("person"); len(people) > 0 {
		ids, err := peopleCalled(ctx, c, people)
		if err != nil {
			return err
		}
		in.Kind, in.People, given = "named", ids, given+1
	}
	if given != 1 {
		return usage(cmd, "give one of --course, --organisation, --person")
	}
	l, err := client.Post[api.PeopleList](ctx, c, "/people-lists", in)
	if err != nil {
		return err
	}
	say(cmd, "%s was made: %s. Pair it like a section: kanban pairings add %q CONNECTION", l.Name,
		count(l.Learners, "learner"), l.Name)
	return nil
}

func findOrganisation(ctx context.Context, c *client.Client, name string) (api.Organisation, error) {
	return named[api.Organisation]{
		"/organisations", "organisation", "organisations", "lists organisations",
		func(x api.Organisation) string { return x.ID },
		func(x api.Organisation) []string { return []string{x.Name} },
		func(x api.Organisation) string { return apart(x.Name, x.Type) },
	}.find(ctx, c, name)
}

// peopleCalled finds people, each by what is one person's only.
func peopleCalled(ctx context.Context, c *client.Client, names []string) (ids []string, err error) {
	for _, name := range names {
		p, err := onePerson(ctx, c, name)
		if err != nil {
			return nil, err
		}
		ids = append(ids, p.ID)
	}
	return ids, nil
}

// theList finds the list that is the one argument.
func theList(ctx context.Context, cmd *cli.Command) (*client.Client, api.PeopleList, error) {
	args, err := arguments(cmd, 1)
	if err != nil {
		return nil, api.PeopleList{}, err
	}
	c := connect(cmd)
	l, err := findList(ctx, c, args[0])
	return c, l, err
}

func showList(ctx context.Context, cmd *cli.Command) error {
	c, l, err := theList(ctx, cmd)
	if err != nil {
		return err
	}
	all, err := client.All[api.Listed](ctx, c, "/people-lists/"+l.ID+"/people")
	if err != nil {
		return err
	}
	return tableOf(all, "Nobody is on "+l.Name+" now.", []string{"person", "identifier", "role", "begins"},
		func(p api.Listed) []string {
			begins := ""
			if p.Begins != nil {
				begins = p.Begins.Format("2 January 2006")
			}
			return []string{p.Name, p.Identifier, string(p.Role), begins}
		}).print(cmd)
}

func changeList(ctx context.Context, cmd *cli.Command) error {
	c, l, err := theList(ctx, cmd)
	if err != nil {
		return err
	}
	var in api.EditPeopleList
	if cmd.IsSet("name") {
		name := cmd.String("name")
		in.Name = &name
	}
	if in.Add, err = peopleCalled(ctx, c, cmd.StringSlice("add")); err != nil {
		return err
	}
	if in.Drop, err = peopleCalled(ctx, c, cmd.StringSlice("drop")); err != nil {
		return err
	}
	if in.Name == nil && len(in.Add)+len(in.Drop) == 0 {
		return usage(cmd, "nothing is to be changed: give --name, --add or --drop")
	}
	after, err := client.Edit[api.PeopleList](ctx, c, http.MethodPatch, "/people-lists/"+l.ID, l.Version, in)
	if err != nil {
		return err
	}
	say(cmd, "%s has %s now.", after.Name, count(after.Learners, "learner"))
	return nil
}

func removeList(ctx context.Context, cmd *cli.Command) error {
	c, l, err := theList(ctx, cmd)
	if err != nil {
		return err
	}
	if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/people-lists/"+l.ID, nil); err != nil {
		return err
	}
	say(cmd, "%s was removed.", l.Name)
	return nil
}

func listOrganisations(ctx context.Context, cmd *cli.Command) error {
	all, err := client.All[api.Organisation](ctx, connect(cmd), "/organisations")
	if err != nil {
		return err
	}
	return tableOf(all, "No register has been read yet.", []string{"organisation", "kind"},
		func(o api.Organisation) []string {
			return []string{o.Name, o.Type}
		}).print(cmd)
}
