package rule

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/ext"
)

// CostLimit bounds one evaluation of an expression, in the units of CEL's cost
// model (about one unit per operation). It stops runaway comprehensions while
// leaving room for any sensible condition.
const CostLimit = 20_000

// MaxLength is the longest expression accepted, in bytes.
const MaxLength = 4_000

// ErrExpression is wrapped by every error about an expression that cannot be
// used; its text tells where and why.
var ErrExpression = errors.New("expression cannot be used")

// Roots are the names an expression can start from. Each is a map of text keys.
// "award" is what an earlier action of the same rule awarded, "progress" where the
// person stands now, which may be long after the event, and "answer" what a service
// answered, for success conditions.
var Roots = []string{"event", "person", "section", "course", "module", "activity", "award", "progress", "answer"}

// Values gives each of Roots its content; a missing root is an empty map.
type Values map[string]map[string]any

var nothing = map[string]any{}

// ResolveName gives the content of a root, as expressions look it up.
func (v Values) ResolveName(root string) (any, bool) {
	if content := v[root]; content != nil {
		return content, true
	}
	return nothing, slices.Contains(Roots, root)
}

// Parent says that there is nowhere else to look.
func (v Values) Parent() cel.Activation { return nil }

// Expressions compiles and evaluates CEL expressions and keeps what it has
// compiled. It is safe for concurrent use.
type Expressions struct {
	env      *cel.Env
	mu       sync.Mutex
	compiled map[string]cel.Program
}

// maxCompiled bounds the memory kept for compiled expressions.
const maxCompiled = 2_000

// NewExpressions prepares the environment with Roots and the string functions.
func NewExpressions() *Expressions {
	options := []cel.EnvOption{ext.Strings()}
	for _, root := range Roots {
		options = append(options, cel.Variable(root, cel.MapType(cel.StringType, cel.DynType)))
	}
	env, err := cel.NewEnv(options...)
	if err != nil {
		panic("rule: building the expression environment: " + err.Error())
	}
	return &Expressions{env: env, compiled: map[string]cel.Program{}}
}

// CheckCondition reports why text cannot be a condition: it does not compile or
// is not a true-or-false expression. An empty text is always true.
func (x *Expressions) CheckCondition(text string) error {
	if strings.TrimSpace(text) == "" {
		return nil
	}
	ast, err := x.compile(text)
	if err != nil {
		return err
	}
	if t := ast.OutputType(); !t.IsExactType(cel.BoolType) && !t.IsExactType(cel.DynType) {
		return fmt.Errorf("%w: a condition must be true or false, this is %s", ErrExpression, t)
	}
	return nil
}

// CheckValue reports why text cannot be a mapping.
func (x *Expressions) CheckValue(text string) error {
	_, err := x.compile(text)
	return err
}

// Holds evaluates a condition.
func (x *Expressions) Holds(condition string, values Values) (bool, error) {
	if strings.TrimSpace(condition) == "" {
		return true, nil
	}
	out, err := x.evaluate(condition, values)
	if err != nil {
		return false, err
	}
	held, ok := out.Value().(bool)
	if !ok {
		return false, fmt.Errorf("%w: %q gave %v instead of true or false", ErrExpression, condition, out.Value())
	}
	return held, nil
}

// Value evaluates a mapping to a JSON-like value.
func (x *Expressions) Value(text string, values Values) (any, error) {
	out, err := x.evaluate(text, values)
	if err != nil {
		return nil, err
	}
	native, err := out.ConvertToNative(reflect.TypeFor[any]())
	if err != nil {
		return out.Value(), nil
	}
	return native, nil
}

func (x *Expressions) evaluate(text string, values Values) (ref.Val, error) {
	program, err := x.program(text)
	if err != nil {
		return nil, err
	}
	out, _, err := program.Eval(values)
	if err != nil {
		return nil, fmt.Errorf("%w: %q: %w", ErrExpression, text, err)
	}
	return out, nil
}

func (x *Expressions) compile(text string) (*cel.Ast, error) {
	if len(text) > MaxLength {
		return nil, fmt.Errorf("%w: it is longer than %d characters", ErrExpression, MaxLength)
	}
	ast, issues := x.env.Compile(text)
	if issues.Err() != nil {
		return nil, fmt.Errorf("%w: %w", ErrExpression, issues.Err())
	}
	return ast, nil
}

func (x *Expressions) program(text string) (cel.Program, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if p, ok := x.compiled[text]; ok {
		return p, nil
	}
	ast, err := x.compile(text)
	if err != nil {
		return nil, err
	}
	p, err := x.env.Program(ast, cel.CostLimit(CostLimit), cel.InterruptCheckFrequency(100))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrExpression, err)
	}
	if len(x.compiled) >= maxCompiled {
		clear(x.compiled)
	}
	x.compiled[text] = p
	return p, nil
}
