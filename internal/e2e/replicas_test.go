package e2e_test

import (
	"bytes"
	"context"
	"net/http"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"kanban/internal/client"
	"kanban/internal/scenario"
	"kanban/internal/store/pgchild"
	"kanban/internal/wire/api"
)

// Two replicas on one database: work queued at one may be done by the other, and
// both tell their pages.
func TestReplicasShareWorkAndNews(t *testing.T) {
	folder := dataFolder(t)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	server, err := pgchild.Start(ctx, pgchild.Options{Folder: filepath.Join(folder, "postgres"), Fast: true})
	require.NoError(t, err)
	t.Cleanup(server.Stop)
	start := func(roles string) *scenario.Service {
		s, err := scenario.StartService(ctx, filepath.Join(bin, "kanban"),
			scenario.ServiceOptions{
				Listen: "127.0.0.1:0", Data: folder, DatabaseURL: server.URL(), Roles: roles,
				Env: environment,
			})
		require.NoError(t, err)
		t.Cleanup(s.Stop)
		return s
	}
	front := start("api")
	w := &world{t: t, service: front}
	w.standins, err = scenario.StartStandins(ctx, filepath.Join(bin, "standins"), 0)
	require.NoError(t, err)
	t.Cleanup(w.standins.Stop)
	w.Story = scenario.New(front.Address, w.standins.Addresses, output(t))
	w.to(w.Connect)

	other := start("api")
	start("worker")
	listener := w.token()
	topics := make(chan string, 1000)
	opened := make(chan bool)
	go func() {
		_ = client.New(other.Address, listener).Live(ctx, func() { close(opened) },
			func(l api.Live) { topics <- l.Topic })
	}()
	select {
	case <-opened:
	case <-ctx.Done():
		t.Fatal("the stream does not open")
	}
	require.NoError(t, w.ReadRegister(ctx), "asked at one, done by another")
	heard := map[string]bool{}
	soon(t, "the other replica's pages heard of it", func() bool {
		for len(topics) > 0 {
			heard[<-topics] = true
		}
		return heard["run"] && heard["section"]
	})
}

// A course platform that takes no calls fetches the enrolments made for it, and people
// can open a sheet in either form.
func TestPickupAndSheets(t *testing.T) {
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister)
	files := w.connect("oneroster-delta", "Platform by file", nil)
	sections, err := client.All[api.Section](t.Context(), w.Client, "/sections?hidden=*")
	require.NoError(t, err)
	soil := sections[slices.IndexFunc(sections, func(x api.Section) bool { return x.Code == "SOIL-A" })]
	made, err := client.Post[api.Rule](t.Context(), w.Client, "/rules",
		api.NewRule{
			Name: "too", Trigger: "section.joined", Condition: `section.code == "PROP-A"`,
			Actions: []api.Action{
				{Kind: "enrol", InterfaceID: files.ID, SectionID: soil.ID},
				{Kind: "append-row", Sheet: "Newcomers & co", Fields: map[string]string{
					"who":  "person.name",
					"note": `"=1+1"`,
				}},
			},
		})
	require.NoError(t, err)
	_, err = client.Post[api.Rule](t.Context(), w.Client, "/rules/"+made.ID+"/switch",
		api.Switch{On: true, Untried: true})
	require.NoError(t, err)
	require.NoError(t, w.form(t, w.At.Register+"/office/enrolments", "person", "stu-060", "section", "sec-prop-a"))
	_, err = w.Read(t.Context())
	require.NoError(t, err)
	sheet := "/sheets/" + url.PathEscape("Newcomers & co")
	soon(t, "the row", func() bool {
		text, err := w.Client.Download(t.Context(), sheet+".csv")
		return err == nil && strings.Contains(string(text), "'=1+1,Tamsin Trial")
	})
	book, err := w.Client.Download(t.Context(), sheet+".xlsx")
	require.NoError(t, err)
	f, err := excelize.OpenReader(bytes.NewReader(book))
	require.NoError(t, err)
	rows, err := f.GetRows(f.GetSheetName(0))
	require.NoError(t, err)
	assert.Equal(t, []string{"at", "note", "who"}, rows[0])
	assert.Equal(t, []string{"=1+1", "Tamsin Trial"}, rows[1][1:], "text, not a formula")
	formula, err := f.GetCellFormula(f.GetSheetName(0), "B2")
	require.NoError(t, err)
	assert.Empty(t, formula)

	req, err := http.NewRequest(http.MethodGet, files.Made["endpoint"], nil)
	require.NoError(t, err)
	req.SetBasicAuth(files.Made["key"], "wrong")
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, http.StatusUnauthorized, resp.StatusCode)
	require.NoError(t, w.form(t, w.At.Platform+"/pickup", "address", files.Made["endpoint"], "key", files.Made["key"],
		"secret", files.Made["secret"]))
	read, err := w.Read(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 1, read.Counts["joined"], "the platform took it over, and the register knows")
	req.SetBasicAuth(files.Made["key"], files.Made["secret"])
	resp, err = http.DefaultClient.Do(req)
	require.NoError(t, err)
	resp.Body.Close()
	next := resp.Header.Get("Kanban-Next-Since")
	req.URL.RawQuery = "since=" + url.QueryEscape(next)
	resp, err = http.DefaultClient.Do(req)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, http.StatusOK, resp.StatusCode)
	assert.Equal(t, next, resp.Header.Get("Kanban-Next-Since"), "nothing has changed after that")
}
