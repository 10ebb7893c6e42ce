package scores_test

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kanban/internal/adapter"
	"kanban/internal/app/scores"
	"kanban/internal/core/finding"
	"kanban/internal/core/grade"
	"kanban/internal/core/refusal"
	"kanban/internal/store/connectionstore"
	"kanban/internal/store/runstore"
	"kanban/internal/store/scorestore"
	"kanban/internal/wire/oneroster"
)

// filesSchool is a school with gradebooks of files on both sides, and section A linked.
func filesSchool(t *testing.T) (x *school, l scorestore.Link) {
	t.Helper()
	x = open(t)
	x.source = x.Connect(adapter.KindScoreFile, "Marks as files", nil)
	x.book = x.Connect(adapter.KindScoreFile, "Book as files", map[string]string{"decimals": "1"})
	x.upload(x.source, marksPackage(nil))
	p := scores.UsualPolicy()
	p.Makes = true
	n := scores.NewLink{
		SetID: x.setID, SourceInterfaceID: x.source.ID, SourceClass: "c", BookInterfaceID: x.book.ID, Policy: &p,
	}
	l, err := x.Scores.Make(t.Context(), "test", n)
	require.NoError(t, err)
	return x, l
}

func (x *school) upload(to connectionstore.Interface, content []byte) {
	x.t.Helper()
	_, err := x.Scores.Upload(x.t.Context(), "Maud", to.ID, content)
	require.NoError(x.t, err)
}

// marksPackage is a package of where work is marked; change changes its rows.
func marksPackage(change func(map[string]oneroster.Table)) []byte {
	row := func(pairs ...string) map[string]string {
		out := map[string]string{}
		for i := 0; i < len(pairs); i += 2 {
			out[pairs[i]] = pairs[i+1]
		}
		return out
	}
	tables := map[string]oneroster.Table{
		oneroster.FileCategories: {Mode: oneroster.Bulk, Rows: []map[string]string{row("sourcedId", "k", "title",
			"Work")}},
		oneroster.FileLineItems: {Mode: oneroster.Bulk, Rows: []map[string]string{
			row("sourcedId", "i", "title", "Essay", "classSourcedId", "c", "categorySourcedId", "k", "resultValueMax",
				"20"),
		}},
		oneroster.FileResults: {Mode: oneroster.Bulk, Rows: []map[string]string{
			row("sourcedId", "r1", "lineItemSourcedId", "i", "studentSourcedId", "stu-002", "scoreStatus",
				"fully graded", "score",
				"17,25"),
			row("sourcedId", "r2", "lineItemSourcedId", "i", "studentSourcedId", "stu-003", "scoreStatus",
				"fully graded", "score",
				"11"),
		}},
	}
	if change != nil {
		change(tables)
	}
	var out bytes.Buffer
	if err := oneroster.WritePackage(&out, "test", tables); err != nil {
		panic(err)
	}
	return out.Bytes()
}

