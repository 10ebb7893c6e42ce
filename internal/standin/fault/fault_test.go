package fault_test

import (
	"io"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/standin/fault"
)

func TestFaultsHitWhatTheyShould(t *testing.T) {
	s := fault.NewSwitch()
	var served atomic.Int32
	server := httptest.NewServer(s.Wrap(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		served.Add(1)
		_, _ = io.WriteString(w, "0123456789")
	})))
	defer server.Close()
	get := func(path string) (int, string, error) {
		resp, err := http.Get(server.URL + path)
		if err != nil {
			return 0, "", err
		}
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		return resp.StatusCode, string(text), err
	}
	require.Error(t, s.Set(fault.Fault{Kind: "rain"}))

	require.NoError(t, s.Set(fault.Fault{Kind: fault.Status, Status: 418, Count: 1, After: 1, Path: "/a"}))
	for i, want := range []int{200, 200, 418, 200} {
		status, _, err := get([]string{"/b", "/a", "/a", "/a"}[i])
		require.NoError(t, err)
		assert.Equal(t, want, status, i)
	}
	before := served.Load()
	require.NoError(t, s.Set(fault.Fault{Kind: fault.Cut}))
	_, _, err := get("/")
	assert.Error(t, err)
	assert.Greater(t, served.Load(), before, "the work was done")
	require.NoError(t, s.Set(fault.Fault{Kind: fault.Truncate}))
	_, text, err := get("/")
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF)
	assert.Equal(t, "01234", text)
	before = served.Load()
	require.NoError(t, s.Set(fault.Fault{Kind: fault.Swallow}))
	status, _, err := get("/")
	require.NoError(t, err)
	assert.Equal(t, http.StatusNoContent, status)
	assert.Equal(t, before, served.Load(), "nothing was done")
	s.Clear()
	_, text, err = get("/")
	require.NoError(t, err)
	assert.Equal(t, "0123456789", text)
}
