package registers_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/adapter"
	"kanban/internal/adapter/registers"
	"kanban/internal/standin"
	"kanban/internal/wire/call"
	"kanban/internal/wire/oneroster"
)

// shelf keeps pages in memory.
type shelf struct {
	mu    sync.Mutex
	pages map[string][]oneroster.Page
}

func (s *shelf) Keep(_ context.Context, collection string, p oneroster.Page) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.pages[collection] = append(s.pages[collection], p)
	return nil
}

func (s *shelf) Last(_ context.Context, collection string) (oneroster.Page, bool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	all := s.pages[collection]
	if len(all) == 0 {
		return oneroster.Page{}, false, nil
	}
	return all[len(all)-1], true, nil
}

func (s *shelf) Pages(_ context.Context, collection string, each func([]json.RawMessage) error) error {
	for _, p := range s.pages[collection] {
		if err := each(p.Items); err != nil {
			return err
		}
	}
	return nil
}

// ids reads a collection of a source.
func ids(t *testing.T, s registers.Source, collection string) (good, bad []string) {
	t.Helper()
	require.NoError(t, s.Each(t.Context(), collection, func(_ int, r oneroster.Record) error {
		good = append(good, r.Get("sourcedId"))
		return nil
	}, func(b registers.Bad) error {
		bad = append(bad, fmt.Sprint(b.ID, "/", b.Column))
		return nil
	}))
	return good, bad
}

// A read that is cut off goes on with the page where it broke.
func TestFetchGoesOnWhereItBroke(t *testing.T) {
	outside, err := standin.Start(0)
	require.NoError(t, err)
	defer outside.Stop()
	c := adapter.Interface{Settings: map[string]string{
		"address":      outside.Addresses.Register,
		"tokenAddress": outside.Addresses.Register + "/oauth/token",
		"clientId":     "kanban",
	}, Secret: map[string]string{"clientSecret": "green-fingers"}}
	r := registers.New(c, call.Options{Timeout: 2 * time.Second})
	assert.Equal(t, adapter.Works, probed(t, r)[0].State)

	kept := &shelf{pages: map[string][]oneroster.Page{}}
	broke := errors.New("broke")
	_, err = r.Fetch(t.Context(), kept, time.Time{}, func(collection string, _, _ int) error {
		if collection == oneroster.FileUsers {
			return broke
		}
		return nil
	})
	require.ErrorIs(t, err, broke)
	kept.mu.Lock()
	before := len(kept.pages[oneroster.FileUsers])
	kept.mu.Unlock()
	source, err := r.Fetch(t.Context(), kept, time.Time{}, func(string, int, int) error { return nil })
	require.NoError(t, err)
	assert.GreaterOrEqual(t, len(kept.pages[oneroster.FileUsers]), before)
	good, bad := ids(t, source, oneroster.FileUsers)
	assert.Contains(t, good, "stu-001")
	seen := map[string]int{}
	for _, id := range good {
		seen[id]++
	}
	for id, n := range seen {
		assert.Equal(t, 1, n, "%s is there once", id)
	}
	assert.Empty(t, bad)
	assert.Equal(t, oneroster.Bulk, source.Mode(oneroster.FileUsers))
	assert.Contains(t, source.Where(oneroster.FileUsers, 3), "record 3")

	c.Secret = map[string]string{"clientSecret": "wrong"}
	assert.Equal(t, adapter.WrongCredential, probed(t, registers.New(c, call.Options{Timeout: time.Second}))[0].State)
}

func pack(t *testing.T, tables map[string]oneroster.Table) *registers.Files {
	t.Helper()
	var file bytes.Buffer
	require.NoError(t, oneroster.WritePackage(&file, "Fernmoor", tables))
	f, err := registers.OpenFiles(bytes.NewReader(file.Bytes()), int64(file.Len()), oneroster.Limits{})
	require.NoError(t, err)
	return f
}

