package progression_test

import (
	"maps"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/core/progression"
)

func gardener() progression.Progression {
	return progression.Progression{CourseID: "prop", Stages: []progression.Stage{
		{ID: "sower", Title: "Sower", Criteria: []progression.Criterion{{Kind: progression.Module, ModuleID: "seeds"}}},
		{ID: "helper", Title: "Helper", Optional: true, Criteria: []progression.Criterion{{Kind: progression.Badge, BadgeID: "tools"}}},
		{ID: "grafter", Title: "Grafter", Criteria: []progression.Criterion{
			{Kind: progression.Module, ModuleID: "grafts"}, {Kind: progression.Score, ActivityID: "check", AtLeast: 0.8},
		}},
		{ID: "gardener", Title: "Gardener", Criteria: []progression.Criterion{{Kind: progression.Course, CourseID: "soil"}, {Kind: progression.Course}}},
	}}
}

func TestStagesAreReachedInOrder_B5(t *testing.T) {
	p := gardener()
	require.NoError(t, p.Check())
	type key = progression.Key
	sown := progression.Evidence{Modules: map[key]bool{{"prop", "seeds"}: true}}
	for name, c := range map[string]struct {
		evidence progression.Evidence
		reached  string // one letter a stage: r reached, o open, - not yet
		percent  int
	}{
		"nothing":                      {progression.Evidence{}, "o---", 0},
		"the first":                    {sown, "roo-", 33},
		"of another course":            {progression.Evidence{Modules: map[key]bool{{"soil", "seeds"}: true}}, "o---", 0},
		"the optional one first":       {progression.Evidence{Badges: map[string]bool{"tools": true}}, "o---", 0},
		"the third before the first":   {progression.Evidence{Modules: map[key]bool{{"prop", "grafts"}: true}, Scores: map[key]float64{{"prop", "check"}: 1}}, "o---", 0},
		"a score too low":              {progression.Evidence{Modules: map[key]bool{{"prop", "seeds"}: true, {"prop", "grafts"}: true}, Scores: map[key]float64{{"prop", "check"}: 0.79}}, "roo-", 33},
		"a score just right":           {progression.Evidence{Modules: map[key]bool{{"prop", "seeds"}: true, {"prop", "grafts"}: true}, Scores: map[key]float64{{"prop", "check"}: 0.8}}, "roro", 66},
		"one of the two courses":       {progression.Evidence{Modules: map[key]bool{{"prop", "seeds"}: true, {"prop", "grafts"}: true}, Scores: map[key]float64{{"prop", "check"}: 1}, Courses: map[string]bool{"prop": true}}, "roro", 66},
		"all but the optional one":     {progression.Evidence{Modules: map[key]bool{{"prop", "seeds"}: true, {"prop", "grafts"}: true}, Scores: map[key]float64{{"prop", "check"}: 1}, Courses: map[string]bool{"prop": true, "soil": true}}, "rorr", 100},
		"everything but the first":     {progression.Evidence{Modules: map[key]bool{{"prop", "grafts"}: true}, Scores: map[key]float64{{"prop", "check"}: 1}, Courses: map[string]bool{"prop": true, "soil": true}}, "o---", 0},
		"a score below nothing at all": {progression.Evidence{Scores: map[key]float64{{"prop", "check"}: -1}}, "o---", 0},
	} {
		s := p.Look(c.evidence)
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
	w := progression.Watching(p)
	assert.Equal(t, progression.Watch{
		Own: map[string]bool{"prop": true}, Courses: map[string]bool{"prop": true, "soil": true}, Finishes: map[string]bool{"prop": true, "soil": true},
		Modules: map[key]bool{{"prop", "seeds"}: true, {"prop", "grafts"}: true}, Scores: map[key]bool{{"prop", "check"}: true}, Badges: map[string]bool{"tools": true},
	}, w)
}

// Whatever comes on top never takes a stage away; what changes between two standings
// leads from the one to the other.
func TestMoreEvidenceNeverTakesAStage(t *testing.T) {
	p := gardener()
	r := rand.New(rand.NewPCG(1, 2))
	for range 500 {
		e := progression.Evidence{Modules: map[progression.Key]bool{}, Courses: map[string]bool{}, Badges: map[string]bool{}, Scores: map[progression.Key]float64{}}
		was := map[string]bool{}
		for _, step := range r.Perm(7) {
			switch step {
			case 0, 1:
				e.Modules[progression.Key{CourseID: "prop", ID: []string{"seeds", "grafts"}[step]}] = true
			case 2, 3:
				e.Courses[[]string{"prop", "soil"}[step-2]] = true
			case 4:
				e.Badges["tools"] = true
			default:
				e.Scores[progression.Key{CourseID: "prop", ID: "check"}] = max(float64(step)/6, e.Scores[progression.Key{CourseID: "prop", ID: "check"}])
			}
			reached, reopened := p.Changes(func(id string) bool { return was[id] }, p.Look(e))
			require.Empty(t, reopened)
			for _, s := range reached {
				was[s.ID] = true
			}
		}
		require.Len(t, was, 4)
		delete(e.Modules, progression.Key{CourseID: "prop", ID: "seeds"})
		before := maps.Clone(was)
		reached, reopened := p.Changes(func(id string) bool { return before[id] }, p.Look(e))
		assert.Empty(t, reached)
		var ids []string
		for _, s := range reopened {
			ids = append(ids, s.ID)
		}
		require.Equal(t, []string{"gardener", "grafter", "helper", "sower"}, ids, "the last one first")
	}
}

func TestUnusableProgressionsAreRefused(t *testing.T) {
	for want, change := range map[string]func(*progression.Progression){
		"it has 0 stages":           func(p *progression.Progression) { p.Stages = nil },
		"it has 51 stages":          func(p *progression.Progression) { p.Stages = make([]progression.Stage, 51) },
		"stage 2 has no title":      func(p *progression.Progression) { p.Stages[1].Title = " " },
		`called "SOWER"`:            func(p *progression.Progression) { p.Stages[2].Title = "SOWER" },
		`the id "sower"`:            func(p *progression.Progression) { p.Stages[2].ID = "sower" },
		"asks for nothing":          func(p *progression.Progression) { p.Stages[0].Criteria = nil },
		"21 criteria":               func(p *progression.Progression) { p.Stages[0].Criteria = make([]progression.Criterion, 21) },
		"does not say which module": func(p *progression.Progression) { p.Stages[0].Criteria[0].ModuleID = "" },
		"which activity":            func(p *progression.Progression) { p.Stages[2].Criteria[1].ActivityID = "" },
		"which badge":               func(p *progression.Progression) { p.Stages[1].Criteria[0].BadgeID = "" },
		"the badge that it gives":   func(p *progression.Progression) { p.Stages[1].BadgeID = "tools" },
		"a score of 80":             func(p *progression.Progression) { p.Stages[2].Criteria[1].AtLeast = 80 },
		`has the kind "mood"`:       func(p *progression.Progression) { p.Stages[0].Criteria[0].Kind = "mood" },
		"every stage is optional": func(p *progression.Progression) {
			for i := range p.Stages {
				p.Stages[i].Optional = true
			}
		},
	} {
		p := gardener()
		change(&p)
		err := p.Check()
		require.ErrorIs(t, err, progression.ErrProgression, want)
		assert.ErrorContains(t, err, want)
	}
}
