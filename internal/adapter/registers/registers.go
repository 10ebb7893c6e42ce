// Package registers reads a records system that speaks OneRoster, through its
// address or from its files. Either way it gives a Source: one collection of
// records after another.
package registers

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"kanban/internal/adapter"
	"kanban/internal/wire/call"
	"kanban/internal/wire/oneroster"
)

// Collections are read in this order: whatever a record refers to comes before it.
var Collections = []string{
	oneroster.FileOrgs, oneroster.FileSessions, oneroster.FileCourses,
	oneroster.FileClasses, oneroster.FileUsers, oneroster.FileEnrollments,
}

// Source gives the records of one read.
type Source interface {
	// Mode says whether a collection is the whole truth (bulk), a list of changes
	// (delta) or not given (absent).
	Mode(collection string) oneroster.Mode
	// Each calls each for every record in order, with its position, and bad for
	// every one that cannot be read; the others go on, unless it gives an error.
	Each(ctx context.Context, collection string, each func(position int, r oneroster.Record) error,
		bad func(Bad) error) error
	// Columns are the columns that a collection gives, nil when that is all of them.
	Columns(collection string) []string
	// PassedOver names what the register gives and nobody reads here.
	PassedOver() []string
	// Where says in words at which place a position is.
	Where(collection string, position int) string
}

// Bad is something about a collection that could not be read.
type Bad struct {
	File     string // another file than the one asked for, which belongs to it; usually ""
	Position int    // as in Each; 0 when it is about the whole collection
	ID       string // its sourcedId, when that much could be read
	Column   string // the column at fault, "" when there is none
	Unknown  bool   // it is a column that the standard does not know
	// Damaged says that the record's form is broken, so that another record may be lost in
	// it, and its ID may be another's.
	Damaged bool
	Cause   string
}

// Register is a connected records system.
type Register struct {
	client  *oneroster.Client
	version oneroster.Version
	other   func() *oneroster.Client // that speaks the other version
}

// New uses an interface of kind oneroster.
func New(c adapter.Interface, o call.Options) *Register {
	client := func(version oneroster.Version) *oneroster.Client {
		return oneroster.NewClient(version, c.Settings["address"], c.Settings["tokenAddress"], c.Settings["clientId"],
			c.Secret["clientSecret"], adapter.WithTransport(c, o))
	}
	version, other := oneroster.V12, oneroster.V11
	if c.Settings["version"] == string(oneroster.V11) {
		version, other = other, version
	}
	return &Register{client(version), version, func() *oneroster.Client { return client(other) }}
}

// Shelf keeps the pages of a read until all have come, so that a read that was
// cut off goes on where it broke.
type Shelf interface {
	// Keep stores the next page of a collection.
	Keep(ctx context.Context, collection string, page oneroster.Page) error
	// Last gives the last page kept, without its items; ok is false when there is none.
	Last(ctx context.Context, collection string) (page oneroster.Page, ok bool, err error)
	// Pages gives the pages kept, in order.
	Pages(ctx context.Context, collection string, each func(items []json.RawMessage) error) error
}

// atOnce is how many collections are fetched at a time.
const atOnce = 3

// Fetch brings all pages of the register onto the shelf, several collections at
// a time. With since, only what changed after that is asked for. progress is
// told after each page; its error ends the fetch.
func (r *Register) Fetch(ctx context.Context, shelf Shelf, since time.Time,
	progress func(collection string, read, total int) error,
) (*Pages, error) {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	for _, collection := range Collections {
		group.Go(func() error {
			start, read := r.client.First(collection, since), 0
			last, ok, err := shelf.Last(ctx, collection)
			switch {
			case err != nil:
				return err
			case ok && last.Next == "":
				return nil
			case ok:
				start, read = last.Next, last.Read
			}
			return r.client.Pages(ctx, collection, start, read, func(p oneroster.Page) error {
				if err := shelf.Keep(ctx, collection, p); err != nil {
					return err
				}
				return progress(collection, p.Read, p.Total)
			})
		})
	}
	return &Pages{shelf: shelf, changes: !since.IsZero()}, group.Wait()
}

// Pages is a register whose pages have all come.
type Pages struct {
	shelf   Shelf
	changes bool
}

// Mode is delta when only changes were asked for.
func (p *Pages) Mode(string) oneroster.Mode {
	if p.changes {
		return oneroster.Delta
	}
	return oneroster.Bulk
}

// Columns is nil: a record names the values that it has.
func (p *Pages) Columns(string) []string { return nil }

// PassedOver is nothing: only what is read is asked for.
func (p *Pages) PassedOver() []string { return nil }

// Where names a record by its number.
func (p *Pages) Where(collection string, position int) string {
	return fmt.Sprintf("/%s record %d", collection, position)
}

// Each reads the pages from the shelf.
func (p *Pages) Each(ctx context.Context, collection string, each func(int, oneroster.Record) error,
	bad func(Bad) error,
) error {
	position := 0
	return p.shelf.Pages(ctx, collection, func(items []json.RawMessage) error {
		for _, raw := range items {
			position++
			record, err := oneroster.Parse(collection, raw)
			if err != nil {
				var id struct{ SourcedID string }
				b := Bad{Position: position, Cause: err.Error()}
				if json.Unmarshal(raw, &id) == nil { // another kind of value shows nothing
					b.ID = id.SourcedID
				}
				if err := bad(b); err != nil {
					return err
				}
				continue
			}
			if err := each(position, record); err != nil {
				return err
			}
		}
		return nil
	})
}

// Probe asks for a token and for the first people. Where the version that the interface names has nothing
// there, the other one is asked for too: version is the one that answered, the interface's own when
// neither did.
func (r *Register) Probe(ctx context.Context) (reports []adapter.Report, version oneroster.Version) {
	version, detail := r.version, "A token was given out and people can be read."
	err := firstPeople(ctx, r.client)
	absent := []call.Kind{call.NotFound, call.NotAllowed, call.NotEnabled}
	if p, ok := call.As(err); ok && slices.Contains(absent, p.Kind) {
		if other := r.other(); firstPeople(ctx, other) == nil {
			err = nil
			if version = oneroster.V11; r.version == oneroster.V11 {
				version = oneroster.V12
			}
		}
	}
	if version == oneroster.V11 {
		detail = "A token was given out and people can be read, over OneRoster 1.1."
	}
	return []adapter.Report{adapter.ReportOf(adapter.PeopleIn, detail, err)}, version
}

// firstPeople asks for a token and for the first page of people.
func firstPeople(ctx context.Context, c *oneroster.Client) error {
	if _, err := c.Authorise(ctx); err != nil {
		return err
	}
	enough := errEnough{}
	err := c.Pages(ctx, oneroster.FileUsers, c.First(oneroster.FileUsers, time.Time{}), 0,
		func(oneroster.Page) error { return enough })
	if err == error(enough) {
		return nil
	}
	return err
}

type errEnough struct{}

func (errEnough) Error() string { return "one page is enough" }
