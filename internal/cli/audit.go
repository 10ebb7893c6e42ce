package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"time"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func auditOf() *cli.Command {
	return &cli.Command{
		Name: "audit", Usage: "Who did what, and when, the newest first", Category: "service",
		Description: `  kanban audit
  kanban audit --text award --since 7d
  kanban audit --subject pairing --limit 20 -o csv`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "text", Usage: "a part of what was done, or of the `NAME` of who did it"},
			&cli.StringFlag{Name: "subject", Usage: "of a `KIND` of record, such as pairing, or of one: pairing/ID"},
			&cli.StringFlag{Name: "since", Usage: "in the last `TIME`, such as 12h or 7d"},
			&cli.IntFlag{Name: "limit", Value: 100, Usage: "so many at most"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			q := url.Values{
				"limit": {fmt.Sprint(cmd.Int("limit"))}, "text": {cmd.String("text")},
				"subject": {cmd.String("subject")},
			}
			since, err := sinceOf(cmd)
			if err != nil {
				return err
			}
			if since != nil {
				q.Set("since", since.Format(time.RFC3339))
			}
			page, err := client.Get[api.Page[api.AuditEntry]](ctx, connect(cmd), "/audit-entries?"+q.Encode())
			if err != nil {
				return err
			}
			if err := tableOf(page.Items, "Nothing fits.", []string{"at", "who", "what", "about", "detail"},
				func(e api.AuditEntry) []string {
					return []string{moment(&e.At), e.Who, e.What, e.Subject, detailText(e.Detail)}
				}).print(cmd); err != nil {
				return err
			}
			if page.Next != "" {
				say(cmd, "There are more: narrow them, or raise --limit.")
			}
			return nil
		},
	}
}

// detailText is what an entry says beside its words; nothing where it says nothing.
func detailText(detail json.RawMessage) string {
	if text := string(detail); text != "null" && text != "{}" {
		return text
	}
	return ""
}
