package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"kanban/internal/client"
	"kanban/internal/wire/api"
)

func providersOf() *cli.Command {
	return &cli.Command{
		Name: "providers", Usage: "OpenID providers at which people sign in", Category: "service",
		Description: `An institution's own sign-in lets people in here too. What it says of them (its claims, such as their groups) can give
them roles, or say who of the register they are.`,
		Commands: []*cli.Command{
			providersList(), providersShow(), providersAdd(), providersEdit(), providersMap(), providersCheck(),
			providersTry(),
			providersRemove(),
		},
	}
}

func providersList() *cli.Command {
	return &cli.Command{
		Name: "list", Usage: "List them", Description: "  kanban providers list",
		Action: func(ctx context.Context, cmd *cli.Command) error {
			all, err := client.All[api.Provider](ctx, connect(cmd), "/providers")
			if err != nil {
				return err
			}
			return tableOf(all, "People sign in with a password only.", []string{"name", "address", "on", "lets in", "sign in there"},
				func(p api.Provider) []string {
					return []string{p.Name, p.Issuer, yesOrNo(p.On), admits(p), fmt.Sprint(p.Users)}
				}).print(cmd)
		},
	}
}

func admits(p api.Provider) string {
	if p.Admits == "mapped" {
		return "whoever gets something"
	}
	return "users that there are"
}

// oneProvider finds the provider that a text names.
func oneProvider(ctx context.Context, c *client.Client, text string) (api.Provider, error) {
	all, err := client.All[api.Provider](ctx, c, "/providers")
	if err != nil {
		return api.Provider{}, err
	}
	for _, p := range all {
		if p.ID == text || strings.EqualFold(p.Name, text) {
			return client.Get[api.Provider](ctx, c, "/providers/"+p.ID)
		}
	}
	return api.Provider{}, fmt.Errorf("%w: there is no provider %q; see which there are: kanban providers list", errUsage, text)
}

func withProvider(ctx context.Context, cmd *cli.Command) (*client.Client, api.Provider, error) {
	args, err := arguments(cmd, 1)
	if err != nil {
		return nil, api.Provider{}, err
	}
	c := connect(cmd)
	p, err := oneProvider(ctx, c, args[0])
	return c, p, err
}

func providersShow() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "Show one, with the values that are entered there", ArgsUsage: "NAME",
		Description: `  kanban providers show "Fernmoor sign-in"`,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			_, p, err := withProvider(ctx, cmd)
			if err != nil {
				return err
			}
			return sayProvider(cmd, p)
		},
	}
}

func sayProvider(cmd *cli.Command, p api.Provider) error {
	if cmd.String("output") != "table" {
		return printJSON(cmd, p)
	}
	say(cmd, "%s at %s: %s, lets in %s; %s.", p.Name, p.Issuer, map[bool]string{true: "on", false: "off"}[p.On], admits(p),
		map[string]string{
			"none": "no address that it gives is believed", "verified": "addresses that it says are verified are believed",
			"all": "all addresses that it gives are believed",
		}[p.Believes])
	if p.PersonClaim != "" {
		say(cmd, "Who of the register it is: the claim %s is the %s.", p.PersonClaim, p.PersonKey)
	}
	for i, m := range p.Mappings {
		value := "is there"
		if m.Value != "" {
			value = "is " + m.Value
		}
		say(cmd, "%d. Where %s %s: %s.", i+1, m.Claim, value, roleText(api.RoleGrant{
			Role: m.Grant.Role, Scope: m.Grant.Scope, ScopeName: m.ScopeName, Issuer: m.Issuer,
		}))
	}
	say(cmd, "Enter there:\n  back to:      %s\n  logout at:    %s\n  signed out:   %s", p.BackTo, p.LogoutAt, p.SignedOut)
	return nil
}

// providerFlags say what a provider is.
func providerFlags(added bool) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "issuer", Required: added, Usage: "its `ADDRESS`, as it calls itself"},
		&cli.StringFlag{Name: "client", Required: added, Usage: "`ID` by which it knows Kanban"},
		&cli.BoolFlag{Name: "ask-secret", Usage: "ask for the client's secret, or read it from standard input"},
		&cli.StringFlag{Name: "scopes", Usage: "what is asked for besides openid (default: profile email)"},
		&cli.StringFlag{Name: "believe", Usage: "`WHICH` addresses that it gives are believed: none, verified or all"},
		&cli.StringFlag{Name: "let-in", Usage: "`WHOM`: invited (users that there are) or mapped (whoever gets something)"},
		&cli.StringFlag{Name: "person-claim", Usage: "`CLAIM` by which somebody of the register is known; \"\" for none"},
		&cli.StringFlag{Name: "person-key", Usage: "what that claim is in the register: identifier or email"},
		&cli.StringFlag{Name: "name", Usage: "another `NAME`"},
		&cli.BoolFlag{Name: "off", Usage: "nobody signs in there; sessions that were begun there end"},
		&cli.BoolFlag{Name: "on", Usage: "people sign in there"},
	}
}

