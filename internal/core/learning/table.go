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
var Columns = []string{"module", "module title", "activity", "title", "kind", "required", "pass mark", "inside", "done by", "module required"}

// RowError says what is wrong with a row of a table.
type RowError struct {
	Row     int // counted from 1, the header being row 1
	Problem string
}

func (e RowError) Error() string { return fmt.Sprintf("row %d: %s", e.Row, e.Problem) }

// FromTable reads an outline out of a table with a header. It gives every row that is
// wrong; the outline can be used when there is none.
func FromTable(rows [][]string) (o Outline, wrong []RowError) {
	if len(rows) == 0 {
		return o, []RowError{{1, "there is no header"}}
	}
	at := map[string]int{}
	for i, name := range rows[0] {
		at[strings.ToLower(strings.TrimSpace(strings.TrimPrefix(name, "\ufeff")))] = i
	}
	for _, name := range []string{"module", "activity", "kind"} {
		if _, ok := at[name]; !ok {
			wrong = append(wrong, RowError{1, fmt.Sprintf("the column %q is missing; the columns are %s", name, strings.Join(Columns, ", "))})
		}
	}
	if len(wrong) > 0 {
		return o, wrong
	}
	type placed struct {
		Activity
		module, inside string
		row            int
	}
	var list []placed
	seen := map[string]bool{}
	for i, row := range rows[1:] {
		get := func(name string) string {
			if c, ok := at[name]; ok && c < len(row) {
				return strings.TrimSpace(row[c])
			}
			return ""
		}
		fail := func(format string, args ...any) {
			wrong = append(wrong, RowError{i + 2, fmt.Sprintf(format, args...)})
		}
		if strings.TrimSpace(strings.Join(row, "")) == "" {
			continue
		}
		module := get("module")
		m := slices.IndexFunc(o.Modules, func(m Module) bool { return m.ID == module })
		if m < 0 {
			o.Modules = append(o.Modules, Module{ID: module})
			m = len(o.Modules) - 1
		}
		if title := get("module title"); title != "" && o.Modules[m].Title == "" {
			o.Modules[m].Title = title
		}
		yes := func(name string) bool {
			switch strings.ToLower(get(name)) {
			case "", "yes", "true", "1":
				return true
			case "no", "false", "0":
			default:
				fail("%s is %q; write yes or no", name, get(name))
			}
			return false
		}
		if !yes("module required") {
			o.Modules[m].Optional = true
		}
		a := Activity{ID: get("activity"), Title: get("title"), Kind: Kind(strings.ToLower(get("kind")))}
		a.Optional = !yes("required")
		switch strings.ToLower(get("done by")) {
		case "", "itself":
		case "inside":
			a.DoneByInside = true
		default:
			fail("done by is %q; write itself or inside", get("done by"))
		}
		if text := strings.TrimSpace(get("pass mark")); text != "" {
			mark, err := strconv.ParseFloat(strings.TrimSuffix(text, "%"), 64)
			if strings.HasSuffix(text, "%") {
				mark /= 100
			}
			if err != nil || mark < -1 || mark > 1 {
				fail("the pass mark is %q; write 0.6 or 60%%", text)
			}
			a.PassMark = &mark
		}
		switch {
		case module == "" || a.ID == "":
			fail("a module and an activity are needed")
		case a.Kind != Lesson && a.Kind != Assessment && a.Kind != Assignment:
			fail("the kind is %q; write lesson, assessment or assignment", a.Kind)
		case seen[a.ID]:
			fail("the activity %q stands in an earlier row", a.ID)
		}
		seen[a.ID] = true
		list = append(list, placed{a, module, get("inside"), i + 2})
	}
	for i := range o.Modules {
		if o.Modules[i].Title == "" {
			o.Modules[i].Title = o.Modules[i].ID
		}
	}
	// From the last row up, so that what is nested is whole before it is put into what
	// holds it; rows may stand in any order.
	var nest func(module, inside string, depth int) []Activity
	used := 0
	nest = func(module, inside string, depth int) (out []Activity) {
		if depth > maxDepth {
			return nil
		}
		for _, p := range list {
			if p.module == module && p.inside == inside {
				used++
				p.Activities = nest(module, p.ID, depth+1)
				out = append(out, p.Activity)
			}
		}
		return out
	}
	for i := range o.Modules {
		o.Modules[i].Activities = nest(o.Modules[i].ID, "", 0)
	}
	if used != len(list) && len(wrong) == 0 {
		for _, p := range list {
			if p.inside != "" && !slices.ContainsFunc(list, func(q placed) bool { return q.ID == p.inside && q.module == p.module }) {
				wrong = append(wrong, RowError{p.row, fmt.Sprintf("it stands inside %q, which is not an activity of its module", p.inside)})
			}
		}
		if len(wrong) == 0 {
			wrong = append(wrong, RowError{1, "activities stand inside each other in a circle, or too deep"})
		}
	}
	return o, wrong
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
				out = append(out, []string{m.ID, m.Title, a.ID, a.Title, string(a.Kind), yesNo(!a.Optional), mark, inside, by, yesNo(!m.Optional)})
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
