package learning

import "slices"

// Course is an outline made ready for adding many facts: what one fact costs follows
// the activity's own module, not the whole outline. It never changes and can be shared.
type Course struct {
	Outline    Outline
	activities []Activity // every one, module by module
	spots      map[string]spot
	counted    []int // places of what counts, of all modules that count
	modules    []module
}

// CompiledOutline is a course by one version of its outline.
type CompiledOutline struct {
	*Course
	Version int
}

// spot is where an activity stands.
type spot struct {
	place  int
	module int
	chain  []link // itself and what holds it, the innermost first
}

// link is an activity with the places of what must be done for it to be done: itself,
// and what is required of what is nested in it.
type link struct {
	id    string
	needs []int
}

// module is where what makes up a module stands.
type module struct {
	places []int
	counts bool // towards the course
}

// DoneBits says which activities of a course somebody has done themselves, whatever is
// nested in them: one bit for each, in the order of the outline. It holds for one
// version of the outline only; the empty one says that nothing is done.
type DoneBits []byte

func (t DoneBits) has(place int) bool {
	return place/8 < len(t) && t[place/8]&(1<<(place%8)) != 0
}

func (t DoneBits) set(place int, done bool) DoneBits {
	if place/8 >= len(t) {
		t = append(t, make([]byte, place/8+1-len(t))...)
	}
	if t[place/8] &^= 1 << (place % 8); done {
		t[place/8] |= 1 << (place % 8)
	}
	return t
}

func (t DoneBits) all(places []int) bool {
	for _, p := range places {
		if !t.has(p) {
			return false
		}
	}
	return len(places) > 0
}

// NewCourse prepares an outline.
func NewCourse(o Outline) *Course {
	c := &Course{Outline: o, spots: map[string]spot{}}
	for i, m := range o.Modules {
		within := map[string]bool{}
		for _, a := range counted(m) {
			within[a.ID] = true
		}
		var counts []int
		var place func(list []Activity, above []link) (required []int)
		place = func(list []Activity, above []link) (required []int) {
			for _, a := range list {
				at := len(c.activities)
				c.activities = append(c.activities, a)
				if within[a.ID] {
					counts = append(counts, at)
				}
				// What holds it is found again once all that is nested is placed.
				chain := append([]link{{id: a.ID}}, above...)
				needs := place(a.Activities, chain)
				if !a.holds() {
					needs = append([]int{at}, needs...)
				}
				c.spots[a.ID] = spot{at, i, chain}
				chain[0].needs = needs
				if !a.Optional {
					required = append(required, needs...)
				}
			}
			return required
		}
		place(m.Activities, nil)
		c.modules = append(c.modules, module{counts, m.Counts()})
		if m.Counts() {
			c.counted = append(c.counted, counts...)
		}
	}
	for id, at := range c.spots {
		for i, l := range at.chain {
			at.chain[i] = c.spots[l.id].chain[0]
		}
		c.spots[id] = at
	}
	return c
}

// Find returns the activity with the given id and its module.
func (c *Course) Find(activityID string) (Module, Activity, bool) {
	at, ok := c.spots[activityID]
	if !ok {
		return Module{}, Activity{}, false
	}
	return c.Outline.Modules[at.module], c.activities[at.place], true
}

// DoneBits works the done bits out of everything that is known about a person.
func (c *Course) DoneBits(s State) DoneBits {
	t := DoneBits{}
	for id, a := range s.Activities {
		if at, ok := c.spots[id]; ok && own(c.activities[at.place], a) {
			t = t.set(at.place, true)
		}
	}
	return t
}

// Percent is the share of counted activities that are done, as the function Percent
// gives it.
func (c *Course) Percent(t DoneBits) int {
	return c.done(t) * 100 / max(len(c.counted), 1)
}

func (c *Course) done(t DoneBits) (n int) {
	for _, p := range c.counted {
		if t.has(p) {
			n++
		}
	}
	return n
}

// ModuleDone reports whether everything that counts of a module is done.
func (c *Course) ModuleDone(t DoneBits, moduleID string) bool {
	for i, m := range c.Outline.Modules {
		if m.ID == moduleID {
			return t.all(c.modules[i].places)
		}
	}
	return false
}

// CourseDone reports whether every module that counts is done.
func (c *Course) CourseDone(t DoneBits) bool {
	for _, m := range c.modules {
		if m.counts && !t.all(m.places) {
			return false
		}
	}
	return len(c.counted) > 0
}

// Advance adds one fact about an activity to the done bits and to what is known about that
// activity. It gives what follows from the fact, in the order activity (the innermost
// first), progress, module, course. From facts about activities outside the outline
// nothing follows.
func (c *Course) Advance(was DoneBits, activity ActivityState, fact Fact) (is DoneBits, now ActivityState,
	derived []Derived,
) {
	now = activity.with(fact)
	at, ok := c.spots[fact.ActivityID]
	if !ok || own(c.activities[at.place], now) == was.has(at.place) {
		return was, now, nil
	}
	is = slices.Clone(was).set(at.place, !was.has(at.place))
	m := c.Outline.Modules[at.module]
	var opened, done []Derived
	note := func(before, after bool, reopened, completed Derived) {
		switch {
		case before && !after:
			opened = append(opened, reopened)
		case !before && after:
			done = append(done, completed)
		}
	}
	for _, l := range at.chain {
		note(was.all(l.needs), is.all(l.needs), Derived{Kind: ActivityReopened, ModuleID: m.ID, ActivityID: l.id},
			Derived{Kind: ActivityCompleted, ModuleID: m.ID, ActivityID: l.id})
	}
	before, after := c.Percent(was), c.Percent(is)
	for _, n := range c.Outline.Crossings() {
		if before < n && after >= n {
			done = append(done, Derived{Kind: ProgressCrossed, Percent: n})
		}
	}
	places := c.modules[at.module].places
	note(was.all(places), is.all(places), Derived{Kind: ModuleReopened, ModuleID: m.ID},
		Derived{Kind: ModuleCompleted, ModuleID: m.ID})
	note(c.CourseDone(was), c.CourseDone(is), Derived{Kind: CourseReopened}, Derived{Kind: CourseCompleted})
	return is, now, append(opened, done...)
}
