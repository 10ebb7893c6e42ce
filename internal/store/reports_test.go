package store_test

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/pairings"
	"kanban/internal/core/finding"
	"kanban/internal/core/learning"
	"kanban/internal/core/report"
	"kanban/internal/core/rule"
	"kanban/internal/core/schedule"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/reportstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/store/rulestore"
	"kanban/internal/store/scorestore"
	"kanban/internal/store/settingstore"
)

func TestReportsOnLearners(t *testing.T) {
	w, _ := school(t)
	prop := w.Section("PROP-A")
	s, ctx, ada := w.Store, t.Context(), w.Person("stu-001")
	now := time.Now().UTC().Truncate(time.Microsecond)
	first, last, score := now.AddDate(0, 0, -30), now.AddDate(0, 0, -20), 0.4
	at := learningstore.ProgressRow{PersonID: ada.ID, SectionID: prop.ID, Version: 1}
	in := []string{prop.ID}
	keep := func(percent int) {
		at.DoneBits, at.Percent, at.FirstAt, at.LastAt = learning.DoneBits{1}, percent, &first, &last
		tx(t, s, func(tx *db.Tx) error {
			_, _, err := learningstore.KeepProgress(ctx, tx, []learningstore.ProgressRow{at}, []learningstore.Reached{{
				PersonID: ada.ID, SectionID: prop.ID, ActivityID: "a",
				ActivityState: learning.ActivityState{First: first, Last: last, Completed: true, Best: &score},
			}}, nil)
			return err
		})
	}
	keep(50)
	all := must[[]report.Standing](t)(reportstore.Standings(ctx, s, in, in, now.AddDate(0, 0, -14)))
	byState := map[bool]report.Standing{}
	total := 0
	for _, x := range all {
		byState[x.Begun] = x
		total += x.Count
	}
	assert.Equal(t, prop.Learners, total)
	assert.Equal(t, report.Standing{
		Group: prop.ID, Version: 1, Bits: learning.DoneBits{1}, Begun: true, Still: true, Count: 1,
	}, byState[true])
	assert.Equal(t, 1, must[int](t)(reportstore.CountStopped(ctx, s, in, now.AddDate(0, 0, -14))))
	assert.Zero(t, must[int](t)(reportstore.CountStopped(ctx, s, in, now.AddDate(0, 0, -21))))

	r := rulestore.Rule{
		ID: db.NewID(), Name: "We miss you", Trigger: string(rule.PersonInactive),
		Actions: []rule.Action{},
	}
	e := w.Record(joined(w, "stu-001"))
	finished := now.AddDate(0, 0, -21)
	d := deliverystore.Delivery{
		ID: db.NewID(), EventID: e.ID, RuleID: &r.ID, PersonID: &ada.ID, SectionID: &prop.ID, State: "delivered",
		FinishedAt: &finished,
	}
	tx(t, s, func(tx *db.Tx) error { return errors.Join(db.Create(tx, &r, "test"), db.Create(tx, &d, "test")) })
	var stopped []reportstore.Learner
	collect := func(l reportstore.Learner) error { stopped = append(stopped, l); return nil }
	require.NoError(t, reportstore.EachStopped(ctx, s, in, now.AddDate(0, 0, -14), []string{r.ID}, collect))
	require.Len(t, stopped, 1)
	assert.Equal(t, []any{ada.ID, 50, "We miss you", true}, []any{
		stopped[0].PersonID, stopped[0].Percent, stopped[0].NudgedBy, stopped[0].NudgedAt.Equal(finished),
	})
	nudges := must[[]reportstore.Nudge](t)(reportstore.Nudges(ctx, s, []string{r.ID}, in, nil, nil))
	assert.Equal(t, []reportstore.Nudge{{Rule: "We miss you", People: 1, Back: 1}}, nudges)
	nudges = must[[]reportstore.Nudge](t)(reportstore.Nudges(ctx, s, []string{r.ID}, in, &last, nil))
	assert.Equal(t, []reportstore.Nudge{{Rule: "We miss you"}}, nudges, "it was before")

	behind := must[[]reportstore.Behind](t)(reportstore.CountBehind(ctx, s, in, 0.5))
	assert.Equal(t, []reportstore.Behind{{SectionID: prop.ID, NotBegun: prop.Learners - 1, Below: 1}}, behind)
	stopped = nil
	require.NoError(t, reportstore.EachBehind(ctx, s, in, 0.4, collect))
	assert.Len(t, stopped, prop.Learners-1, "not below what it is")
	learners := must[[]reportstore.Learner](t)(reportstore.LearnersOf(ctx, s, prop.ID))
	assert.Len(t, learners, prop.Learners)

	days := func() (out []float64) {
		for _, x := range must[[]reportstore.Finished](t)(reportstore.Spans(ctx, s, in)) {
			out = append(out, x.Days)
		}
		return out
	}
	assert.Empty(t, days())
	keep(100)
	assert.Equal(t, []float64{10}, days())
	last = now
	keep(100)
	assert.Equal(t, []float64{10}, days(), "it was finished when it was")
	keep(50)
	assert.Empty(t, days(), "it is open again")
}

