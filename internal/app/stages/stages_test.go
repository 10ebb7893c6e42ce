package stages_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/refusal"
	"kanban/internal/core/rule"
	"kanban/internal/core/stage"
	"kanban/internal/store/badgestore"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/db"
	"kanban/internal/store/deliverystore"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/stagestore"
	"kanban/internal/store/storetest"
	"kanban/internal/store/taskstore"
	"kanban/internal/wire/xapi"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const manifest = `<manifest xmlns="http://www.imsglobal.org/xsd/imsccv1p3/imscp_v1p1"><organizations><organization><item>
<item identifier="m1"><title>Seeds</title><item identifier="a1" identifierref="r1"><title>Read</title></item><item identifier="a2" identifierref="r2"><title>Check</title></item></item>
<item identifier="m2"><title>Grafts</title><item identifier="a3" identifierref="r1"><title>Cut</title></item></item></item></organization></organizations>
<resources><resource identifier="r1" type="webcontent"/><resource identifier="r2" type="imsqti_xmlv1p2/imscc_xmlv1p3/assessment"/></resources></manifest>`

// world has a course with an outline, a platform that reports, and two badges.
type world struct {
	*apptest.World
	t         *testing.T
	course    string
	platform  connectionstore.Interface
	seeds     badgestore.Badge // given by a stage
	tools     badgestore.Badge // asked for by a stage
	statement int
}

func newWorld(t *testing.T) *world {
	t.Helper()
	w := &world{World: apptest.New(t), t: t}
	w.Read(w.Register(), false)
	w.course = w.Section("PROP-A").CourseID
	_, err := w.Outlines.LoadCartridge(t.Context(), "test", w.course, "http://p.example/", []byte(manifest))
	require.NoError(t, err)
	w.platform = w.Connect("xapi", "Platform", nil)
	i, err := w.Badges.AddIssuer(t.Context(), "test", badgestore.Issuer{Name: "Fernmoor"})
	require.NoError(t, err)
	for name, b := range map[string]*badgestore.Badge{"Seeds": &w.seeds, "Tools": &w.tools} {
		*b, err = w.Badges.AddBadge(t.Context(), "test",
			badgestore.Badge{IssuerID: i.ID, Name: name, Description: "d", Criteria: "c"})
		require.NoError(t, err)
	}
	w.Follow()
	return w
}

// gardener has a stage with a badge, an optional one that asks for one, and one with a
// score.
func (w *world) gardener() stagestore.StagePlan {
	return stagestore.StagePlan{Name: "Gardener", CourseID: w.course, Stages: []stage.Stage{
		{Title: "Sower", BadgeID: w.seeds.ID, Criteria: []stage.Criterion{{Kind: stage.Module, ModuleID: "m1"}}},
		{Title: "Helper", Optional: true, Criteria: []stage.Criterion{{Kind: stage.Badge, BadgeID: w.tools.ID}}},
		{Title: "Grafter", Criteria: []stage.Criterion{
			{Kind: stage.Course},
			{Kind: stage.Score, ActivityID: "http://p.example/a2", AtLeast: 0.8},
		}},
	}}
}

func (w *world) on(p stagestore.StagePlan) stagestore.StagePlan {
	w.t.Helper()
	p, err := w.Stages.Save(w.t.Context(), "Maud", "", 0, p)
	require.NoError(w.t, err)
	assert.Nil(w.t, p.OnSince, "a new one is off")
	p, err = w.Stages.Switch(w.t.Context(), "Maud", p.ID, true)
	require.NoError(w.t, err)
	w.Follow()
	return p
}