// edited changes what is said of a provider by the flags that are set.
func edited(cmd *cli.Command, e *api.EditProvider) error {
	for flag, into := range map[string]*string{
		"issuer": &e.Issuer, "client": &e.ClientID, "believe": &e.Believes, "let-in": &e.Admits,
		"person-claim": &e.PersonClaim, "person-key": &e.PersonKey, "name": &e.Name,
	} {
		if cmd.IsSet(flag) {
			*into = cmd.String(flag)
		}
	}
	if cmd.IsSet("scopes") {
		e.Scopes = strings.Fields(cmd.String("scopes"))
	}
	if e.On = e.On && !cmd.Bool("off") || cmd.Bool("on"); cmd.Bool("on") && cmd.Bool("off") {
		return usage(cmd, "give one of --on and --off")
	}
	if cmd.Bool("ask-secret") {
		secret, err := secretInput("Secret of the client")
		if err != nil {
			return err
		}
		e.Secret = &secret
	}
	return nil
}

func providersAdd() *cli.Command {
	return &cli.Command{
		Name: "add", Usage: "Add a provider", ArgsUsage: "NAME",
		Description: `Then enter there the addresses that are shown.

  kanban providers add "Fernmoor sign-in" --issuer https://id.school.example --client kanban --ask-secret
  kanban providers add Students --issuer https://id.school.example --client kanban --let-in mapped \
    --person-claim employee_number --person-key identifier`,
		Flags: providerFlags(true),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 1)
			if err != nil {
				return err
			}
			e := api.EditProvider{Name: args[0], On: true, Believes: "none", Admits: "invited"}
			if err := edited(cmd, &e); err != nil {
				return err
			}
			c := connect(cmd)
			p, err := client.Post[api.Provider](ctx, c, "/providers", e)
			if err != nil {
				return err
			}
			if err := sayProvider(cmd, p); err != nil || cmd.String("output") != "table" {
				return err
			}
			return sayCheck(ctx, cmd, c, p)
		},
	}
}

// asEdit is what a provider is now, to be changed.
func asEdit(p api.Provider) api.EditProvider {
	return api.EditProvider{
		Name: p.Name, Issuer: p.Issuer, ClientID: p.ClientID, Scopes: p.Scopes, On: p.On, Believes: p.Believes,
		Admits: p.Admits, PersonClaim: p.PersonClaim, PersonKey: p.PersonKey, Mappings: p.Mappings,
	}
}

func providersEdit() *cli.Command {
	return &cli.Command{
		Name: "edit", Usage: "Change a provider", ArgsUsage: "NAME",
		Description: `  kanban providers edit "Fernmoor sign-in" --believe verified
  kanban providers edit "Fernmoor sign-in" --off`,
		Flags: providerFlags(false),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, p, err := withProvider(ctx, cmd)
			if err != nil {
				return err
			}
			e := asEdit(p)
			if err := edited(cmd, &e); err != nil {
				return err
			}
			if p, err = client.Send[api.Provider](ctx, c, http.MethodPut, "/providers/"+p.ID, e); err != nil {
				return err
			}
			return sayProvider(cmd, p)
		},
	}
}

func providersMap() *cli.Command {
	return &cli.Command{
		Name: "map", Usage: "Give a role to whoever a claim says something of", ArgsUsage: "NAME CLAIM [VALUE]",
		Description: `Each sign-in there gives the roles anew. Without a value it is enough that the claim is there.

  kanban providers map "Fernmoor sign-in" groups help-desk --role support
  kanban providers map "Fernmoor sign-in" groups orchard-office --role operator --course ORCH
  kanban providers map "Fernmoor sign-in" groups help-desk --end`,
		Flags: append(roleFlags(false), &cli.BoolFlag{Name: "end", Usage: "end what the claim and value give"}),
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args := cmd.Args().Slice()
			if len(args) < 2 || len(args) > 3 {
				return usage(cmd, "give the provider, a claim, and its value")
			}
			c := connect(cmd)
			p, err := oneProvider(ctx, c, args[0])
			if err != nil {
				return err
			}
			m := api.ProviderMapping{Claim: args[1]}
			if len(args) == 3 {
				m.Value = args[2]
			}
			e := asEdit(p)
			if cmd.Bool("end") {
				left := e.Mappings[:0]
				for _, x := range e.Mappings {
					if x.Claim != m.Claim || x.Value != m.Value {
						left = append(left, x)
					}
				}
				if len(left) == len(p.Mappings) {
					return fmt.Errorf("%w: this gives nothing; see what does: kanban providers show %q", errUsage, p.Name)
				}
				e.Mappings = left
			} else {
				g, err := grantOf(ctx, cmd, c)
				if err != nil {
					return err
				}
				if g == nil {
					return usage(cmd, "give --role, or --end")
				}
				m.Grant = *g
				e.Mappings = append(e.Mappings, m)
			}
			if p, err = client.Send[api.Provider](ctx, c, http.MethodPut, "/providers/"+p.ID, e); err != nil {
				return err
			}
			return sayProvider(cmd, p)
		},
	}
}