func TestReportsOnWhatWasDone(t *testing.T) {
	w, _ := school(t)
	prop := w.Section("PROP-A")
	s, ctx, ada := w.Store, t.Context(), w.Person("stu-001")
	from, to := time.Now().AddDate(0, -1, 0), time.Now().Add(time.Hour)
	i := badgestore.Issuer{ID: db.NewID(), Name: "Fernmoor"}
	b := badgestore.Badge{ID: db.NewID(), IssuerID: i.ID, Name: "Sower", Description: "x", Criteria: "y"}
	a := badgestore.Award{
		ID: db.NewID(), BadgeID: b.ID, PersonID: ada.ID, SectionID: &prop.ID, Credential: "jws", AwardedAt: time.Now(),
	}
	r := rulestore.Rule{ID: db.NewID(), Name: "Greet", Trigger: string(rule.SectionJoined), Actions: []rule.Action{}}
	e, service := w.Record(joined(w, "stu-001")), w.Labels()
	d := deliverystore.Delivery{
		ID: db.NewID(), EventID: e.ID, RuleID: &r.ID, PersonID: &ada.ID, InterfaceID: &service.ID, State: "waiting",
		Attempts: 2, CreatedAt: time.Now(),
	}
	tx(t, s, func(tx *db.Tx) error {
		return errors.Join(db.Create(tx, &i, "test"), db.Create(tx, &b, "test"), db.Create(tx, &a, "test"),
			db.Create(tx, &r, "test"), db.Create(tx, &d, "test"))
	})
	_, err := s.Pool.Exec(ctx, `INSERT INTO attempts (delivery_id, number, started_at, millis, status, error)
		VALUES ($1, 1, now(), 10, 429, 'slow down'), ($1, 2, now(), 30, 500, 'broken')`, d.ID)
	require.NoError(t, err)
	for _, p := range []reportstore.Period{{}, {From: &from, To: &to}} {
		awards := must[[]reportstore.Awarded](t)(reportstore.Awards(ctx, s, []string{prop.ID}, p))
		require.Len(t, awards, 1)
		assert.Equal(t, []any{"Sower", 1, 1}, []any{awards[0].Badge, awards[0].Awards, awards[0].Valid})
		rules := must[[]reportstore.ActedRule](t)(reportstore.ActedRules(ctx, s, p))
		require.Len(t, rules, 1)
		assert.Equal(t, []any{"Greet", 1, 1, 0, 1, 2}, []any{
			rules[0].Name, rules[0].Fired, rules[0].People, rules[0].Delivered, rules[0].Failed, rules[0].Calls,
		})
		answers := must[[]reportstore.Answered](t)(reportstore.Answers(ctx, s, p))
		require.Len(t, answers, 1)
		assert.Equal(t, []any{2, 0, 1, 0, 1, 20.0}, []any{
			answers[0].Calls, answers[0].Taken, answers[0].Throttled, answers[0].Refused, answers[0].Failed,
			*answers[0].Median,
		})
		calls := must[[]reportstore.Calls](t)(reportstore.CallsOver(ctx, s, p))
		failed := 0
		for _, c := range calls {
			failed += c.Failed
		}
		assert.Equal(t, 2, failed)
	}
	held := must[[]reportstore.Held](t)(reportstore.HeldBy(ctx, s, []string{ada.ID, db.NewID()}))
	require.Len(t, held, 1)
	assert.Equal(t, b.ID, held[0].BadgeID)
	before := reportstore.Period{To: &from}
	assert.Empty(t, must[[]reportstore.Awarded](t)(reportstore.Awards(ctx, s, nil, before)))
	assert.Empty(t, must[[]reportstore.Calls](t)(reportstore.CallsOver(ctx, s, before)))
	assert.Empty(t, must[[]scorestore.NamedLink](t)(scorestore.LinkNames(ctx, s)))
}

