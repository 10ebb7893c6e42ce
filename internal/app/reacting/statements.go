package reacting

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"kanban/internal/core/learning"
	"kanban/internal/core/roster"
	"kanban/internal/store"
	"kanban/internal/wire/xapi"
)

// ErrConflict means that another statement with the same id is stored already
// (xAPI 1.0.3 Communication 2.1.2).
var ErrConflict = errors.New("another statement with this id is stored already")

// noSuchVerb is the note of a statement that looking again does not change, unless the
// institution's own verbs do.
const noSuchVerb = "nothing follows from this verb"

// Take stores statements that came through a connection and lets what follows
// from them happen. It answers with their ids, only when all are stored; raw
// holds each one as it came. Nothing is lost: a statement about somebody or
// something unknown is stored with a note. Where some cannot be stored none is, and
// the error holds xapi.Faults.
func (s *Service) Take(ctx context.Context, connectionID string, statements []xapi.Statement, raw []json.RawMessage) ([]string, error) {
	ids, left, err := s.takeAll(ctx, connectionID, statements, raw)
	if len(left) > 0 {
		err = fmt.Errorf("%w: %w", err, left)
	}
	return ids, err
}

// TakeOthers does the same but leaves out those that cannot be stored, or that are in
// conflict with what is stored, and gives them by their place.
func (s *Service) TakeOthers(ctx context.Context, connectionID string, statements []xapi.Statement, raw []json.RawMessage) (ids []string, left xapi.Faults, err error) {
	ids = make([]string, len(statements))
	places := make([]int, len(statements)) // of what is still to be taken
	for i := range places {
		places[i] = i
	}
	for {
		some, not, err := s.takeAll(ctx, connectionID, statements, raw)
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

// tries is how often a batch is stored anew when another one stood in its way.
const tries = 3

// takeAll stores all statements, or none when any of them cannot be stored: then it
// gives those, and an error that says of which sort they are.
func (s *Service) takeAll(ctx context.Context, connectionID string, statements []xapi.Statement, raw []json.RawMessage) (ids []string, left xapi.Faults, err error) {
	ids = make([]string, len(statements))
	items := make([]*item, len(statements))
	for i := range statements {
		if why := store.Unstorable(raw[i]); why != "" {
			left = append(left, xapi.Fault{Index: i, Detail: why})
		}
		if statements[i].ID == "" {
			statements[i].ID = uuid.NewString()
		}
		ids[i] = statements[i].ID
		items[i] = &item{statement: statements[i], body: xapi.Listed(raw[i])}
	}
	if left != nil {
		return ids, left, xapi.ErrStatement
	}
	if err := s.resolve(ctx, items); err != nil {
		return nil, nil, err
	}
	for try := 1; ; try++ {
		err = s.Store.InShortTx(ctx, func(tx *store.Tx) error {
			fresh, err := s.keep(ctx, tx, connectionID, items)
			if err != nil || len(fresh) == 0 {
				return err
			}
			return s.advance(ctx, tx, fresh)
		})
		if !store.Contended(err) || try == tries {
			break
		}
	}
	if errors.As(err, &left) {
		err = ErrConflict
	}
	return ids, left, err
}

// keep stores statements and gives those that are new and count. Voiding happens here.
func (s *Service) keep(ctx context.Context, tx *store.Tx, connectionID string, items []*item) ([]*item, error) {
	rows := make([]store.Statement, len(items))
	for i, x := range items {
		st := x.statement
		rows[i] = store.Statement{ID: st.ID, ConnectionID: connectionID, Body: x.body, Note: x.note, Actor: st.Actor.Key(), Verb: st.Verb.ID, Object: st.Object.ID}
		if st.Context != nil {
			rows[i].Registration = strings.ToLower(st.Context.Registration)
		}
		if x.person.ID != "" {
			rows[i].PersonID = &x.person.ID
		}
	}
	existing, awaited, err := tx.AddStatements(ctx, connectionID, rows, xapi.Voided)
	if err != nil {
		return nil, err
	}
	var conflicts xapi.Faults
	for i, x := range items {
		if body, there := existing[x.statement.ID]; there && !xapi.Same(body, x.body) {
			conflicts = append(conflicts, xapi.Fault{Index: i, Detail: fmt.Sprintf("%s: %v", x.statement.ID, ErrConflict)})
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
			if err := s.void(ctx, tx, connectionID, x.statement.Object.ID); err != nil {
				return nil, err
			}
		case awaited[x.statement.ID]: // what voids it came first
			if err := s.void(ctx, tx, connectionID, x.statement.ID); err != nil {
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
func (s *Service) Resolve(ctx context.Context) error {
	for after := int64(0); ; {
		list, err := s.Store.WaitingStatements(ctx, noSuchVerb, after, resolvedAtOnce)
		if err != nil || len(list) == 0 {
			return err
		}
		after = list[len(list)-1].Seq
		items := make([]*item, len(list))
		for i, w := range list {
			items[i] = &item{body: w.Body}
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

func (s *Service) resolved(ctx context.Context, w store.Waiting, x *item) error {
	return s.Store.InTx(ctx, func(tx *store.Tx) error {
		var personID *string
		if x.person.ID != "" {
			personID = &x.person.ID
		}
		ok, err := tx.ResolveStatement(ctx, w, personID, x.note)
		if err != nil || !ok {
			return err
		}
		return s.advance(ctx, tx, []*item{x})
	})
}

// item is a statement with whom and what it is about.
type item struct {
	statement xapi.Statement
	body      json.RawMessage
	person    store.Person
	fact      learning.Fact
	places    []place
	note      string
}

// place is a section in which the activity counts for the person.
type place struct {
	store.Enrolled
	*outlined
}

// outlined is a course's outline, by version.
type outlined struct {
	course  *learning.Course
	version int
}

// outlines keeps the outlines of a process.
type outlines struct {
	mu  sync.Mutex
	all map[string]*outlined
}

// outlinesOf gives the present outlines of courses.
func (s *Service) outlinesOf(ctx context.Context, courseIDs []string) (map[string]*outlined, error) {
	versions, err := s.Store.OutlineVersions(ctx, courseIDs)
	if err != nil {
		return nil, err
	}
	return s.outlinesAt(ctx, versions)
}

// outlinesAt gives the outlines of courses whose present versions are known.
func (s *Service) outlinesAt(ctx context.Context, versions map[string]int) (map[string]*outlined, error) {
	out := map[string]*outlined{}
	for id, version := range versions {
		s.outlines.mu.Lock()
		kept := s.outlines.all[id]
		s.outlines.mu.Unlock()
		if kept == nil || kept.version != version {
			o, v, err := s.Store.OutlineNow(ctx, id)
			if err != nil {
				return nil, err
			}
			kept = &outlined{learning.NewCourse(o), v}
			s.outlines.mu.Lock()
			if s.outlines.all == nil {
				s.outlines.all = map[string]*outlined{}
			}
			s.outlines.all[id] = kept
			s.outlines.mu.Unlock()
		}
		out[id] = kept
	}
	return out, nil
}

// resolve finds out whom and what statements are about: all of them with a handful of
// queries.
func (s *Service) resolve(ctx context.Context, items []*item) error {
	verbs, err := s.verbTable(ctx)
	if err != nil {
		return err
	}
	var identifiers, keys, activities []string
	for _, x := range items {
		activities = append(activities, x.statement.Object.ID)
		if a := x.statement.Actor; a.Account != nil {
			identifiers = append(identifiers, a.Account.Name)
		} else if key, err := roster.AddressKey(a.Address()); err == nil {
			keys = append(keys, key)
		}
	}
	found, err := s.Store.Acquaint(ctx, distinct(identifiers), distinct(keys), distinct(activities))
	if err != nil {
		return err
	}
	for _, x := range items {
		x.note, x.places = "", nil
		if a := x.statement.Actor; a.Account != nil {
			x.person = found.ByIdentifier[a.Account.Name]
		} else if key, err := roster.AddressKey(a.Address()); err == nil {
			x.person = found.ByAddress[key]
		}
		kind := ""
		if x.statement.Object.Definition != nil {
			kind = x.statement.Object.Definition.Type
		}
		says, known := verbs.Meaning(x.statement.Verb.ID, kind)
		switch {
		case x.person.ID == "":
			x.note = "nobody is known by this actor"
		case !known:
			x.note = noSuchVerb
		default:
			x.fact = factOf(x.statement, says, s.now())
		}
	}
	placed, err := s.learn(ctx, items, found.Placed)
	if err != nil {
		return err
	}
	return s.resolvePlaces(ctx, items, placed)
}

func distinct(list []string) []string {
	slices.Sort(list)
	return slices.Compact(list)
}

// resolvePlaces finds the sections in which the statements count.
func (s *Service) resolvePlaces(ctx context.Context, items []*item, placed store.Placed) error {
	var people []string
	for _, x := range items {
		if x.note == "" {
			people = append(people, x.person.ID)
		}
	}
	if len(people) == 0 {
		return nil
	}
	byPerson := map[string][]store.Enrolled{}
	var outlines map[string]*outlined
	if wanted := slices.Sorted(maps.Keys(placed.Versions)); len(wanted) > 0 {
		enrolled, err := s.Store.SectionsOf(ctx, distinct(people), wanted)
		if err != nil {
			return err
		}
		for _, e := range enrolled {
			if n := len(byPerson[e.PersonID]); n > 0 && byPerson[e.PersonID][n-1].SectionID == e.SectionID {
				continue // in it with two roles
			}
			byPerson[e.PersonID] = append(byPerson[e.PersonID], e)
		}
		if outlines, err = s.outlinesAt(ctx, placed.Versions); err != nil {
			return err
		}
	}
	for _, x := range items {
		if x.note != "" {
			continue
		}
		in := placed.Courses[x.statement.Object.ID]
		if len(in) == 0 {
			x.note = "the activity is in no outline"
			continue
		}
		for _, e := range byPerson[x.person.ID] {
			if o := outlines[e.CourseID]; o != nil && slices.Contains(in, e.CourseID) {
				x.places = append(x.places, place{e, o})
			}
		}
		if len(x.places) == 0 {
			x.note = "the person is in no section of the activity's course"
		}
	}
	return nil
}

// mostAhead is how far the clock of a platform may run ahead; a statement from further
// in the future counts as of now.
const mostAhead = 24 * time.Hour

// factOf is what a statement says about its activity.
func factOf(st xapi.Statement, says learning.Verb, now time.Time) learning.Fact {
	fact := learning.Fact{ActivityID: st.Object.ID, Verb: says, At: st.Timestamp}
	if fact.At.IsZero() || fact.At.After(now.Add(mostAhead)) {
		fact.At = now
	}
	if r := st.Result; r != nil && r.Score != nil {
		fact.Score = scaled(*r.Score)
	}
	return fact
}

// scaled gives a score between -1 and 1: as reported, or worked out of the raw one and
// its bounds (xAPI 1.0.3 Data 2.4.5.1); nil when it cannot be told.
func scaled(s xapi.Score) *float64 {
	if s.Scaled != nil || s.Raw == nil || s.Max == nil {
		return s.Scaled
	}
	low := 0.0
	if s.Min != nil {
		low = *s.Min
	}
	if *s.Max <= low || *s.Raw < low || *s.Raw > *s.Max {
		return nil
	}
	v := (*s.Raw - low) / (*s.Max - low)
	return &v
}

// verbsSetting is the setting under which the institution's own verbs are kept.
const verbsSetting = "verbs"

// Verbs are the institution's own, beside the default ones.
func (s *Service) Verbs(ctx context.Context) (own []learning.VerbRule, err error) {
	_, err = s.Store.Setting(ctx, verbsSetting, &own)
	return own, err
}

// verbsFor is how long a process goes on with the verbs that it has read.
const verbsFor = 2 * time.Second

// keptVerbs are the verbs that a process has read last.
type keptVerbs struct {
	mu    sync.Mutex
	at    time.Time
	verbs *learning.Verbs
}

func (s *Service) verbTable(ctx context.Context) (*learning.Verbs, error) {
	s.verbs.mu.Lock()
	defer s.verbs.mu.Unlock()
	if s.verbs.verbs != nil && time.Since(s.verbs.at) < verbsFor {
		return s.verbs.verbs, nil
	}
	own, err := s.Verbs(ctx)
	if err != nil {
		return nil, err
	}
	s.verbs.verbs, s.verbs.at = learning.NewVerbs(own), time.Now()
	return s.verbs.verbs, nil
}

// orderOf is the one order in which everybody locks progress, so that two batches
// never wait for each other.
func orderOf(a, b store.Standing) int {
	return cmp.Or(cmp.Compare(a.PersonID, b.PersonID), cmp.Compare(a.SectionID, b.SectionID))
}
