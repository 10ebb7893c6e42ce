package stage_test

import (
	"maps"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/stage"
)

func gardener() stage.Plan {
	return stage.Plan{CourseID: "prop", Stages: []stage.Stage{
		{ID: "sower", Title: "Sower", Criteria: []stage.Criterion{{Kind: stage.Module, ModuleID: "seeds"}}},
		{
			ID: "helper", Title: "Helper", Optional: true,
			Criteria: []stage.Criterion{{Kind: stage.Badge, BadgeID: "tools"}},
		},
		{ID: "grafter", Title: "Grafter", Criteria: []stage.Criterion{
			{Kind: stage.Module, ModuleID: "grafts"}, {Kind: stage.Score, ActivityID: "check", AtLeast: 0.8},
		}},
		{ID: "gardener", Title: "Gardener", Criteria: []stage.Criterion{
			{Kind: stage.Course, CourseID: "soil"},
			{Kind: stage.Course},
		}},
	}}
}

func TestStagesAreReachedInOrder_B5(t *testing.T) {
	p := gardener()
	require.NoError(t, p.Check())
	type key = stage.Key
	sown := stage.Evidence{Modules: map[key]bool{{"prop", "seeds"}: true}}
	for name, c := range map[string]struct {
		evidence stage.Evidence
		reached  string // one letter a stage: r reached, o open, - not yet
		percent  int
	}{
		"nothing":                {stage.Evidence{}, "o---", 0},
		"the first":              {sown, "roo-", 33},
		"of another course":      {stage.Evidence{Modules: map[key]bool{{"soil", "seeds"}: true}}, "o---", 0},
		"the optional one first": {stage.Evidence{Badges: map[string]bool{"tools": true}}, "o---", 0},
		"the third before the first": {stage.Evidence{
			Modules: map[key]bool{{"prop", "grafts"}: true},
			Scores:  map[key]float64{{"prop", "check"}: 1},
		}, "o---", 0},
		"a score too low": {stage.Evidence{Modules: map[key]bool{
			{"prop", "seeds"}:  true,
			{"prop", "grafts"}: true,
		}, Scores: map[key]float64{{"prop", "check"}: 0.79}}, "roo-", 33},
		"a score just right": {stage.Evidence{Modules: map[key]bool{
			{"prop", "seeds"}:  true,
			{"prop", "grafts"}: true,
		}, Scores: map[key]float64{{"prop", "check"}: 0.8}}, "roro", 66},
		"one of the two courses": {stage.Evidence{Modules: map[key]bool{
			{"prop", "seeds"}:  true,
			{"prop", "grafts"}: true,
		}, Scores: map[key]float64{{
			"prop",
			"check",
		}: 1}, Courses: map[string]bool{"prop": true}}, "roro", 66},
		"all but the optional one": {stage.Evidence{Modules: map[key]bool{
			{"prop", "seeds"}:  true,
			{"prop", "grafts"}: true,
		}, Scores: map[key]float64{{
			"prop",
			"check",
		}: 1}, Courses: map[string]bool{"prop": true, "soil": true}}, "rorr", 100},
		"everything but the first": {stage.Evidence{
			Modules: map[key]bool{{"prop", "grafts"}: true},
			Scores:  map[key]float64{{"prop", "check"}: 1}, Courses: map[string]bool{
				"prop": true,
				"soil": true,
			},
		}, "o---", 0},
		"a score below nothing at all": {stage.Evidence{Scores: map[key]float64{{"prop", "check"}: -1}}, "o---", 0},
	} {
		s := p.ProgressOf(c.evidence)
		got := ""
		for _, x := range s.Stages {
			switch {
			case x.Reached:
				got += "r"
			case x.Open:
				got += "o"
			default:
				got += "-"
			}
		}
		assert.Equal(t, c.reached, got, name)
		assert.Equal(t, c.percent, s.Percent, name)
		assert.Equal(t, c.percent == 100, s.Finished, name)
		_, more := p.Next(s)
		assert.Equal(t, !s.Finished, more, name)
	}
	w := stage.Watching(p)
	assert.Equal(t, stage.Watch{
		Own: map[string]bool{"prop": true}, Courses: map[string]bool{
			"prop": true,
			"soil": true,
		}, Finishes: map[string]bool{"prop": true, "soil": true},
		Modules: map[key]bool{
			{"prop", "seeds"}:  true,
			{"prop", "grafts"}: true,
		}, Scores: map[key]bool{{
			"prop",
			"check",
		}: true}, Badges: map[string]bool{"tools": true}, Approvals: map[string]bool{},
	}, w)
}

