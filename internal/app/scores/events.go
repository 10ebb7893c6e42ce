package scores

import (
	"fmt"
	"time"

	"kanban/internal/adapter/gradebooks"
	"kanban/internal/core/grade"
	"kanban/internal/core/rule"
	"kanban/internal/store/eventstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
)

// event is a fact about one person's score of an assignment. What tells it from others of the person and assignment is
// its last part.
func (c *compared) event(t rule.Trigger, row scorestore.Item, person string, mark grade.Mark, at time.Time,
	last string,
) eventstore.Event {
	in, _ := c.sectionOf(row.SectionID)
	item := c.source.items[row.SourceItem]
	data := map[string]any{
		"assignment": c.titleOf(row), "assignmentId": row.SourceItem, "score": mark.String(), "maximum": item.Maximum,
		"scoreLinkId": c.link.ID,
	}
	if mark.Kind == grade.Points {
		data["points"] = mark.Points
	}
	return eventstore.Event{
		Type: string(t), NaturalKey: fmt.Sprintf("%s/%s/%s/%s", t, row.ID, person, gradebooks.ID(last)),
		PersonID:  &person,
		SectionID: &row.SectionID, CourseID: &in.CourseID, Data: data, OccurredAt: at,
	}
}

// events are the facts that a comparison shows: scores that have become final, and scores that differ. Each is
// recorded once for the values that it is about.
func (c *compared) events(now time.Time) (list []eventstore.Event) {
	for _, item := range c.plan.Items {
		row := c.row(item.ID)
		for _, e := range item.Entries {
			if !Known(e.Who) {
				continue
			}
			// of one that is tied to an activity, the statement about that is the event
			if row.Activity == "" && (e.Outcome.Writes() || e.Outcome == grade.Conflict) {
				list = append(list, c.event(rule.ScoreFinal, row, e.Who, e.Given, now, e.Given.String()))
			}
			if e.Outcome == grade.Conflict {
				x := c.event(rule.ScoreConflict, row, e.Who, e.Ours, now, e.Theirs.String()+"/"+e.Ours.String())
				x.Data["inBook"] = e.Theirs.String()
				list = append(list, x)
			}
		}
	}
	return list
}

// row is an assignment of the link by its id.
func (c *compared) row(id string) scorestore.Item {
	for _, x := range c.rows {
		if x.ID == id {
			return x
		}
	}
	return scorestore.Item{ID: id}
}

// events are the scores that a run has carried and found in the book.
func (x *carrying) events() (list []eventstore.Event) {
	for _, c := range x.changes {
		if c.What != scorestore.AboutScore || c.State != runstore.ChangeDone {
			continue
		}
		e := x.c.event(rule.ScoreCarried, x.c.row(*c.ItemID), *c.PersonID, *c.Sent, x.Clock.Now(), x.run.ID)
		e.Data["runId"] = x.run.ID
		list = append(list, e)
	}
	return list
}
