package cli

import (
	"context"
	"fmt"
	"net/http"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func openClass(ctx context.Context, cmd *cli.Command) error {
	c, s, err := paired(ctx, cmd)
	if err != nil {
		return err
	}
	var in api.Opening
	if cmd.IsSet("at") {
		at := cmd.Timestamp("at")
		in.At = &at
	}
	path := "/pairings/" + s.PairingID
	if cmd.Bool("cancel") {
		if _, err := client.Send[api.Pairing](ctx, c, http.MethodDelete, path+"/opening", nil); err != nil {
			return err
		}
		say(cmd, "%s stays held until somebody opens it.", s.Title)
		return nil
	}
	outlook, err := client.Get[api.OpeningOutlook](ctx, c, path+"/opening")
	if err != nil {
		return err
	}
	told := ""
	if outlook.NewAccounts > 0 {
		told = fmt.Sprintf("; %s made; %s", numbered(outlook.NewAccounts, "account is", "accounts are"), notices[outlook.Notice])
	}
	say(cmd, "By now %s%s.", numbered(outlook.Learners, "learner waits", "learners wait"), told)
	p, err := client.Post[api.Pairing](ctx, c, path+"/open", in)
	if err != nil {
		return err
	}
	if p.OpensAt != nil {
		say(cmd, "%s opens %s.", s.Title, when(p.OpensAt))
		return nil
	}
	say(cmd, "%s is open; its learners go in now.", s.Title)
	return nil
}

func holdClass(ctx context.Context, cmd *cli.Command) error {
	c, s, err := paired(ctx, cmd)
	if err != nil {
		return err
	}
	if _, err := client.Post[api.Pairing](ctx, c, "/pairings/"+s.PairingID+"/hold", nil); err != nil {
		return err
	}
	say(cmd, "%s is held back. Learners who are in stay in; all others wait until it is opened.", s.Title)
	return nil
}

func syncPairings(ctx context.Context, cmd *cli.Command) error {
	c := connect(cmd)
	var in api.SyncNow
	if name := cmd.String("course"); name != "" {
		course, err := findCourse(ctx, c, name)
		if err != nil {
			return err
		}
		in.CourseID = course.ID
	}
	if name := cmd.String("connection"); name != "" {
		conn, err := findConnection(ctx, c, name)
		if err != nil {
			return err
		}
		in.ConnectionID = conn.ID
	}
	q, err := client.Post[api.Queued](ctx, c, "/pairings/sync", in)
	if err != nil {
		return err
	}
	say(cmd, "Runs for %d pairings are under way where something has to be done. Follow them: kanban runs list", q.Pairings)
	return nil
}

// endPairing takes everybody out whom Kanban put in and ends the pairing.
func endPairing(ctx context.Context, cmd *cli.Command, c *client.Client, s api.Section) error {
	p, err := client.Post[api.Preview](ctx, c, "/pairings/"+s.PairingID+"/ending", nil)
	if err != nil {
		return err
	}
	if !cmd.Bool("apply") {
		if err := showPreview(cmd, p, true); err != nil {
			return err
		}
		say(cmd, "\nNothing was done. Do it with --apply; the pairing ends when everybody is out.")
		return nil
	}
	r, err := client.Post[api.Run](ctx, c, "/runs", api.NewRun{PreviewID: p.ID})
	if err != nil {
		return err
	}
	return follow(ctx, cmd, c, r.ID)
}