// Whatever comes on top never takes a stage away; what changes between two standings
// leads from the one to the other.
func TestMoreEvidenceNeverTakesAStage(t *testing.T) {
	p := gardener()
	r := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		e := stage.Evidence{
			Modules: map[stage.Key]bool{}, Courses: map[string]bool{}, Badges: map[string]bool{},
			Scores: map[stage.Key]float64{},
		}
		was := map[string]bool{}
		for _, step := range r.Perm(7) {
			switch step {
			case 0, 1:
				e.Modules[stage.Key{CourseID: "prop", ID: []string{"seeds", "grafts"}[step]}] = true
			case 2, 3:
				e.Courses[[]string{"prop", "soil"}[step-2]] = true
			case 4:
				e.Badges["tools"] = true
			default:
				e.Scores[stage.Key{CourseID: "prop", ID: "check"}] = max(float64(step)/6,
					e.Scores[stage.Key{CourseID: "prop", ID: "check"}])
			}
			reached, reopened := p.Changes(func(id string) bool { return was[id] }, p.ProgressOf(e))
			require.Empty(t, reopened)
			for _, s := range reached {
				was[s.ID] = true
			}
		}
		require.Len(t, was, 4)
		delete(e.Modules, stage.Key{CourseID: "prop", ID: "seeds"})
		before := maps.Clone(was)
		reached, reopened := p.Changes(func(id string) bool { return before[id] }, p.ProgressOf(e))
		assert.Empty(t, reached)
		var ids []string
		for _, s := range reopened {
			ids = append(ids, s.ID)
		}
		require.Equal(t, []string{"gardener", "grafter", "helper", "sower"}, ids, "the last one first")
	}
}

func TestUnusablePlansAreRefused(t *testing.T) {
	for want, change := range map[string]func(*stage.Plan){
		"it has 0 stages":           func(p *stage.Plan) { p.Stages = nil },
		"it has 51 stages":          func(p *stage.Plan) { p.Stages = make([]stage.Stage, 51) },
		"stage 2 has no title":      func(p *stage.Plan) { p.Stages[1].Title = " " },
		`called "SOWER"`:            func(p *stage.Plan) { p.Stages[2].Title = "SOWER" },
		`the id "sower"`:            func(p *stage.Plan) { p.Stages[2].ID = "sower" },
		"asks for nothing":          func(p *stage.Plan) { p.Stages[0].Criteria = nil },
		"21 criteria":               func(p *stage.Plan) { p.Stages[0].Criteria = make([]stage.Criterion, 21) },
		"does not say which module": func(p *stage.Plan) { p.Stages[0].Criteria[0].ModuleID = "" },
		"which activity":            func(p *stage.Plan) { p.Stages[2].Criteria[1].ActivityID = "" },
		"which badge":               func(p *stage.Plan) { p.Stages[1].Criteria[0].BadgeID = "" },
		"the badge that it gives":   func(p *stage.Plan) { p.Stages[1].BadgeID = "tools" },
		"a score of 80":             func(p *stage.Plan) { p.Stages[2].Criteria[1].AtLeast = 80 },
		`has the kind "mood"`:       func(p *stage.Plan) { p.Stages[0].Criteria[0].Kind = "mood" },
		"every stage is optional": func(p *stage.Plan) {
			for i := range p.Stages {
				p.Stages[i].Optional = true
			}
		},
	} {
		p := gardener()
		change(&p)
		err := p.Check()
		require.ErrorIs(t, err, stage.ErrPlan, want)
		assert.ErrorContains(t, err, want)
	}
}

