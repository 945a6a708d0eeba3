// Package rules reads and applies the conditions by which accounts get labels.
//
// A condition is an expression of the Common Expression Language (CEL), in its standard
// syntax, over what is known of one account and of what depends on it. It is checked
// when it is written: a field that is not there, or a comparison of things of two kinds,
// is an error with its place and not a rule that never matches. It cannot ask anybody,
// has no loops but those over lists, and is bounded in length and depth.
//
// A rule puts its label on every account that its condition holds for. A rule that
// excludes keeps a label from those accounts, whoever else gives it: an exclusion always
// wins, also over people.
package rules

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
)

// MaxLength is how long a condition may be, in bytes.
const MaxLength = 4000

// maxNested is how many lists may be gone through within one another.
const maxNested = 2

// costLimit is what a condition that goes through lists within lists may cost for one
// account, in the language's own units: about a comparison each.
const costLimit = 1_000_000

// Error says what is wrong with a condition, and where.
type Error struct {
	Line, Column int // from 1; 0 when it has no place
	What         string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return e.What
	}
	return fmt.Sprintf("line %d, character %d: %s", e.Line, e.Column, e.What)
}

// Condition is one that was checked. Safe for concurrent use.
type Condition struct {
	program cel.Program
	loops   bool            // it goes through lists
	nested  bool            // and through lists within lists
	builds  bool            // it makes lists of its own
	uses    map[string]bool // variables
}

// Compile checks a condition.
func Compile(text string) (*Condition, error) {
	switch {
	case strings.TrimSpace(text) == "":
		return nil, &Error{What: "it is empty: write a condition such as account.name.startsWith(\"svc-\")"}
	case len(text) > MaxLength:
		return nil, &Error{What: fmt.Sprintf("it is %d bytes long, at most %d are read", len(text), MaxLength)}
	}
	env := environment()
	checked, issues := env.Compile(text)
	if issues.Err() != nil {
		return nil, firstOf(issues)
	}
	if checked.OutputType() != cel.BoolType {
		return nil, &Error{What: fmt.Sprintf("it gives a %s; a condition gives true or false", checked.OutputType())}
	}
	c := &Condition{uses: map[string]bool{}}
	depth := c.look(checked.NativeRep())
	if depth > maxNested {
		return nil, &Error{What: fmt.Sprintf("it goes through lists %d deep, at most %d", depth, maxNested)}
	}
	options := []cel.ProgramOption{cel.EvalOptions(cel.OptOptimize), cel.InterruptCheckFrequency(256)}
	c.nested = depth > 1
	if c.nested { // what goes through a list once is bounded by the list; within another one it may build what no memory holds
		options = append(options, cel.CostLimit(costLimit))
	}
	program, err := env.Program(checked, options...)
	if err != nil {
		return nil, &Error{What: err.Error()} // a pattern that is none, for instance
	}
	c.program = program
	return c, nil
}

var celPlace = regexp.MustCompile(`\s*\(in container '.*?'\)`)

func firstOf(issues *cel.Issues) *Error {
	all := issues.Errors()
	if len(all) == 0 {
		return &Error{What: issues.Err().Error()}
	}
	e := all[0]
	return &Error{Line: e.Location.Line(), Column: e.Location.Column() + 1, What: celPlace.ReplaceAllString(e.Message, "")}
}

// look notes what a condition uses, and returns how deep it goes through lists.
func (c *Condition) look(checked *ast.AST) int {
	for _, reference := range checked.ReferenceMap() {
		if reference.Name != "" {
			c.uses[reference.Name] = true
		}
	}
	var depth func(e ast.Expr) int
	depth = func(e ast.Expr) (most int) {
		for _, child := range children(e) {
			most = max(most, depth(child))
		}
		switch e.Kind() {
		case ast.ComprehensionKind:
			c.loops = true
			most++
		case ast.ListKind, ast.MapKind:
			c.builds = c.builds || len(children(e)) > 0
		}
		return most
	}
	return depth(checked.Expr())
}

func children(e ast.Expr) (out []ast.Expr) {
	switch e.Kind() {
	case ast.CallKind:
		call := e.AsCall()
		out = append(out, call.Args()...)
		if call.IsMemberFunction() {
			out = append(out, call.Target())
		}
	case ast.ComprehensionKind:
		l := e.AsComprehension()
		out = append(out, l.IterRange(), l.AccuInit(), l.LoopCondition(), l.LoopStep(), l.Result())
	case ast.ListKind:
		out = append(out, e.AsList().Elements()...)
	case ast.SelectKind:
		out = append(out, e.AsSelect().Operand())
	case ast.MapKind:
		for _, entry := range e.AsMap().Entries() {
			out = append(out, entry.AsMapEntry().Key(), entry.AsMapEntry().Value())
		}
	case ast.StructKind:
		for _, field := range e.AsStruct().Fields() {
			out = append(out, field.AsStructField().Value())
		}
	}
	return out
}

// NeedsDependents reports whether a condition looks at what depends on an account.
func (c *Condition) NeedsDependents() bool { return c.uses[variableDependents] }

// ErrFailed is wrapped by errors of conditions that were right and could not be decided
// for an account: a division by nothing, a conversion of what is no number.
var ErrFailed = errors.New("the condition could not be decided")

// short is how long the lists of an account may be for a condition that goes through them
// once to be let run to its end: being stopped on the way costs as much as the rest.
const short = 64

// stoppable: it is worth being stopped on its way.
func (c *Condition) stoppable(facts *Facts) bool {
	return c.loops && (c.nested || c.builds || facts.longest > short)
}

// Matches decides about an account. Conditions that may take long look at ctx on their way.
func (c *Condition) Matches(ctx context.Context, facts *Facts) (bool, error) {
	var err error
	var out interface{ Value() any }
	if c.stoppable(facts) {
		out, _, err = c.program.ContextEval(ctx, facts)
	} else {
		out, _, err = c.program.Eval(facts)
	}
	if ctx.Err() != nil {
		return false, ctx.Err()
	}
	if err != nil {
		return false, fmt.Errorf("%w: %w", ErrFailed, err)
	}
	matches, _ := out.Value().(bool)
	return matches, nil
}