// sayCheck asks a provider for its addresses, and says what came.
func sayCheck(ctx context.Context, cmd *cli.Command, c *client.Client, p api.Provider) error {
	check, err := client.Post[api.ProviderCheck](ctx, c, "/providers/"+p.ID+"/check", nil)
	switch {
	case err != nil:
		return err
	case cmd.String("output") != "table":
		return printJSON(cmd, check)
	case !check.OK:
		return fmt.Errorf("%s cannot be used: %s", p.Name, check.Trouble)
	case len(check.Lacks) > 0:
		say(cmd, "It answers, but does not say it knows the scopes %s.", strings.Join(check.Lacks, ", "))
	default:
		say(cmd, "It answers, and can be used. Whether it takes the client is seen when somebody signs in.")
	}
	return nil
}

func providersCheck() *cli.Command {
	return &cli.Command{
		Name: "check", Usage: "Ask a provider for its addresses and keys now", ArgsUsage: "NAME",
		Description: `  kanban providers check "Fernmoor sign-in"`,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, p, err := withProvider(ctx, cmd)
			if err != nil {
				return err
			}
			return sayCheck(ctx, cmd, c, p)
		},
	}
}

func providersTry() *cli.Command {
	return &cli.Command{
		Name: "try", Usage: "Show what somebody would get of whom the provider says some claims", ArgsUsage: "NAME CLAIMS",
		Description: `The claims are JSON, or @ and the name of a file that holds them. Nothing changes.

  kanban providers try "Fernmoor sign-in" '{"sub":"x","email":"otto@school.example","groups":["help-desk"]}'
  kanban providers try "Fernmoor sign-in" @claims.json`,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			args, err := arguments(cmd, 2)
			if err != nil {
				return err
			}
			text := []byte(args[1])
			if path, is := strings.CutPrefix(args[1], "@"); is {
				if text, err = os.ReadFile(path); err != nil {
					return err
				}
			}
			var claims map[string]any
			if err := json.Unmarshal(text, &claims); err != nil {
				return usage(cmd, "the claims are no JSON object: "+err.Error())
			}
			c := connect(cmd)
			p, err := oneProvider(ctx, c, args[0])
			if err != nil {
				return err
			}
			t, err := client.Post[api.ClaimsTrial](ctx, c, "/providers/"+p.ID+"/trial", api.TryClaims{Claims: claims})
			if err != nil || cmd.String("output") == "json" {
				if err == nil {
					err = printJSON(cmd, t)
				}
				return err
			}
			sayTrial(cmd, t)
			return tableOf(t.Mappings, "No claim gives a role.", []string{"claim", "value", "role", "given", "why not"},
				func(m api.MappingTrial) []string {
					return []string{m.Claim, m.Value, m.Role, yesOrNo(m.Holds), m.Why}
				}).print(cmd)
		},
	}
}

func sayTrial(cmd *cli.Command, t api.ClaimsTrial) {
	switch {
	case t.Refused != "":
		say(cmd, "Would not be let in: %s.", t.Refused)
	case t.New:
		say(cmd, "Would be made a user: %s.", t.User)
	default:
		say(cmd, "Would sign in as %s.", t.User)
	}
	if t.Person != "" {
		say(cmd, "Is %s of the register.", t.Person)
	} else if t.Why != "" {
		say(cmd, "Is nobody of the register: %s.", t.Why)
	}
}

func providersRemove() *cli.Command {
	return &cli.Command{
		Name: "remove", Usage: "Remove a provider with the roles that it gave; sessions that were begun there end",
		ArgsUsage: "NAME", Description: `  kanban providers remove "Fernmoor sign-in"`,
		Action: func(ctx context.Context, cmd *cli.Command) error {
			c, p, err := withProvider(ctx, cmd)
			if err != nil {
				return err
			}
			if _, err := client.Send[client.Empty](ctx, c, http.MethodDelete, "/providers/"+p.ID, nil); err != nil {
				return err
			}
			say(cmd, "Nobody signs in at %s any more (%s did).", p.Name, count(p.Users, "user"))
			return nil
		},
	}
}
