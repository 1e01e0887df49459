package main

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"slices"
	"strconv"
	"strings"
)

// always are calls that have a better one, with which.
var always = map[string]string{
	"assert.Eventually": "testkit.Until", "require.Eventually": "testkit.Until",
	"assert.EventuallyWithT": "testkit.Until", "require.EventuallyWithT": "testkit.Until",
	"rapid.Check": "testkit.Check", "rapid.MakeCheck": "testkit.Check",
}

// unsaid are calls that want a reason in a comment, with what is usually meant.
var unsaid = map[string]string{
	"time.Sleep": "testkit.Until", "time.After": "testkit.Come", "time.NewTimer": "testkit.Until",
	"time.Tick": "testkit.Until", "context.WithTimeout": "testkit.Context", "context.WithDeadline": "testkit.Context",
}

// seeded are the names of math/rand and math/rand/v2 that take a seed, or are none of its chances.
var seeded = []string{"New", "NewPCG", "NewChaCha8", "NewSource", "NewZipf", "Rand", "Source", "PCG", "ChaCha8"}

// checker goes through one file.
type checker struct {
	files  *token.FileSet
	chance string // the name that math/rand goes by in it
	said   map[int]bool
	found  []string
}

// check gives what is to be said of a file: a line each.
func check(path string, src []byte) ([]string, error) {
	c := &checker{files: token.NewFileSet(), said: map[int]bool{}}
	f, err := parser.ParseFile(c.files, path, src, parser.ParseComments)
	if err != nil {
		return nil, err
	}
	for _, i := range f.Imports {
		if at, _ := strconv.Unquote(i.Path.Value); at == "math/rand" || at == "math/rand/v2" {
			if c.chance = "rand"; i.Name != nil {
				c.chance = i.Name.Name
			}
		}
	}
	for _, group := range f.Comments {
		for _, comment := range group.List { // it speaks of its own line, or, alone in it, of the one below
			at := c.files.Position(comment.Pos())
			alone := strings.TrimSpace(string(src[at.Offset-at.Column+1:at.Offset])) == ""
			c.said[at.Line], c.said[c.files.Position(comment.End()).Line+1] = true, alone
		}
	}
	ast.Inspect(f, c.node)
	return c.found, nil
}

func (c *checker) node(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.CallExpr:
		c.call(n)
	case *ast.AssignStmt:
		for i, left := range n.Lhs {
			if name, ok := left.(*ast.Ident); ok && i < len(n.Rhs) && isLimit(name.Name) && soon(n.Rhs[i]) {
				c.unlessSaid(n.Pos(), "a limit of its own: testkit.Patience, or say why")
			}
		}
	}
	return true
}

func (c *checker) call(n *ast.CallExpr) {
	sel, ok := n.Fun.(*ast.SelectorExpr)
	if !ok {
		return
	}
	if strings.HasPrefix(sel.Sel.Name, "Set") && strings.HasSuffix(sel.Sel.Name, "Deadline") && !patient(n) {
		c.unlessSaid(n.Pos(), sel.Sel.Name+": by testkit.Patience, or say why")
		return
	}
	of, ok := sel.X.(*ast.Ident)
	if !ok {
		return
	}
	name := of.Name + "." + sel.Sel.Name
	if better := always[name]; better != "" {
		c.say(n.Pos(), name+": use "+better)
	}
	if better := unsaid[name]; better != "" && !patient(n) {
		c.unlessSaid(n.Pos(), name+": use "+better+", or say why")
	}
	if of.Name == c.chance && !slices.Contains(seeded, sel.Sel.Name) {
		c.say(n.Pos(), name+": use testkit.Dice, which has a seed")
	}
}

// patient tells whether testkit's limit is among what a call is given.
func patient(n ast.Node) (is bool) {
	ast.Inspect(n, func(n ast.Node) bool {
		if s, ok := n.(*ast.SelectorExpr); ok && s.Sel.Name == "Patience" {
			is = true
		}
		return !is
	})
	return is
}

// isLimit tells whether a name is one for the end of waiting.
func isLimit(name string) bool { return slices.Contains([]string{"deadline", "end", "limit"}, name) }

// soon tells whether something is a moment after now that patience does not set.
func soon(n ast.Expr) bool {
	call, ok := n.(*ast.CallExpr)
	if !ok || patient(n) {
		return false
	}
	sel, ok := call.Fun.(*ast.SelectorExpr)
	if !ok || sel.Sel.Name != "Add" {
		return false
	}
	from, ok := sel.X.(*ast.CallExpr)
	if !ok {
		return false
	}
	now, ok := from.Fun.(*ast.SelectorExpr)
	return ok && now.Sel.Name == "Now"
}

func (c *checker) unlessSaid(at token.Pos, what string) {
	if !c.said[c.files.Position(at).Line] {
		c.say(at, what)
	}
}

func (c *checker) say(at token.Pos, what string) {
	where := c.files.Position(at)
	c.found = append(c.found, fmt.Sprintf("%s:%d: %s", where.Filename, where.Line, what))
}