// Criteria may be all, any or so many of others, and those groups again.
func TestGroupsOfCriteria(t *testing.T) {
	module := func(id string) stage.Criterion { return stage.Criterion{Kind: stage.Module, ModuleID: id} }
	group := func(kind stage.Kind, need int, of ...stage.Criterion) stage.Criterion {
		return stage.Criterion{Kind: kind, Need: need, Of: of}
	}
	a, b, c := module("a"), module("b"), module("c")
	for name, x := range map[string]struct {
		asked stage.Criterion
		met   []string // what was finished, when it is met
		not   []string
	}{
		"all":  {group(stage.All, 0, a, b), []string{"ab", "abc"}, []string{"", "a", "b", "c"}},
		"any":  {group(stage.Any, 0, a, b), []string{"a", "b", "ab"}, []string{"", "c"}},
		"two":  {group(stage.Some, 2, a, b, c), []string{"ab", "bc", "abc"}, []string{"", "a", "c"}},
		"nest": {group(stage.Any, 0, a, group(stage.All, 0, b, c)), []string{"a", "bc"}, []string{"", "b", "c"}},
	} {
		p := stage.Plan{CourseID: "prop", Stages: []stage.Stage{{Title: "S", Criteria: []stage.Criterion{x.asked}}}}
		require.NoError(t, p.Check(), name)
		watch := stage.Watching(p)
		for want, all := range map[bool][]string{true: x.met, false: x.not} {
			for _, done := range all {
				e := stage.Evidence{Modules: map[stage.Key]bool{}}
				for _, id := range []rune(done) {
					e.Modules[stage.Key{CourseID: "prop", ID: string(id)}] = true
				}
				assert.Equal(t, want, p.ProgressOf(e).Finished, "%s: %q", name, done)
			}
		}
		for leaf := range x.asked.Leaves {
			assert.True(t, watch.Modules[stage.Key{CourseID: "prop", ID: leaf.ModuleID}], name)
		}
	}
	deep := a
	for range 4 {
		deep = group(stage.Any, 0, deep)
	}
	for name, wrong := range map[string]stage.Criterion{
		"empty":       group(stage.Any, 0),
		"too deep":    deep,
		"none of two": group(stage.Some, 0, a, b),
		"3 of two":    group(stage.Some, 3, a, b),
		"no module":   group(stage.All, 0, a, module("")),
		"own badge":   group(stage.Any, 0, a, stage.Criterion{Kind: stage.Badge, BadgeID: "given"}),
	} {
		p := stage.Plan{CourseID: "prop", Stages: []stage.Stage{
			{Title: "S", Criteria: []stage.Criterion{wrong}, BadgeID: "given"},
		}}
		require.ErrorIs(t, p.Check(), stage.ErrPlan, name)
	}
	first := 0
	for range group(stage.All, 0, a, group(stage.Any, 0, b, c)).Leaves {
		if first++; first == 2 {
			break
		}
	}
	assert.Equal(t, 2, first, "whoever has seen enough sees no more")
}

// What more is done never takes a stage away: groups of modules are monotone, whatever is nested.
func TestMoreNeverUndoes(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7)) //nolint:gosec // the same worlds each time
	var grow func(depth int) stage.Criterion
	grow = func(depth int) stage.Criterion {
		if depth == 0 || r.IntN(3) == 0 {
			return stage.Criterion{Kind: stage.Module, ModuleID: string(rune('a' + r.IntN(6)))}
		}
		c := stage.Criterion{Kind: []stage.Kind{stage.All, stage.Any, stage.Some}[r.IntN(3)]}
		for range 1 + r.IntN(4) {
			c.Of = append(c.Of, grow(depth-1))
		}
		if c.Kind == stage.Some {
			c.Need = 1 + r.IntN(len(c.Of))
		}
		return c
	}
	for range 2000 {
		p := stage.Plan{CourseID: "p", Stages: []stage.Stage{{Title: "S", Criteria: []stage.Criterion{grow(3)}}}}
		require.NoError(t, p.Check())
		e := stage.Evidence{Modules: map[stage.Key]bool{}}
		before := false
		for _, i := range r.Perm(6) {
			e.Modules[stage.Key{CourseID: "p", ID: string(rune('a' + i))}] = true
			now := p.ProgressOf(e).Finished
			require.False(t, before && !now, "%+v", p)
			before = now
		}
		require.True(t, before, "everything is done")
	}
}
