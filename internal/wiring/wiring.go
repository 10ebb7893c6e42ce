// Package wiring puts the use cases together, once, for the service and for tests: here
// stands which of them fills which need of another.
//
//	all := wiring.New(db, wiring.Options{Public: "https://kanban.example"})
//	run, err := all.Reading.Start(ctx, "Maud", registers.Request{InterfaceID: id})
package wiring

import (
	"context"
	"time"

	"kanban/internal/app/access"
	"kanban/internal/app/badges"
	"kanban/internal/app/batches"
	"kanban/internal/app/config"
	"kanban/internal/app/connections"
	"kanban/internal/app/findings"
	"kanban/internal/app/history"
	"kanban/internal/app/holders"
	"kanban/internal/app/launches"
	"kanban/internal/app/linking"
	"kanban/internal/app/lists"
	"kanban/internal/app/matching"
	"kanban/internal/app/outlines"
	"kanban/internal/app/pairings"
	"kanban/internal/app/persons"
	"kanban/internal/app/pipeline"
	"kanban/internal/app/proofs"
	"kanban/internal/app/purchases"
	"kanban/internal/app/registers"
	"kanban/internal/app/reports"
	"kanban/internal/app/rules"
	"kanban/internal/app/runs"
	"kanban/internal/app/scores"
	"kanban/internal/app/stages"
	"kanban/internal/app/tasks"
	"kanban/internal/app/teaching"
	"kanban/internal/app/wallets"
	"kanban/internal/core/rule"
	"kanban/internal/store/db"
	"kanban/internal/wire/call"
)

// Options of an installation.
type Options struct {
	// Public is the address at which people and verifiers reach the service, without a
	// slash at its end; events name it as their source.
	Public string
	// Zone is the institution's time zone; UTC when nil.
	Zone *time.Location
	// Call bounds calls of outside services.
	Call call.Options
	// Delays between the attempts of a delivery; the usual ones when nil.
	Delays []time.Duration
	// CheckPrivate lets the check of badges fetch from private networks and this machine too.
	CheckPrivate bool
	// Remember is for how long a process goes on with the titles of sections that it has
	// read; 0 reads them every time.
	Remember time.Duration
}

// UseCases are all of them.
type UseCases struct {
	Access      *access.Service
	Badges      *badges.Service
	Connections *connections.Service
	History     *history.Service
	Holders     *holders.Service
	Launches    *launches.Service
	Linking     *linking.Service
	Lists       *lists.Service
	Persons     *persons.Service
	Batches     *batches.Service
	Config      *config.Service
	Matching    *matching.Service
	Facts       *pipeline.Facts
	Deliveries  *pipeline.Deliveries
	Outlines    *outlines.Service
	Rules       *rules.Service
	Purchases   *purchases.Service
	Pairings    *pairings.Service
	Stages      *stages.Service
	Tasks       *tasks.Service
	Teaching    *teaching.Service
	Registers   *registers.Service
	Findings    *findings.Service
	Proofs      *proofs.Service
	Reports     *reports.Service
	Runs        *runs.Service
	Scores      *scores.Service
	Wallets     *wallets.Service
}

