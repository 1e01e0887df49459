package main

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"slices"
	"strings"
)

// fault is one change to a file: the bytes from … to become text.
type fault struct {
	file     string
	source   []byte
	from, to int
	line     int
	inside   string // the function
	nth      int    // among those of the function that read alike
	text     string
	beside   bool // of a value beside an error, which nobody looks at
}

func (f fault) apply() []byte {
	return append(append(append([]byte(nil), f.source[:f.from]...), f.text...), f.source[f.to:]...)
}

func (f fault) was() string { return short(string(f.source[f.from:f.to])) }

func (f fault) String() string {
	return fmt.Sprintf("%s:%d %s: %s → %s", f.file, f.line, f.inside, f.was(), short(f.text))
}

// name tells a fault from others wherever its line moves to.
func (f fault) name() string {
	return fmt.Sprintf("%s %s #%d: %s → %s", f.file, f.inside, f.nth, f.was(), short(f.text))
}

func short(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if len(text) > 70 {
		text = text[:70] + "…"
	}
	if text == "" {
		return "nothing"
	}
	return text
}

// turned are the operators and what each is turned into.
var turned = map[token.Token]token.Token{
	token.EQL: token.NEQ, token.NEQ: token.EQL, token.LSS: token.LEQ, token.LEQ: token.LSS, token.GTR: token.GEQ,
	token.GEQ:  token.GTR,
	token.LAND: token.LOR, token.LOR: token.LAND, token.ADD: token.SUB, token.SUB: token.ADD,
}

// never stands for a condition that holds no more.
const never = "never"

// faultsOf finds where a file can be changed.
func faultsOf(file string) ([]fault, error) {
	source, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	set := token.NewFileSet()
	tree, err := parser.ParseFile(set, file, source, parser.SkipObjectResolution)
	if err != nil {
		return nil, err
	}
	var all []fault
	beside := map[token.Pos]bool{}
	for _, d := range tree.Decls {
		fn, ok := d.(*ast.FuncDecl)
		if !ok || fn.Body == nil {
			continue
		}
		at := func(from, to token.Pos, text string) {
			p := set.Position(from)
			if text == never {
				text = "false && (" + string(source[p.Offset:set.Position(to).Offset]) + ")"
			}
			all = append(all, fault{file: file, source: source, from: p.Offset, to: set.Position(to).Offset,
				line: p.Line, inside: fn.Name.Name, text: text, beside: beside[from]})
		}
		ast.Inspect(fn.Body, func(n ast.Node) bool { noteBeside(n, beside); change(n, at); return true })
	}
	alike := map[string]int{}
	for i := range all {
		name := all[i].name()
		alike[name]++
		all[i].nth = alike[name]
	}
	return slices.DeleteFunc(all, func(f fault) bool { return f.beside }), nil
}

// noteBeside notes the truth values that are returned beside an error, from where it is known to be one: "if err != nil
// { return false, err }".
func noteBeside(n ast.Node, beside map[token.Pos]bool) {
	cond, ok := n.(*ast.IfStmt)
	if !ok {
		return
	}
	if test, ok := cond.Cond.(*ast.BinaryExpr); !ok || test.Op != token.NEQ || !named(test.X, "err") ||
		!named(test.Y, "nil") {
		return
	}
	for _, s := range cond.Body.List {
		r, ok := s.(*ast.ReturnStmt)
		if !ok || len(r.Results) < 2 || named(r.Results[len(r.Results)-1], "nil") {
			continue
		}
		for _, value := range r.Results {
			if named(value, "true") || named(value, "false") {
				beside[value.Pos()] = true
			}
		}
	}
}

func named(x ast.Expr, name string) bool {
	id, ok := x.(*ast.Ident)
	return ok && id.Name == name
}

// change adds the faults of one node.
func change(n ast.Node, at func(from, to token.Pos, text string)) {
	switch n := n.(type) {
	case *ast.BinaryExpr:
		if text, ok := n.X.(*ast.BasicLit); ok && text.Kind == token.STRING { // "+" of texts
			return
		}
		if to, ok := turned[n.Op]; ok {
			at(n.OpPos, n.OpPos+token.Pos(len(n.Op.String())), to.String())
		}
	case *ast.IfStmt:
		at(n.Cond.Pos(), n.Cond.End(), never)
	case *ast.UnaryExpr:
		if n.Op == token.NOT {
			at(n.OpPos, n.OpPos+1, "")
		}
	case *ast.Ident:
		if to := map[string]string{"true": "false", "false": "true"}[n.Name]; to != "" {
			at(n.Pos(), n.End(), to)
		}
	case *ast.ExprStmt, *ast.IncDecStmt:
		at(n.Pos(), n.End(), "")
	case *ast.AssignStmt:
		if n.Tok != token.DEFINE {
			at(n.Pos(), n.End(), "")
		}
	}
}
