package pipeline

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"kanban/internal/core/learning"
	"kanban/internal/store/db"
	"kanban/internal/store/eventstore"
	"kanban/internal/wire/xapi"
)

// ErrConflict means that another statement with the same id is stored already
// (xAPI 1.0.3 Communication 2.1.2).
var ErrConflict = errors.New("another statement with this id is stored already")

// Take stores statements that came through an interface and lets what follows
// from them happen. It answers with their ids, only when all are stored; raw
// holds each one as it came. Nothing is lost: a statement about somebody or
// something unknown is stored with a note. Where some cannot be stored none is, and
// the error holds xapi.Faults.
func (s *Facts) Take(ctx context.Context, interfaceID string, statements []xapi.Statement,
	raw []json.RawMessage,
) ([]string, error) {
	ids, left, err := s.takeAll(ctx, interfaceID, statements, raw)
	if len(left) > 0 {
		err = fmt.Errorf("%w: %w", err, left)
	}
	return ids, err
}

// TakeOthers does the same but leaves out those that cannot be stored, or that are in
// conflict with what is stored, and gives them by their place.
func (s *Facts) TakeOthers(ctx context.Context, interfaceID string, statements []xapi.Statement,
	raw []json.RawMessage,
) (ids []string, left xapi.Faults, err error) {
	ids = make([]string, len(statements))
	places := make([]int, len(statements)) // of what is still to be taken
	for i := range places {
		places[i] = i
	}
	for {
		some, not, err := s.takeAll(ctx, interfaceID, statements, raw)
		for i, id := range some {
			ids[places[i]] = id
		}
		if len(not) == 0 {
			return ids, left, err
		}
		drop := map[int]bool{}
		for _, f := range not {
			drop[f.Index] = true
			left = append(left, xapi.Fault{Index: places[f.Index], Detail: f.Detail})
		}
		statements, raw, places = without(statements, drop), without(raw, drop), without(places, drop)
	}
}

// without leaves out what stands at some places.
func without[T any](list []T, drop map[int]bool) (rest []T) {
	for i, x := range list {
		if !drop[i] {
			rest = append(rest, x)
		}
	}
	return rest
}

// takeAll stores all statements, or none when any of them cannot be stored: then it
// gives those, and an error that says of which sort they are.
func (s *Facts) takeAll(ctx context.Context, interfaceID string, statements []xapi.Statement,
	raw []json.RawMessage,
) (ids []string, left xapi.Faults, err error) {
	ids = make([]string, len(statements))
	items := make([]*item, len(statements))
	for i := range statements {
		if why := db.Unstorable(raw[i]); why != "" {
			left = append(left, xapi.Fault{Index: i, Detail: why})
		}
		if statements[i].ID == "" {
			statements[i].ID = uuid.NewString()
		}
		ids[i] = statements[i].ID
		items[i] = &item{statement: statements[i], from: interfaceID, body: xapi.Listed(raw[i])}
	}
	if left != nil {
		return ids, left, xapi.ErrStatement
	}
	if err := s.resolve(ctx, items); err != nil {
		return nil, nil, err
	}
	err = db.Again(func() error {
		return s.Store.InShortTx(ctx, func(tx *db.Tx) error {
			fresh, err := s.keep(ctx, tx, interfaceID, items)
			if err != nil || len(fresh) == 0 {
				return err
			}
			return s.advance(ctx, tx, fresh)
		})
	})
	if errors.As(err, &left) {
		err = ErrConflict
	}
	return ids, left, err
}

// keep stores statements and gives those that are new and count. Voiding happens here.
func (s *Facts) keep(ctx context.Context, tx *db.Tx, interfaceID string, items []*item) ([]*item, error) {
	rows := make([]eventstore.Statement, len(items))
	for i, x := range items {
		st := x.statement
		rows[i] = eventstore.Statement{
			ID: st.ID, InterfaceID: interfaceID, Body: x.body, Note: x.note,
			Actor: st.Actor.Key(), Verb: st.Verb.ID, Object: st.Object.ID,
		}
		if st.Context != nil {
			rows[i].Registration = strings.ToLower(st.Context.Registration)
		}
		if x.person.ID != "" {
			rows[i].PersonID = &x.person.ID
		}
	}
	existing, awaited, err := eventstore.AddStatements(ctx, tx, interfaceID, rows, xapi.Voided)
	if err != nil {
		return nil, err
	}
	var conflicts xapi.Faults
	for i, x := range items {
		if body, there := existing[x.statement.ID]; there && !xapi.Same(body, x.body) {
			conflicts = append(conflicts, xapi.Fault{
				Index:  i,
				Detail: fmt.Sprintf("%s: %v", x.statement.ID, ErrConflict),
			})
		}
	}
	if conflicts != nil {
		return nil, conflicts
	}
	var fresh []*item
	for _, x := range items {
		switch {
		case existing[x.statement.ID] != nil:
		case x.statement.Verb.ID == xapi.Voided:
			if err := s.void(ctx, tx, interfaceID, x.statement.Object.ID); err != nil {
				return nil, err
			}
		case awaited[x.statement.ID]: // what voids it came first
			if err := s.void(ctx, tx, interfaceID, x.statement.ID); err != nil {
				return nil, err
			}
		default:
			fresh = append(fresh, x)
		}
	}
	return fresh, nil
}