// waiting is what waits to be put into the book, by file.
func (x *school) waiting() map[string]string {
	x.t.Helper()
	var out bytes.Buffer
	require.NoError(x.t, x.Scores.Package(x.t.Context(), x.book.ID, &out))
	archive, err := zip.NewReader(bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(x.t, err)
	files := map[string]string{}
	for _, f := range archive.File {
		in, err := f.Open()
		require.NoError(x.t, err)
		text, err := io.ReadAll(in)
		require.NoError(x.t, err)
		files[f.Name] = string(text)
	}
	return files
}

// A package says in a file of its own which score scale an assignment has.
func TestScoreScalesOfPackages(t *testing.T) {
	x, l := filesSchool(t)
	scaled := func(upper string) []byte {
		return marksPackage(func(m map[string]oneroster.Table) {
			m[oneroster.FileScoreScales] = oneroster.Table{Mode: oneroster.Bulk, Rows: []map[string]string{{
				"sourcedId": "s", "title": "Words", "scoreScaleValue": "{merit:16-" + upper + "}",
			}}}
			m[oneroster.FileItemScales] = oneroster.Table{Mode: oneroster.Bulk, Rows: []map[string]string{{
				"sourcedId": "x", "lineItemSourcedId": "i", "scoreScaleSourcedId": "s",
			}}}
			m[oneroster.FileResults].Rows[0]["score"] = ""
			m[oneroster.FileResults].Rows[0]["textScore"] = "Merit"
		})
	}
	for _, upper := range []string{"20", "19"} {
		x.upload(x.source, scaled(upper))
		assert.Equal(t, upper, x.entry(x.preview(l), "Essay", "stu-002").Ours.String())
	}
}

// From files into files: what is carried is handed over until a package of the book shows it, and nothing that the
// book may have is replaced meanwhile.
func TestScoresGoFromFilesIntoFiles(t *testing.T) {
	x, l := filesSchool(t)
	p := x.preview(l)
	assert.Equal(t, "17.3", x.entry(p, "Essay", "stu-002").Ours.String())
	r := x.run(p, false)
	assert.Equal(t, runstore.Finished, r.State, "%s %v", r.Error, r.Counts)
	assert.Equal(t, 2, r.Counts["scored"])
	p = x.preview(l)
	assert.Equal(t, finding.ScoreHandedOver, x.entry(p, "Essay", "stu-002").Reason)
	assert.Zero(t, p.Plan.Counts().Changes())
	files := x.waiting()
	assert.Equal(t, 3, strings.Count(files["results.csv"], "\r\n"))
	assert.Equal(t, 4, strings.Count(files["lineItems.csv"], "\r\n"), "one for each section")
	assert.Contains(t, files["manifest.csv"], "file.results,delta")

	// A score that changes after it was handed over replaces nothing that nobody knows.
	x.upload(x.source, marksPackage(func(m map[string]oneroster.Table) { m["results"].Rows[0]["score"] = "18" }))
	assert.Equal(t, finding.BookNotRead, x.entry(x.preview(l), "Essay", "stu-002").Reason)

	// The book's own package shows one of both, with another value, and not the other.
	rows, err := x.Scores.Assignments(t.Context(), l.ID)
	require.NoError(t, err)
	var items []map[string]string
	for _, a := range rows {
		items = append(items, map[string]string{
			"sourcedId": a.BookItem, "title": "Essay", "classSourcedId": "sec-prop-a", "resultValueMax": "20",
		})
	}
	lines := strings.Split(strings.TrimSpace(files["results.csv"]), "\r\n")
	columns := strings.Split(lines[0], ",")
	first := map[string]string{}
	for i, value := range strings.Split(lines[1], ",") {
		first[columns[i]] = value
	}
	x.upload(x.book, marksPackage(func(m map[string]oneroster.Table) {
		m["lineItems"] = oneroster.Table{Mode: oneroster.Bulk, Rows: items}
		m["results"] = oneroster.Table{Mode: oneroster.Bulk, Rows: []map[string]string{first}}
	}))
	p = x.preview(l)
	reasons := map[finding.Code]int{}
	for _, item := range p.Plan.Items {
		for _, e := range item.Entries {
			reasons[e.Reason]++
		}
	}
	assert.Len(t, reasons, 2, "%v", reasons)
	assert.NotContains(t, x.waiting()["results.csv"], first["sourcedId"], "what arrived is not handed over again")
}

// What a run handed over and the book has is reverted by a file too, and is over once the book has it no more.
func TestScoresInFilesAreReverted(t *testing.T) {
	x, l := filesSchool(t)
	r := x.run(x.preview(l), false)
	require.Equal(t, 2, r.Counts["scored"])
	arrived := x.waiting()
	x.upload(x.book, packageOf(t, arrived, oneroster.FileLineItems, oneroster.FileResults))
	require.NotContains(t, x.waiting(), "results.csv", "all of it has arrived")
	p, err := x.Scores.Revert(t.Context(), r.ID)
	require.NoError(t, err)
	back := x.run(p, false)
	assert.Equal(t, runstore.Finished, back.State, "%s %v", back.Error, back.Counts)
	assert.Equal(t, 2, back.Counts["reverted"])
	waiting := x.waiting()
	assert.Equal(t, 2, strings.Count(waiting["results.csv"], oneroster.ToBeDeleted))

	for _, of := range [][]string{{oneroster.FileLineItems}, {oneroster.FileLineItems, oneroster.FileResults}} {
		x.upload(x.book, packageOf(t, arrived, of...)) // says nothing about scores, or is older than the file for it
		assert.Equal(t, waiting["results.csv"], x.waiting()["results.csv"])
	}
	arrived["results.csv"], _, _ = strings.Cut(arrived["results.csv"], "\r\n")
	x.upload(x.book, packageOf(t, arrived, oneroster.FileLineItems, oneroster.FileResults))
	assert.NotContains(t, x.waiting(), "results.csv")
	assert.Equal(t, 2, x.preview(l).Plan.Counts()[grade.New], "it may be carried again")
}

// packageOf is a package of some files, each saying all that there is.
func packageOf(t *testing.T, files map[string]string, collections ...string) []byte {
	t.Helper()
	tables := map[string]oneroster.Table{}
	for _, c := range collections {
		rows, err := csv.NewReader(strings.NewReader(files[c+".csv"])).ReadAll()
		require.NoError(t, err)
		table := oneroster.Table{Mode: oneroster.Bulk}
		for _, values := range rows[1:] {
			row := map[string]string{}
			for i, value := range values {
				row[rows[0][i]] = value
			}
			table.Rows = append(table.Rows, row)
		}
		tables[c] = table
	}
	var out bytes.Buffer
	require.NoError(t, oneroster.WritePackage(&out, "test", tables))
	return out.Bytes()
}

// Packages that cannot be read are refused, with what they had before still there.
func TestPackagesThatCannotBeReadChangeNothing(t *testing.T) {
	x, l := filesSchool(t)
	whole := marksPackage(nil)
	for _, content := range [][]byte{nil, []byte("PK"), whole[:len(whole)/2], []byte("sourcedId,title\n")} {
		_, err := x.Scores.Upload(t.Context(), "Maud", x.source.ID, content)
		_, is := refusal.As(err)
		require.True(t, is, "%v", err)
	}
	_, err := x.Scores.Upload(t.Context(), "Maud", x.register.ID, whole)
	require.ErrorContains(t, err, "is no gradebook of files")
	assert.Equal(t, 2, x.preview(l).Plan.Counts()[grade.New])
}

// Whatever is damaged in a package ends nothing: what was carried stays as it is.
func TestDamagedPackagesEndNothing(t *testing.T) {
	x, l := filesSchool(t)
	x.run(x.preview(l), false)
	whole := marksPackage(nil)
	archive, err := zip.NewReader(bytes.NewReader(whole), int64(len(whole)))
	require.NoError(t, err)
	files := map[string][]byte{}
	for _, f := range archive.File {
		in, err := f.Open()
		require.NoError(t, err)
		files[f.Name], err = io.ReadAll(in)
		require.NoError(t, err)
	}
	rapid.Check(t, func(r *rapid.T) {
		name := rapid.SampledFrom([]string{"results.csv", "lineItems.csv", "categories.csv", "manifest.csv"}).Draw(r,
			"file")
		text := bytes.Clone(files[name])
		at := rapid.IntRange(0, len(text)-1).Draw(r, "at")
		switch rapid.IntRange(0, 3).Draw(r, "damage") {
		case 0:
			text = text[:at]
		case 1:
			text[at] = rapid.Byte().Draw(r, "byte")
		case 2:
			text = append(text[:at:at], append([]byte(`"`), text[at:]...)...)
		case 3:
			text = append(text[:at:at], text[min(len(text), at+rapid.IntRange(1, 9).Draw(r, "cut")):]...)
		}
		var out bytes.Buffer
		w := zip.NewWriter(&out)
		for other, content := range files {
			f, err := w.Create(other)
			require.NoError(t, err)
			if other == name {
				content = text
			}
			_, err = f.Write(content)
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		_, err := x.Scores.Upload(t.Context(), "Maud", x.source.ID, out.Bytes())
		if _, refused := refusal.As(err); err != nil && !refused {
			r.Fatalf("%v", err)
		}
		p, err := x.Scores.Preview(t.Context(), l.ID, 0)
		if err != nil {
			r.Fatalf("%v", err)
		}
		for _, item := range p.Plan.Items {
			for _, e := range item.Entries {
				if e.Outcome == grade.Replacing || e.Outcome == grade.Update || !e.Was.Blank() &&
					e.Outcome == grade.New {
					r.Fatalf("a damaged %s would change the book: %+v", name, e)
				}
			}
		}
		x.upload(x.source, whole)
	})
}
