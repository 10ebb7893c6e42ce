// Package reading brings the mirror up to date with a register.
package reading

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/riverqueue/river"

	"kanban/internal/adapter"
	"kanban/internal/adapter/registers"
	"kanban/internal/core/finding"
	"kanban/internal/core/refusal"
	"kanban/internal/core/roster"
	"kanban/internal/core/rule"
	"kanban/internal/store"
	"kanban/internal/wire/call"
	"kanban/internal/wire/oneroster"
)

// Service is the use case. Fill every field.
type Service struct {
	Store *store.Store
	// Open gives a connection with its secrets.
	Open func(ctx context.Context, connectionID string) (adapter.Connection, error)
	Call call.Options
}

// ShrinkGuard is the share of enrolments that a read may take away without
// somebody's approval.
const ShrinkGuard = 0.5

// Start queues a read of a register. approved lifts the shrink guard. For a
// register of files, upload is the package to read; without one the newest of
// its folder is read.
func (s *Service) Start(ctx context.Context, who, connectionID string, approved bool, upload []byte) (store.Run, error) {
	c, err := s.Store.Connection(ctx, connectionID)
	if err != nil {
		return store.Run{}, err
	}
	switch {
	case !adapter.IsRegister(c.Kind):
		return store.Run{}, refusal.Conflict("", "%s is not a register, it cannot be read", c.Name)
	case len(upload) > 0 && c.Kind != adapter.KindCSV:
		return store.Run{}, refusal.Conflict("", "%s is read through its address, it takes no files", c.Name)
	case len(upload) == 0 && c.Kind == adapter.KindCSV && c.Settings["folder"] == "":
		return store.Run{}, refusal.Conflict("", "%s has no folder; upload a package: kanban connections read %q --file package.zip", c.Name, c.Name)
	}
	if c.PausedAt != nil {
		return store.Run{}, refusal.Conflict("", "%s is paused; resume it first", c.Name)
	}
	r := store.Run{ID: store.NewID(), Kind: store.RunRead, ConnectionID: &c.ID, State: store.Queued, Approved: approved, RequestedBy: who}
	err = s.Store.InTx(ctx, func(tx *store.Tx) error {
		if err := store.Create(tx, &r, "queueing the read"); err != nil {
			return err
		}
		if len(upload) > 0 {
			if err := tx.AddUpload(ctx, r.ID, upload); err != nil {
				return err
			}
		}
		if err := tx.Enqueue(ctx, store.ReadRegister{RunID: r.ID}); err != nil {
			return err
		}
		return tx.Announce(ctx, "run", r.ID)
	})
	if errors.Is(err, store.ErrTaken) {
		active, findErr := s.Store.ActiveRun(ctx, "connection_id", c.ID)
		if findErr != nil {
			return r, findErr
		}
		return r, refusal.Conflict("", "%s is being read already (run %s); wait until it is done", c.Name, active.ID)
	}
	return r, err
}

// Work carries out a read. An error means that it may be tried again; with last
// set there is no next try, so the run ends as failed instead.
func (s *Service) Work(ctx context.Context, runID string, last bool) error {
	run, err := s.Store.Run(ctx, runID)
	if err != nil || !run.Active() {
		return err
	}
	if err := s.Store.StartRun(ctx, runID, "asking the register"); err != nil {
		return err
	}
	err = s.read(ctx, &run)
	if err == nil || ctx.Err() != nil {
		return err
	}
	if adapter.MayPass(err) && !last {
		return errors.Join(err, s.Store.Progress(context.WithoutCancel(ctx), runID, "waiting, then trying again: "+err.Error(), 0, 0))
	}
	run.State, run.Error, run.ErrorCode = store.Failed, err.Error(), string(adapter.RunCodeOf(err))
	return s.Store.InTx(ctx, func(tx *store.Tx) error { return tx.FinishRun(ctx, &run) })
}

func (s *Service) read(ctx context.Context, run *store.Run) error {
	connection, err := s.Open(ctx, *run.ConnectionID)
	if err != nil {
		return err
	}
	told := time.Time{}
	records, err := s.records(ctx, connection, run.ID, func(what string, read, total int) {
		if time.Since(told) > 300*time.Millisecond { // often enough for a person
			told = time.Now()
			_ = s.Store.Progress(ctx, run.ID, "reading "+what, read, total)
		}
	})
	if err != nil {
		return err
	}
	known, err := s.known(ctx, connection.ID, records)
	if err != nil {
		return err
	}
	batch, findings := Sort(records, known)
	if err := s.guard(ctx, run, batch); err != nil {
		return err
	}
	if err := s.Store.Progress(ctx, run.ID, "merging", 0, 0); err != nil {
		return err
	}
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		merged, err := tx.Merge(ctx, connection.ID, batch)
		if err != nil {
			return err
		}
		if _, err := tx.Record(ctx, movements(merged, time.Now().UTC())); err != nil {
			return err
		}
		compared, err := s.compareTouched(ctx, tx, merged.Sections)
		if err != nil {
			return err
		}
		run.State, run.Findings, run.Counts = store.Finished, findings, counts(merged, compared)
		if err := tx.Announce(ctx, "section", ""); err != nil {
			return err
		}
		if err := tx.DropUpload(ctx, run.ID); err != nil {
			return err
		}
		return tx.FinishRun(ctx, run)
	})
}

