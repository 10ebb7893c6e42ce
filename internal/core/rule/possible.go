package rule

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	celast "cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
)

// Domain is which values an attribute can have.
type Domain struct {
	OneOf []any // exactly these, where there are any
	// Low and High bound a number otherwise; Whole says that it has no fraction.
	Low, High float64
	Whole     bool
	Missing   bool   // it may not be there at all
	About     string // in words: "event.percent is …"
}

// Domains are those of a trigger's events: what is known of their values wherever the
// rule is about.
func Domains(t Trigger) map[string]Domain {
	out := map[string]Domain{"event.type": {OneOf: []any{string(t)}, About: fmt.Sprintf("event.type is %q", t)}}
	for _, f := range Schema(t) {
		switch f.Path {
		case "event.score":
			out[f.Path] = Domain{
				Low: -1, High: 1, Missing: true,
				About: "event.score lies between -1 and 1, so 80 % is 0.8",
			}
		case "event.percent", "progress.percent":
			out[f.Path] = Domain{High: 100, Whole: true, About: f.Path + " lies between 0 and 100"}
		}
	}
	return out
}

// mostCombinations bounds how many values are tried out together.
const mostCombinations = 5_000

// CheckPossible reports why a condition over the trigger's events can never hold, given
// which values attributes can have; what is not in domains can have any. It says so only
// where it is certain.
func (x *Expressions) CheckPossible(text string, t Trigger, domains map[string]Domain) error {
	if strings.TrimSpace(text) == "" {
		return nil
	}
	compiled, err := x.compile(text)
	if err != nil {
		return err
	}
	tried, whole := candidates(compiled, domains)
	if whole {
		return nil // who goes through all that an event has cannot be foreseen
	}
	combinations := 1
	for _, values := range tried {
		if combinations *= len(values); combinations > mostCombinations {
			return nil
		}
	}
	program, err := x.env.Program(compiled, cel.EvalOptions(cel.OptPartialEval), cel.CostLimit(CostLimit))
	if err != nil {
		return fmt.Errorf("%w: %w", ErrExpression, err)
	}
	paths := slices.Sorted(maps.Keys(tried))
	var open []*cel.AttributePatternType
	for _, root := range Roots {
		if !slices.ContainsFunc(paths, func(p string) bool { return strings.HasPrefix(p, root+".") }) {
			open = append(open, cel.AttributePattern(root))
		}
	}
	for _, f := range Schema(t) {
		root, name, _ := strings.Cut(f.Path, ".")
		if _, ok := tried[f.Path]; !ok {
			open = append(open, cel.AttributePattern(root).QualString(name))
		}
	}
	for n := range combinations {
		values := map[string]any{}
		for _, root := range Roots {
			values[root] = map[string]any{}
		}
		absent := false
		for _, path := range paths {
			v := tried[path][n%len(tried[path])]
			n /= len(tried[path])
			root, name, _ := strings.Cut(path, ".")
			if absent = absent || v == missing; v != missing {
				values[root].(map[string]any)[name] = v
			}
		}
		vars, err := cel.PartialVars(values, open...)
		if err != nil {
			return fmt.Errorf("%w: %w", ErrExpression, err)
		}
		out, _, err := program.Eval(vars)
		if err != nil && !absent || err == nil && (types.IsUnknown(out) || out.Value() != false) {
			return nil
		}
	}
	var why []string
	for _, path := range paths {
		why = append(why, domains[path].About)
	}
	if len(why) == 0 {
		return fmt.Errorf("%w: it can never hold", ErrExpression)
	}
	return fmt.Errorf("%w: it can never hold: %s", ErrExpression, strings.Join(why, "; "))
}

type nowhere struct{}

var missing any = nowhere{}

var compares = []string{
	operators.Equals, operators.NotEquals, operators.Less, operators.LessEquals,
	operators.Greater, operators.GreaterEquals,
}

// candidates gives the values by which it shows whether an expression can hold, for each
// attribute of domains that it names: all that there are, or, of a number that is only
// compared with written ones, one of each stretch between them. whole says that it names
// something that holds attributes otherwise than by one of them.
func candidates(compiled *cel.Ast, domains map[string]Domain) (out map[string][]any, whole bool) {
	out = map[string][]any{}
	ends, vague := map[string][]float64{}, map[string]bool{}
	for _, e := range celast.MatchDescendants(celast.NavigateAST(compiled.NativeRep()),
		celast.KindMatcher(celast.IdentKind)) {
		if !slices.Contains(Roots, e.AsIdent()) {
			continue
		}
		parent, ok := e.Parent()
		if !ok || parent.Kind() != celast.SelectKind {
			return nil, true
		}
		path := e.AsIdent() + "." + parent.AsSelect().FieldName()
		d, known := domains[path]
		if !known {
			continue
		}
		if len(d.OneOf) > 0 {
			out[path] = d.OneOf
			continue
		}
		ends[path] = append(ends[path], d.Low, d.High)
		if parent.AsSelect().IsTestOnly() {
			continue
		}
		n, ok := comparedWith(parent)
		vague[path] = vague[path] || !ok
		ends[path] = append(ends[path], n)
	}
	for path, all := range ends {
		if vague[path] {
			continue
		}
		d := domains[path]
		if d.Missing {
			out[path] = append(out[path], missing)
		}
		slices.Sort(all)
		for i, n := range all {
			between := []float64{n}
			if d.Whole {
				between = []float64{n - 1, n, n + 1}
			} else if i > 0 {
				between = append(between, (n+all[i-1])/2)
			}
			for _, v := range between {
				switch {
				case v < d.Low || v > d.High:
				case d.Whole:
					out[path] = append(out[path], int64(v))
				default:
					out[path] = append(out[path], v)
				}
			}
		}
	}
	return out, false
}

// comparedWith gives the written number with which an attribute is compared; ok is false
// where it is used in another way.
func comparedWith(e celast.NavigableExpr) (n float64, ok bool) {
	parent, there := e.Parent()
	if !there || parent.Kind() != celast.CallKind || !slices.Contains(compares, parent.AsCall().FunctionName()) {
		return 0, false
	}
	for _, arg := range parent.AsCall().Args() {
		if arg.Kind() != celast.LiteralKind {
			continue
		}
		switch v := arg.AsLiteral().Value().(type) {
		case int64:
			return float64(v), true
		case uint64:
			return float64(v), true
		case float64:
			return v, true
		}
	}
	return 0, false
}
