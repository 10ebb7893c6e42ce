package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"

	"github.com/urfave/cli/v3"

	"kanban/internal/scenario"
)

func demo() *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "Run everything with the demo school, from connecting to a badge in the inbox",
		Category: "service",
		Description: `Starts the simulated outside systems and a service of its own with fresh data, plays the
whole story, and keeps running so that you can look around. Ctrl-C ends it.

  kanban demo
  kanban demo --once        end after the story; the exit code tells whether all of it happened`,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "once", Usage: "end after the story"},
			&cli.StringFlag{
				Name: "listen", Value: "127.0.0.1:7700",
				Usage: "address of the service; port 0 takes a free one",
			},
			&cli.IntFlag{
				Name: "ports-from", Value: 7710,
				Usage: "first port of the outside systems, 0 for free ones",
			},
			&cli.StringFlag{Name: "data", Value: filepath.Join(os.TempDir(),
				"kanban-demo-"+strconv.Itoa(os.Geteuid())), Usage: "folder for the demo's data; it is emptied first"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			binary, err := os.Executable()
			if err != nil {
				return err
			}
			if err := emptied(cmd.String("data")); err != nil {
				return err
			}
			outside, err := scenario.StartStandins(ctx, filepath.Join(filepath.Dir(binary), "standins"),
				cmd.Int("ports-from"))
			if err != nil {
				return err
			}
			defer outside.Stop()
			own, err := scenario.StartService(ctx, binary,
				scenario.ServiceOptions{Listen: cmd.String("listen"), Data: cmd.String("data")})
			if err != nil {
				return err
			}
			defer own.Stop()
			story := scenario.New(own.Address, outside.Addresses, os.Stdout)
			err = story.Play(ctx, own.SetupSecret)
			if err == nil {
				err = story.PlayScores(ctx)
			}
			if err == nil {
				err = story.SignInElsewhere(ctx)
			}
			if err == nil {
				err = story.InCourses(ctx)
			}
			if err != nil {
				if ctx.Err() != nil {
					return nil
				}
				return fmt.Errorf("the demo stopped: %w\n  the service's log is in %s", err, own.LogPath)
			}
			if cmd.Bool("once") {
				return nil
			}
			story.Invite()
			select {
			case <-ctx.Done():
				fmt.Println("\nStopping.")
				return nil
			case <-own.Ended:
				return errors.New("the service ended by itself; its log is in " + own.LogPath)
			}
		},
	}
}

// marker shows that a folder was made by the demo and may be emptied.
const marker = "kanban-demo"

// emptied prepares a fresh data folder and never empties one it did not make.
func emptied(folder string) error {
	entries, err := os.ReadDir(folder)
	if err != nil && !os.IsNotExist(err) {
		return err
	}
	if len(entries) > 0 {
		if _, err := os.Stat(filepath.Join(folder, marker)); err != nil {
			return fmt.Errorf("%s was not made by the demo, so it is not emptied; choose another --data", folder)
		}
		if err := os.RemoveAll(folder); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(folder, marker), nil, 0o644)
}
