package pipeline_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/rule"
	"kanban/internal/store/deliverystore"
)

// orders gives every order of n things.
func orders(n int) (all [][]int) {
	var grow func(done []int)
	grow = func(done []int) {
		if len(done) == n {
			all = append(all, slices.Clone(done))
			return
		}
		for i := range n {
			if !slices.Contains(done, i) {
				grow(append(slices.Clone(done), i))
			}
		}
	}
	grow(nil)
	return all
}

// Fail, pass, fail, pass ends as passed, and fail, pass, fail as failed, in whatever order the
// results come to be known; what was done once is undone once.
func TestResultsInAnyOrderEndTheSame_E8(t *testing.T) {
	for _, c := range []struct {
		results string
		counts  rule.Counts
		failed  bool // the label for a fail is there in the end
	}{
		{"fpfp", rule.EveryResult, false},
		{"fpf", rule.LatestResult, true},
		{"fpf", rule.BestResult, false},
		{"fpf", rule.FirstResult, true},
		{"pf", rule.FirstResult, false},
		{"pf", rule.EveryResult, true},
	} {
		for _, once := range []bool{true, false} {
			t.Run(fmt.Sprintf("%s, %s counts, once %v", c.results, c.counts, once), func(t *testing.T) {
				w, _ := apptest.Clocked(t)
				labels := w.Labels()
				w.Rule(rule.Draft{
					Name: "after a fail", Trigger: "assessment.failed", OncePerPerson: once,
					UndoneBy: []string{"assessment.passed"}, Counts: c.counts, Actions: []rule.Action{
						{
							Kind: rule.CallOperation, InterfaceID: labels.ID, Operation: "add-label",
							Fields: map[string]string{"email": "person.email", "label": `"to-repeat"`},
						},
					},
				})
				people := []string{
					"stu-001", "stu-002", "stu-003", "stu-009", "stu-010", "stu-011", "stu-014",
					"stu-015", "stu-016", "stu-017", "stu-018", "stu-019", "stu-020", "stu-021", "stu-022", "stu-023",
					"stu-024", "stu-025", "stu-026", "stu-027", "stu-028", "stu-029", "stu-030", "stu-031",
				}
				for n, order := range orders(len(c.results)) {
					who, came := people[n], ""
					for _, i := range order {
						kind := rule.AssessmentPassed
						if c.results[i] == 'f' {
							kind = rule.AssessmentFailed
						}
						e := w.About(kind, fmt.Sprintf("%s-%d", who, i), who)
						e.OccurredAt = time.Date(2026, 11, 2, 8+i, 0, 0, 0, time.UTC)
						w.Record(e)
						w.Deliver()
						came += fmt.Sprintf("%c%d ", c.results[i], i+1)
					}
					id := w.Person(who).ID
					adds, removes := 0, 0
					for _, d := range w.DeliveriesThat(deliverystore.DeliveryFilter{PersonID: id}) {
						switch {
						case d.State != deliverystore.DeliveryDelivered:
						case d.Undoes == nil:
							adds++
						default:
							removes++
						}
						assert.LessOrEqual(t, d.Attempts, 1)
					}
					there := false
					for _, x := range w.Standins.Contacts.Contacts() {
						there = there || strings.EqualFold(x.Email, w.Person(who).Email) &&
							slices.Contains(x.Labels, "to-repeat")
					}
					require.Equal(t, c.failed, there, "%s", came)
					if once {
						assert.Equal(t, c.failed, adds-removes == 1, "done and undone in pairs: %s", came)
					} else {
						assert.Equal(t, c.failed, adds > removes, "%s", came)
					}
				}
			})
		}
	}
}
