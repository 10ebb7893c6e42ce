package learning

// Course is an outline made ready for adding many facts: what one fact costs follows
// the activity's own module, not the whole outline. It never changes and can be shared.
type Course struct {
	Outline Outline
	spots   map[string]spot
	counted []Activity   // of all modules
	modules [][]Activity // what counts of each
}

// spot is where an activity stands.
type spot struct {
	module int
	chain  []Activity // itself and what holds it, the innermost first
	counts bool
}

// NewCourse prepares an outline.
func NewCourse(o Outline) *Course {
	c := &Course{Outline: o, spots: map[string]spot{}}
	for i, m := range o.Modules {
		within := map[string]bool{}
		c.modules = append(c.modules, counted(m))
		for _, a := range c.modules[i] {
			within[a.ID] = true
			c.counted = append(c.counted, a)
		}
		var place func(list []Activity, above []Activity)
		place = func(list []Activity, above []Activity) {
			for _, a := range list {
				chain := append([]Activity{a}, above...)
				c.spots[a.ID] = spot{i, chain, within[a.ID]}
				place(a.Activities, chain)
			}
		}
		place(m.Activities, nil)
	}
	return c
}

// Find returns the activity with the given id and its module.
func (c *Course) Find(activityID string) (Module, Activity, bool) {
	at, ok := c.spots[activityID]
	if !ok {
		return Module{}, Activity{}, false
	}
	return c.Outline.Modules[at.module], at.chain[0], true
}

// Percent is Percent of the course's outline.
func (c *Course) Percent(s State) int {
	if len(c.counted) == 0 {
		return 0
	}
	return c.done(s) * 100 / len(c.counted)
}

// done counts what is done, by way of the shorter of the two lists.
func (c *Course) done(s State) (n int) {
	if len(s.Activities) < len(c.counted) {
		for id := range s.Activities {
			if at, ok := c.spots[id]; ok && at.counts && own(at.chain[0], s) {
				n++
			}
		}
		return n
	}
	for i := range c.counted {
		if own(c.counted[i], s) {
			n++
		}
	}
	return n
}

func allOwn(list []Activity, s State) bool {
	for i := range list {
		if !own(list[i], s) {
			return false
		}
	}
	return len(list) > 0
}

// stands is how far somebody has come, as far as one activity can change it.
type stands struct {
	chain          []bool
	done           int
	module, course bool
}

func (c *Course) stands(at spot, s State) stands {
	out := stands{done: c.done(s), module: allOwn(c.modules[at.module], s)}
	for _, a := range at.chain {
		out.chain = append(out.chain, Done(a, s))
	}
	out.course = out.module && CourseDone(c.Outline, s)
	return out
}

// Advance adds one fact to a state, which it changes in place. It gives what follows
// from the fact, in the order activity (the innermost first), progress, module, course,
// and the new percentage. Facts about activities outside the outline are kept, so that a
// later outline can count them, and nothing follows from them.
func (c *Course) Advance(state State, fact Fact) (next State, derived []Derived, percent int) {
	next = state
	if next.Activities == nil {
		next.Activities = map[string]ActivityState{}
	}
	at, ok := c.spots[fact.ActivityID]
	var was stands
	if ok {
		was = c.stands(at, next)
	}
	next.Activities[fact.ActivityID] = next.Activities[fact.ActivityID].with(fact)
	if !ok {
		return next, nil, c.Percent(next)
	}
	is := c.stands(at, next)
	total := max(len(c.counted), 1)
	m := c.Outline.Modules[at.module]
	var opened, done []Derived
	for i, a := range at.chain {
		switch {
		case was.chain[i] && !is.chain[i]:
			opened = append(opened, Derived{Kind: ActivityReopened, ModuleID: m.ID, ActivityID: a.ID})
		case !was.chain[i] && is.chain[i]:
			done = append(done, Derived{Kind: ActivityCompleted, ModuleID: m.ID, ActivityID: a.ID})
		}
	}
	if was.module && !is.module {
		opened = append(opened, Derived{Kind: ModuleReopened, ModuleID: m.ID})
	}
	if was.course && !is.course {
		opened = append(opened, Derived{Kind: CourseReopened})
	}
	for _, n := range Thresholds {
		if was.done*100/total < n && is.done*100/total >= n {
			done = append(done, Derived{Kind: ProgressCrossed, Percent: n})
		}
	}
	if !was.module && is.module {
		done = append(done, Derived{Kind: ModuleCompleted, ModuleID: m.ID})
	}
	if !was.course && is.course {
		done = append(done, Derived{Kind: CourseCompleted})
	}
	return next, append(opened, done...), is.done * 100 / total
}