// Files give the same as an address does; what they say of roles is put to the people.
func TestFiles(t *testing.T) {
	f := pack(t, map[string]oneroster.Table{
		oneroster.FileUsers: {Mode: oneroster.Bulk, Rows: []map[string]string{
			{
				"sourcedId": "u-1", "status": "active", "givenName": "Ada", "familyName": "Alder",
				"enabledUser": "true",
			},
			{
				"sourcedId": "u-2", "status": "active", "givenName": "Bram", "familyName": "Birch",
				"enabledUser": "true",
			},
		}},
		oneroster.FileRoles: {Mode: oneroster.Bulk, Rows: []map[string]string{
			{
				"sourcedId": "r-1", "status": "active", "userSourcedId": "u-1", "roleType": "secondary",
				"role": "student", "orgSourcedId": "org-2",
			},
			{
				"sourcedId": "r-2", "status": "active", "userSourcedId": "u-1", "roleType": "primary",
				"role":         "student",
				"orgSourcedId": "org-1",
			},
			{
				"sourcedId": "r-3", "status": "tobedeleted", "userSourcedId": "u-2", "roleType": "primary",
				"role": "student", "orgSourcedId": "org-1",
			},
		}},
	})
	assert.Equal(t, oneroster.Bulk, f.Mode(oneroster.FileUsers))
	assert.Equal(t, oneroster.Absent, f.Mode(oneroster.FileClasses))
	orgs := map[string]string{}
	require.NoError(t, f.Each(t.Context(), oneroster.FileUsers, func(_ int, r oneroster.Record) error {
		orgs[r.Get("sourcedId")] = r.Get(oneroster.PrimaryOrgColumn)
		return nil
	}, func(b registers.Bad) error { return fmt.Errorf("%+v", b) }))
	assert.Equal(t, map[string]string{"u-1": "org-1", "u-2": ""}, orgs,
		"the primary role counts, a deleted one does not")
	assert.Equal(t, "users.csv line 3", f.Where(oneroster.FileUsers, 3))
	assert.Empty(t, f.PassedOver())

	_, err := registers.OpenFiles(bytes.NewReader([]byte("no package")), 10, oneroster.Limits{})
	require.ErrorIs(t, err, oneroster.ErrPackage)
}

func probed(t *testing.T, r *registers.Register) []adapter.Report {
	t.Helper()
	reports, _ := r.Probe(t.Context())
	return reports
}

// A register that speaks only the older version is found out at the test, and says the same.
func TestRegisterOfAnOlderVersion(t *testing.T) {
	s, err := standin.Start(0)
	require.NoError(t, err)
	t.Cleanup(s.Stop)
	at := func(version string) *registers.Register {
		return registers.New(adapter.Interface{
			Settings: map[string]string{
				"address": s.Addresses.Register, "tokenAddress": s.Addresses.Register + "/oauth/token",
				"clientId": "kanban", "version": version,
			},
			Secret: map[string]string{"clientSecret": "green-fingers"},
		}, call.Options{Retries: -1})
	}
	columns := map[string][]string{
		oneroster.FileSessions: {"title", "startDate", "endDate", "parentSourcedId"},
		oneroster.FileUsers: {
			"givenName", "familyName", "email", "username", "identifier", "enabledUser",
			oneroster.PrimaryOrgColumn, // 1.1 does not tell second accounts
		},
		oneroster.FileEnrollments: {"userSourcedId", "classSourcedId", "role", "beginDate", "endDate"},
	}
	read := func(r *registers.Register) map[string]string {
		kept := &shelf{pages: map[string][]oneroster.Page{}}
		pages, err := r.Fetch(t.Context(), kept, time.Time{}, func(string, int, int) error { return nil })
		require.NoError(t, err)
		out := map[string]string{}
		for file, names := range columns {
			require.NoError(t, pages.Each(t.Context(), file, func(_ int, x oneroster.Record) error {
				text := ""
				for _, name := range names {
					text += x.Get(name) + "|"
				}
				out[file+" "+x.Get("sourcedId")] = text
				return nil
			}, func(b registers.Bad) error { return errors.New(b.Cause) }))
		}
		return out
	}
	newer := read(at(""))
	reports, version := at("").Probe(t.Context())
	assert.Equal(t, oneroster.V12, version)
	assert.Equal(t, adapter.Works, reports[0].State)

	s.Register.SpeakOnly11()
	reports, version = at("").Probe(t.Context())
	assert.Equal(t, oneroster.V11, version)
	assert.Equal(t, adapter.Works, reports[0].State, reports[0].Detail)
	assert.Contains(t, reports[0].Detail, "over OneRoster 1.1")
	assert.Equal(t, newer, read(at("1.1")))
}
