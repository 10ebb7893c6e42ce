// Package wiring puts the use cases together, once, for the service and for tests: here
// stands which of them fills which need of another.
//
//	all := wiring.New(db, wiring.Options{Public: "https://kanban.example"})
//	run, err := all.Reading.Start(ctx, "Maud", reading.Request{ConnectionID: id})
package wiring

import (
	"time"

	"kanban/internal/app/access"
	"kanban/internal/app/awarding"
	"kanban/internal/app/connecting"
	"kanban/internal/app/history"
	"kanban/internal/app/linking"
	"kanban/internal/app/lists"
	"kanban/internal/app/many"
	"kanban/internal/app/matching"
	"kanban/internal/app/observing"
	"kanban/internal/app/offering"
	"kanban/internal/app/outlines"
	"kanban/internal/app/pairing"
	"kanban/internal/app/progressing"
	"kanban/internal/app/reacting"
	"kanban/internal/app/reading"
	"kanban/internal/app/reporting"
	"kanban/internal/app/syncing"
	"kanban/internal/core/rule"
	"kanban/internal/store"
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
	// Remember is for how long a process goes on with the titles of sections that it has
	// read; 0 reads them every time.
	Remember time.Duration
}

// UseCases are all of them.
type UseCases struct {
	Access      *access.Service
	Awarding    *awarding.Service
	Connecting  *connecting.Service
	History     *history.Service
	Linking     *linking.Service
	Lists       *lists.Service
	Many        *many.Service
	Matching    *matching.Service
	Observing   *observing.Service
	Offering    *offering.Service
	Pairing     *pairing.Service
	Progressing *progressing.Service
	Reacting    *reacting.Service
	Reading     *reading.Service
	Reporting   *reporting.Service
	Syncing     *syncing.Service
}

// New puts them together over a database.
func New(db *store.Store, o Options) *UseCases {
	x := &UseCases{
		Access:     &access.Service{Store: db},
		Awarding:   &awarding.Service{Store: db, Public: o.Public + "/open"},
		Connecting: &connecting.Service{Store: db, Source: o.Public, Call: o.Call},
		History:    &history.Service{Store: db, Now: time.Now},
		Lists:      &lists.Service{Store: db, Now: time.Now},
	}
	compiled := &outlines.Compiled{Store: db}
	expressions := rule.NewExpressions()
	x.Reading = &reading.Service{Store: db, Connections: x.Connecting, Call: o.Call, Zone: o.Zone}
	x.Matching = &matching.Service{Store: db, Connections: x.Connecting, Call: o.Call}
	x.Syncing = &syncing.Service{Store: db, Connections: x.Connecting, Call: o.Call, Zone: o.Zone, Public: o.Public}
	x.Pairing = &pairing.Service{Store: db, Now: time.Now, Schedules: x.Syncing, Connections: x.Connecting, Call: o.Call}
	x.Linking = &linking.Service{Store: db, Pairing: x.Pairing, Syncing: x.Syncing, Now: time.Now}
	x.Many = &many.Service{Store: db, Pairing: x.Pairing, Syncing: x.Syncing, Linking: x.Linking, Now: time.Now}
	x.Reacting = &reacting.Service{
		Store: db, Connections: x.Connecting, Badges: x.Awarding, Outlines: compiled, Expressions: expressions,
		Source: o.Public, Call: o.Call, Delays: o.Delays, Zone: o.Zone, Remember: o.Remember,
	}
	x.Offering = &offering.Service{Store: db, Now: time.Now, Expressions: expressions}
	x.Observing = &observing.Service{Store: db, Call: o.Call, Expressions: expressions, Outlines: compiled, Rules: x.Reacting, Purchases: x.Offering}
	x.Progressing = &progressing.Service{Store: db, Now: time.Now, Outlines: compiled}
	x.Reporting = &reporting.Service{
		Store: db, Now: time.Now, Purchases: accessGiven{x.Offering}, Progress: progress{x.Observing}, Rules: x.Reacting, Sections: sections{db, x.Pairing},
	}
	return x
}
