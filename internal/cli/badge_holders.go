package cli

import (
	"context"
	"net/http"
	"os"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func badgesPage() *cli.Command {
	return &cli.Command{
		Name: "page", Usage: "Make a link to the page of somebody's badges", ArgsUsage: "PERSON",
		Description: `The page is theirs: what they have, what is missing, what others may see. The link holds for 90 days, and asks for
their e-mail address. In mails of rules it is {{.person.badgesPage}}.

  kanban badges page stu-001`,
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
			link, err := client.Post[api.HolderLink](ctx, c, "/people/"+p.ID+"/badges-page", nil)
			if err == nil {
				say(cmd, "%s", link.Address)
			}
			return err
		},
	}
}

func badgesTerms() *cli.Command {
	return &cli.Command{
		Name: "terms", Usage: "Show or change the terms that people accept before anything about them is public",
		Description: "  kanban badges terms\n  kanban badges terms --file terms.txt",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "file", Usage: "a text file with other terms", TakesFile: true}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if _, err := arguments(cmd, 0); err != nil {
				return err
			}
			c := connect(cmd)
			file := cmd.String("file")
			if file == "" {
				t, err := client.Get[api.HolderTerms](ctx, c, "/holder-terms")
				if err == nil {
					say(cmd, "Version %d\n\n%s", t.Version, t.Text)
				}
				return err
			}
			text, err := os.ReadFile(file)
			if err != nil {
				return err
			}
			t, err := client.Send[api.HolderTerms](ctx, c, http.MethodPut, "/holder-terms",
				api.NewHolderTerms{Text: string(text)})
			if err == nil {
				say(cmd, "The terms are version %d now. Whoever accepted former ones is asked again before they share more.",
					t.Version)
			}
			return err
		},
	}
}