// Who left is still in the register's list of enrolments, as gone, and who came back is in both; the first read, which
// found everybody, moved nobody.
func TestMovementsAreCounted(t *testing.T) {
	w, _ := school(t)
	s, ctx, prop := w.Store, t.Context(), w.Section("PROP-A")
	count := func(after, before *time.Time) (joined, left int) {
		for _, m := range must[[]rosterstore.Movement](t)(
			rosterstore.CountMovements(ctx, s, []string{prop.ID}, after, before)) {
			joined, left = joined+m.Joined, left+m.Left
		}
		return joined, left
	}
	of := func() []int { joined, left := count(nil, nil); return []int{joined, left} }
	assert.Equal(t, []int{0, 0}, of())
	exec := func(text string) {
		_, err := s.Pool.Exec(ctx, text, w.Person("stu-001").ID, prop.ID)
		require.NoError(t, err)
	}
	const hers = ` FROM people p, sections x WHERE p.id = $1 AND x.id = $2 AND e.person = p.sourced_id AND e.section = x.sourced_id`
	exec(`UPDATE enrolments e SET state = 'gone', gone_at = now() + interval '1 day'` + hers)
	assert.Equal(t, []int{0, 1}, of())
	exec(`INSERT INTO past_enrolments SELECT e.interface_id, e.sourced_id, e.section, e.person, e.role, e.begin_date,
		e.joined_at, now() + interval '1 day' FROM enrolments e, people p, sections x WHERE p.id = $1 AND x.id = $2
		AND e.person = p.sourced_id AND e.section = x.sourced_id`)
	exec(`UPDATE enrolments e SET state = 'in', gone_at = NULL, joined_at = now() + interval '2 days'` + hers)
	assert.Equal(t, []int{1, 1}, of(), "she left and came back")
	assert.Len(t, must[[]rosterstore.RosterLine](t)(rosterstore.Movements(ctx, s, prop.ID, 9)), 2, "as the section's list says")
	from := time.Now().Add(36 * time.Hour)
	joined, left := count(&from, nil)
	assert.Equal(t, []int{1, 0}, []int{joined, left})
	joined, left = count(nil, &from)
	assert.Equal(t, []int{0, 1}, []int{joined, left})
}

