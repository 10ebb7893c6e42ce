package linking

import (
	"archive/zip"
	"bytes"
	"context"
	"io"
	"strconv"
	"time"

	"kanban/internal/store"
	"kanban/internal/wire/sheet"
)

// copied is a safety copy in the making.
type copied struct {
	content                  []byte
	people, several, results int
}

// copy writes rosters and results of sections, and who is in the targets of their
// pairings, as a ZIP of CSV files.
func (s *Service) copy(ctx context.Context, sectionIDs []string, pairings []store.Pairing) (c copied, err error) {
	var rosters, members [][]string
	seen := map[string]string{}
	several := map[string]bool{}
	for _, id := range sectionIDs {
		section, err := s.Store.Section(ctx, id)
		if err != nil {
			return c, err
		}
		lines, err := s.Store.RosterOn(ctx, id, s.Now())
		if err != nil {
			return c, err
		}
		for _, l := range lines {
			if in, ok := seen[l.PersonID]; ok && in != id {
				several[l.PersonID] = true
			}
			seen[l.PersonID] = id
			rosters = append(rosters, []string{section.Code, section.Title, l.Name, l.Identifier, l.Role, l.JoinedAt.UTC().Format(time.RFC3339)})
		}
	}
	results, err := s.Store.ResultsOf(ctx, sectionIDs)
	if err != nil {
		return c, err
	}
	lines := make([][]string, len(results))
	for i, r := range results {
		lines[i] = []string{r.Code, r.Person, r.Identifier, strconv.Itoa(r.Percent), r.State, r.UpdatedAt.UTC().Format(time.RFC3339)}
	}
	for _, p := range pairings {
		source, err := s.Store.Source(ctx, p)
		if err != nil {
			return c, err
		}
		for _, m := range source.Placed {
			members = append(members, []string{p.TargetName, p.TargetRef, m.Name, m.AccountID})
		}
	}
	c.people, c.several, c.results = len(seen), len(several), len(results)
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, f := range []struct {
		name   string
		header []string
		rows   [][]string
	}{
		{"rosters.csv", []string{"section code", "section", "person", "identifier", "role", "joined"}, rosters},
		{"results.csv", []string{"section code", "person", "identifier", "percent", "state", "updated"}, lines},
		{"members.csv", []string{"class", "id at the service", "person", "account"}, members},
	} {
		var w io.Writer
		if w, err = z.CreateHeader(&zip.FileHeader{Name: f.name, Method: zip.Deflate, Modified: s.Now()}); err == nil {
			err = sheet.CSV(w, f.header, f.rows)
		}
		if err != nil {
			return c, err
		}
	}
	err = z.Close()
	c.content = out.Bytes()
	return c, err
}
