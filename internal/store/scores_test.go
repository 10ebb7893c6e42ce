package store_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/grade"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
)

// What a gradebook said is kept: only a whole read takes away what it did not see.
func TestGradebookRecords(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	id := w.Contacts().ID
	assert.Zero(t, must[scorestore.Read](t)(scorestore.FindRead(ctx, s, id)).ReadNo)
	record := func(id, title string, sum int64) scorestore.Record {
		return scorestore.Record{RemoteID: id, Class: "c", Values: map[string]string{"title": title}, Sum: sum}
	}
	keep := func(no int64, whole bool, unread int, records ...scorestore.Record) {
		t.Helper()
		require.NoError(t, scorestore.KeepRecords(ctx, s, id, "lineItems", no, records))
		r := scorestore.Read{
			InterfaceID: id, ReadNo: no, ReadAt: time.UnixMicro(no).UTC(), UnreadCount: unread,
			Unread: []scorestore.Unread{{Collection: "results", Position: 1, Problem: "x"}},
		}
		var collections []string
		if whole {
			collections = []string{"lineItems"}
		}
		tx(t, s, func(tx *db.Tx) error { return scorestore.EndRead(ctx, tx, r, whole, collections) })
	}
	keep(1, true, 1, record("a", "A", 1), record("b", "B", 2), record("b", "B again", 3))
	list := must[[]scorestore.Record](t)(scorestore.Records(ctx, s, id, "lineItems", nil, nil))
	require.Len(t, list, 2)
	assert.Equal(t, "B again", list[1].Values["title"])
	keep(2, false, 0, record("a", "A new", 4))
	read := must[scorestore.Read](t)(scorestore.FindRead(ctx, s, id))
	assert.Equal(t, []any{int64(2), 1, time.UnixMicro(1).UTC()},
		[]any{read.ReadNo, read.UnreadCount, read.WholeAt.UTC()},
		"what a whole read could not understand counts until the next one")
	list = must[[]scorestore.Record](t)(scorestore.Records(ctx, s, id, "lineItems", []string{"c"}, nil))
	assert.Equal(t, "A new", list[0].Values["title"])
	assert.Nil(t, list[1].GoneAt, "a read of changes takes nothing away")
	keep(3, true, 0, record("a", "A new", 4))
	list = must[[]scorestore.Record](t)(scorestore.Records(ctx, s, id, "lineItems", []string{"c"}, nil))
	assert.NotNil(t, list[1].GoneAt)
	assert.Zero(t, must[scorestore.Read](t)(scorestore.FindRead(ctx, s, id)).UnreadCount)
	classes := must[[]scorestore.Class](t)(scorestore.Classes(ctx, s, id))
	assert.Equal(t, []scorestore.Class{{ID: "c", Assignments: 1}}, classes)
	hand := func(remote string, record map[string]string) {
		t.Helper()
		require.NoError(t, scorestore.HandOver(ctx, s, id,
			scorestore.Handed{Collection: "lineItems", RemoteID: remote, Record: record}))
	}
	deleted := map[string]string{"status": "tobedeleted"}
	hand("a", map[string]string{"title": "a"})
	hand("b", deleted)
	hand("z", map[string]string{"title": "z"})
	assert.Len(t, must[[]scorestore.Handed](t)(scorestore.HandedOver(ctx, s, id)), 3)
	proven := func(whole ...string) []scorestore.Handed {
		t.Helper()
		tx(t, s, func(tx *db.Tx) error {
			return scorestore.Prove(ctx, tx, scorestore.Read{InterfaceID: id, ReadNo: 3}, whole)
		})
		return must[[]scorestore.Handed](t)(scorestore.HandedOver(ctx, s, id))
	}
	z := scorestore.Handed{Collection: "lineItems", RemoteID: "z", Record: map[string]string{"title": "z"}}
	assert.Equal(t, []scorestore.Handed{{Collection: "lineItems", RemoteID: "b", Record: deleted}, z}, proven(),
		"what the gradebook has is proven; a read of changes does not prove a deletion")
	assert.Equal(t, []scorestore.Handed{z}, proven("lineItems"), "what is gone from all of them is deleted")
	require.NoError(t, scorestore.DropRecord(ctx, s, id, "lineItems", "a"))
	assert.Empty(t, must[[]scorestore.Class](t)(scorestore.Classes(ctx, s, id)))
	assert.True(t, must[bool](t)(scorestore.Small(ctx, s, id, 2)))
	assert.False(t, must[bool](t)(scorestore.Small(ctx, s, id, 1)))
}