// told takes statements: "who activity verb [score]" each. It gives the id of the last.
func (w *world) told(facts ...string) (id string) {
	w.t.Helper()
	for _, fact := range facts {
		f := strings.Fields(fact)
		result := ""
		if len(f) > 3 {
			result = `,"result":{"score":{"scaled":` + f[3] + `}}`
		}
		w.statement++
		object := fmt.Sprintf(`{"id":"http://p.example/%s"}`, f[1])
		if f[2] == "voided" {
			object = fmt.Sprintf(`{"objectType":"StatementRef","id":%q}`, f[1])
		}
		id = fmt.Sprintf("00000000-0000-4000-8000-%012d", w.statement)
		raw := json.RawMessage(fmt.Sprintf(`{"id":%q,"actor":{"account":{"homePage":"http://p.example","name":%q}},"verb":{"id":"http://adlnet.gov/expapi/verbs/%s"},"object":%s%s}`, id, f[0], f[2], object, result))
		list, _, err := xapi.Parse(raw)
		require.NoError(w.t, err)
		_, err = w.Facts.Take(w.t.Context(), w.platform.ID, list, []json.RawMessage{raw})
		require.NoError(w.t, err)
	}
	w.Follow()
	return id
}

// stages gives what happened to stages, the oldest first.
func (w *world) stages() (all []string) {
	w.t.Helper()
	for _, kind := range []string{"stage.reached", "stage.reopened"} {
		events, err := eventstore.Events(w.t.Context(), w.Store, eventstore.EventFilter{Type: kind, Limit: 1000})
		require.NoError(w.t, err)
		for _, e := range events {
			all = append(all, e.ID+strings.TrimPrefix(kind, "stage.")+" "+e.Data["stage"].(string)+" "+e.Person)
		}
	}
	slices.Sort(all)
	for i := range all {
		all[i] = all[i][36:]
	}
	return all
}

func (w *world) held(who string) (names []string) {
	w.t.Helper()
	list, err := badgestore.Awards(w.t.Context(), w.Store, badgestore.AwardFilter{
		PersonID: w.Person(who).ID, Limit: 10,
	})
	require.NoError(w.t, err)
	for _, a := range list {
		if a.RevokedAt == nil {
			names = append(names, a.Badge)
		}
	}
	return names
}

func TestStagesFollowFromFacts_B5(t *testing.T) {
	w := newWorld(t)
	p := w.on(w.gardener())
	w.told("stu-001 a1 completed")
	assert.Empty(t, w.stages())
	w.told("stu-001 a2 passed 0.7", "stu-001 a3 completed")
	assert.Equal(t, []string{"reached Sower Ada Alder"}, w.stages(), "the course is done, but the score is too low")
	assert.Equal(t, []string{"Seeds"}, w.held("stu-001"))
	better := w.told("stu-001 a2 passed 0.9")
	assert.Equal(t, []string{"reached Sower Ada Alder", "reached Grafter Ada Alder"}, w.stages(),
		"once the score is better")

	// What no longer holds is open again, and the badge is left to a person.
	w.told("stu-001 " + better + " voided")
	assert.Equal(t, []string{"reached Sower Ada Alder", "reached Grafter Ada Alder", "reopened Grafter Ada Alder"},
		w.stages(), "the best score is 0.7 again, which is no event of its own")
	w.told("stu-001 a2 passed 0.85")
	assert.Len(t, w.stages(), 4)

	// A badge that is awarded or revoked counts at once.
	ada := w.Person("stu-001")
	a, err := w.Badges.Award(t.Context(), w.tools.ID, w.Record(eventstore.Event{
		Type:       "course.completed",
		NaturalKey: "k", PersonID: &ada.ID, OccurredAt: time.Now(),
	}), time.Now().UTC())
	require.NoError(t, err)
	w.Follow()
	assert.Equal(t, "reached Helper Ada Alder", w.stages()[4])
	_, err = w.Badges.Revoke(t.Context(), "Maud", a.ID, "r")
	require.NoError(t, err)
	w.Follow()
	assert.Equal(t, "reopened Helper Ada Alder", w.stages()[5])

	looks, err := w.Stages.Of(t.Context(), ada.ID)
	require.NoError(t, err)
	require.Len(t, looks, 1)
	l := looks[0]
	assert.Equal(t, "Gardener Propagation 100 true", fmt.Sprint(l.Name, " ", l.Course, " ", l.Percent, " ",
		l.Finished))
	assert.True(t, l.Stages[0].Reached && l.Stages[0].Holds && l.Stages[0].ReachedAt != nil)
	assert.True(t, l.Stages[1].Open)
	assert.Equal(t, "finish the course Propagation; score at least 80 % in Check",
		l.Stages[2].Asks[0].Text+"; "+l.Stages[2].Asks[1].Text)

	// The group: whoever never opened the course is counted.
	g, err := stagestore.GroupOf(t.Context(), w.Store, p, "")
	require.NoError(t, err)
	assert.Equal(t, 1, g.Finished)
	assert.Equal(t, g.People-1, g.NotOpened)
	assert.Equal(t, g.People-1, g.At[p.Stages[0].ID])
	assert.Equal(t, 1, g.Reached[p.Stages[2].ID])
	one, err := stagestore.GroupOf(t.Context(), w.Store, p, w.Section("PROP-B").ID)
	require.NoError(t, err)
	assert.Less(t, one.People, g.People)
	assert.Zero(t, one.Finished)
	var names []string
	for after := ""; ; {
		list, err := stagestore.StagePlanPeople(t.Context(), w.Store, p,
			stagestore.StagePlanFilter{State: "not-opened", After: after, Limit: 5})
		require.NoError(t, err)
		if len(list) == 0 {
			break
		}
		after = list[len(list)-1].PersonID
		for _, c := range list {
			names = append(names, c.Person)
		}
	}
	assert.Len(t, names, g.NotOpened)
	assert.NotContains(t, names, "Ada Alder")
	list, err := stagestore.StagePlanPeople(t.Context(), w.Store, p,
		stagestore.StagePlanFilter{Reached: p.Stages[0].ID, Missing: p.Stages[1].ID, State: "finished", Limit: 5})
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "Ada Alder", list[0].Person)
}

