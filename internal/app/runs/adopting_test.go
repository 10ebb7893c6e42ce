package runs_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/app/pairings"
	"kanban/internal/apptest"
	"kanban/internal/core/finding"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/runstore"
	"kanban/internal/wire/scim"
)

// garden is a section and a class that were there before they were paired.
type garden struct {
	*apptest.World
	t        *testing.T
	register connectionstore.Interface
	service  connectionstore.Interface
}

// newGarden has a class with some people of the section PROP-C in it, some other learners
// and a stranger.
func newGarden(t *testing.T, inside ...string) *garden {
	g := &garden{World: apptest.New(t), t: t}
	g.register = g.Register()
	g.Read(g.register, false)
	g.service = g.Workspace()
	var users []scim.User
	room := scim.Group{
		ID: "room", DisplayName: "Garden room",
		Members: []scim.Member{{Value: "stranger", Type: "User"}},
	}
	for _, id := range append([]string{"stranger"}, inside...) {
		u := scim.User{
			Schemas: []string{scim.UserSchema}, ID: id, UserName: id, Active: true,
			Emails: []scim.Email{{Value: "stranger@elsewhere.example", Primary: true}},
		}
		if id != "stranger" {
			u.Emails[0].Value = g.Person(id).Email
			room.Members = append(room.Members, scim.Member{Value: id, Type: "User"})
		}
		users = append(users, u)
	}
	g.Standins.Workspace.Hold(users, []scim.Group{room})
	return g
}

// members gives the addresses of who is in a class, ordered.
func (g *garden) members(ref string) []string {
	users, groups := g.Standins.Workspace.Content()
	var list []string
	for _, group := range groups {
		for _, m := range group.Members {
			if group.ID == ref {
				i := slices.IndexFunc(users, func(u scim.User) bool { return u.ID == m.Value })
				require.GreaterOrEqual(g.t, i, 0)
				list = append(list, strings.ToLower(users[i].Email()))
			}
		}
	}
	slices.Sort(list)
	return list
}

// enrolled gives the addresses of who is in the register's section, ordered.
func (g *garden) enrolled() []string {
	var list []string
	for _, e := range g.Standins.School.Enrolments() {
		if e.SectionID == g.sectionID() && !e.Ended {
			list = append(list, strings.ToLower(g.Person(e.PersonID).Email))
		}
	}
	slices.Sort(list)
	return list
}

func (g *garden) sectionID() string {
	for _, x := range g.Standins.School.Sections() {
		if x.Code == "PROP-C" {
			return x.ID
		}
	}
	g.t.Fatal("no PROP-C")
	return ""
}

func (g *garden) pair(ref string) pairingstore.Pairing {
	p, err := g.World.Pairings.Pair(g.t.Context(), "test",
		pairings.Wish{SectionID: g.Section("PROP-C").ID, InterfaceID: g.service.ID, TargetRef: ref})
	require.NoError(g.t, err)
	return p
}

// Whatever is done with a section and its class, in whatever order: a run leaves exactly the
// register's people in the class, and those who were somebody else's when it was taken.
func TestAdoptedClassesHoldTheRegistersPeople_R5(t *testing.T) {
	for seed := range uint64(4) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			dice := rand.New(rand.NewPCG(seed, 7))
			pool := []string{"stu-030", "stu-031", "stu-032", "stu-033", "stu-001", "stu-002", "stu-009", "stu-010"}
			g := newGarden(t, "stu-030", "stu-031", "stu-001", "stu-002")
			others := map[string][]string{"room": slices.Clone(g.members("room"))} // who is somebody else's
			made, current, taken := "", (*pairingstore.Pairing)(nil), true
			var done []string
			for range 28 {
				switch act := dice.IntN(8); {
				case act == 0 && current == nil && made == "":
					p := g.pair("")
					current, taken = &p, true
					done = append(done, "pair")
				case act == 1 && current == nil:
					ref := "room"
					if made != "" && dice.IntN(2) == 0 {
						ref = made
					}
					p := g.pair(ref)
					current, taken = &p, false
					done = append(done, "adopt "+ref)
				case act == 2 && current != nil:
					require.NoError(t, g.World.Pairings.Unpair(t.Context(), "test", current.ID))
					current = nil
					done = append(done, "end")
				case act < 5:
					who := pool[dice.IntN(len(pool))]
					if slices.Contains(g.enrolled(), strings.ToLower(g.Person(who).Email)) {
						require.NoError(t, g.Standins.School.Withdraw(who, g.sectionID()))
						done = append(done, who+" leaves")
					} else {
						require.NoError(t, g.Standins.School.Enrol(who, g.sectionID()))
						done = append(done, who+" joins")
					}
					g.Read(g.register, true)
				case current != nil:
					done = append(done, "run")
					run := g.Sync(current.ID, true)
					require.Contains(t, []string{runstore.Finished, runstore.NeedsPerson}, run.State, "%v: %s", done,
						run.Error)
					p, err := pairingstore.FindPairing(t.Context(), g.Store, current.ID)
					require.NoError(t, err)
					ref := p.TargetRef
					if _, known := others[ref]; !known {
						made, others[ref] = ref, nil
					}
					section := g.enrolled()
					if !taken {
						others[ref] = slices.DeleteFunc(others[ref],
							func(x string) bool { return slices.Contains(section, x) })
						taken = true
					}
					want := slices.Concat(section, others[ref])
					slices.Sort(want)
					require.Equal(t, slices.Compact(want), g.members(ref), "%v", done)
				}
			}
			assert.Contains(t, done, "run")
		})
	}
}

