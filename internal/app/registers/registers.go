// Package registers brings the mirror up to date with a register.
package registers

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/riverqueue/river"

	"kanban/internal/adapter"
	"kanban/internal/adapter/registers"
	"kanban/internal/core/clock"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/core/rule"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/jobs"
	"kanban/internal/store/mirror"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/runstore"
	"kanban/internal/wire/call"
	"kanban/internal/wire/oneroster"
)

// Service is the use case. Fill every field.
type Service struct {
	Store *db.Database
	// Connections gives interfaces with their secrets.
	Connections adapter.Opener
	Call        call.Options
	// Zone is the institution's, by whose days enrolments begin and end; UTC when nil.
	Zone  *time.Location
	Clock clock.Clock
}

// wholeEvery is how often a scheduled read asks for everything; the reads in
// between ask only for what changed.
const wholeEvery = 24 * time.Hour

// overlap is how far a read of changes looks back before the last read began, so
// that clocks that differ a little and slow writers lose nothing.
const overlap = 5 * time.Minute

// Request says what to read and how.
type Request struct {
	InterfaceID string
	// Approved lifts the guard against a register that suddenly lost its records.
	Approved bool
	// Upload is the package to read, for a register of files; without one the
	// newest of its folder is read.
	Upload []byte
	// Changes asks only for what changed since the last read that finished. It is
	// passed over when there was none, and for files, which say it themselves.
	Changes bool
}

// Start queues a read of a register.
func (s *Service) Start(ctx context.Context, who string, q Request) (runstore.Run, error) {
	c, err := connectionstore.FindInterface(ctx, s.Store, q.InterfaceID)
	if err != nil {
		return runstore.Run{}, err
	}
	upload := q.Upload
	switch {
	case !adapter.IsRegister(c.Kind):
		return runstore.Run{}, refusal.Conflict("", "%s is not a register, it cannot be read", c.Name)
	case len(upload) > 0 && c.Kind != adapter.KindCSV:
		return runstore.Run{}, refusal.Conflict("", "%s is read through its address, it takes no files", c.Name)
	case len(upload) == 0 && c.Kind == adapter.KindCSV && c.Settings["folder"] == "":
		return runstore.Run{}, refusal.Conflict("",
			"%s has no folder; upload a package: kanban interfaces read %q --file package.zip", c.Name, c.Name)
	}
	if c.Paused() {
		return runstore.Run{}, refusal.Conflict("", "%s is paused; resume it first", c.Name)
	}
	r := runstore.Run{
		ID: db.NewID(), Kind: runstore.RunRead, InterfaceID: &c.ID, State: runstore.Queued,
		Approved: q.Approved, RequestedBy: who,
	}
	if q.Changes && c.Kind == adapter.KindOneRoster {
		if r.Since, err = runstore.LastRead(ctx, s.Store, c.ID); err != nil {
			return r, err
		}
	}
	err = s.Store.InTx(ctx, func(tx *db.Tx) error {
		if err := db.Create(tx, &r, "queueing the read"); err != nil {
			return err
		}
		if len(upload) > 0 {
			if err := mirror.AddUpload(ctx, tx, r.ID, upload); err != nil {
				return err
			}
		}
		if err := tx.Enqueue(ctx, jobs.ReadRegister{RunID: r.ID}); err != nil {
			return err
		}
		return tx.Announce(ctx, "run", r.ID)
	})
	if errors.Is(err, db.ErrTaken) {
		active, findErr := runstore.ActiveRun(ctx, s.Store, "interface_id", c.ID)
		if findErr != nil {
			return r, findErr
		}
		return r, refusal.Conflict("", "%s is being read already (run %s); wait until it is done", c.Name, active.ID)
	}
	return r, err
}

// Scheduled queues a read that nobody asked for: of everything once a day, of
// what changed in between.
func (s *Service) Scheduled(ctx context.Context, interfaceID string) (runstore.Run, error) {
	whole, err := runstore.LastWholeRead(ctx, s.Store, interfaceID)
	if err != nil {
		return runstore.Run{}, err
	}
	return s.Start(ctx, "schedule", Request{
		InterfaceID: interfaceID,
		Changes:     whole != nil && time.Since(*whole) < wholeEvery,
	})
}