// Whatever the order and the repetition of facts, the same stages are reached in the end,
// each once, and nobody gets a badge twice.
func TestStagesInAnyOrder(t *testing.T) {
	w := newWorld(t)
	w.on(w.gardener())
	facts := []string{
		"stu-001 a1 completed", "stu-001 a2 passed 0.9", "stu-001 a3 completed", "stu-002 a1 completed",
		"stu-002 a2 failed 0.1", "stu-002 a2 passed 0.8",
	}
	var group sync.WaitGroup
	r := rand.New(rand.NewPCG(7, 7))
	for range 4 {
		order := r.Perm(len(facts))
		group.Go(func() {
			for _, i := range order {
				f := strings.Fields(facts[i])
				result := ""
				if len(f) > 3 {
					result = `,"result":{"score":{"scaled":` + f[3] + `}}`
				}
				raw := json.RawMessage(fmt.Sprintf(`{"id":"00000000-0000-4000-9000-%012d","actor":{"account":{"homePage":"http://p.example","name":%q}},"verb":{"id":"http://adlnet.gov/expapi/verbs/%s"},"object":{"id":"http://p.example/%s"}%s}`, i, f[0], f[2], f[1], result))
				list, _, err := xapi.Parse(raw)
				assert.NoError(t, err)
				_, err = w.Facts.Take(t.Context(), w.platform.ID, list, []json.RawMessage{raw})
				assert.NoError(t, err)
			}
		})
	}
	group.Wait()
	// Several workers at once, each with everybody.
	people := []string{w.Person("stu-001").ID, w.Person("stu-002").ID}
	for range 4 {
		group.Go(func() { assert.NoError(t, w.Stages.Touched(t.Context(), people, []string{w.course}, nil)) })
	}
	group.Wait()
	w.Follow()
	assert.ElementsMatch(t, []string{
		"reached Sower Ada Alder", "reached Grafter Ada Alder",
		"reached Sower Bram Birch",
	}, w.stages())
	assert.Equal(t, []string{"Seeds"}, w.held("stu-001"))
	assert.Equal(t, []string{"Seeds"}, w.held("stu-002"))
}

