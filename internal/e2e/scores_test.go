package e2e_test

import (
	"archive/zip"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/client"
	"kanban/internal/scenario"
	"kanban/internal/wire/api"
	"kanban/internal/wire/oneroster"
)

// marked is a world in which teachers have marked work, and both gradebooks are connected.
func marked(t *testing.T) *world {
	t.Helper()
	w := newWorld(t)
	w.to(w.Connect, w.ReadRegister, w.Gradebooks, w.Marking)
	return w
}

// inBook changes a score in the book, as the office does.
func (w *world) inBook(item, learner, score string) {
	w.t.Helper()
	resp, err := http.PostForm(w.At.Register+"/book", url.Values{
		"item": {item}, "learner": {learner}, "score": {score},
	})
	require.NoError(w.t, err)
	require.NoError(w.t, resp.Body.Close())
	require.Equal(w.t, http.StatusOK, resp.StatusCode)
}

// bookItem is the id in the book of an assignment of a section.
func (w *world) bookItem(title, section string) string {
	w.t.Helper()
	links, err := client.Get[api.Page[api.ScoreLink]](w.t.Context(), w.Client, "/score-links")
	require.NoError(w.t, err)
	require.Len(w.t, links.Items, 1)
	all, err := client.Get[api.Page[api.Assignment]](w.t.Context(), w.Client,
		"/score-links/"+links.Items[0].ID+"/assignments")
	require.NoError(w.t, err)
	for _, a := range all.Items {
		if a.Title == title && a.Section == section && a.Book != nil {
			return a.Book.ID
		}
	}
	w.t.Fatalf("%s is not in the book of %s", title, section)
	return ""
}