// records reads the register, through its address or from a package.
func (s *Service) records(ctx context.Context, c adapter.Connection, runID string, progress registers.Progress) (registers.Records, error) {
	if c.Kind == adapter.KindOneRoster {
		return registers.New(c, s.Call).Read(ctx, progress)
	}
	content, err := s.Store.Upload(ctx, runID)
	if errors.Is(err, store.ErrNotFound) {
		content, err = newest(c.Settings["folder"])
	}
	if err != nil {
		return registers.Records{}, err
	}
	records, err := registers.ReadPackage(ctx, bytes.NewReader(content), int64(len(content)), progress)
	if errors.Is(err, oneroster.ErrPackage) {
		return records, refusal.Conflict(finding.PackageUnreadable, "%v", err)
	}
	return records, err
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

// known loads what a package that is not complete may refer to.
func (s *Service) known(ctx context.Context, connectionID string, r registers.Records) (k Known, err error) {
	if r.Modes == nil {
		return k, nil
	}
	if k.Courses, err = s.Store.Identifiers(ctx, connectionID, "courses"); err != nil {
		return k, err
	}
	if k.Sections, err = s.Store.Identifiers(ctx, connectionID, "sections"); err != nil {
		return k, err
	}
	k.People, err = s.Store.Identifiers(ctx, connectionID, "people")
	for file, ids := range map[string]*map[string]bool{oneroster.FileCourses: &k.Courses, oneroster.FileClasses: &k.Sections, oneroster.FileUsers: &k.People} {
		if r.Modes[file] == oneroster.Bulk {
			*ids = nil // the file is the whole truth
		}
	}
	return k, err
}

// guard refuses a read that would empty or halve the register unnoticed.
func (s *Service) guard(ctx context.Context, run *store.Run, b store.Batch) error {
	if run.Approved {
		return nil
	}
	_, enrolments, err := s.Store.MirrorSize(ctx, *run.ConnectionID)
	if err != nil {
		return err
	}
	lost := enrolments - len(b.Enrolments)
	if b.Partial["enrolments"] {
		lost = len(b.Deleted["enrolments"])
	}
	if float64(lost) > ShrinkGuard*float64(enrolments) {
		return refusal.Conflict(finding.RegisterShrunk, "this would take away %d of the %d enrolments in the mirror; nothing was changed", lost, enrolments)
	}
	return nil
}

// compareTouched queues a comparison for each pairing whose section changed.
func (s *Service) compareTouched(ctx context.Context, tx *store.Tx, sections []string) (int, error) {
	if len(sections) == 0 {
		return 0, nil
	}
	pairings, err := s.Store.PairingsOf(ctx, sections)
	if err != nil {
		return 0, err
	}
	jobs := make([]river.JobArgs, len(pairings))
	for i, p := range pairings {
		jobs[i] = store.ComparePairing{PairingID: p.ID}
	}
	return len(jobs), tx.Enqueue(ctx, jobs...)
}

func counts(m store.Merged, compared int) map[string]int {
	out := map[string]int{"joined": len(m.Joined), "left": len(m.Left), "sections-changed": len(m.Sections), "pairings-compared": compared}
	for table, t := range m.Tables {
		out[table] = t.Read
		out["added"] += t.Added
		out["changed"] += t.Changed
		out["gone"] += t.Gone
	}
	return out
}

// movements turns who joined and left into events.
func movements(m store.Merged, at time.Time) []store.Event {
	var events []store.Event
	add := func(kind rule.Trigger, list []store.Movement) {
		for _, x := range list {
			if x.Role == string(roster.Preview) {
				continue // not a person
			}
			events = append(events, store.Event{
				Type: string(kind), NaturalKey: fmt.Sprintf("%s/%s/%s", kind, x.EnrolmentID, x.ChangedAt),
				PersonID: &x.PersonID, SectionID: &x.SectionID, CourseID: &x.CourseID,
				Data: map[string]any{"role": x.Role}, OccurredAt: at,
			})
		}
	}
	add(rule.SectionJoined, m.Joined)
	add(rule.SectionLeft, m.Left)
	return events
}
