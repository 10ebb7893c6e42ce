package learning

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Columns of an outline as a table: one row per activity, in their order. Inside names
// the activity that holds it, and done by says whether that is done by itself or by what
// is inside it; a module's title, and whether it is required, may stand in its first row
// only.
var Columns = []string{
	"module", "module title", "activity", "title", "kind", "required", "pass mark", "inside",
	"done by", "module required",
}

// RowError says what is wrong with a row of a table.
type RowError struct {
	Row     int // counted from 1, the header being row 1
	Problem string
}

func (e RowError) Error() string { return fmt.Sprintf("row %d: %s", e.Row, e.Problem) }

// FromTable reads an outline out of a table with a header. It gives every row that is
// wrong; the outline can be used when there is none.
func FromTable(rows [][]string) (Outline, []RowError) {
	x := &table{at: map[string]int{}, seen: map[string]bool{}}
	if !x.header(rows) {
		return x.outline, x.wrong
	}
	for i, row := range rows[1:] {
		if strings.TrimSpace(strings.Join(row, "")) != "" {
			x.row(tableRow{x, i + 2, row})
		}
	}
	for i := range x.outline.Modules {
		m := &x.outline.Modules[i]
		if m.Title == "" {
			m.Title = m.ID
		}
		m.Activities = x.nest(m.ID, "", 0)
	}
	if x.used != len(x.list) && len(x.wrong) == 0 {
		x.misplaced()
	}
	return x.outline, x.wrong
}

// table is an outline while it is read out of a table.
type table struct {
	at      map[string]int // the columns by name
	outline Outline
	list    []placed
	seen    map[string]bool // activities
	used    int             // of the list, those that stand where they can
	wrong   []RowError
}

// placed is an activity with the module and the activity that hold it.
type placed struct {
	Activity
	module, inside string
	row            int
}

// tableRow is one row.
type tableRow struct {
	*table
	n     int
	cells []string
}

func (x *table) header(rows [][]string) bool {
	if len(rows) == 0 {
		x.wrong = []RowError{{1, "there is no header"}}
		return false
	}
	for i, name := range rows[0] {
		x.at[strings.ToLower(strings.TrimSpace(strings.TrimPrefix(name, "\ufeff")))] = i
	}
	for _, name := range []string{"module", "activity", "kind"} {
		if _, ok := x.at[name]; !ok {
			x.wrong = append(x.wrong, RowError{1, fmt.Sprintf("the column %q is missing; the columns are %s", name,
				strings.Join(Columns, ", "))})
		}
	}
	return len(x.wrong) == 0
}

func (r tableRow) get(name string) string {
	if c, ok := r.at[name]; ok && c < len(r.cells) {
		return strings.TrimSpace(r.cells[c])
	}
	return ""
}

func (r tableRow) fail(format string, args ...any) {
	r.wrong = append(r.wrong, RowError{r.n, fmt.Sprintf(format, args...)})
}

// yes reads a column that says yes or no; yes when it is empty.
func (r tableRow) yes(name string) bool {
	switch strings.ToLower(r.get(name)) {
	case "", "yes", "true", "1":
		return true
	case "no", "false", "0":
	default:
		r.fail("%s is %q; write yes or no", name, r.get(name))
	}
	return false
}

func (x *table) row(r tableRow) {
	module := r.get("module")
	m := slices.IndexFunc(x.outline.Modules, func(m Module) bool { return m.ID == module })
	if m < 0 {
		x.outline.Modules = append(x.outline.Modules, Module{ID: module})
		m = len(x.outline.Modules) - 1
	}
	if title := r.get("module title"); title != "" && x.outline.Modules[m].Title == "" {
		x.outline.Modules[m].Title = title
	}
	if !r.yes("module required") {
		x.outline.Modules[m].Optional = true
	}
	a := r.activity()
	switch {
	case module == "" || a.ID == "":
		r.fail("a module and an activity are needed")
	case a.Kind != Lesson && a.Kind != Assessment && a.Kind != Assignment:
		r.fail("the kind is %q; write lesson, assessment or assignment", a.Kind)
	case x.seen[a.ID]:
		r.fail("the activity %q stands in an earlier row", a.ID)
	}
	x.seen[a.ID] = true
	x.list = append(x.list, placed{a, module, r.get("inside"), r.n})
}