func TestReportsThatAreSent(t *testing.T) {
	w, _ := school(t)
	s, ctx, now := w.Store, t.Context(), time.Now().UTC().Truncate(time.Microsecond)
	m := reportstore.ReportMail{
		ID: db.NewID(), Report: "completion", Ask: map[string]string{"course": "PROP"}, Form: "pdf",
		Schedule:   schedule.Schedule{Kind: schedule.Daily, At: "07:00", Days: []string{"monday"}},
		Recipients: []string{"head@fernmoor.example"}, MadeBy: "Maud", CreatedAt: now, NextAt: now, Version: 1,
	}
	tx(t, s, func(tx *db.Tx) error { return db.Create(tx, &m, "test") })
	found := must[reportstore.ReportMail](t)(reportstore.FindReportMail(ctx, s, m.ID))
	assert.Equal(t, []any{m.Ask, m.Schedule, m.Recipients}, []any{found.Ask, found.Schedule, found.Recipients})
	missing[reportstore.ReportMail](t)(reportstore.FindReportMail(ctx, s, db.NewID()))
	due := func(at time.Time) (all []reportstore.ReportMail) {
		tx(t, s, func(tx *db.Tx) (err error) {
			all, err = reportstore.DueReportMails(ctx, tx, at, 9)
			return err
		})
		return all
	}
	assert.Empty(t, due(now.Add(-time.Second)))
	require.Len(t, due(now), 1)
	tx(t, s, func(tx *db.Tx) error { return reportstore.Postpone(ctx, tx, m.ID, now.Add(time.Hour)) })
	assert.Empty(t, due(now))
	m.PausedAt, m.NextAt = &now, now
	tx(t, s, func(tx *db.Tx) error { return reportstore.EditReportMail(ctx, tx, m) })
	assert.Empty(t, due(now), "it is paused")
	err := s.InTx(ctx, func(tx *db.Tx) error { return reportstore.EditReportMail(ctx, tx, m) })
	require.ErrorIs(t, err, db.ErrStale)

	sent := reportstore.SentReport{MailID: m.ID, DueAt: now, Recipient: "head@fernmoor.example", Trouble: "away"}
	require.NoError(t, reportstore.NoteSent(ctx, s, sent))
	assert.False(t, must[bool](t)(reportstore.WasSent(ctx, s, m.ID, now, sent.Recipient)))
	sent.SentAt, sent.Trouble = &now, ""
	require.NoError(t, reportstore.NoteSent(ctx, s, sent))
	sent.SentAt, sent.Trouble = nil, "late"
	require.NoError(t, reportstore.NoteSent(ctx, s, sent))
	assert.True(t, must[bool](t)(reportstore.WasSent(ctx, s, m.ID, now, sent.Recipient)), "what was sent stays so")
	sent.DueAt = now.Add(-time.Hour)
	require.NoError(t, reportstore.NoteSent(ctx, s, sent))
	last := must[[]reportstore.SentReport](t)(reportstore.LastSent(ctx, s))
	require.Len(t, last, 1)
	assert.True(t, last[0].DueAt.Equal(now))
	require.NoError(t, reportstore.ForgetSent(ctx, s, now.Add(time.Second)))
	assert.Empty(t, must[[]reportstore.SentReport](t)(reportstore.LastSent(ctx, s)))
	assert.Len(t, must[[]reportstore.ReportMail](t)(reportstore.ReportMails(ctx, s)), 1)
	tx(t, s, func(tx *db.Tx) error { return reportstore.RemoveReportMail(ctx, tx, m.ID) })
	err = s.InTx(ctx, func(tx *db.Tx) error { return reportstore.RemoveReportMail(ctx, tx, m.ID) })
	require.ErrorIs(t, err, db.ErrNotFound)
}

// What is found again keeps its beginning; what was kept before there was one stays without.
func TestFindingsAge(t *testing.T) {
	old, now := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC), time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC)
	ada := pairingstore.Mend{PersonID: "a", Code: finding.AddressMissing}
	had := []pairingstore.Mend{
		{PersonID: "a", Code: finding.AddressMissing, Since: &old}, {Name: "guest", Code: finding.NotOurs},
	}
	got := pairingstore.Aged([]pairingstore.Mend{
		ada, {Name: "guest", Code: finding.NotOurs}, {PersonID: "a", Code: finding.AddressShared},
	}, had, now)
	assert.Equal(t, []*time.Time{&old, nil, &now}, []*time.Time{got[0].Since, got[1].Since, got[2].Since})
}

