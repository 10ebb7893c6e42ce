package gradebooks

import (
	"context"
	"encoding/json"
	"time"

	"kanban/internal/core/grade"
	"kanban/internal/wire/oneroster"
)

func ref(kind, id string) *oneroster.Ref {
	if id == "" {
		return nil
	}
	return &oneroster.Ref{SourcedID: id, Type: kind}
}

// PutCategory makes or renames a category, and gives its id there.
func (g *Gradebook) PutCategory(ctx context.Context, c grade.Category) (string, error) {
	record := categoryRecord(c)
	if g.version == oneroster.V11 {
		record.Weight = nil
	}
	return g.client.Put(ctx, oneroster.FileCategories, c.ID, record)
}

func categoryRecord(c grade.Category) oneroster.Category {
	record := oneroster.Category{Base: oneroster.Base{SourcedID: c.ID, Status: oneroster.Active}, Title: c.Title}
	if c.Weight >= 0 {
		weight := oneroster.Number(c.Weight)
		record.Weight = &weight
	}
	return record
}

// PutItem makes or changes a line item of a class, and gives its id there.
func (g *Gradebook) PutItem(ctx context.Context, x Item) (string, error) {
	return g.client.Put(ctx, oneroster.FileLineItems, x.ID, itemRecord(x))
}

func itemRecord(x Item) oneroster.LineItem {
	maximum := oneroster.Number(x.Maximum)
	return oneroster.LineItem{
		Base:  oneroster.Base{SourcedID: x.ID, Status: oneroster.Active},
		Title: x.Title, AssignDate: oneroster.Moment{Time: x.Assigned}, DueDate: oneroster.Moment{Time: x.Due},
		Class: *ref("class", x.Class), Category: ref("category", x.Category),
		GradingPeriod: ref("academicSession", x.Period), ScoreScale: ref("scoreScale", x.Scale),
		ResultValueMax: &maximum,
	}
}

// PutResult writes a mark, which is in the book's terms, and gives the result's id there.
func (g *Gradebook) PutResult(ctx context.Context, id, item, student string, m grade.Mark, at time.Time) (string,
	error,
) {
	return g.client.Put(ctx, oneroster.FileResults, id, resultRecord(id, item, student, m, at))
}

func resultRecord(id, item, student string, m grade.Mark, at time.Time) oneroster.Result {
	r := oneroster.Result{
		Base:     oneroster.Base{SourcedID: id, Status: oneroster.Active},
		LineItem: *ref("lineItem", item), Student: *ref("user", student), ScoreDate: oneroster.Moment{Time: at},
		Comment: m.Comment, Late: oneroster.Bool(m.Flags&grade.Late != 0),
		Missing: oneroster.Bool(m.Flags&grade.Missing != 0), Incomplete: oneroster.Bool(m.Flags&grade.Incomplete != 0),
	}
	switch m.Kind {
	case grade.Points:
		score := oneroster.Number(m.Points)
		r.Score, r.ScoreStatus = &score, oneroster.ScoreFullyGraded
	case grade.Text:
		r.TextScore, r.ScoreStatus = m.Text, oneroster.ScoreFullyGraded
	case grade.Done:
		r.ScoreStatus = oneroster.ScoreFullyGraded
	case grade.None:
		r.ScoreStatus = oneroster.ScoreSubmitted
	}
	switch {
	case m.Flags&grade.Exempt != 0:
		r.ScoreStatus = oneroster.ScoreExempt
	case m.Flags&grade.NotSubmitted != 0:
		r.ScoreStatus = oneroster.ScoreNotSubmitted
	}
	return r
}

// DeleteResult makes a result blank by deleting it. That there is none is no error.
func (g *Gradebook) DeleteResult(ctx context.Context, id string) error {
	return g.client.Delete(ctx, oneroster.FileResults, id)
}

// ReadResult reads one result again, to see whether it arrived; found is false when there is none.
func (g *Gradebook) ReadResult(ctx context.Context, id string) (r Result, found bool, err error) {
	record, found, err := g.client.One(ctx, oneroster.FileResults, id)
	if err != nil || !found {
		return r, false, err
	}
	r, err = HeldOf(record)
	return r, err == nil && !r.Deleted, err
}

// Record reads one record of a collection as it is; found is false when there is none.
func (g *Gradebook) Record(ctx context.Context, collection, id string) (r oneroster.Record, found bool, err error) {
	return g.client.One(ctx, collection, id)
}

// row gives a record as a row of its file, by column.
func row(file string, record any) map[string]string {
	text, err := json.Marshal(record)
	if err != nil {
		return map[string]string{}
	}
	r, err := oneroster.Parse(file, text)
	if err != nil {
		return map[string]string{}
	}
	out := map[string]string{}
	for _, column := range oneroster.Headers[file] {
		if value := r.Get(column); value != "" {
			out[column] = value
		}
	}
	return out
}

// CategoryRow is a category as a row of categories.csv.
func CategoryRow(c grade.Category) map[string]string {
	return row(oneroster.FileCategories, categoryRecord(c))
}

// ItemRow is an assignment as a row of lineItems.csv.
func ItemRow(x Item) map[string]string { return row(oneroster.FileLineItems, itemRecord(x)) }

// ResultRow is a mark, which is in the book's terms, as a row of results.csv.
func ResultRow(id, item, student string, m grade.Mark, at time.Time) map[string]string {
	return row(oneroster.FileResults, resultRecord(id, item, student, m, at))
}
