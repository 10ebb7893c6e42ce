package cli

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/core/rule"
	"kanban/internal/wire/api"
)

func operationsOf() *cli.Command {
	return &cli.Command{
		Name: "operations", Usage: "Define the calls of a service's own API", Category: "learning",
		Commands: []*cli.Command{
			operationsList(),
			operationsDefine(),
			operationsTry(),
			operationsRemove(),
		},
	}
}

// operationNamed gives the path of the operation that a command names.
func operationNamed(ctx context.Context, cmd *cli.Command) (*client.Client, string, string, error) {
	args, err := arguments(cmd, 2)
	if err != nil {
		return nil, "", "", err
	}
	c := connect(cmd)
	conn, err := findInterface(ctx, c, args[0])
	return c, "/interfaces/" + conn.ID + "/operations/" + url.PathEscape(args[1]), args[1], err
}

func operationsList() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "List the operations of an interface", ArgsUsage: "CONNECTION",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			c := connect(cmd)
			conn, err := findInterface(ctx, c, args[0])
			if err != nil {
				return err
			}
			all, err := client.Get[[]api.Operation](ctx, c, "/interfaces/"+conn.ID+"/operations")
			if err != nil {
				return err
			}
			return tableOf(all, "No operation yet. Define one: kanban operations define --help",
				[]string{"operation", "call", "values", "works when", "reverted by"}, func(o api.Operation) []string {
					var fields []string
					for _, f := range o.Fields {
						fields = append(fields, f.Name)
					}
					return []string{o.Name, o.Method + " " + o.Path, strings.Join(fields, ", "), o.Success, o.Undo}
				}).print(cmd)
		},
	}
}

func operationsDefine() *cli.Command {
	return &cli.Command{
		Name: "define", Usage: "Define an operation, or define it anew", ArgsUsage: "CONNECTION NAME",
		Description: `  kanban operations define "Plant list" add-label --call "POST /contacts/{email}/labels" --value email --value label \
      --works-when answer.body.ok --taken-back-by remove-label --values-of "label=/labels answer.body"`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "call", Required: true, Usage: "method and path; {name} stands for a value"},
			&cli.StringSliceFlag{Name: "value", Usage: "a value that is needed"},
			&cli.StringSliceFlag{Name: "may", Usage: "a value that may be given"},
			&cli.StringSliceFlag{
				Name:  "values-of",
				Usage: "what a value may be: value=PATH EXPRESSION, over answer.body",
			},
			&cli.StringFlag{
				Name:  "works-when",
				Usage: "condition over answer.status and answer.body; every 2xx when absent",
			},
			&cli.StringFlag{
				Name:  "seen-at",
				Usage: "path of a GET that shows whether it had its effect, such as /contacts/{email}",
			},
			&cli.StringFlag{
				Name:  "seen-when",
				Usage: "condition over answer.status, answer.body and answer.values, true when the effect is there",
			},
			&cli.StringFlag{Name: "taken-back-by", Usage: "the operation that takes this one back"},
			&cli.StringFlag{Name: "title", Usage: "what it does, for people"},
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, path, name, err := operationNamed(ctx, cmd)
			if err != nil {
				return err
			}
			o, err := operationFromFlags(cmd)
			if err != nil {
				return err
			}
			if _, err := client.Send[api.Operation](ctx, c, http.MethodPut, path, o); err != nil {
				return err
			}
			say(cmd, "Defined %s. Try it: kanban operations try %q %s", name, cmd.Args().First(), name)
			return nil
		},
	}
}

func operationsTry() *cli.Command {
	return &cli.Command{
		Name: "try", Usage: "Call an operation now, for real", ArgsUsage: "CONNECTION NAME",
		Description: "  kanban operations try \"Plant list\" add-label --with email=maud@fernmoor.example --with label=learner",
		Flags:       []cli.Flag{&cli.StringSliceFlag{Name: "with", Usage: "name=text"}},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, path, _, err := operationNamed(ctx, cmd)
			if err != nil {
				return err
			}
			values := map[string]any{}
			for _, w := range cmd.StringSlice("with") {
				name, text, ok := strings.Cut(w, "=")
				if !ok {
					return usage(cmd, fmt.Sprintf("--with %q is not of the form name=text", w))
				}
				values[name] = text
			}
			t, err := client.Post[api.OperationTried](ctx, c, path+"/try", api.OperationTry{Values: values})
			if err != nil {
				return err
			}
			if !t.Worked {
				return fmt.Errorf("it did not work: %s", t.Problem)
			}
			say(cmd, "It worked: %d %s", t.Status, t.Answer)
			return nil
		},
	}
}

func operationsRemove() *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "Remove an operation", ArgsUsage: "CONNECTION NAME",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, path, name, err := operationNamed(ctx, cmd)
			if err != nil {
				return err
			}
			if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, path, nil); err != nil {
				return err
			}
			say(cmd, "Removed %s.", name)
			return nil
		},
	}
}

func operationFromFlags(cmd *cli.Command) (o api.Operation, err error) {
	method, path, ok := strings.Cut(cmd.String("call"), " ")
	if !ok {
		return o, usage(cmd, `--call is a method and a path, such as "POST /contacts"`)
	}
	o = api.Operation{
		Method: strings.ToUpper(method), Path: strings.TrimSpace(path), Title: cmd.String("title"),
		Success: cmd.String("works-when"), ProofPath: cmd.String("seen-at"), Proof: cmd.String("seen-when"),
		Undo: cmd.String("taken-back-by"),
	}
	for _, v := range cmd.StringSlice("value") {
		o.Fields = append(o.Fields, rule.OperationField{Name: v, Required: true})
	}
	for _, v := range cmd.StringSlice("may") {
		o.Fields = append(o.Fields, rule.OperationField{Name: v})
	}
	for _, text := range cmd.StringSlice("values-of") {
		name, rest, _ := strings.Cut(text, "=")
		list, expression, ok := strings.Cut(rest, " ")
		i := slices.IndexFunc(o.Fields, func(f rule.OperationField) bool { return f.Name == name })
		if !ok || i < 0 {
			return o, usage(cmd,
				fmt.Sprintf("--values-of %q is not of the form value=PATH EXPRESSION with one of the values", text))
		}
		o.Fields[i].ListPath, o.Fields[i].List = list, strings.TrimSpace(expression)
	}
	return o, nil
}
