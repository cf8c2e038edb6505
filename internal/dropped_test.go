package internal

import (
	"go/ast"
	"go/token"
	"go/types"
	"strings"
	"testing"
)

// TestNoErrorOfTheStoreIsDropped: what the store answers is looked at. An error that is thrown away, or that
// only skips what would have been done with the answer, has a transaction go on without what it was told.
func TestNoErrorOfTheStoreIsDropped(t *testing.T) {
	fset, checked := reader(t)
	looked := 0
	for _, room := range []string{"store", "job", "visit", "push", "fleet", "read", "history", "routine", "api", "run"} {
		info := types.Info{Types: map[ast.Expr]types.TypeAndValue{}}
		files, _ := checked(room, &info)
		asks := func(e ast.Expr) bool { // the store, for something that may go wrong
			call, ok := e.(*ast.CallExpr)
			if !ok {
				return false
			}
			sel, ok := call.Fun.(*ast.SelectorExpr)
			if !ok {
				return false
			}
			of := info.Types[sel.X].Type // of a package there is none
			if of == nil || !strings.HasSuffix(of.String(), "internal/store.Q") {
				return false
			}
			looked++
			got := info.Types[call].Type
			if many, ok := got.(*types.Tuple); ok && many.Len() > 0 {
				got = many.At(many.Len() - 1).Type()
			}
			return got != nil && got.String() == "error"
		}
		blank := func(e ast.Expr) bool { id, ok := e.(*ast.Ident); return ok && id.Name == "_" }
		for _, f := range files {
			ast.Inspect(f, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.ExprStmt:
					if asks(n.X) {
						t.Errorf("%s: the answer is thrown away", fset.Position(n.Pos()))
					}
				case *ast.AssignStmt:
					if len(n.Rhs) == 1 && asks(n.Rhs[0]) && blank(n.Lhs[len(n.Lhs)-1]) {
						t.Errorf("%s: the error is thrown away", fset.Position(n.Pos()))
					}
				case *ast.IfStmt:
					a, ok := n.Init.(*ast.AssignStmt)
					if !ok || a.Tok != token.DEFINE || n.Else != nil || len(a.Rhs) != 1 || !asks(a.Rhs[0]) {
						return true
					}
					if c, ok := n.Cond.(*ast.BinaryExpr); ok && c.Op == token.EQL && types.ExprString(c.Y) == "nil" {
						t.Errorf("%s: with an error nothing is done, and nobody is told", fset.Position(n.Pos()))
					}
				}
				return true
			})
		}
	}
	if looked < 300 {
		t.Errorf("only %d questions to the store were looked at", looked)
	}
}