// Work carries out a read. An error means that it may be tried again; with last
// set there is no next try, so the run ends as failed instead.
func (s *Service) Work(ctx context.Context, runID string, last bool) error {
	run, err := runstore.FindRun(ctx, s.Store, runID)
	if err != nil || !run.Active() {
		return err
	}
	if err := runstore.StartRun(ctx, s.Store, runID, "asking the register"); err != nil {
		return err
	}
	if err = runstore.ErrCancelled; !run.CancelAsked {
		err = s.read(ctx, &run)
	}
	keep := context.WithoutCancel(ctx)
	switch {
	case err == nil:
		return nil
	case errors.Is(err, runstore.ErrCancelled):
		run.State, run.Error = runstore.Cancelled, "stopped by a person; the mirror is as it was before"
	case ctx.Err() != nil:
		return err
	case adapter.MayPass(err) && (!last || adapter.MayWait(err, run.StartedAt)):
		told := runstore.KeepRunProgress(keep, s.Store, runID, "waiting, then trying again: "+err.Error(), 0, 0)
		if errors.Is(told, runstore.ErrCancelled) {
			told = nil // seen at the next try
		}
		return errors.Join(err, told)
	default:
		run.State, run.Error, run.ErrorCode = runstore.Failed, err.Error(), string(adapter.RunCodeOf(err))
	}
	return s.Store.InTx(keep, func(tx *db.Tx) error { return s.finish(keep, tx, &run) })
}

// finish ends a run and drops what it kept until now.
func (s *Service) finish(ctx context.Context, tx *db.Tx, run *runstore.Run) error {
	if err := mirror.DropUpload(ctx, tx, run.ID); err != nil {
		return err
	}
	if err := mirror.DropPages(ctx, tx, run.ID); err != nil {
		return err
	}
	return runstore.FinishRun(ctx, tx, run)
}

func (s *Service) read(ctx context.Context, run *runstore.Run) error {
	via, err := s.Connections.Open(ctx, *run.InterfaceID)
	if err != nil {
		return err
	}
	progress := s.teller(ctx, run.ID)
	source, err := s.source(ctx, via, run, progress)
	if err != nil {
		return err
	}
	in := &sorted{
		source: source, approved: run.Approved,
		calendar: calendar{adapter.DatesOf(via.Settings), s.today()}, progress: func(what string,
			read int,
		) error {
			return progress("merging "+what, read, 0)
		},
	}
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		merged, err := mirror.Merge(ctx, tx, via.ID, in)
		if errors.Is(err, oneroster.ErrPackage) {
			return refusal.Conflict(finding.PackageUnreadable, "%v", err)
		}
		var lost *mirror.ColumnLost
		if errors.As(err, &lost) {
			return refusal.Conflict(finding.RegisterShrunk,
				"%s.csv lacks the column %s, in which %d records have a value; nothing was changed. Export it again with that column; if it is meant to be empty, read again with the guard lifted",
				shapes[lost.Table].collection, from[lost.Table][lost.Column], lost.Values)
		}
		if err != nil {
			return err
		}
		if err := guard(ctx, tx, via, run, merged); err != nil {
			return err
		}
		compared, err := s.follow(ctx, tx, via.ID, merged)
		if err != nil {
			return err
		}
		run.State, run.Findings, run.Counts = runstore.Finished, in.findings(merged), counts(merged, compared)
		if len(merged.Incomplete) > 0 {
			run.State = runstore.NeedsPerson
		}
		for _, t := range merged.Tables {
			run.Done += t.Read
		}
		run.Total = run.Done
		if err := mirror.KeepDifferences(ctx, tx, run.ID, merged.Differences, merged.MoreDifferences); err != nil {
			return err
		}
		return s.finish(ctx, tx, run)
	})
}

// follow lets everything follow from a change of the mirror: events, lists, progress and
// access, and a comparison of each pairing whose section changed, which it counts.
func (s *Service) follow(ctx context.Context, tx *db.Tx, interfaceID string, merged mirror.Merged) (compared int,
	err error,
) {
	if _, err := eventstore.RecordEvents(ctx, tx, movements(merged, s.Clock.Now())); err != nil {
		return 0, err
	}
	if _, err := deliverystore.RequeueMended(ctx, tx, interfaceID); err != nil {
		return 0, err
	}
	if err := refresh(ctx, tx, interfaceID, merged); err != nil {
		return 0, err
	}
	people := merged.Tables["people"]
	news := people.Added + people.Changed + merged.Tables["enrolments"].Added
	if news+len(merged.Joined)+len(merged.Left) > 0 {
		// Statements may have come about them before the register knew them, or while
		// they were away. What movers reached goes with them.
		if err := tx.Enqueue(ctx, append(carries(merged), jobs.ResolveStatements{}, jobs.SettleAccess{},
			jobs.Propose{InterfaceID: interfaceID})...); err != nil {
			return 0, err
		}
	}
	if places := merged.Tables["courses"].Added + merged.Tables["sections"].Added; places > 0 {
		if err := tx.Enqueue(ctx, jobs.TakeWaiting{}); err != nil {
			return 0, err
		}
	}
	if compared, err = s.compareTouched(ctx, tx, interfaceID, merged.Sections,
		changed(merged, "people")); err != nil {
		return compared, err
	}
	return compared, tx.Announce(ctx, "section", "")
}

