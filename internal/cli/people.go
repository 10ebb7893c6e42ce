package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func people() *cli.Command {
	return &cli.Command{
		Name: "people", Usage: "Find people and see everything known about one", Category: "rosters",
		Commands: []*cli.Command{
			peopleFind(),
			{
				Name: "progress", Usage: "Where a person stands in a section's course, activity by activity",
				ArgsUsage: "TEXT SECTION", Action: showProgress,
				Description: `  kanban people progress "Tamsin Trial" PROP-A`,
			},
			{
				Name: "show", Usage: "Sections, accounts, progress, badges and what was sent about a person",
				ArgsUsage: "TEXT", Action: showPerson,
				Description: "TEXT must fit one person, e.g. an identifier or a whole name.\n\n  kanban people show \"Tamsin Trial\"",
			},
			peopleCandidates(),
			decision("match", "Say by hand whose account it is; kept, and used from then on", http.MethodPut, false),
			decision("unmatch", "Say that an account is not this person's", http.MethodPut, true),
			peopleForget(), peopleDuplicates(), peopleMerge(), peopleMerges(), peopleSplit(), peopleKeepApart(),
		},
	}
}

func peopleFind() *cli.Command {
	return &cli.Command{
		Name: "find", Usage: "Find people by name, address, user name or identifier", ArgsUsage: "TEXT",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			page, err := findPeople(ctx, connect(cmd), args[0])
			if err != nil {
				return err
			}
			if err := tableOf(page.Items, "Nobody fits.",
				[]string{
					"name", "address", "user name", "identifier",
					"register",
				}, func(p api.Person) []string {
					return []string{p.Name, p.Email, p.UserName, p.Identifier, p.Register}
				}).print(cmd); err != nil || page.Total <= len(page.Items) || cmd.String("output") != "table" {
				return err
			}
			say(cmd, "\nThese are the first %d of %d; give more of the name, or an identifier.",
				len(page.Items), page.Total)
			return nil
		},
	}
}

func peopleCandidates() *cli.Command {
	return &cli.Command{
		Name:      "candidates",
		Usage:     "Accounts at a service that could be a person's, with what speaks for each",
		ArgsUsage: "TEXT CONNECTION", Action: candidates,
		Description: "  kanban people candidates \"Nils Nettle\" \"Chat workspace\"",
	}
}

func peopleForget() *cli.Command {
	return &cli.Command{
		Name: "forget", Usage: "Drop what was said about a person's accounts; Kanban finds out again",
		ArgsUsage: "TEXT CONNECTION",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, p, conn, _, err := personAt(ctx, cmd, 2)
			if err != nil {
				return err
			}
			if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete,
				"/people/"+p.ID+"/accounts/"+conn.ID, nil); err != nil {
				return err
			}
			say(cmd, "Nothing is said by hand about %s at %s any more.", p.Name, conn.Name)
			return nil
		},
	}
}

// mostFound is how many people are listed of those who fit a text.
const mostFound = 200

func findPeople(ctx context.Context, c *client.Client, text string) (api.Page[api.Person], error) {
	return client.Get[api.Page[api.Person]](ctx, c,
		fmt.Sprintf("/people?limit=%d&text=%s", mostFound, url.QueryEscape(text)))
}

// personAt finds the person and the interface that the first two of n arguments name.
func personAt(ctx context.Context, cmd *cli.Command, n int) (*client.Client, api.Person, api.Interface, []string,
	error,
) {
	args, err := arguments(cmd, n)
	if err != nil {
		return nil, api.Person{}, api.Interface{}, nil, err
	}
	c := connect(cmd)
	p, err := onePerson(ctx, c, args[0])
	if err != nil {
		return c, p, api.Interface{}, args, err
	}
	conn, err := findInterface(ctx, c, args[1])
	return c, p, conn, args, err
}

func candidates(ctx context.Context, cmd *cli.Command) error {
	c, p, conn, _, err := personAt(ctx, cmd, 2)
	if err != nil {
		return err
	}
	page, err := client.Get[api.Page[api.Candidate]](ctx, c, "/people/"+p.ID+"/accounts/"+conn.ID)
	if err != nil {
		return err
	}
	return tableOf(page.Items, "No account there could be this person's.",
		[]string{
			"account", "name", "user name", "address", "active", "equal",
			"decided",
		}, func(x api.Candidate) []string {
			active, decided := "yes", ""
			if !x.Active {
				active = "not yet"
			}
			if x.Stored {
				decided = "is theirs"
			} else if x.Denied {
				decided = "is not theirs"
			}
			return []string{x.AccountID, x.Name, x.UserName, x.Email, active, strings.Join(x.Evidence, ", "), decided}
		}).print(cmd)
}

func decision(name, about, method string, not bool) *cli.Command {
	return &cli.Command{
		Name: name, Usage: about, ArgsUsage: "TEXT CONNECTION ACCOUNT",
		Description: "  kanban people " + name + " \"Nils Nettle\" \"Chat workspace\" u00010",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, p, conn, args, err := personAt(ctx, cmd, 3)
			if err != nil {
				return err
			}
			if _, err := client.Send[client.Empty](ctx, c, method, "/people/"+p.ID+"/accounts/"+conn.ID,
				api.AccountChoice{AccountID: args[2], Not: not}); err != nil {
				return err
			}
			said := "is"
			if not {
				said = "is not"
			}
			say(cmd, "Account %s at %s %s the one of %s. The pairings are compared anew.", args[2], conn.Name, said,
				p.Name)
			return nil
		},
	}
}

