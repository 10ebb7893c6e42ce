package scores

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"kanban/internal/adapter"
	"kanban/internal/adapter/gradebooks"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/call"
	"kanban/internal/wire/oneroster"
)

const (
	// fresh is for how long a read answers for links that run by themselves: many links with one gradebook read it
	// once.
	fresh = 2 * time.Minute
	// wholeEvery is how often a gradebook is read whole; the reads in between ask only for what changed.
	wholeEvery = 24 * time.Hour
	// overlap is how far a read of changes looks back before the last read began, so that clocks that differ a
	// little and slow writers lose nothing.
	overlap = 5 * time.Minute
	// small is up to how many records a gradebook is read whole whenever somebody waits.
	small = 20_000
	// page is how many records are kept at a time.
	page = 500
	// mostUnread is how many records that could not be understood are kept as examples; all are counted.
	mostUnread = 50
	// longestRecord bounds a record of a gradebook, in bytes.
	longestRecord = 64 << 10
)

// Read brings what is kept of a gradebook up to date. A read that is younger than within answers instead; whole asks
// for everything, which also shows what is not there any more. A read that does not come to its end takes nothing
// away.
func (s *Service) Read(ctx context.Context, interfaceID string, within time.Duration, whole bool) (r scorestore.Read,
	err error,
) {
	if c, found := connectionstore.FindInterface(ctx, s.Store, interfaceID); found == nil &&
		c.Kind == adapter.KindScoreFile {
		return scorestore.FindRead(ctx, s.Store, c.ID) // the latest package that was uploaded
	}
	book, _, err := s.open(ctx, interfaceID)
	if err != nil {
		return r, err
	}
	wait := s.Store.OneByOne(ctx, "gradebook/"+interfaceID, func() {
		if r, err = scorestore.FindRead(ctx, s.Store, interfaceID); err != nil {
			return
		}
		now := s.Clock.Now()
		if r.ReadNo != 0 && within > 0 && now.Sub(r.ReadAt) < within && !whole {
			return
		}
		if within == 0 && !whole { // somebody waits for what is true now, deleted records too
			if whole, err = scorestore.Small(ctx, s.Store, interfaceID, small); err != nil {
				return
			}
		}
		since := r.ReadAt.Add(-overlap)
		if whole = whole || r.ReadNo == 0 || now.Sub(r.WholeAt) > wholeEvery; whole {
			since = time.Time{}
		}
		r = scorestore.Read{
			InterfaceID: interfaceID, ReadNo: now.UnixMicro(), ReadAt: now, WholeAt: r.WholeAt,
			Unread: []scorestore.Unread{},
		}
		var complete []string
		for _, collection := range gradebooks.Collections {
			before := r.UnreadCount
			if err = s.readCollection(ctx, book, collection, since, &r); err != nil {
				return
			}
			if whole && r.UnreadCount == before { // else one that could not be understood may be any of them
				complete = append(complete, collection)
			}
		}
		err = s.Store.InTx(ctx, func(tx *db.Tx) error { return scorestore.EndRead(ctx, tx, r, whole, complete) })
	})
	if err == nil {
		err = wait
	}
	return r, err
}

// readCollection keeps the records of one collection.
func (s *Service) readCollection(ctx context.Context, book *gradebooks.Gradebook, collection string, since time.Time,
	r *scorestore.Read,
) error {
	k := keeper{to: s.Store, collection: collection, read: r}
	position := 0
	err := book.Each(ctx, collection, since, func(record oneroster.Record) error {
		position++
		return k.keep(ctx, position, record)
	}, func(at int, err error) error {
		k.unread(at, err.Error())
		return nil
	})
	if p, is := call.As(err); is && collection == oneroster.FileScoreScales &&
		(p.Kind == call.NotFound || p.Kind == call.NotEnabled) {
		return nil // it has none: they are no part of the older version
	}
	if err != nil {
		return err
	}
	return k.flush(ctx)
}

// keeper keeps the records of one collection, page by page, and notes those that could not be understood.
type keeper struct {
	to         db.From
	collection string
	read       *scorestore.Read
	batch      []scorestore.Record
}

func (k *keeper) keep(ctx context.Context, position int, record oneroster.Record) error {
	x, problem := recordOf(k.collection, record)
	if problem != nil {
		k.unread(position, problem.Error())
		return nil
	}
	if k.batch = append(k.batch, x); len(k.batch) < page {
		return nil
	}
	return k.flush(ctx)
}

func (k *keeper) flush(ctx context.Context) error {
	if len(k.batch) == 0 {
		return nil
	}
	err := scorestore.KeepRecords(ctx, k.to, k.read.InterfaceID, k.collection, k.read.ReadNo, k.batch)
	k.batch = k.batch[:0]
	return err
}

func (k *keeper) unread(position int, problem string) {
	if k.read.UnreadCount++; len(k.read.Unread) < mostUnread {
		k.read.Unread = append(k.read.Unread, scorestore.Unread{
			Collection: k.collection, Position: position, Problem: problem,
		})
	}
}

// recordOf gives a record as it is kept.
func recordOf(collection string, record oneroster.Record) (scorestore.Record, error) {
	x := scorestore.Record{RemoteID: record.Get("sourcedId"), Values: map[string]string{}, Sum: int64(record.Sum())}
	columns := oneroster.Headers[collection]
	if collection == oneroster.FileLineItems {
		columns = append(slices.Clone(columns), itemScale)
	}
	for _, column := range columns {
		if value := record.Get(column); value != "" {
			x.Values[column] = value
		}
	}
	text, err := json.Marshal(x.Values)
	switch {
	case err != nil:
		return x, err
	case x.RemoteID == "":
		return x, fmt.Errorf("%w: it has no id", gradebooks.ErrRecord)
	case len(text) > longestRecord:
		return x, fmt.Errorf("%w: it is longer than %d bytes", gradebooks.ErrRecord, longestRecord)
	}
	if why := db.Unstorable(text); why != "" {
		return x, fmt.Errorf("%w: %s", gradebooks.ErrRecord, why)
	}
	switch collection {
	case oneroster.FileLineItems:
		x.Class = x.Values["classSourcedId"]
	case oneroster.FileResults:
		x.Item = x.Values["lineItemSourcedId"]
	}
	return x, nil
}

// itemScale is what line items have beside the columns of their file.
const itemScale = "scoreScaleSourcedId"

// kept is a record that was kept, as one that comes.
type kept struct{ scorestore.Record }

// Get gives the value of a column, "" when there is none.
func (k kept) Get(column string) string { return k.Values[column] }

// Sum is a fingerprint: records with equal sums hold the same.
func (k kept) Sum() uint64 { return uint64(k.Record.Sum) }
