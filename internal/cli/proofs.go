package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func proofsOf() *cli.Command {
	return &cli.Command{
		Name: "proofs", Usage: "Test learners who go the whole way before real people do", Category: "learning",
		Commands: []*cli.Command{proofsList(), proofsStart(), proofsShow(), proofsContinue(), proofsRevert()},
	}
}

func proofsList() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "List proofs, those under way first",
		Description: "  kanban proofs list",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			page, err := client.Get[api.Page[api.Proof]](ctx, connect(cmd), "/proofs")
			if err != nil {
				return err
			}
			return tableOf(page.Items, "No proof was made yet.", []string{
				"id", "section", "test learner", "state", "arrived", "waits", "failed", "started",
			}, func(p api.Proof) []string {
				n := map[string]int{}
				for _, x := range p.Steps {
					n[x.State]++
				}
				return []string{
					p.ID, p.Section, p.Learner, p.State, fmt.Sprint(n["arrived"]), fmt.Sprint(n["waits"]),
					fmt.Sprint(n["failed"]), moment(&p.StartedAt),
				}
			}).print(cmd)
		},
	}
}

func proofsStart() *cli.Command {
	return &cli.Command{
		Name: "start", Usage: "Let a test learner join a section and finish a module, and show what arrives where",
		ArgsUsage: "SECTION",
		Description: `The test learner is made for it, or is one whom the register has: it lists them as one, or somebody accepted the
proposal that they are one (kanban matching proposals).
They are put into the section's classes, finish a module, and whatever rules do about that is done for them. They count
nowhere, and proofs revert undoes all of it.

  kanban proofs start PROP-A --email trial@school.example
  kanban proofs start PROP-A --email trial@school.example --module mod-cuttings
  kanban proofs start PROP-A --person stu-preview`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "email", Usage: "`ADDRESS` of the test learner who is made: mails go there"},
			&cli.StringFlag{Name: "person", Usage: "id or identifier of a `TEST LEARNER` whom the register has"},
			&cli.StringFlag{Name: "module", Usage: "id of the `MODULE` that is finished; the first one that counts when not given"},
			proofWait(),
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			if (cmd.String("email") == "") == (cmd.String("person") == "") {
				return usage(cmd, "give --email, for a test learner who is made, or --person, for one whom the register has")
			}
			c := connect(cmd)
			section, err := findSection(ctx, c, args[0])
			if err != nil {
				return err
			}
			p, err := client.Post[api.Proof](ctx, c, "/proofs", api.NewProof{
				Section: section.ID, Module: cmd.String("module"), Person: cmd.String("person"),
				Email: cmd.String("email"),
			})
			if err != nil {
				return err
			}
			return followProof(ctx, cmd, c, p.ID)
		},
	}
}

func proofWait() cli.Flag {
	return &cli.DurationFlag{
		Name: "wait", Usage: "how long to wait until nothing more happens; 0 to wait for nothing", Value: 30 * time.Second,
	}
}

// followProof waits until a proof has come to an end, and shows it.
func followProof(ctx context.Context, cmd *cli.Command, c *client.Client, id string) error {
	p, err := waitFor(ctx, c, "/proofs/"+id, cmd.Duration("wait"), proofRests)
	if err != nil {
		return err
	}
	return showProof(cmd, p)
}

// proofRests reports whether nothing more happens to a proof by itself.
func proofRests(p api.Proof) bool {
	switch p.State {
	case "running":
		return false
	case "reverting":
		return len(p.Remains) > 0
	}
	for _, x := range p.Steps {
		if p.State == "done" && x.State == "waits" && x.Detail == "" {
			return false
		}
	}
	return true
}

// errNotProven is the error of a proof of which something failed.
var errNotProven = errors.New("not everything arrived")

func showProof(cmd *cli.Command, p api.Proof) error {
	say(cmd, "%s in %s: %s", p.Learner, p.Section, p.State)
	failed := false
	err := tableOf(p.Steps, "Nothing has happened yet.", []string{"what", "which", "where", "state", "detail", "when"},
		func(x api.ProofStep) []string {
			failed = failed || x.State == "failed"
			return []string{x.Kind, x.Title, x.Where, strings.ReplaceAll(x.State, "-", " "), x.Detail, moment(x.At)}
		}).print(cmd)
	if err != nil {
		return err
	}
	for _, text := range p.Remains {
		say(cmd, "Not reverted: %s", text)
	}
	switch {
	case p.State == "done" && failed:
		return fmt.Errorf("%w; mend it, then: kanban proofs continue %s", errNotProven, p.ID)
	case p.State == "done":
		say(cmd, "When you have seen it, revert it: kanban proofs revert %s", p.ID)
	case p.State == "reverting" && len(p.Remains) > 0:
		return fmt.Errorf("not everything could be reverted; mend it and revert it again, or leave it: kanban proofs revert %s --anyway", p.ID)
	}
	return nil
}

func proofsShow() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "Show a proof: what arrived where", ArgsUsage: "ID",
		Description: "  kanban proofs show ID",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			p, err := client.Get[api.Proof](ctx, connect(cmd), "/proofs/"+args[0])
			if err != nil {
				return err
			}
			return showProof(cmd, p)
		},
	}
}

func proofsContinue() *cli.Command {
	return &cli.Command{
		Name: "continue", Usage: "Try again what has not arrived", ArgsUsage: "ID",
		Description: "  kanban proofs continue ID",
		Flags:       []cli.Flag{proofWait()},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return onProof(ctx, cmd, "/continue", nil)
		},
	}
}

func proofsRevert() *cli.Command {
	return &cli.Command{
		Name: "revert", Usage: "Revert everything that a proof has done, everywhere", ArgsUsage: "ID",
		Description: `The test learner leaves the classes, their accounts are deleted, what rules did is reverted where something is named
that reverts it, badges are revoked, and nothing of them is kept. Mails that were sent stay with whoever got them.

  kanban proofs revert ID
  kanban proofs revert ID --anyway`,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "anyway", Usage: "let it end although something cannot be reverted now"},
			proofWait(),
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			return onProof(ctx, cmd, "/revert", api.EndProof{Anyway: cmd.Bool("anyway")})
		},
	}
}

func onProof(ctx context.Context, cmd *cli.Command, path string, body any) error {
	args, err := arguments(cmd, 1)
	if err != nil {
		return err
	}
	c := connect(cmd)
	if _, err := client.Post[client.Empty](ctx, c, "/proofs/"+args[0]+path, body); err != nil {
		return err
	}
	return followProof(ctx, cmd, c, args[0])
}