// Who joined is counted until they are in the class, and how long that took.
func TestArrivals(t *testing.T) {
	w, register := school(t)
	ctx, s, prop := t.Context(), w.Store, w.Section("PROP-A")
	p, err := w.Pairings.Pair(ctx, "test", pairings.Wish{SectionID: prop.ID, InterfaceID: w.Workspace().ID})
	require.NoError(t, err)
	in := []string{prop.ID}
	assert.Empty(t, must[[]rosterstore.Arrival](t)(rosterstore.Arrivals(ctx, s, in, nil, nil)),
		"the first read found everybody")
	_, err = s.Pool.Exec(ctx, `UPDATE runs SET finished_at = now() - interval '9 days' WHERE kind = 'read'`)
	require.NoError(t, err)
	_, err = s.Pool.Exec(ctx, `UPDATE enrolments SET joined_at = now() - interval '4 days' WHERE interface_id = $1
		AND section = (SELECT sourced_id FROM sections WHERE id = $2) AND role = 'student'`, register.ID, prop.ID)
	require.NoError(t, err)
	_, err = s.Pool.Exec(ctx, `UPDATE enrolments SET joined_at = now() - interval '20 days'
		WHERE joined_at > now() - interval '1 day'`)
	require.NoError(t, err)
	for i, who := range []string{"stu-001", "stu-002"} {
		_, err = s.Pool.Exec(ctx, `INSERT INTO placements (pairing_id, remote_id, person_id, name, placed_at)
			VALUES ($1, $2, $3, '', now() - interval '4 days' + $4 * interval '1 day')`, p.ID, who, w.Person(who).ID, i*2+1)
		require.NoError(t, err)
	}
	all := must[[]rosterstore.Arrival](t)(rosterstore.Arrivals(ctx, s, in, nil, nil))
	require.Len(t, all, 1)
	assert.Equal(t, []any{"Workspace", prop.Learners, 2}, []any{all[0].Service, all[0].Joined, all[0].In})
	assert.InDelta(t, 2, *all[0].Half, 0.001)
	assert.InDelta(t, 2.8, *all[0].Most, 0.001)
	later := time.Now()
	assert.Empty(t, must[[]rosterstore.Arrival](t)(rosterstore.Arrivals(ctx, s, in, &later, nil)))
}

func TestKeptProgress(t *testing.T) {
	w, _ := school(t)
	w.Outlined()
	ctx, s, prop, ada := t.Context(), w.Store, w.Section("PROP-A"), w.Person("stu-001")
	first := time.Now().UTC().Truncate(time.Microsecond)
	row := learningstore.ProgressRow{
		PersonID: ada.ID, SectionID: prop.ID, DoneBits: learning.DoneBits{1}, Percent: 50, Version: 1, FirstAt: &first,
	}
	tx(t, s, func(tx *db.Tx) error {
		_, _, err := learningstore.KeepProgress(ctx, tx, []learningstore.ProgressRow{row}, nil, nil)
		return err
	})
	none := learningstore.ProgressRow{}
	all := must[[]learningstore.ProgressRow](t)(learningstore.KeptProgress(ctx, s, prop.CourseID, 1, none, 9))
	require.Len(t, all, 1)
	assert.Equal(t, row.DoneBits, all[0].DoneBits)
	assert.Empty(t, must[[]learningstore.ProgressRow](t)(learningstore.KeptProgress(ctx, s, prop.CourseID, 2, none,
		9)))
	assert.Empty(t, must[[]learningstore.ProgressRow](t)(learningstore.KeptProgress(ctx, s, prop.CourseID, 1, row, 9)))
	courses := must[[]learningstore.NamedCourse](t)(learningstore.OutlinedCourses(ctx, s))
	require.Len(t, courses, 1)
	assert.Equal(t, prop.CourseID, courses[0].ID)

	assert.Equal(t, settingstore.ProgressCheck{}, must[settingstore.ProgressCheck](t)(settingstore.FindProgressCheck(
		ctx, s)))
	kept := settingstore.ProgressCheck{Checked: 3, Wrong: 1, Courses: []string{"Propagation"}}
	tx(t, s, func(tx *db.Tx) error { return settingstore.SaveProgressCheck(ctx, tx, kept) })
	assert.Equal(t, kept, must[settingstore.ProgressCheck](t)(settingstore.FindProgressCheck(ctx, s)))
}

func TestCarriedScoresAreCounted(t *testing.T) {
	w, _ := school(t)
	assert.Empty(t, must[[]scorestore.CarriedAt](t)(scorestore.CountCarried(t.Context(), w.Store, nil, nil)))
}
