package learning

import "time"

// Overview is where one person stands in a course: every module and activity.
type Overview struct {
	Percent     int
	Done        bool
	First, Last time.Time // zero when nothing was done
	Modules     []ModuleOverview
	// Elsewhere counts activities that were reported and stand in no module now.
	Elsewhere int
}

// ModuleOverview is where somebody stands in a module.
type ModuleOverview struct {
	ID, Title  string
	Done       bool
	Optional   bool               // it does not count towards the course
	Activities []ActivityOverview // as they stand in the outline, what is nested after what holds it
}

// ActivityOverview is where somebody stands with an activity.
type ActivityOverview struct {
	Activity
	ActivityState
	Depth  int  // how deep it is nested, 0 for not at all
	Counts bool // it and all that holds it are required
	Done   bool // with what is required of what is nested in it
}

// Word says where somebody stands with the activity.
func (a ActivityOverview) Word() string {
	switch {
	case a.Done && a.Kind == Assessment:
		return "passed"
	case a.Done:
		return "done"
	case a.Failed:
		return "failed"
	case !a.First.IsZero():
		return "begun"
	}
	return "not begun"
}

// OverviewOf gives an overview of a state by an outline.
func OverviewOf(o Outline, s State) Overview {
	out := Overview{Percent: Percent(o, s), Done: CourseDone(o, s), Last: LastActivity(s)}
	within := map[string]bool{}
	for _, m := range o.Modules {
		x := ModuleOverview{ID: m.ID, Title: m.Title, Done: ModuleDone(m, s), Optional: !m.Counts()}
		var walk func(list []Activity, depth int, required bool)
		walk = func(list []Activity, depth int, required bool) {
			for _, a := range list {
				within[a.ID] = true
				counts := required && !a.Optional
				x.Activities = append(x.Activities, ActivityOverview{
					a, s.Activities[a.ID], depth, counts,
					Done(a, s),
				})
				walk(a.Activities, depth+1, counts)
			}
		}
		walk(m.Activities, 0, true)
		out.Modules = append(out.Modules, x)
	}
	for id, a := range s.Activities {
		if out.First.IsZero() || a.First.Before(out.First) {
			out.First = a.First
		}
		if !within[id] {
			out.Elsewhere++
		}
	}
	return out
}

// Missing are the activities that are still to be done for a module to be done, or for the
// course when moduleID is empty, in their order.
func Missing(o Outline, s State, moduleID string) (out []Activity) {
	for _, m := range o.Modules {
		if moduleID == "" && !m.Counts() || moduleID != "" && moduleID != m.ID {
			continue
		}
		for _, a := range counted(m) {
			if !own(a, s.Activities[a.ID]) {
				out = append(out, a)
			}
		}
	}
	return out
}

// Latest is the activity of the outline at which somebody was last; ok is false when there
// was none.
func Latest(o Outline, s State) (latest Activity, ok bool) {
	var at time.Time
	for _, m := range o.Modules {
		for _, a := range m.All() {
			if last := s.Activities[a.ID].Last; last.After(at) {
				latest, at, ok = a, last, true
			}
		}
	}
	return latest, ok
}
