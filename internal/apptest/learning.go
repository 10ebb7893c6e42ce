package apptest

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/core/learning"
	"kanban/internal/store/db"
	"kanban/internal/wire/xapi"
)

// Clocked is a world with the demo school, in which facts, rules and deliveries go by a
// clock that the test sets. It begins after everything that was recorded.
func Clocked(t testing.TB) (*World, *time.Time) {
	t.Helper()
	w := New(t)
	w.Read(w.Register(), false)
	now := time.Now().UTC().Add(time.Minute)
	w.Deliveries.Clock = func() time.Time { return now }
	w.Facts.Clock = w.Deliveries.Clock
	return w, &now
}

// Activities stands before the identifiers of activities in reported facts.
const Activities = "https://platform.example/"

// Outlined gives the course Propagation an outline of two lessons, one and two.
func (w *World) Outlined() {
	w.t.Helper()
	require.NoError(w.t, w.Outlines.SetOutline(w.t.Context(), "test", w.Section("PROP-A").CourseID,
		learning.Outline{Modules: []learning.Module{{ID: "m", Title: "M", Activities: []learning.Activity{
			{ID: Activities + "one", Title: "One", Kind: learning.Lesson}, {
				ID: Activities + "two", Title: "Two",
				Kind: learning.Lesson,
			},
		}}}}))
}

// Completes reports through a platform that somebody completed an activity.
func (w *World) Completes(platform, who, activity string, at time.Time) {
	w.t.Helper()
	st := xapi.Statement{
		ID: db.NewID(), Timestamp: at, Actor: xapi.Agent{Account: &xapi.Account{HomePage: Activities, Name: who}},
		Verb: xapi.Verb{ID: xapi.ADL + "completed"}, Object: xapi.Object{ID: Activities + activity},
	}
	raw, err := json.Marshal(st)
	require.NoError(w.t, err)
	_, err = w.Facts.Take(w.t.Context(), platform, []xapi.Statement{st}, []json.RawMessage{raw})
	require.NoError(w.t, err)
}

// Manifest is that of a course of three activities in two modules (Common Cartridge).
const Manifest = `<manifest xmlns="http://www.imsglobal.org/xsd/imsccv1p3/imscp_v1p1"><organizations><organization><item>
<item identifier="m1"><title>One</title><item identifier="a1" identifierref="r1"><title>Read</title></item><item identifier="deep"><title>Folder</title><item identifier="a2" identifierref="r2"><title>Check</title></item></item></item>
<item identifier="a3" identifierref="r3"><title>Alone</title></item></item></organization></organizations>
<resources><resource identifier="r1" type="webcontent"/><resource identifier="r2" type="imsqti_xmlv1p2/imscc_xmlv1p3/assessment"/><resource identifier="r3" type="assignment_xmlv1p0"/></resources></manifest>`
