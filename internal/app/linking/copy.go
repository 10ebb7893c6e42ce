package linking

import (
	"archive/zip"
	"bytes"
	"context"
	"io"
	"strconv"
	"time"

	"kanban/internal/store/db"
	"kanban/internal/store/linkstore"
	"kanban/internal/store/pairingstore"
	"kanban/internal/store/rosterstore"
	"kanban/internal/wire/sheet"
)

// gathered is what a safety copy holds.
type gathered struct {
	rosters, results, members [][]string
	people, several           int
}

// gather reads rosters and results of sections, and who is in the targets of their
// pairings.
func (s *Service) gather(ctx context.Context, sectionIDs []string, pairings []pairingstore.Pairing) (g gathered,
	err error,
) {
	seen := map[string]string{}
	several := map[string]bool{}
	sections, err := rosterstore.SectionsByID(ctx, s.Store, sectionIDs)
	if err != nil {
		return g, err
	}
	for _, section := range sections {
		lines, err := rosterstore.RosterOn(ctx, s.Store, section.ID, s.Clock.Now())
		if err != nil {
			return g, err
		}
		for _, l := range lines {
			if in, ok := seen[l.PersonID]; ok && in != section.ID {
				several[l.PersonID] = true
			}
			seen[l.PersonID] = section.ID
			g.rosters = append(g.rosters, []string{
				section.Code, section.Title, l.Name, l.Identifier, l.Role,
				l.JoinedAt.UTC().Format(time.RFC3339),
			})
		}
	}
	results, err := linkstore.ResultsOf(ctx, s.Store, sectionIDs)
	if err != nil {
		return g, err
	}
	for _, r := range results {
		best := ""
		if r.Best != nil {
			best = strconv.FormatFloat(*r.Best, 'g', -1, 64)
		}
		g.results = append(g.results, []string{
			r.SectionID, r.PersonID, r.Code, r.Person, r.Identifier, r.ActivityID, strconv.FormatBool(r.Completed),
			strconv.FormatBool(r.Passed), strconv.FormatBool(r.Failed), best,
			r.FirstAt.UTC().Format(time.RFC3339Nano), r.LastAt.UTC().Format(time.RFC3339Nano),
			strconv.Itoa(r.Percent),
		})
	}
	for _, p := range pairings {
		source, err := pairingstore.Source(ctx, s.Store, p)
		if err != nil {
			return g, err
		}
		for _, m := range source.Placed {
			g.members = append(g.members, []string{p.TargetName, p.TargetRef, m.Name, m.AccountID})
		}
	}
	g.people, g.several = len(seen), len(several)
	return g, nil
}

// keep makes a safety copy of it for a set.
func (g gathered) keep(setID string, at time.Time) (linkstore.SafetyCopy, error) {
	content, err := g.zip(at)
	return linkstore.SafetyCopy{
		ID: db.NewID(), SetID: setID, Content: content, People: g.people,
		Results: len(g.results), CreatedAt: at.UTC(),
	}, err
}

// zip writes it as a ZIP of CSV files.
func (g gathered) zip(at time.Time) ([]byte, error) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, f := range []struct {
		name   string
		header []string
		rows   [][]string
	}{
		{"rosters.csv", []string{"section code", "section", "person", "identifier", "role", "joined"}, g.rosters},
		{"results.csv", []string{
			"section id", "person id", "section code", "person", "identifier", "activity",
			"completed", "passed", "failed", "best score", "first", "last", "percent of the course",
		}, g.results},
		{"members.csv", []string{"class", "id at the service", "person", "account"}, g.members},
	} {
		var w io.Writer
		w, err := z.CreateHeader(&zip.FileHeader{Name: f.name, Method: zip.Deflate, Modified: at})
		if err == nil {
			err = sheet.CSV(w, f.header, f.rows)
		}
		if err != nil {
			return nil, err
		}
	}
	err := z.Close()
	return out.Bytes(), err
}
