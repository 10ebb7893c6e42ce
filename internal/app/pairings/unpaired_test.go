package pairings_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/standin/fault"
	"kanban/internal/standin/workspace"
)

// Classes at the service that belong to no pairing are listed with the section that they
// probably copy; they can be adopted, left, or ignored.
func TestClassesOfNoPairing(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	service := w.Workspace()
	at := w.Standins.Workspace
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("PROP-A").ID,
		InterfaceID: service.ID,
	})
	require.NoError(t, err)
	w.Sync(p.ID, false)
	glass := at.Open("Greenhouse people", "Maud Marrow", "Rolf Rhubarb", "Pia Parsley")
	soil := at.Open("soil science a")
	staff := at.Open("Canteen")
	copied := at.Open("Propagation again", at.Space("Propagation A")...)

	find := func(ignored bool) map[string]pairings.Unpaired {
		t.Helper()
		list, err := w.Pairings.Unpaired(t.Context(), service.ID, ignored)
		require.NoError(t, err)
		out := map[string]pairings.Unpaired{}
		for _, u := range list {
			out[u.Ref] = u
		}
		require.Len(t, out, len(list), "each once")
		return out
	}
	all := find(false)
	assert.NotContains(t, all, p.TargetRef)
	for _, ref := range []string{glass, soil, staff, copied} {
		require.Contains(t, all, ref)
	}
	require.NotEmpty(t, all[soil].Guesses, "by its name")
	assert.Equal(t, "SOIL-A", all[soil].Guesses[0].Card.Section.Code)
	require.NotEmpty(t, all[copied].Guesses, "by its people")
	assert.Equal(t, "PROP-A", all[copied].Guesses[0].Card.Section.Code)
	assert.Equal(t, "Propagation A", all[copied].Guesses[0].Paired, "that is paired already")
	assert.Equal(t, all[copied].Members, all[copied].Guesses[0].Evidence.Shared)
	assert.Empty(t, all[staff].Guesses, "nothing speaks for any")

	require.NoError(t, w.Pairings.Ignore(t.Context(), "Maud", service.ID, []string{staff}, true))
	assert.NotContains(t, find(false), staff)
	ignored := find(true)
	require.Len(t, ignored, 1)
	assert.Equal(t, "Maud", ignored[staff].Ignored.IgnoredBy)
	require.NoError(t, w.Pairings.Ignore(t.Context(), "Maud", service.ID, []string{staff}, false))
	assert.Contains(t, find(false), staff)
	assert.Error(t, w.Pairings.Ignore(t.Context(), "Maud", service.ID, nil, true))

	// Adopted, it is no longer listed.
	_, err = w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID:   w.Section("SOIL-A").ID,
		InterfaceID: service.ID, TargetRef: soil,
	})
	require.NoError(t, err)
	assert.NotContains(t, find(false), soil)

	// A service that cannot be asked has no empty list.
	for _, f := range []fault.Fault{{Kind: fault.Status, Status: 503}, {Kind: fault.Truncate}, {Kind: fault.Cut}} {
		require.NoError(t, w.Standins.Fault("workspace", f))
		_, err = w.Pairings.Unpaired(t.Context(), service.ID, false)
		assert.Error(t, err, f.Kind)
	}
}

// What a service wants to know of a class comes from the register by the template; what is
// missing is asked for once, and without it no class is made that would be refused.
func TestWhatAServiceWantsOfAClass(t *testing.T) {
	w := apptest.New(t)
	w.Read(w.Register(), false)
	x := workspace.ClassSchema
	c := w.Connect("scim", "Workspace", map[string]string{
		"address": w.Standins.Addresses.Workspace + "/scim/v2", "token": "potting-shed", "late": "0",
		"classLevel": x + ":level", "classSubject": x + ":subject", "classStarts": x + ":firstDay",
		"classEnds": x + ":lastDay", "classComplete": "yes",
	})
	at := w.Standins.Workspace
	at.Demand("level", "subject", "firstDay", "lastDay")
	templates, err := w.Pairings.Templates(t.Context())
	require.NoError(t, err)
	templates[0].Details = map[string]string{"level": "Year {level}"}
	require.NoError(t, w.Pairings.SetTemplates(t.Context(), "test", templates))
	templates[0].Details = map[string]string{"colour": "green"}
	assert.ErrorContains(t, w.Pairings.SetTemplates(t.Context(), "test", templates), "is not one of level")

	a := w.Section("PROP-A")
	p, err := w.Pairings.Pair(t.Context(), "test", pairings.Wish{
		SectionID: a.ID, InterfaceID: c.ID,
		Details: map[string]string{"subject": "Something else"},
	})
	require.NoError(t, err)
	w.Sync(p.ID, false)
	assert.Equal(t, map[string]string{
		"level": "Year 07", "subject": "Gardening",
		"firstDay": a.BeginsOn.Format(time.DateOnly), "lastDay": a.EndsOn.Format(time.DateOnly),
	},
		at.About("Propagation A"), "what the register says counts")

	// Soil science has neither level nor subject: that is said before, and the value is given once.
	wish := pairings.Wish{
		SectionID: w.Section("SOIL-A").ID, InterfaceID: c.ID,
		Details: map[string]string{"level": "Year 8"},
	}
	_, err = w.Pairings.Pair(t.Context(), "test", wish)
	assert.ErrorContains(t, err, "wants the subject of Soil science A")
	wish.Details["subject"] = "Soil"
	p, err = w.Pairings.Pair(t.Context(), "test", wish)
	require.NoError(t, err)
	w.Sync(p.ID, false)
	about := at.About("Soil science A")
	assert.Equal(t, []string{"Year 8", "Soil"}, []string{about["level"], about["subject"]})
}