func sayAccounts(cmd *cli.Command, all []api.Account) {
	for _, a := range all {
		switch {
		case a.Denied:
			say(cmd, "\nNot their account at %s: %s, said by %s, %s", a.Interface, a.RemoteID, a.By, when(a.At))
		case a.By != "":
			say(cmd, "\nAccount at %s: %s, said by %s, %s", a.Interface, a.RemoteID, a.By, when(a.At))
		default:
			say(cmd, "\nAccount at %s: %s", a.Interface, a.RemoteID)
		}
	}
}

// sayRecords says which registers have a person of whom more than one has a record.
func sayRecords(cmd *cli.Command, p api.PersonPage) {
	if len(p.Records) < 2 {
		return
	}
	for _, r := range p.Records {
		note := ""
		if r.Left {
			note = ", not listed any more"
		}
		say(cmd, "In %s: %s  %s  %s%s", r.Register, r.Name, r.Email, r.Identifier, note)
	}
	for _, m := range p.Merges {
		say(cmd, "Merged with %s by %s, %s. Undo it with: kanban people split %s", m.Other, m.MergedBy, moment(&m.MergedAt),
			m.ID)
	}
	say(cmd, "")
}

func showPerson(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	found, err := onePerson(ctx, c, args[0])
	if err != nil {
		return err
	}
	p, err := client.Get[api.PersonPage](ctx, c, "/people/"+found.ID)
	if err != nil {
		return err
	}
	if cmd.String("output") == "json" {
		return table{value: p}.print(cmd)
	}
	say(cmd, "%s  %s  %s\n", p.Name, p.Email, p.Identifier)
	sayRecords(cmd, p)
	if err := tableOf(p.Sections, "In no section.", []string{
		"section", "course", "role", "joined", "left", "class",
		"in the class", "why not", "percent",
	}, func(w api.Whereabouts) []string {
		progress := ""
		if w.Percent != nil {
			progress = fmt.Sprint(*w.Percent)
		}
		joined := moment(&w.JoinedAt)
		if w.From != nil {
			joined = w.From.Format(time.DateOnly)
		}
		if w.BeginsOn != nil {
			joined = "begins on " + w.BeginsOn.Format(time.DateOnly)
		}
		return []string{
			w.Section, w.Course, w.Role, joined, moment(w.LeftAt), w.Target, inClassWords[w.Class.State],
			w.Class.Why, progress,
		}
	}).print(cmd); err != nil || cmd.String("output") == "csv" { // one table is all that CSV can hold
		return err
	}
	sayAccounts(cmd, p.Accounts)
	for _, a := range p.Awards {
		say(cmd, "Badge %s, %s: %s", a.Badge, when(&a.AwardedAt), a.Address)
		if a.RevokedAt != nil {
			say(cmd, "  revoked by %s, %s", a.RevokedBy, because(a.RevokedAt, a.Reason))
		}
		if a.SuspendedAt != nil {
			say(cmd, "  suspended by %s, %s", a.SuspendedBy, because(a.SuspendedAt, a.SuspendedReason))
		}
	}
	say(cmd, "")
	return tableOf(p.Deliveries, "Nothing was sent about this person.",
		[]string{"at", "rule", "action", "to", "state"}, func(d api.Delivery) []string {
			return []string{moment(&d.CreatedAt), d.Rule, words(d.Action, 1), d.Interface, deliveryState(d)}
		}).print(cmd)
}

// inClassWords says whether somebody is in the class of a section.
var inClassWords = map[string]string{
	"in": "yes", "gone": "no", "not-in": "no", "waiting": "not yet",
	"left-out": "left out", "next-run": "with the next run", "not-known": "not known", "no-class": "",
}

func showProgress(ctx context.Context, cmd *cli.Command) error {
	args, err := arguments(cmd, 2)
	if err != nil {
		return err
	}
	c := connect(cmd)
	p, err := onePerson(ctx, c, args[0])
	if err != nil {
		return err
	}
	section, err := findPart(ctx, c, args[1])
	if err != nil {
		return err
	}
	g, err := client.Get[api.Progress](ctx, c, "/people/"+p.ID+"/progress/"+section.ID)
	if err != nil {
		return err
	}
	type line struct {
		Module string `json:"module"`
		api.ProgressActivity
	}
	var lines []line
	for _, m := range g.Modules {
		module := cmp.Or(m.Title, m.ID)
		if m.Optional {
			module += " (optional)"
		}
		for _, a := range m.Activities {
			lines = append(lines, line{module, a})
		}
	}
	if err := tableOf(lines, "The course has no outline yet: kanban courses outline --help",
		[]string{"module", "activity", "kind", "stands", "score", "first", "last"}, func(l line) []string {
			score, title := "", strings.Repeat("  ", l.Depth)+cmp.Or(l.Title, l.ID)
			if l.Best != nil {
				score = fmt.Sprintf("%.0f %%", *l.Best*100)
			}
			if !l.Counts {
				title += " (optional)"
			}
			return []string{l.Module, title, l.Kind, l.Word, score, moment(l.FirstAt), moment(l.LastAt)}
		}).print(cmd); err != nil {
		return err
	}
	say(cmd, "%s: %d %% of %s.", p.Name, g.Percent, section.Title)
	if g.Elsewhere > 0 {
		say(cmd, "%d more activities were reported that stand in no module of the outline.", g.Elsewhere)
	}
	return nil
}