// Scores of a linked set are carried from the console: set up once, one left out, previewed, run, decided, reverted.
func TestConsoleScores(t *testing.T) {
	w := marked(t)
	env := []string{"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir()}
	w.signIn(env)
	w.expecting(env)(0, "are one now", "sections", "link", "PROP-A", "PROP-B", "PROP-C", "--apply")
	b := w.browse("/scores")
	b.sees("There is no score link yet.")
	b.click("Make a score link…")
	b.set("#score-link-section", "PROP-B")
	b.press(`//*[contains(@class,"p-autocomplete-overlay")]//li[@role="option"][contains(., "Propagation")]`)
	b.sees("It is in the linked set Propagation")
	b.choose("score-source", scenario.MarksName)
	b.choose("score-class", "propagation")
	b.choose("score-book", scenario.BookName)
	b.sees("Learners in both")
	b.click("Make it")

	b.sees("It says which score somebody has")
	b.sees("no due date")
	b.sees("outside the grading periods")
	b.press(`//tr[contains(., "Walk through the garden") and contains(., "Propagation A")]//input[@type="checkbox"]`)
	b.sees("1 chosen")
	b.click("Leave out…")
	b.fill("leave-out-why", "a walk is no work")
	b.press(`//div[@role="dialog"]//button[normalize-space(.)="Leave out"]`)
	b.sees("left out: a walk is no work")

	b.click("See what is carried")
	b.sees("Assignments that are carried: 6 of 6")
	b.sees("Made in the book first: Tests.")
	b.press(`//button[starts-with(normalize-space(.), "Carry 9 scores, make 6 assignments")]`)
	b.sees("6 assignments made")
	b.sees("9 scored")
	b.click("to the score link")
	b.press(`//button[starts-with(normalize-space(.), "Carry scores")]`)
	b.sees("Nothing new to carry.")
	b.sees("3 scores in 3 assignments: still a draft.")

	w.inBook(w.bookItem("Report on cuttings", "Propagation A"), "stu-001", "20")
	b.click("Look anew")
	b.sees("1 score differs and stays as it is in the book.")
	b.picture("scores")
	b.press(`//button[normalize-space(.)="Carry 18"]`)
	b.sees("to replace")
	b.press(`//button[starts-with(normalize-space(.), "Carry 1 score")]`)
	b.sees("Replace 1 value of the book?")
	b.click("Replace")
	b.sees("1 replaced")
	b.click("Revert…")
	b.sees("Revert 1 score")
	b.click("Revert 1 score")
	b.sees("1 reverted")
	assert.Contains(t, w.text(w.At.Register+"/book?item="+w.bookItem("Report on cuttings", "Propagation A")),
		`value="20"`)
}

// Scores that come as files are carried from the console: uploaded where the score link is made, what cannot be
// read is said, and what is carried waits in a package for the book.
func TestConsoleScoresInFiles(t *testing.T) {
	w := marked(t)
	env := []string{"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir()}
	w.signIn(env)
	expect := w.expecting(env)
	for _, name := range []string{"Exam office", "Exam archive"} {
		expect(0, "Connected", "connections", "add", name)
		expect(0, "uploaded by hand", "interfaces", "add", name, "oneroster-gradebook-csv")
	}
	b := w.browse("/scores")
	b.click("Make a score link…")
	b.set("#score-link-section", "PROP-A")
	b.press(`//*[contains(@class,"p-autocomplete-overlay")]//li[@role="option"][contains(., "Propagation")]`)
	b.choose("score-source", "Exam office")
	broken := filepath.Join(t.TempDir(), "broken.zip")
	require.NoError(t, os.WriteFile(broken, []byte("PK and nothing else"), 0o600))
	field := `input[aria-label="Upload a package of Exam office"]`
	b.do(chromedp.SetUploadFiles(field, []string{broken}))
	b.sees("the package cannot be read")
	b.do(chromedp.SetUploadFiles(field, []string{w.exams()}))
	b.sees("Read; 1 record could not be understood.")
	b.choose("score-class", "propagation")
	b.choose("score-book", "Exam archive")
	b.click("Make it")
	b.sees("It says which score somebody has")
	b.press(`//button[starts-with(normalize-space(.), "Carry scores") or normalize-space(.)="See what is carried"]`)
	b.press(`[aria-label="Whose is it? x-17, Written exam"]`)
	b.sees("Exam office has scores of x-17, whom nobody knows here.")
	b.finds("name, address or identifier", "Elsa", "Elsa Elder")
	b.click("They are theirs")
	b.press(`//button[starts-with(normalize-space(.), "Carry 2 scores")]`)
	b.sees("2 scored")
	b.click("to the score link")
	b.click("Set-up")
	b.sees("Scores given by hand")
	b.press(`[aria-label="Revert: scores of x-17 are those of Elsa Elder"]`)
	b.until(`!document.body.innerText.includes("Scores given by hand")`)
	b.sees("Download the package for the book")
	file := filepath.Join(t.TempDir(), "for-the-book.zip")
	expect(0, "", "scores", "package", "Exam archive", file)
	archive, err := zip.OpenReader(file)
	require.NoError(t, err)
	defer archive.Close()
	in, err := archive.Open("results.csv")
	require.NoError(t, err)
	text, err := io.ReadAll(in)
	require.NoError(t, err)
	assert.Equal(t, 1, strings.Count(string(text), "stu-002"), "%s", text)
	assert.Equal(t, 1, strings.Count(string(text), "stu-005"), "%s", text)
	expect(0, "handed over", "scores", "preview", "Propagation A", "--all")
}

// exams writes a package of an exam that can be read but for one of its scores.
func (w *world) exams() string {
	w.t.Helper()
	path := filepath.Join(w.t.TempDir(), "exams.zip")
	file, err := os.Create(path)
	require.NoError(w.t, err)
	defer file.Close()
	require.NoError(w.t, oneroster.WritePackage(file, "Exam office", map[string]oneroster.Table{
		oneroster.FileCategories: {
			Mode: oneroster.Bulk, Rows: []map[string]string{{"sourcedId": "k", "title": "Exams"}},
		},
		oneroster.FileLineItems: {Mode: oneroster.Bulk, Rows: []map[string]string{{
			"sourcedId": "i", "title": "Written exam", "classSourcedId": "propagation", "categorySourcedId": "k",
			"resultValueMax": "20",
		}}},
		oneroster.FileResults: {Mode: oneroster.Bulk, Rows: []map[string]string{
			{
				"sourcedId": "r1", "lineItemSourcedId": "i", "studentSourcedId": "stu-002",
				"scoreStatus": "fully graded", "score": "17,25",
			},
			{"lineItemSourcedId": "i", "studentSourcedId": "stu-003", "scoreStatus": "fully graded", "score": "11"},
			{
				"sourcedId": "r3", "lineItemSourcedId": "i", "studentSourcedId": "x-17",
				"scoreStatus": "fully graded", "score": "9",
			},
		}},
	}))
	return path
}

// text is what a page of a stand-in says.
func (w *world) text(address string) string {
	w.t.Helper()
	resp, err := http.Get(address)
	require.NoError(w.t, err)
	defer func() { _ = resp.Body.Close() }()
	text, err := io.ReadAll(resp.Body)
	require.NoError(w.t, err)
	return string(text)
}

// A template says what score links of an organisation begin with, and what is expected; the next term begins with
// copies. A learner who has joined since the register was read gets their score in the run that reads it first, a
// mover's goes on when somebody says so, and what was deleted where it was marked is deleted in the book only
// then.
func TestConsoleScoresOverTime(t *testing.T) {
	w := marked(t)
	env := []string{"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir()}
	w.signIn(env)
	expect := w.expecting(env)
	b := w.browse("/scores")
	b.click("Templates")
	b.sees("There is no template yet.")
	b.click("New template…")
	b.set(`[role="dialog"] input[type="text"]`, "House rules")
	b.choose("score-template-organisation", "Fernmoor Garden School")
	b.click("Add a category")
	b.set(`input[aria-label="Title of category 1"]`, "Course work")
	b.set(`input[aria-label="Weight of category 1"]`, "60")
	b.press(`//div[@role="dialog"]//label[contains(., "Make categories")]`)
	b.press(`//div[@role="dialog"]//button[normalize-space(.)="Save"]`)
	b.sees("Course work 60 %")
	expect(0, "Fernmoor Garden School", "scores", "templates")
	expect(0, "Made the score link", "scores", "add", "PROP-A", "--from", scenario.MarksName, "--class", "propagation",
		"--to", scenario.BookName, "--apply")
	expect(0, "60 %", "scores", "mismatches", "Propagation A")
	expect(0, "no section follows", "scores", "follow", "--ahead", "90")
	expect(0, "6 scored", "scores", "run", "Propagation A")

	require.NoError(t, w.form(t, w.At.Register+"/office/enrolments", "section", "sec-prop-a", "person", "stu-050"))
	require.NoError(t, w.form(t, w.At.Platform+"/marking", "item", "cuttings-report", "learner", "stu-050",
		"score", "14", "release", "1"))
	links, err := client.Get[api.Page[api.ScoreLink]](t.Context(), w.Client, "/score-links")
	require.NoError(t, err)
	b.open("/scores/" + links.Items[0].ID + "?tab=set-up")
	b.sees("What is set up differently")
	b.sees("with what the template “House rules” expects")
	b.open("/scores/" + links.Items[0].ID + "?tab=scores")
	b.sees("because of who is in which section")
	b.press(`//label[contains(., "Read the register and bring the classes in step first")]`)
	b.press(`//button[starts-with(normalize-space(.), "Bring in step, then carry")]`)
	b.sees("the register was read")
	b.sees("1 scored")

	require.NoError(t, w.form(t, w.At.Platform+"/marking", "item", "cuttings-test", "learner", "stu-050",
		"score", "20", "release", "1"))
	b.open("/scores")
	b.press(`//button[@aria-label="Carry what is final of Propagation A"]`) // one action, once it is set up
	b.sees("1 scored")

	require.NoError(t, w.form(t, w.At.Platform+"/marking/withdraw", "item", "cuttings-report", "learner", "stu-050"))
	b.open("/scores/" + links.Items[0].ID + "?tab=scores")
	b.sees("deleted at the source")
	b.click("Delete it in the book")
	b.press(`//button[starts-with(normalize-space(.), "Carry 1 score")]`)
	b.sees("Replace 1 value of the book?")
	b.click("Replace")
	b.sees("1 replaced")
}

// The same from the command line.
func TestCommandLineScores(t *testing.T) {
	w := marked(t)
	env := []string{"KANBAN_ADDRESS=" + w.service.Address, "XDG_CONFIG_HOME=" + t.TempDir()}
	w.signIn(env)
	expect := w.expecting(env)
	expect(0, "There is no score link yet", "scores", "list")
	expect(0, "are one now", "sections", "link", "PROP-A", "PROP-B", "PROP-C", "--apply")
	expect(0, "propagation", "scores", "classes", scenario.MarksName)
	link := []string{
		"scores", "add", "PROP-A", "--from", scenario.MarksName, "--class", "propagation", "--to",
		scenario.BookName,
	}
	expect(0, "Nothing was done", append(link, "--make-categories")...)
	expect(0, "Made the score link", append(link, "--make-categories", "--apply")...)
	expect(1, "carries the scores of propagation into", append(link, "--apply")...)
	expect(0, "never run", "scores", "list")
	expect(0, "60 %", "scores", "categories", "Propagation")
	expect(0, "no due date", "scores", "assignments", "Propagation", "--not-ready")
	expect(0, "Changed 3 assignments", "scores", "set", "Propagation", "Herbarium", "--leave-out", "next term")
	expect(0, "next term", "scores", "assignments", "Propagation")
	expect(0, "Changed 3 assignments", "scores", "set", "Propagation", "Herbarium", "--take-in")
	expect(2, "there is no assignment", "scores", "set", "Propagation", "Nothing", "--take-in")
	expect(0, "above the maximum", "scores", "preview", "Propagation")
	expect(0, "Ada Alder", "scores", "preview", "Propagation", "--outcome", "new", "-o", "csv")
	expect(2, "the preview has no assignment", "scores", "run", "Propagation", "--only", "Nothing")
	expect(0, "2 scored", "scores", "run", "Propagation", "--only", "Cuttings: what do you know?")
	out := expect(0, "7 scored", "scores", "run", "Propagation")
	run := regexp.MustCompile(`Run ([0-9a-f-]{36}) of`).FindStringSubmatch(out)
	require.Len(t, run, 2, out)
	expect(0, "Nothing new to carry", "scores", "run", "Propagation")
	w.inBook(w.bookItem("Report on cuttings", "Propagation A"), "stu-001", "20")
	expect(0, "changed in the book", "scores", "preview", "Propagation")
	expect(0, "needs a person", "scores", "list")
	expect(2, `no assignment is in a grading period "Never"`, "scores", "decide", "Propagation", "theirs",
		"--period", "Never")
	expect(0, "Decided about 1 score", "scores", "decide", "Propagation", "theirs", "--person", "stu-001",
		"--period", "first term, first half")
	expect(0, "decided", "scores", "preview", "Propagation", "--outcome", "kept")
	expect(0, "Nothing was done", "scores", "revert", run[1])
	expect(0, "6 reverted", "scores", "revert", run[1], "--apply")
	expect(0, "scores for School register", "runs", "list")
	expect(0, ",yes,", "scores", "periods", "Propagation", "--final", "First term, first half", "-o", "csv")
	expect(0, "the period is final", "scores", "preview", "Propagation")
	expect(0, "2026", "scores", "periods", "Propagation", "--open", "First term, first half", "-o", "csv")
	expect(0, "paused", "scores", "pause", "Propagation")
	expect(1, "is paused; resume it first", "scores", "run", "Propagation")
	expect(0, "Propagation: needs a person", "scores", "resume", "Propagation")
	expect(0, "runs daily", "scores", "edit", "Propagation", "--schedule", "daily 18:00", "--flag", "missing=zero")
	expect(0, "work is marked there", "scores", "show", "Propagation")
	expect(0, "stays there", "scores", "end", "Propagation")
}
