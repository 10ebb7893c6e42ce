package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	app "kanban/internal/app/config"
	"kanban/internal/core/permission"
	"kanban/internal/web/auth"
	"kanban/internal/wire/api"
	"kanban/internal/wire/config"
)

var (
	exportConfigOp = operation{
		ID: "export-config", Act: permission.Look,
		Method: http.MethodGet, Path: "/config", Status: http.StatusOK, Tag: "config",
		Summary: "The whole set-up as files, without secrets",
	}
	compareConfigOp = operation{
		ID: "compare-config", Act: permission.Look,
		Method: http.MethodPost, Path: "/config/compare", Status: http.StatusOK, Tag: "config",
		Summary: "What files would change; nothing is changed",
	}
	applyConfigOp = operation{
		ID: "apply-config", Act: permission.Connect,
		Method: http.MethodPost, Path: "/config/apply", Status: http.StatusOK, Tag: "config",
		Summary: "Take files in, all or nothing; what comes in is off or paused",
	}
	listWaitingConfigOp = operation{
		ID: "list-waiting-config", Act: permission.Look,
		Method: http.MethodGet, Path: "/config/waiting",
		Status: http.StatusOK, Tag: "config",
		Summary: "What came in from files and waits for a register",
	}
	forgetWaitingConfigOp = operation{
		ID: "forget-waiting-config", Act: permission.Connect,
		Method: http.MethodDelete, Path: "/config/waiting/{kind}/{name}",
		Status: http.StatusNoContent, Tag: "config",
		Summary: "Let something wait no longer; it does not come in",
	}
	listReadyRulesOp = operation{
		ID: "list-ready-rules", Act: permission.Look,
		Method: http.MethodGet, Path: "/ready-rules", Status: http.StatusOK, Tag: "rules",
		Summary: "Rules by purpose, with what each needs and what there is of it",
	}
	makeReadyRuleOp = operation{
		ID: "make-ready-rule", Act: permission.Rules,
		Method: http.MethodPost, Path: "/ready-rules/{key}",
		Status: http.StatusOK, Tag: "rules",
		Summary: "Make a ready rule, which is off at first",
	}
	configSchemaOp = operation{
		ID: "config-schema", Act: permission.Look,
		Method: http.MethodGet, Path: "/config/schema", Status: http.StatusOK, Tag: "config",
		Summary: "The JSON Schema of the files, for editors",
	}
)

// config registers the operations about the set-up as files.
func (s *Server) config(a huma.API) {
	handle(a, exportConfigOp, s.exportConfig)
	handle(a, compareConfigOp, s.compareConfig)
	handle(a, applyConfigOp, s.applyConfig)
	handle(a, listWaitingConfigOp, s.listWaitingConfig)
	handleEmpty(a, forgetWaitingConfigOp, s.forgetWaitingConfig)
	handle(a, configSchemaOp, s.configSchema)
	handle(a, listReadyRulesOp, s.listReadyRules)
	handle(a, makeReadyRuleOp, s.makeReadyRule)
}

type configInput struct {
	Kind config.Kind `query:"kind" doc:"Only things of this list, such as rules"`
	Name string      `query:"name" doc:"Only what has this name"`
}

func (s *Server) exportConfig(ctx context.Context, in *configInput) (api.ConfigFiles, error) {
	setup, err := s.Config.Export(ctx)
	if err == nil && in.Kind+config.Kind(in.Name) != "" {
		setup, err = setup.Only(in.Kind, in.Name)
	}
	if err != nil {
		return api.ConfigFiles{}, err
	}
	files, err := config.Files(setup)
	return api.ConfigFiles{Files: files}, err
}

func (s *Server) compareConfig(ctx context.Context, in *with[api.ConfigFiles]) (api.ConfigComparison, error) {
	c, err := s.Config.Compare(ctx, auth.Caller(ctx).Name, filesOf(in.Body))
	return shownComparison(c, false), err
}

func (s *Server) applyConfig(ctx context.Context, in *with[api.ConfigApply]) (api.ConfigComparison, error) {
	c, err := s.Config.Apply(ctx, auth.Caller(ctx).Name, filesOf(in.Body.ConfigFiles), in.Body.Fingerprint)
	return shownComparison(c, len(c.Faults) == 0), err
}

func (s *Server) listWaitingConfig(ctx context.Context, _ *struct{}) ([]api.ConfigWaiting, error) {
	all, err := s.Config.Waiting(ctx)
	return each(all, func(w app.Waiting) api.ConfigWaiting {
		return api.ConfigWaiting{
			ConfigReference: api.ConfigReference{Kind: w.Kind, Name: w.Name}, For: w.For, Who: w.Who, At: w.At,
		}
	}), err
}

type waitingInput struct {
	Kind config.Kind `path:"kind" doc:"The list it belongs to, such as rules"`
	Name string      `path:"name" doc:"Its name"`
}

func (s *Server) forgetWaitingConfig(ctx context.Context, in *waitingInput) error {
	return s.Config.Forget(ctx, auth.Caller(ctx).Name, in.Kind, in.Name)
}

func (s *Server) configSchema(context.Context, *struct{}) (map[string]any, error) {
	return config.SchemaDocument(), nil
}

// filesOf are the files of a request but for the schema, which is a file of ours.
func filesOf(f api.ConfigFiles) map[string][]byte {
	files := map[string][]byte{}
	for name, text := range f.Files {
		if name != config.SchemaFile {
			files[name] = []byte(text)
		}
	}
	return files
}

func shownComparison(c app.Comparison, applied bool) api.ConfigComparison {
	reference := func(r app.Reference) api.ConfigReference { return api.ConfigReference(r) }
	return api.ConfigComparison{
		Changes: each(c.Changes, func(x app.Changed) api.ConfigChange {
			return api.ConfigChange{
				ConfigReference: api.ConfigReference{Kind: x.Kind, Name: x.Name}, What: x.What,
				Fields: each(x.Fields, func(d config.ValueChange) config.ValueChange { return d }),
				Notes:  each(x.Notes, func(n string) string { return n }), Waits: x.Waits,
			}
		}),
		Same: c.Same, Only: each(c.Only, reference),
		Faults:  each(c.Faults, func(f config.Fault) config.Fault { return f }),
		Applied: applied, Fingerprint: c.Fingerprint,
	}
}

func (s *Server) listReadyRules(ctx context.Context, _ *struct{}) ([]api.ReadyRule, error) {
	all, err := s.Config.ReadyRules(ctx)
	return each(all, func(r app.Ready) api.ReadyRule {
		return api.ReadyRule{Key: r.Key, Title: r.Title, About: r.About, Needs: each(r.Needs,
			func(n app.Need) api.ReadyNeed {
				return api.ReadyNeed{Name: n.Name, What: n.What, About: n.About, Choices: each(n.Choices,
					func(c app.Choice) api.ReadyChoice { return api.ReadyChoice{Value: c.Value, Title: c.Title} })}
			})}
	}), err
}

type readyInput struct {
	Rule string `path:"key" doc:"Of the ready rule"`
	Key  string `header:"Idempotency-Key" doc:"Any text of your choice; a repeat within a day gets the first answer"`
	Body api.NewReadyRule
}

func (s *Server) makeReadyRule(ctx context.Context, in *readyInput) (api.Rule, error) {
	r, err := s.Config.AddReady(ctx, auth.Caller(ctx).Name, in.Rule, in.Body.Name, in.Body.Needs)
	if err != nil {
		return api.Rule{}, err
	}
	shown, _, err := s.getRule(ctx, &byID{ID: r.ID})
	return shown, err
}