// A stage plan that is switched on or changed finds who is there already, as its preview
// said; whoever has no address waits for a person.
func TestPreviewIsWhatHappens_B5(t *testing.T) {
	w := newWorld(t)
	w.told("stu-001 a1 completed", "stu-001 a2 passed 0.9", "stu-005 a1 completed", "stu-005 a2 passed 0.9")
	draft := w.gardener()
	v, err := w.Stages.Preview(t.Context(), "", draft)
	require.NoError(t, err)
	assert.Equal(t, []int{2, 2, 2, 0}, []int{v.Stages[0].Reached, v.Stages[0].Newly, v.Badges, v.Finished})
	p := w.on(draft)
	assert.ElementsMatch(t, []string{"reached Sower Ada Alder", "reached Sower Elsa Elder"}, w.stages())
	assert.Equal(t, []string{"Seeds"}, w.held("stu-001"))
	waiting, err := deliverystore.Deliveries(t.Context(), w.Store,
		deliverystore.DeliveryFilter{State: deliverystore.DeliveryWaiting, Limit: 5})
	require.NoError(t, err)
	require.Len(t, waiting, 1, "Elsa has no address")
	assert.Equal(t, "address-missing Gardener", waiting[0].Code+" "+waiting[0].Rule)

	// Another criterion: for one it is open again, which the preview says first.
	p.Stages[0].Criteria = append(p.Stages[0].Criteria, stage.Criterion{Kind: stage.Module, ModuleID: "m2"})
	v, err = w.Stages.Preview(t.Context(), p.ID, p)
	require.NoError(t, err)
	assert.Equal(t, []int{0, 2}, []int{v.Stages[0].Reached, v.Stages[0].Reopened})
	assert.ElementsMatch(t, []string{"Ada Alder", "Elsa Elder"}, v.Stages[0].ReopenedPeople)
	_, err = w.Stages.Save(t.Context(), "Maud", p.ID, p.Version-1, p)
	assert.ErrorIs(t, err, db.ErrStale)
	p, err = w.Stages.Save(t.Context(), "Maud", p.ID, p.Version, p)
	require.NoError(t, err)
	w.Follow()
	assert.Len(t, w.stages(), 4)
	w.told("stu-001 a3 completed")
	assert.Equal(t, []string{"reached Sower Ada Alder", "reached Grafter Ada Alder"}, w.stages()[4:])
	assert.Equal(t, []string{"Seeds"}, w.held("stu-001"), "not twice")
	l, err := w.Stages.Of(t.Context(), w.Person("stu-005").ID)
	require.NoError(t, err)
	assert.False(t, l[0].Stages[0].Reached)

	// Off, nothing happens; the outline loses a module, and on it goes by that again.
	p, err = w.Stages.Switch(t.Context(), "Maud", p.ID, false)
	require.NoError(t, err)
	w.told("stu-005 a3 completed")
	assert.Len(t, w.stages(), 6)
	assert.ErrorContains(t, w.Stages.Remove(t.Context(), "Maud",
		w.on(stagestore.StagePlan{
			Name: "Other", CourseID: w.course,
			Stages: p.Stages[:1],
		}).ID), "switch it off first")
	require.NoError(t, w.Stages.Remove(t.Context(), "Maud", p.ID))
	_, err = stagestore.FindStagePlan(t.Context(), w.Store, p.ID)
	assert.ErrorIs(t, err, db.ErrNotFound)
}

// Rules react to stages, once for each, and revert what belongs to the one that is
// open again.
func TestRulesReactToStages_E1(t *testing.T) {
	w := newWorld(t)
	w.on(w.gardener())
	w.Rule(rule.Draft{
		Name: "Tell", Trigger: "stage.reached", OncePerPerson: true,
		UndoneBy: []string{"stage.reopened"}, Condition: "event.percent >= 50", Actions: []rule.Action{{
			Kind:    rule.OpenTask,
			Subject: "{{.person.givenName}}: {{.event.stage}} in {{.event.stagePlan}}, {{.section.title}}",
			Owner:   "maud@fernmoor.example",
		}},
	})
	tasks := func() (titles []string) {
		list, err := taskstore.Tasks(t.Context(), w.Store, false, 10, nil)
		require.NoError(t, err)
		for _, x := range list {
			titles = append(titles, x.Title)
		}
		return titles
	}
	w.told("stu-001 a1 completed", "stu-001 a2 passed 0.7", "stu-001 a3 completed")
	assert.Equal(t, []string{"Ada: Sower in Gardener, Propagation A"}, tasks())
	better := w.told("stu-001 a2 passed 0.9")
	assert.Len(t, tasks(), 2)
	w.told("stu-001 " + better + " voided")
	assert.Equal(t, []string{"Ada: Sower in Gardener, Propagation A"}, tasks(), "only the second is reverted")
	w.told("stu-001 a2 passed 0.95")
	assert.Len(t, tasks(), 2, "and done again when it is reached again")
}