func scoreLink(t *testing.T, s *db.Database, source, book, section string) scorestore.Link {
	t.Helper()
	l := scorestore.Link{
		ID: db.NewID(), SourceInterfaceID: source, SourceClass: "c", BookInterfaceID: book, Version: 1, MadeBy: "Maud",
		Counts: map[string]int{}, Reasons: []grade.Reasons{}, CreatedAt: time.Now(),
		Policy: scorestore.Policy{Mode: grade.Replace, Flags: map[string]scorestore.Flag{"late": {Value: grade.Zero}}},
	}
	tx(t, s, func(tx *db.Tx) error {
		return scorestore.CreateLink(tx, &l, []scorestore.Section{{LinkID: l.ID, SectionID: section, BookClass: "b"}})
	})
	return l
}

// Links, their assignments, and what is known of each score.
func TestScoreLinks(t *testing.T) {
	w, register := school(t)
	s, ctx := w.Store, t.Context()
	section, person := w.Section("PROP-A"), w.Person("stu-002")
	source, book := w.Contacts().ID, w.Workspace().ID
	l := scoreLink(t, s, source, book, section.ID)
	found := must[scorestore.Link](t)(scorestore.FindLink(ctx, s, l.ID))
	assert.Equal(t, l.Policy, found.Policy)
	missing[scorestore.Link](t)(scorestore.FindLink(ctx, s, db.NewID()))
	assert.Len(t, must[[]scorestore.Link](t)(scorestore.Links(ctx, s, "")), 1)
	assert.Len(t, must[[]scorestore.Link](t)(scorestore.Links(ctx, s, section.ID)), 1)
	tx(t, s, func(tx *db.Tx) error {
		return scorestore.AddSections(tx, []scorestore.Section{
			{LinkID: l.ID, SectionID: w.Section("PROP-B").ID, Position: 1, BookClass: "b2"},
		})
	})
	assert.Len(t, must[map[string][]scorestore.Section](t)(scorestore.SectionsOf(ctx, s, []string{l.ID}))[l.ID], 2)

	found.SourceClass = "other"
	tx(t, s, func(tx *db.Tx) error { return scorestore.UpdateLink(tx, &found) })
	require.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error { return scorestore.UpdateLink(tx, &l) }), db.ErrStale)
	found.Counts, found.Trouble = map[string]int{"new": 2}, "no answer"
	tx(t, s, func(tx *db.Tx) error { return scorestore.KeepCompared(ctx, tx, &found) })
	assert.Equal(t, 2, must[scorestore.Link](t)(scorestore.FindLink(ctx, s, l.ID)).Counts["new"])
	past := time.Now().Add(-time.Minute)
	tx(t, s, func(tx *db.Tx) error { return scorestore.Reschedule(ctx, tx, l.ID, &past) })
	tx(t, s, func(tx *db.Tx) error {
		all, err := scorestore.Due(ctx, tx, time.Now(), 5)
		assert.Len(t, all, 1)
		return err
	})
	tx(t, s, func(tx *db.Tx) error {
		_, err := connectionstore.PauseInterface(ctx, tx, book, time.Now())
		require.NoError(t, err)
		all, err := scorestore.Due(ctx, tx, time.Now(), 5)
		assert.Empty(t, all, "its book is paused")
		return err
	})
	item := func() scorestore.Item {
		return must[[]scorestore.Item](t)(scorestore.Items(ctx, s, l.ID))[0]
	}
	x := scorestore.Item{ID: db.NewID(), LinkID: l.ID, SectionID: section.ID, SourceItem: "i", BookInterface: book}
	y := scorestore.Item{ID: db.NewID(), LinkID: l.ID, SectionID: section.ID, SourceItem: "j", BookInterface: book}
	require.NoError(t, scorestore.AddItems(ctx, s, []scorestore.Item{x, y}))
	require.NoError(t, scorestore.AddItems(ctx, s, []scorestore.Item{{
		ID: db.NewID(), LinkID: l.ID, SectionID: section.ID, SourceItem: "i", BookInterface: book,
	}}))
	x.BookItem, x.LeftOut = "theirs", "why"
	tx(t, s, func(tx *db.Tx) error { return scorestore.UpdateItem(tx, &x) })
	assert.Equal(t, x, item())
	y.BookItem = "theirs"
	require.ErrorIs(t, s.InTx(ctx, func(tx *db.Tx) error { return scorestore.UpdateItem(tx, &y) }), db.ErrTaken,
		"each is written by one")
	assert.True(t, must[map[string]bool](t)(scorestore.Written(ctx, s, book))["theirs"])

	mark := grade.Mark{Kind: grade.Points, Points: 3.5, Flags: grade.Late}
	carried := scorestore.Carried{
		ItemID: x.ID, PersonID: person.ID, Mark: mark, CarriedAt: time.Now(),
		RunID: db.NewID(),
	}
	tx(t, s, func(tx *db.Tx) error { return scorestore.KeepCarried(ctx, tx, carried) })
	assert.Equal(t, mark, must[[]scorestore.Carried](t)(scorestore.CarriedOf(ctx, s, l.ID))[0].Mark)
	carried.Mark = grade.Mark{}
	tx(t, s, func(tx *db.Tx) error { return scorestore.KeepCarried(ctx, tx, carried) })
	assert.Empty(t, must[[]scorestore.Carried](t)(scorestore.CarriedOf(ctx, s, l.ID)))
	tx(t, s, func(tx *db.Tx) error {
		carried.Mark = mark
		require.NoError(t, scorestore.KeepCarried(ctx, tx, carried))
		return scorestore.ForgetCarried(ctx, tx, x.ID)
	})
	assert.Empty(t, must[[]scorestore.Carried](t)(scorestore.CarriedOf(ctx, s, l.ID)))

	d := scorestore.Decision{
		ItemID: x.ID, PersonID: person.ID, Take: grade.Ours, Ours: mark,
		Theirs:    grade.Mark{Kind: grade.Points, Points: math.NaN()},
		DecidedBy: "Maud", DecidedAt: time.Now(),
	}
	rows := must[map[string][]scorestore.Section](t)(scorestore.SectionsOf(ctx, s, []string{l.ID}))[l.ID]
	moved := l
	had := must[[]scorestore.Item](t)(scorestore.Items(ctx, s, l.ID))
	tx(t, s, func(tx *db.Tx) error { return scorestore.PointItems(ctx, tx, moved, rows) })
	pointed := must[[]scorestore.Item](t)(scorestore.Items(ctx, s, l.ID))
	assert.Len(t, pointed, len(had))
	assert.Empty(t, pointed[0].BookItem)
	assert.Empty(t, must[[]scorestore.Carried](t)(scorestore.CarriedOf(ctx, s, l.ID)))
	for i := range had {
		tx(t, s, func(tx *db.Tx) error { return scorestore.UpdateItem(tx, &had[i]) })
	}
	assert.Empty(t, must[[]scorestore.Link](t)(scorestore.LinksOf(ctx, s, []string{db.NewID()})))
	tx(t, s, func(tx *db.Tx) error {
		return scorestore.Notice(ctx, tx, l.SourceInterfaceID, time.Now(), time.Now().Add(time.Second))
	})
	assert.Nil(t, must[scorestore.Link](t)(scorestore.FindLink(ctx, s, l.ID)).NoticedAt, "it runs by hand")
	tx(t, s, func(tx *db.Tx) error { return scorestore.KeepDecision(ctx, tx, d) })
	kept := must[[]scorestore.Decision](t)(scorestore.Decisions(ctx, s, l.ID))[0]
	assert.Equal(t, []any{grade.Ours, mark}, []any{kept.Take, kept.Ours})
	tx(t, s, func(tx *db.Tx) error { return scorestore.DropDecision(ctx, tx, d.ItemID, d.PersonID) })
	assert.Empty(t, must[[]scorestore.Decision](t)(scorestore.Decisions(ctx, s, l.ID)))

	o := scorestore.Owner{LinkID: l.ID, Student: "x-17", PersonID: person.ID, GivenBy: "Maud", GivenAt: time.Now()}
	tx(t, s, func(tx *db.Tx) error { return scorestore.KeepOwner(ctx, tx, o) })
	o.SectionID = &section.ID
	tx(t, s, func(tx *db.Tx) error { return scorestore.KeepOwner(ctx, tx, o) })
	assert.Equal(t, section.ID, *must[[]scorestore.Owner](t)(scorestore.Owners(ctx, s, l.ID))[0].SectionID)
	tx(t, s, func(tx *db.Tx) error {
		there, err := scorestore.DropOwner(ctx, tx, l.ID, "", "x-17")
		assert.True(t, there)
		return err
	})
	tx(t, s, func(tx *db.Tx) error {
		return scorestore.KeepPeriodFinal(ctx, tx, l.ID, "p1", "Maud", true, time.Now())
	})
	assert.Equal(t, map[string]string{"p1": "Maud"}, must[map[string]string](t)(scorestore.PeriodsFinal(ctx, s, l.ID)))
	tx(t, s, func(tx *db.Tx) error {
		return scorestore.KeepPeriodFinal(ctx, tx, l.ID, "p1", "Maud", false, time.Now())
	})
	assert.Empty(t, must[map[string]string](t)(scorestore.PeriodsFinal(ctx, s, l.ID)))
	tx(t, s, func(tx *db.Tx) error { return scorestore.FreeItems(ctx, tx, l.ID) })
	assert.Empty(t, item().BookItem)

	assert.Equal(t, map[string]string{"stu-002": person.ID},
		must[map[string]string](t)(scorestore.PeopleOf(ctx, s, source, register.ID, []string{"stu-002", "nobody"})))
	tx(t, s, func(tx *db.Tx) error { return connectionstore.KeepAccount(ctx, tx, source, "a-2", person.ID) })
	assert.Equal(t, person.ID, must[map[string]string](t)(scorestore.PeopleOf(ctx, s, source, register.ID,
		[]string{"a-2"}))["a-2"])
	ids := must[map[string]string](t)(scorestore.IDsAt(ctx, s, source, register.ID, []string{person.ID}))
	assert.Equal(t, map[string]string{person.ID: "a-2"}, ids)
	assert.Len(t, must[[]scorestore.Learner](t)(scorestore.Learners(ctx, s, []string{section.ID})), 12)
	sessions := must[[]scorestore.Session](t)(scorestore.Sessions(ctx, s, register.ID))
	assert.Len(t, sessions, 6, "two terms with two grading periods each")
}