// New puts them together over a database.
func New(db *db.Database, o Options) *UseCases {
	x := &UseCases{
		Access: &access.Service{Store: db},
		Config: &config.Service{Store: db, Maker: maker{o}},
		Badges: &badges.Service{
			Store: db, Public: o.Public + "/open", Strangers: call.NewStrangers(10*time.Second, o.CheckPrivate),
		},
		Connections: &connections.Service{Store: db, Source: o.Public, Call: o.Call},
		History:     &history.Service{Store: db},
		Lists:       &lists.Service{Store: db},
		Persons:     &persons.Service{Store: db},
		Tasks:       &tasks.Service{Store: db},
	}
	compiled := &outlines.Compiled{Store: db}
	expressions := rule.NewExpressions()
	x.Registers = &registers.Service{Store: db, Connections: x.Connections, Call: o.Call, Zone: o.Zone}
	x.Matching = &matching.Service{Store: db, Connections: x.Connections, Call: o.Call}
	x.Runs = &runs.Service{Store: db, Connections: x.Connections, Call: o.Call, Zone: o.Zone, Public: o.Public}
	x.Runs.Mailer = x.Connections.Mailer
	x.Access.Mailer, x.Access.Public = x.Connections.Mailer, o.Public
	x.Pairings = &pairings.Service{
		Store: db, Schedules: x.Runs, Connections: x.Connections,
		Call: o.Call,
	}
	x.Scores = &scores.Service{
		Store: db, Connections: x.Connections, Call: o.Call, Zone: o.Zone, Outlines: compiled,
	}
	x.Teaching = &teaching.Service{Store: db, Access: x.Access, Pairings: x.Pairings, Scores: x.Scores}
	x.Launches = launches.New(db, x.Connections, o.Public)
	x.Linking = &linking.Service{Store: db, Pairings: x.Pairings, Runs: x.Runs}
	x.Batches = &batches.Service{Store: db, Pairings: x.Pairings, Runs: x.Runs, Linking: x.Linking}
	x.Deliveries = &pipeline.Deliveries{
		Store: db, Connections: x.Connections, Badges: x.Badges, Outlines: compiled, Expressions: expressions,
		Source: o.Public, Call: o.Call, Delays: o.Delays, Zone: o.Zone, Remember: o.Remember,
	}
	x.Purchases = &purchases.Service{Store: db, Expressions: expressions}
	x.Facts = &pipeline.Facts{
		Store: db, Expressions: expressions, Outlines: compiled, Reactions: x.Deliveries,
		Purchases: x.Purchases, Scores: x.Scores,
	}
	x.Scores.Statements, x.Scores.Rosters = x.Facts, rosters{db, x.Registers, x.Runs}
	x.Outlines = &outlines.Service{Store: db, Call: o.Call}
	x.Rules = &rules.Service{
		Store: db, Connections: x.Connections, Pipeline: x.Deliveries, Source: o.Public,
		Call: o.Call, Expressions: expressions,
	}
	x.Stages = &stages.Service{Store: db, Outlines: compiled}
	x.Badges.Criteria = x.Stages
	x.Holders = &holders.Service{
		Store: db, Badges: x.Badges, Stages: x.Stages, Mailer: x.Connections.Mailer, Public: o.Public,
	}
	x.Wallets = &wallets.Service{Store: db, Badges: x.Badges, Holders: x.Holders, Tokens: wallets.Tokens(db)}
	x.Deliveries.BadgesPage = x.Holders.Link
	x.above(db, o, compiled)
	return x
}

// above puts those together that look at what all others do.
func (x *UseCases) above(db *db.Database, o Options, compiled *outlines.Compiled) {
	x.Findings = &findings.Service{
		Store: db, Purchases: disagreements{x.Purchases}, Progress: reversals{x.Facts}, Rules: x.Rules,
		Sections: sectionStates{db, x.Pairings}, Stages: reached{x.Stages}, Scores: inBook{x.Scores},
		Conditions: verdicts{x.Deliveries},
	}
	x.Reports = &reports.Service{
		Store: db, Zone: o.Zone, Outlines: compiled, Criteria: x.Stages, Findings: x.Findings, Progress: x.Facts,
		Unfinished: x.openWork,
		Public:     o.Public, Mailer: x.Connections.Mailer,
	}
	x.Proofs = &proofs.Service{
		Store: db, Runs: x.Runs, Scores: x.Scores, Facts: x.Facts, Deliveries: x.Deliveries, Outlines: compiled,
	}
}

// openWork gives what is not done of a score link's work.
func (x *UseCases) openWork(ctx context.Context, linkID string) ([]reports.OpenWork, error) {
	all, err := x.Scores.Unfinished(ctx, linkID)
	out := make([]reports.OpenWork, len(all))
	for i, u := range all {
		out[i] = reports.OpenWork{SectionID: u.SectionID, Section: u.Section, State: u.State}
	}
	return out, err
}

// maker puts the use cases together over a transaction, so that a whole set-up comes in or nothing of it.
type maker struct{ options Options }

// Parts gives those by which a set-up is written.
func (m maker) Parts(over *db.Database) config.Parts {
	x := New(over, m.options)
	return config.Parts{
		Connections: x.Connections, Matching: x.Matching, Pairings: x.Pairings, Badges: x.Badges, Outlines: x.Outlines,
		Purchases: x.Purchases, Rules: x.Rules, Stages: x.Stages, History: x.History, Runs: x.Runs, Facts: x.Facts,
		Scores: x.Scores,
	}
}