// today is the day in the institution's zone, as YYYY-MM-DD.
func (s *Service) today() string {
	zone := time.UTC
	if s.Zone != nil {
		zone = s.Zone
	}
	return s.Clock.Now().In(zone).Format(time.DateOnly)
}

// Turn lets enrolments begin whose first day has come, and end whose last day has passed,
// without a read.
func (s *Service) Turn(ctx context.Context) error {
	today := s.today()
	due, err := mirror.RegistersToTurn(ctx, s.Store, today)
	if err != nil {
		return err
	}
	var errs []error
	for _, id := range due {
		errs = append(errs, s.Store.InTx(ctx, func(tx *db.Tx) error {
			merged, err := mirror.PassDay(ctx, tx, id, today)
			if err != nil {
				return err
			}
			_, err = s.follow(ctx, tx, id, merged)
			return err
		}))
	}
	return errors.Join(errs...)
}

// teller tells how far a run is, often enough for a person, and says when it is
// to stop. It may be called by several goroutines.
func (s *Service) teller(ctx context.Context, runID string) func(what string, read, total int) error {
	var mu sync.Mutex
	told := time.Time{}
	return func(what string, read, total int) error {
		mu.Lock()
		defer mu.Unlock()
		if time.Since(told) < 300*time.Millisecond {
			return nil
		}
		told = time.Now()
		return runstore.KeepRunProgress(ctx, s.Store, runID, what, read, total)
	}
}

// source gives the records, through the register's address or from a package.
func (s *Service) source(ctx context.Context, c adapter.Interface, run *runstore.Run,
	progress func(string, int, int) error,
) (registers.Source, error) {
	if c.Kind == adapter.KindOneRoster {
		var since time.Time
		if run.Since != nil {
			since = run.Since.Add(-overlap)
		}
		told := func(what string, read, total int) error { return progress("reading "+what, read, total) }
		register, shelf := registers.New(c, s.Call), mirror.RegisterPages{Database: s.Store, RunID: run.ID}
		pages, err := register.Fetch(ctx, shelf, since, told)
		if p, ok := call.As(err); ok && run.Since != nil && (p.Kind == call.Refused || p.Kind == call.NotEnabled) {
			// The register cannot say what changed: it is asked for everything.
			if run.Since, err = nil, mirror.ReadWhole(ctx, s.Store, run.ID); err == nil {
				pages, err = register.Fetch(ctx, shelf, time.Time{}, told)
			}
		}
		return pages, err
	}
	content, err := mirror.FindUpload(ctx, s.Store, run.ID)
	if errors.Is(err, db.ErrNotFound) {
		content, err = newest(c.Settings["folder"])
	}
	if err != nil {
		return nil, err
	}
	files, err := registers.OpenFiles(bytes.NewReader(content), int64(len(content)), limits(c))
	if errors.Is(err, oneroster.ErrPackage) {
		return nil, refusal.Conflict(finding.PackageUnreadable, "%v", err)
	}
	return files, err
}

// limits of a package, as the interface says.
func limits(c adapter.Interface) oneroster.Limits {
	unpacked, _ := strconv.ParseInt(c.Settings["mostUnpacked"], 10, 64)
	rows, _ := strconv.Atoi(c.Settings["mostRows"])
	return oneroster.Limits{Unpacked: max(unpacked, 0) << 20, Rows: max(rows, 0)}
}

// newest reads the newest package of a folder.
func newest(folder string) ([]byte, error) {
	found, err := filepath.Glob(filepath.Join(folder, "*.zip"))
	if err != nil || len(found) == 0 {
		return nil, refusal.Conflict(finding.PackageUnreadable, "there is no .zip in the folder %s", folder)
	}
	var path string
	var at time.Time
	for _, f := range found {
		if info, err := os.Stat(f); err == nil && info.ModTime().After(at) {
			path, at = f, info.ModTime()
		}
	}
	content, err := os.ReadFile(path)
	if err != nil {
		return nil, refusal.Conflict(finding.PackageUnreadable, "the package cannot be read: %v", err)
	}
	return content, nil
}