func (r tableRow) activity() Activity {
	a := Activity{ID: r.get("activity"), Title: r.get("title"), Kind: Kind(strings.ToLower(r.get("kind")))}
	a.Optional = !r.yes("required")
	switch strings.ToLower(r.get("done by")) {
	case "", "itself":
	case "inside":
		a.DoneByInside = true
	default:
		r.fail("done by is %q; write itself or inside", r.get("done by"))
	}
	if text := r.get("pass mark"); text != "" {
		mark, err := strconv.ParseFloat(strings.TrimSuffix(text, "%"), 64)
		if strings.HasSuffix(text, "%") {
			mark /= 100
		}
		if err != nil || mark < -1 || mark > 1 {
			r.fail("the pass mark is %q; write 0.6 or 60%%", text)
		}
		a.PassMark = &mark
	}
	return a
}

// nest gives the activities of a module that stand inside another one, whole with what is
// inside them; rows may stand in any order.
func (x *table) nest(module, inside string, depth int) (out []Activity) {
	if depth > maxDepth {
		return nil
	}
	for _, p := range x.list {
		if p.module == module && p.inside == inside {
			x.used++
			p.Activities = x.nest(module, p.ID, depth+1)
			out = append(out, p.Activity)
		}
	}
	return out
}

// misplaced says which activities stand nowhere.
func (x *table) misplaced() {
	for _, p := range x.list {
		if p.inside != "" && !slices.ContainsFunc(x.list,
			func(q placed) bool { return q.ID == p.inside && q.module == p.module }) {
			x.wrong = append(x.wrong,
				RowError{p.row, fmt.Sprintf("it stands inside %q, which is not an activity of its module", p.inside)})
		}
	}
	if len(x.wrong) == 0 {
		x.wrong = append(x.wrong, RowError{1, "activities stand inside each other in a circle, or too deep"})
	}
}

func yesNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

// Table gives an outline as a table with a header.
func (o Outline) Table() [][]string {
	out := [][]string{Columns}
	for _, m := range o.Modules {
		var rows func(list []Activity, inside string)
		rows = func(list []Activity, inside string) {
			for _, a := range list {
				mark, by := "", ""
				if a.DoneByInside {
					by = "inside"
				}
				if a.PassMark != nil {
					mark = strconv.FormatFloat(*a.PassMark, 'g', -1, 64)
				}
				out = append(out, []string{
					m.ID, m.Title, a.ID, a.Title, string(a.Kind), yesNo(!a.Optional), mark,
					inside, by, yesNo(!m.Optional),
				})
				rows(a.Activities, a.ID)
			}
		}
		rows(m.Activities, "")
	}
	return out
}

// Learn adds an activity to an outline that nobody gave; ok is false when it is there
// already, or when the outline was given.
func Learn(o Outline, moduleID, moduleTitle string, a Activity) (Outline, bool) {
	if len(o.Modules) > 0 && !o.Learned {
		return o, false
	}
	if _, _, there := o.Find(a.ID); there || a.ID == "" {
		return o, false
	}
	o.Learned = true
	o.Modules = slices.Clone(o.Modules)
	i := slices.IndexFunc(o.Modules, func(m Module) bool { return m.ID == moduleID })
	if i < 0 {
		o.Modules = append(o.Modules, Module{ID: moduleID, Title: moduleTitle})
		i = len(o.Modules) - 1
	}
	o.Modules[i].Activities = append(slices.Clone(o.Modules[i].Activities), a)
	return o, true
}
