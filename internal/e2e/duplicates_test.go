package e2e_test

import (
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/client"
	"kanban/internal/wire/api"
)

// west is the second school's package: Ada and Bram of the first school are there too, somebody has Cleo's number.
func west(t *testing.T) []byte {
	t.Helper()
	return apptest.SecondPackage(t,
		apptest.Pupil{ID: "w-1", Identifier: "stu-001", Email: "ada.alder@fernmoor.example", Given: "Ada", Family: "Alder"},
		apptest.Pupil{ID: "w-2", Identifier: "west-2", Email: "bram.birch@fernmoor.example", Given: "Bram", Family: "Birch"},
		apptest.Pupil{ID: "w-3", Identifier: "stu-003", Email: "some@west.example", Given: "Somebody", Family: "Else"})
}

// shared plays the story and reads the second school's register.
func shared(t *testing.T) *world {
	t.Helper()
	w := newWorld(t)
	require.NoError(t, w.Play(t.Context(), w.service.SetupSecret))
	w.uploads(t, w.connect("oneroster-csv", "West school", nil), west(t))
	return w
}

// People whom two schools have are shown once when somebody has merged them, are found by both, and are two again when
// they are split.
func TestConsoleDuplicates(t *testing.T) {
	w := shared(t)
	found := func(text string) int {
		page, err := client.Get[api.Page[api.Person]](t.Context(), w.Client, "/people?text="+url.QueryEscape(text))
		require.NoError(t, err)
		return page.Total
	}
	require.Equal(t, 2, found("Ada Alder"))
	b := w.browse("/people")
	b.goes("Duplicates")
	b.sees("sure 1")
	b.sees("likely 1")
	b.sees("same identifier")
	b.picture("duplicates")
	b.click("Merge 1 pair…")
	b.sees("Each pair can be split again.")
	b.click("Merge")
	b.sees("1 pair merged.")
	b.sees("There are none of these.")
	assert.Equal(t, 1, found("Ada Alder"))
	b.click("unsure 1")
	b.sees("another name")
	b.click("Two people")
	b.sees("They are not proposed again.")
	b.click("two people")
	b.sees("Somebody Else")
	b.click("Drop that")
	b.sees("Of no two records anybody said")
	b.click("merged")
	b.sees("same identifier, same address, same name")
	b.click("Ada Alder")
	b.sees("Registers that have them")
	b.sees("West school: Ada Alder")
	b.sees("West one")
	b.click("Split")
	b.until(`!document.body.innerText.includes("Registers that have them")`)
	assert.Equal(t, 2, found("Ada Alder"))
}
