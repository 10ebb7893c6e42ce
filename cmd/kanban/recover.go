package main

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"kanban/internal/app/access"
	"kanban/internal/service"
)

// recovery lets somebody in again who is at the machine.
func recovery() *cli.Command {
	return &cli.Command{
		Name: "recover", Usage: "Let somebody in again who lost their password, on the machine itself",
		Category:  "service",
		ArgsUsage: "ADDRESS",
		Description: `Prints a link by which a new password is chosen; it works once, for a week. It is run where the service's data
folder is (or with its database), whether the service runs or not, and stands in the trail.

  kanban recover maud@fernmoor.example
  kanban recover maud@fernmoor.example --end-codes
  kanban recover otto@fernmoor.example --administrator
  kanban recover new@fernmoor.example --name "New Head" --administrator --public https://kanban.school.example`,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "administrator", Usage: "make them an administrator too"},
			&cli.BoolFlag{Name: "end-codes", Usage: "end their one-time codes too, when they have lost those"},
			&cli.StringFlag{Name: "name", Usage: "`NAME` of somebody who is to be made, with --administrator"},
			&cli.StringFlag{
				Name: "public", Value: "http://127.0.0.1:7700", Usage: "address at which the service is reached",
				Sources: cli.EnvVars("KANBAN_PUBLIC"),
			},
			databaseURL(), data(), secretsKey(),
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.Args().Len() != 1 {
				return fmt.Errorf("give the address of one user: kanban recover maud@fernmoor.example")
			}
			log, err := logger("text")
			if err != nil {
				return err
			}
			in, err := service.Recover(ctx, service.Options{
				DatabaseURL: cmd.String("database-url"), Data: cmd.String("data"), SecretsKey: cmd.String("secrets-key"),
				Public: cmd.String("public"), Log: log,
			}, access.Recovered{
				Email: cmd.Args().First(), Name: cmd.String("name"), Administrator: cmd.Bool("administrator"),
				EndCodes: cmd.Bool("end-codes"),
			})
			if err != nil {
				return err
			}
			fmt.Printf("%s chooses a new password here; the link works once, for a week:\n%s\n", in.User.Name, in.Link)
			return nil
		},
	}
}