// Previews, runs of score links, and what they did.
func TestScoreRuns(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	l := scoreLink(t, s, w.Contacts().ID, w.Workspace().ID, w.Section("PROP-A").ID)
	p := scorestore.Preview{ID: db.NewID(), LinkID: l.ID, CreatedAt: time.Now(), Plan: scorestore.Plan{
		Plan: grade.Plan{Items: []grade.ItemPlan{{ID: "i", Entries: []grade.Entry{{Who: "p", Outcome: grade.New}}}}},
	}}
	tx(t, s, func(tx *db.Tx) error { return db.Create(tx, &p, "keeping the preview") })
	found := must[scorestore.Preview](t)(scorestore.FindPreview(ctx, s, p.ID))
	assert.Equal(t, p.Plan.Items, found.Plan.Items)
	run := runstore.Run{
		ID: db.NewID(), Kind: runstore.RunScores, ScoreLinkID: &l.ID, PreviewID: &p.ID, State: runstore.Queued,
		RequestedBy: "Maud",
	}
	mark := grade.Mark{Kind: grade.Points, Points: 4}
	tx(t, s, func(tx *db.Tx) error {
		require.NoError(t, db.Create(tx, &run, "queueing"))
		return scorestore.AddChanges(tx, []scorestore.Change{
			{RunID: run.ID, What: scorestore.AboutScore, Title: "T", State: runstore.ChangePending, Sent: &mark},
		})
	})
	assert.True(t, must[map[string]bool](t)(scorestore.Active(ctx, s))[l.ID])
	require.NoError(t, scorestore.MarkStarted(ctx, s, run.ID, []int{0}))
	c := must[[]scorestore.Change](t)(scorestore.Changes(ctx, s, run.ID))[0]
	assert.True(t, c.Open())
	assert.Equal(t, mark, *c.Sent)
	c.State, c.BookID, c.Answer = runstore.ChangeStarted, "read x", "waits"
	tx(t, s, func(tx *db.Tx) error { return scorestore.MarkWaiting(ctx, tx, c) })
	c = must[[]scorestore.Change](t)(scorestore.Changes(ctx, s, run.ID))[0]
	assert.Equal(t, []any{true, "read x", "waits"}, []any{c.Open(), c.BookID, c.Answer})
	c.State, c.Before, c.BookID = runstore.ChangeDone, &mark, "b"
	tx(t, s, func(tx *db.Tx) error { return scorestore.MarkEnded(ctx, tx, c) })
	c = must[[]scorestore.Change](t)(scorestore.Changes(ctx, s, run.ID))[0]
	assert.Equal(t, []any{false, "b", mark}, []any{c.Open(), c.BookID, *c.Before})
	run.State = runstore.Finished
	tx(t, s, func(tx *db.Tx) error { return runstore.FinishRun(ctx, tx, &run) })
	l = must[scorestore.Link](t)(scorestore.FindLink(ctx, s, l.ID))
	assert.Equal(t, []any{run.ID, false}, []any{*l.LastRunID, l.LastFailed})
	assert.NotNil(t, l.RanAt)
	require.NoError(t, scorestore.DropPreviews(ctx, s, time.Now().Add(time.Hour)))
	must[scorestore.Preview](t)(scorestore.FindPreview(ctx, s, p.ID))
	assert.Len(t, must[[]runstore.Run](t)(runstore.Runs(ctx, s, runstore.Wanted{ScoreLinkID: l.ID, Limit: 5})), 1)
}

// Links about which there is something to say are listed with their titles.
func TestNoteworthyScoreLinks(t *testing.T) {
	w, _ := school(t)
	s, ctx := w.Store, t.Context()
	l := scoreLink(t, s, w.Contacts().ID, w.Workspace().ID, w.Section("PROP-A").ID)
	assert.Empty(t, must[[]scorestore.Noted](t)(scorestore.Noteworthy(ctx, s)))
	l.Reasons, l.Trouble = []grade.Reasons{{Reason: "score-draft", Outcome: grade.Waiting, Results: 2, Items: 1}}, "x"
	tx(t, s, func(tx *db.Tx) error { return scorestore.KeepCompared(ctx, tx, &l) })
	noted := must[[]scorestore.Noted](t)(scorestore.Noteworthy(ctx, s))
	assert.Equal(t, []any{"Propagation A", "Workspace", l.Reasons},
		[]any{noted[0].Title, noted[0].Book, noted[0].Reasons})
}
