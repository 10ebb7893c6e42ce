package linking

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"

	"kanban/internal/core/learning"
	"kanban/internal/core/refusal"
	"kanban/internal/store/db"
	"kanban/internal/store/jobs"
	"kanban/internal/store/learningstore"
	"kanban/internal/store/linkstore"
)

// PutBack is what putting a safety copy back would mean. Rosters come from the register and
// classes follow it, so that what can be lost, and is put back, are results.
type PutBack struct {
	Copy  linkstore.SafetyCopy // without what it holds
	Back  []BackResult         // results that are no longer there
	There int                  // results that are there still, and stay as they are
	Gone  int                  // results of people or sections that are no longer known
}

// BackResult is a result that is put back.
type BackResult struct {
	Code, Person, Identifier, ActivityID string
	reached                              learningstore.Reached
}

// errOlder says that a copy lacks what putting it back needs.
var errOlder = refusal.Conflict("",
	"this copy was kept before copies could be put back: download it, and use its tables")

// PuttingBack says what putting a safety copy back would mean; nothing is done.
func (s *Service) PuttingBack(ctx context.Context, copyID string) (PutBack, error) {
	kept, err := linkstore.FindSafetyCopy(ctx, s.Store, copyID)
	if err != nil {
		return PutBack{}, err
	}
	results, err := held(kept.Content)
	if err != nil {
		return PutBack{}, err
	}
	kept.Content = nil
	out := PutBack{Copy: kept}
	keys := make([]linkstore.ResultKey, len(results))
	for i, r := range results {
		keys[i] = linkstore.ResultKey{
			PersonID: r.reached.PersonID, SectionID: r.reached.SectionID,
			ActivityID: r.ActivityID,
		}
	}
	known, there, err := linkstore.KnownResults(ctx, s.Store, keys)
	if err != nil {
		return out, err
	}
	for i, r := range results {
		switch k := keys[i]; {
		case there[k]:
			out.There++
		case !known[k.PersonID] || !known[k.SectionID]:
			out.Gone++
		default:
			out.Back = append(out.Back, r)
		}
	}
	return out, nil
}

// PutBack puts the results of a safety copy back that are no longer there, and lets progress
// be worked out from them. Nothing is sent for what happened once already.
func (s *Service) PutBack(ctx context.Context, who, copyID string) (PutBack, error) {
	x, err := s.PuttingBack(ctx, copyID)
	if err != nil {
		return x, err
	}
	if len(x.Back) == 0 {
		return x, refusal.Conflict("",
			"nothing of this copy is missing: %d results are there still, %d are of people or sections that are gone",
			x.There, x.Gone)
	}
	results := make([]learningstore.Reached, len(x.Back))
	for i, b := range x.Back {
		results[i] = b.reached
	}
	return x, s.Store.InTx(ctx, func(tx *db.Tx) error {
		courses, err := linkstore.RestoreResults(ctx, tx, results)
		if err != nil {
			return err
		}
		for _, c := range courses {
			if err := tx.Enqueue(ctx, jobs.RecountCourse{CourseID: c}); err != nil {
				return err
			}
		}
		return tx.Audit(ctx, who, "put results of a safety copy back", "set/"+x.Copy.SetID,
			map[string]any{"copy": copyID, "results": len(results)})
	})
}

// held reads the results that a safety copy holds.
func held(content []byte) ([]BackResult, error) {
	z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return nil, fmt.Errorf("reading the safety copy: %w", err)
	}
	f, err := z.Open("results.csv")
	if err != nil {
		return nil, fmt.Errorf("reading the safety copy: %w", err)
	}
	defer f.Close()
	rows := csv.NewReader(f)
	header, err := rows.Read()
	if err != nil {
		return nil, fmt.Errorf("reading the safety copy: %w", err)
	}
	if len(header) != 13 || header[0] != "section id" {
		return nil, errOlder
	}
	var list []BackResult
	for {
		row, err := rows.Read()
		if errors.Is(err, io.EOF) {
			return list, nil
		}
		var r BackResult
		if err == nil {
			r, err = backResult(row)
		}
		if err != nil {
			return nil, fmt.Errorf("reading the safety copy, result %d: %w", len(list)+1, err)
		}
		list = append(list, r)
	}
}

func backResult(row []string) (BackResult, error) {
	first, err := time.Parse(time.RFC3339Nano, row[10])
	last, err2 := time.Parse(time.RFC3339Nano, row[11])
	if err = errors.Join(err, err2); err != nil {
		return BackResult{}, err
	}
	state := learning.ActivityState{
		First: first, Last: last, Completed: row[6] == "true", Passed: row[7] == "true",
		Failed: row[8] == "true",
	}
	if row[9] != "" {
		best, err := strconv.ParseFloat(row[9], 64)
		if err != nil {
			return BackResult{}, err
		}
		state.Best = &best
	}
	return BackResult{
		Code: row[2], Person: row[3], Identifier: row[4], ActivityID: row[5],
		reached: learningstore.Reached{
			PersonID: row[1], SectionID: row[0], ActivityID: row[5],
			ActivityState: state,
		},
	}, nil
}
