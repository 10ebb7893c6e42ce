// Command kanban is the service and its command line.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"github.com/urfave/cli/v3"

	app "kanban/internal/cli"
	"kanban/internal/web"
)

// version is set when a release is built.
var version = "0.2.0-dev"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := app.Run(ctx, app.App(version, serve(), demo(), recovery(), describe()), os.Args)
	stop()
	os.Exit(code)
}

func describe() *cli.Command {
	return &cli.Command{
		Name: "openapi", Usage: "Print the OpenAPI description of the API", Category: "service",
		Action: func(_ context.Context, cmd *cli.Command) error {
			text, err := web.Description()
			if err == nil {
				_, err = os.Stdout.Write(append(text, '\n'))
			}
			return err
		},
	}
}
