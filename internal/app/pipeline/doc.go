// Package pipeline leads from what platforms and services say to what happens by it. Read
// from top to bottom:
//
//	statements.go    Facts.Take, TakeOthers: statements of learning activity come in
//	reports.go       Facts.Report: so do events that services report
//	resolve.go       who and what they are about; learned.go: activities not known before
//	verbs.go         what their verbs mean
//	progress.go      Facts.advance: progress is worked out and kept, events are recorded;
//	                 recount.go: anew, after another outline; reversals.go: what no longer holds
//	  — in the same transaction, through Reactions —
//	deliveries.go    Deliveries, what follows from events
//	matching.go      Recorded, React: rules are matched, their deliveries written; results.go:
//	                 which result counts; stages.go: which stages to work out; chains.go: what
//	                 led to what; inactive.go: events that come with time
//	  — in the background —
//	dispatch.go      a lane for each interface begins what is due
//	deliver.go       one delivery, from being claimed to being written; hold.go: what keeps it
//	                 back; together.go: several written at once
//	actions.go       what each kind of action sends; values.go: what its texts refer to
//	settle.go        what an attempt came to, and when it is tried again
//	unsubscribe.go   who wants no more of a rule's mails
//
// trying.go offers the same steps one by one, for trying rules out.
//
//	ids, err := facts.Take(ctx, interfaceID, statements, raw)
package pipeline