// refresh works out what lists show of the sections that changed; of all of them
// when something changed that many have in common.
func refresh(ctx context.Context, tx *db.Tx, interfaceID string, m mirror.Merged) error {
	if changed(m, "people") {
		if err := mirror.ChooseLeading(ctx, tx, interfaceID); err != nil {
			return err
		}
	}
	all := m.First
	for _, table := range []string{"orgs", "terms", "courses"} {
		all = all || changed(m, table)
	}
	switch {
	case all:
		return rosterstore.RefreshSections(ctx, tx, interfaceID, nil)
	case len(m.Sections) == 0 && !changed(m, "people"):
		return nil
	case len(m.Sections) == 0:
		return rosterstore.RefreshPeopleLists(ctx, tx, interfaceID)
	}
	return rosterstore.RefreshSections(ctx, tx, interfaceID, m.Sections)
}

// changed reports whether a read changed anything in a table.
func changed(m mirror.Merged, table string) bool {
	t := m.Tables[table]
	return t.Added+t.Changed+t.Gone > 0
}

// compareTouched queues a comparison for each pairing whose section changed, and for those of
// the register's people lists when anybody changed.
func (s *Service) compareTouched(ctx context.Context, tx *db.Tx, interfaceID string, sections []string,
	people bool,
) (int, error) {
	if len(sections) == 0 && !people {
		return 0, nil
	}
	pairings, err := pairingstore.PairingsOf(ctx, tx, interfaceID, sections)
	if err != nil {
		return 0, err
	}
	var compare, run []pairingstore.Pairing
	for _, p := range pairings {
		if p.Policy.Schedule.ReactsToReads() && p.PausedAt == nil {
			run = append(run, p)
		} else {
			compare = append(compare, p)
		}
	}
	if err := pairingstore.AskComparison(ctx, tx, "after a read", false, compare...); err != nil {
		return 0, err
	}
	return len(pairings), pairingstore.AskComparison(ctx, tx, "after a read", true, run...)
}

// carriedAtOnce is how many people one job carries progress for.
const carriedAtOnce = 500

// carries lets progress go with people who joined a section of a course they were in.
func carries(m mirror.Merged) (work []river.JobArgs) {
	people := map[string][]string{}
	for _, x := range m.Joined {
		if x.Role == string(roster.Student) {
			people[x.CourseID] = append(people[x.CourseID], x.PersonID)
		}
	}
	for _, course := range slices.Sorted(maps.Keys(people)) {
		for part := range slices.Chunk(people[course], carriedAtOnce) {
			work = append(work, jobs.RecountCourse{CourseID: course, People: part})
		}
	}
	return work
}

func counts(m mirror.Merged, compared int) map[string]int {
	out := map[string]int{
		"joined": len(m.Joined), "left": len(m.Left), "sections-changed": len(m.Sections),
		"pairings-compared": compared,
	}
	for table, t := range m.Tables {
		out[table] = t.Read
		out["added"] += t.Added
		out["changed"] += t.Changed
		out["gone"] += t.Gone
	}
	if m.Renumbered > 0 {
		out["renumbered"] = m.Renumbered
	}
	return out
}

// movements turns who joined and left into events.
func movements(m mirror.Merged, at time.Time) []eventstore.Event {
	// Whoever leaves one section of a course and joins another at once has moved.
	type stay struct{ person, course, role string }
	left, joined := map[stay]mirror.Movement{}, map[stay]bool{}
	for _, x := range m.Left {
		left[stay{x.PersonID, x.CourseID, x.Role}] = x
	}
	var events []eventstore.Event
	add := func(kind rule.Trigger, x mirror.Movement, data map[string]any) {
		data["role"] = x.Role
		events = append(events, eventstore.Event{
			Type: string(kind), NaturalKey: fmt.Sprintf("%s/%s/%s", kind, x.EnrolmentID, x.ChangedAt),
			PersonID: &x.PersonID, SectionID: &x.SectionID, CourseID: &x.CourseID, Data: data, OccurredAt: at,
		})
	}
	for _, x := range m.Joined {
		if x.Role == string(roster.TestLearner) {
			continue // not a person
		}
		key := stay{x.PersonID, x.CourseID, x.Role}
		from, moved := left[key]
		joined[key] = joined[key] || moved
		add(rule.SectionJoined, x, map[string]any{"moved": moved})
		if moved {
			add(rule.SectionMoved, x, map[string]any{"fromId": from.SectionID, "from": from.Section})
		}
	}
	for _, x := range m.Left {
		if x.Role != string(roster.TestLearner) {
			add(rule.SectionLeft, x, map[string]any{"moved": joined[stay{x.PersonID, x.CourseID, x.Role}]})
		}
	}
	return events
}