// resolvedAtOnce is how many waiting statements are listed at a time.
const resolvedAtOnce = 500

// Resolve looks again at statements about people or activities that were not known
// when they came, and lets happen what follows from those that are known by now.
func (s *Facts) Resolve(ctx context.Context) error {
	for after := int64(0); ; {
		list, err := eventstore.WaitingStatements(ctx, s.Store, learning.NoMeaning, after, resolvedAtOnce)
		if err != nil || len(list) == 0 {
			return err
		}
		after = list[len(list)-1].Seq
		items := make([]*item, len(list))
		for i, w := range list {
			items[i] = &item{from: w.InterfaceID, body: w.Body}
			if err := json.Unmarshal(w.Body, &items[i].statement); err != nil {
				return fmt.Errorf("reading a stored statement: %w", err)
			}
			items[i].statement.ID = w.ID
		}
		if err := s.resolve(ctx, items); err != nil {
			return err
		}
		for i, w := range list {
			if items[i].note == w.Note {
				continue
			}
			if err := s.resolved(ctx, w, items[i]); err != nil {
				return err
			}
		}
	}
}

func (s *Facts) resolved(ctx context.Context, w eventstore.Waiting, x *item) error {
	return s.Store.InTx(ctx, func(tx *db.Tx) error {
		var personID *string
		if x.person.ID != "" {
			personID = &x.person.ID
		}
		ok, err := eventstore.ResolveStatement(ctx, tx, w, personID, x.note)
		if err != nil || !ok {
			return err
		}
		return s.advance(ctx, tx, []*item{x})
	})
}

// KeepAttachments stores the content of attachments that statements name which were taken through an
// interface.
func (s *Facts) KeepAttachments(ctx context.Context, interfaceID string, taken []json.RawMessage,
	parts []xapi.Attachment,
) error {
	named := map[string]bool{}
	for _, text := range taken {
		for _, hash := range xapi.Hashes(text) {
			named[hash] = true
		}
	}
	var all []eventstore.StatementAttachment
	for _, p := range parts {
		if named[p.SHA2] {
			all = append(all, eventstore.StatementAttachment{
				InterfaceID: interfaceID, SHA2: p.SHA2, ContentType: p.ContentType, Body: p.Body,
			})
		}
	}
	return eventstore.KeepAttachments(ctx, s.Store, all)
}

// mostAttached bounds the content that one answer holds, in bytes.
const mostAttached = 32 << 20

// ErrTooMuchAttached means that the attachments of statements do not fit into one answer.
var ErrTooMuchAttached = errors.New("the attachments of these statements have more than 32 MiB together; ask for fewer with limit")

// Attachments gives the content that was kept of the attachments of statements, or ErrTooMuchAttached.
func (s *Facts) Attachments(ctx context.Context, interfaceID string, list []eventstore.StoredStatement,
) (parts []xapi.Attachment, err error) {
	var hashes []string
	for _, x := range list {
		hashes = append(hashes, xapi.Hashes(x.Body)...)
	}
	size := 0
	for _, hash := range slices.Compact(slices.Sorted(slices.Values(hashes))) {
		found, err := eventstore.Attachments(ctx, s.Store, interfaceID, []string{hash})
		if err != nil {
			return nil, err
		}
		for _, a := range found {
			if size += len(a.Body); size > mostAttached {
				return nil, ErrTooMuchAttached
			}
			parts = append(parts, xapi.Attachment{SHA2: a.SHA2, ContentType: a.ContentType, Body: a.Body})
		}
	}
	return parts, nil
}