// Another outline says beforehand which stages and rules lose what they are about, and
// afterwards a stage says so itself.
func TestOutlineNamesWhatStagesLose_E2(t *testing.T) {
	w := newWorld(t)
	p := w.on(w.gardener())
	w.Rule(rule.Draft{
		Name: "Cheer", Trigger: "module.completed", Scope: rule.Scope{Module: "m1"},
		Actions: []rule.Action{{Kind: rule.OpenTask, Subject: "x"}},
	})
	w.told("stu-001 a1 completed", "stu-001 a2 passed 0.9")
	o, err := learningstore.Outline(t.Context(), w.Store, w.course)
	require.NoError(t, err)
	o.Modules = o.Modules[1:]
	v, err := w.Outlines.PreviewOutline(t.Context(), w.course, o)
	require.NoError(t, err)
	assert.Equal(t, []string{
		"the rule Cheer is only for Seeds", "the stage Grafter of Gardener asks for Check",
		"the stage Sower of Gardener asks for Seeds",
	}, v.Misses)
	require.NoError(t, w.Outlines.SetOutline(t.Context(), "Maud", w.course, o))
	w.Follow()
	assert.Equal(t, []string{"reached Sower Ada Alder", "reopened Sower Ada Alder"}, w.stages())
	assert.Equal(t, []string{"Seeds"}, w.held("stu-001"), "the badge is for a person to decide")
	takes, err := w.Stages.Takes(t.Context(), p)
	require.NoError(t, err)
	assert.Equal(t, []string{"finish the module m1, which is not in the outline any more"}, takes[0].Criteria)
}

func TestWhatAStagePlanRefersToIsChecked(t *testing.T) {
	w := newWorld(t)
	soil := w.Section("SOIL-A").CourseID
	for want, change := range map[string]func(*stagestore.StagePlan){
		"name: is missing":          func(p *stagestore.StagePlan) { p.Name = " " },
		"there is no course":        func(p *stagestore.StagePlan) { p.CourseID = db.NewID() },
		"it has 0 stages":           func(p *stagestore.StagePlan) { p.Stages = nil },
		"gives a badge that is not": func(p *stagestore.StagePlan) { p.Stages[0].BadgeID = db.NewID() },
		"asks for a badge that is not": func(p *stagestore.StagePlan) {
			p.Stages[1].Criteria[0].BadgeID = db.NewID()
		},
		`the module "m9", which is not`: func(p *stagestore.StagePlan) { p.Stages[0].Criteria[0].ModuleID = "m9" },
		`a score in "x", which is not`:  func(p *stagestore.StagePlan) { p.Stages[2].Criteria[1].ActivityID = "x" },
		"which has no outline yet":      func(p *stagestore.StagePlan) { p.Stages[2].Criteria[0].CourseID = soil },
	} {
		p := w.gardener()
		change(&p)
		_, err := w.Stages.Save(t.Context(), "Maud", "", 0, p)
		_, refused := refusal.As(err)
		require.True(t, refused, "%s: %v", want, err)
		assert.ErrorContains(t, err, want)
	}
	p, err := w.Stages.Save(t.Context(), "Maud", "", 0, w.gardener())
	require.NoError(t, err)
	_, err = w.Stages.Save(t.Context(), "Maud", "", 0, w.gardener())
	assert.ErrorContains(t, err, "another stage plan is called")
	p.CourseID = soil
	_, err = w.Stages.Save(t.Context(), "Maud", p.ID, p.Version, p)
	assert.ErrorContains(t, err, "cannot be changed")
}
