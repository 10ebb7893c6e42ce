package persons_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kanban/internal/apptest"
	"kanban/internal/core/roster"
	"kanban/internal/store/personstore"
)

// BenchmarkMergeManyPeople times two schools of 5,000 people each who are the same: looking who they are, merging all
// of them, and reading the second register again.
func BenchmarkMergeManyPeople(b *testing.B) {
	const many = 5000
	people := make([]apptest.Pupil, many)
	for i := range people {
		people[i] = apptest.Pupil{
			ID: fmt.Sprint("p-", i), Identifier: fmt.Sprint("id-", i), Email: fmt.Sprintf("p%d@fernmoor.example", i),
			Given: fmt.Sprint("Given", i), Family: "Family",
		}
	}
	for b.Loop() {
		w := apptest.New(b)
		w.SecondSchool(people...)
		second := w.Connect("oneroster-csv", "Second", map[string]string{})
		w.ReadSecond(second, people...)
		ctx := b.Context()
		began := time.Now()
		require.NoError(b, w.Persons.LookFor(ctx, second.ID))
		looked := time.Now()
		_, counts, err := w.Persons.Same(ctx, personstore.SameFilter{Limit: 100})
		require.NoError(b, err)
		require.Equal(b, many, counts[string(roster.Sure)])
		listed := time.Now()
		done, err := w.Persons.MergeSame(ctx, "bench", nil, true, many)
		require.NoError(b, err)
		for _, o := range done {
			require.Empty(b, o.Why)
		}
		merged := time.Now()
		w.ReadSecond(second, people...)
		b.ReportMetric(looked.Sub(began).Seconds(), "s-look")
		b.ReportMetric(float64(listed.Sub(looked).Milliseconds()), "ms-page")
		b.ReportMetric(merged.Sub(listed).Seconds(), "s-merge")
		b.ReportMetric(time.Since(merged).Seconds(), "s-read-again")
	}
}