// The preview says who is ours from now on; taking the run back leaves them to whoever put
// them in.
func TestTakingOverIsShownAndReverted(t *testing.T) {
	g := newGarden(t, "stu-030", "stu-031", "stu-001")
	p := g.pair("room")
	preview, err := g.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	ours, others := preview.Plan.TakeOvers()
	assert.Equal(t, 2, ours)
	assert.Equal(t, 2, others, "the stranger and a learner of another section")
	for _, e := range preview.Plan.Entries {
		if e.TakeOver {
			assert.Equal(t, finding.TakenOver, e.Reason)
		}
	}
	run := g.Sync(p.ID, false)
	back, err := g.Runs.Revert(t.Context(), run.ID)
	require.NoError(t, err)
	r, err := g.Runs.Start(t.Context(), "test", back.ID, true)
	require.NoError(t, err)
	require.NoError(t, g.Runs.Work(t.Context(), r.ID, true))
	assert.Len(t, g.members("room"), 4, "as it was before")
	paused := false
	_, err = g.World.Pairings.Change(t.Context(), "test", p.ID, 0, pairings.Edit{Paused: &paused})
	require.NoError(t, err)
	preview, err = g.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	ours, _ = preview.Plan.TakeOvers()
	assert.Equal(t, 2, ours, "it is to be decided anew")
	again := g.Sync(p.ID, false)
	require.Equal(t, runstore.Finished, again.State)
	preview, err = g.Runs.Preview(t.Context(), p.ID)
	require.NoError(t, err)
	ours, _ = preview.Plan.TakeOvers()
	assert.Zero(t, ours, "once")
}

// A class that was adopted before places were taken over is offered it once.
func TestTakingOverIsOfferedOnce(t *testing.T) {
	g := newGarden(t, "stu-030", "stu-031")
	p := g.pair("room")
	// As the migration leaves one that ran already.
	_, err := g.Store.Pool.Exec(t.Context(), `UPDATE pairings SET take_over = 'offered'`)
	require.NoError(t, err)
	g.Sync(p.ID, false)
	unminded := func() int {
		_, err := g.Runs.Compare(t.Context(), p.ID)
		require.NoError(t, err)
		now, err := pairingstore.FindPairing(t.Context(), g.Store, p.ID)
		require.NoError(t, err)
		return now.Unminded
	}
	assert.Equal(t, 2, unminded())
	noteworthy, err := pairingstore.Noteworthy(t.Context(), g.Store, time.Now())
	require.NoError(t, err)
	assert.Len(t, noteworthy, 1)
	require.NoError(t, g.Standins.School.Withdraw("stu-030", g.sectionID()))
	g.Read(g.register, true)
	g.Sync(p.ID, true)
	assert.Contains(t, g.members("room"), strings.ToLower(g.Person("stu-030").Email),
		"nobody has said that Kanban minds it")
	require.NoError(t, g.World.Pairings.TakeOver(t.Context(), "test", p.ID, true))
	g.Sync(p.ID, true)
	require.NoError(t, g.Standins.School.Withdraw("stu-031", g.sectionID()))
	g.Read(g.register, true)
	g.Sync(p.ID, true)
	assert.NotContains(t, g.members("room"), strings.ToLower(g.Person("stu-031").Email))
	assert.Zero(t, unminded())

	// A class that Kanban made is not asked about.
	q, err := g.World.Pairings.Pair(t.Context(), "test",
		pairings.Wish{SectionID: g.Section("PROP-A").ID, InterfaceID: g.service.ID})
	require.NoError(t, err)
	g.Sync(q.ID, false)
	_, err = g.Store.Pool.Exec(t.Context(), `DELETE FROM placements WHERE pairing_id = $1`, q.ID)
	require.NoError(t, err)
	_, err = g.Store.Pool.Exec(t.Context(), `UPDATE pairings SET take_over = 'offered' WHERE id = $1`, q.ID)
	require.NoError(t, err)
	_, err = g.Runs.Compare(t.Context(), q.ID)
	require.NoError(t, err)
	now, err := pairingstore.FindPairing(t.Context(), g.Store, q.ID)
	require.NoError(t, err)
	assert.Zero(t, now.Unminded)
	assert.Empty(t, now.TakeOver)
}
