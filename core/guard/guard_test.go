package guard

import (
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"
)

func TestAPanicBecomesAnErrorWithItsStack(t *testing.T) {
	err := Do(func() error { var rows []int; return errors.New(string(rune(rows[3]))) })
	var caught *Panic
	if !errors.As(err, &caught) || !strings.Contains(caught.Stack, "TestAPanicBecomesAnErrorWithItsStack") ||
		!strings.HasPrefix(err.Error(), "internal error: ") {
		t.Fatalf("%v", err)
	}
	if passed := Do(func() error { panic(err) }); passed != err {
		t.Errorf("passed on, the panic is another one: %v", passed)
	}
}

func TestAGroupWaitsForAllAndReturnsWhatFailedFirst(t *testing.T) {
	var g Group
	first := errors.New("first")
	failed, done := make(chan struct{}), 0
	g.Go(func() error { close(failed); return first })
	g.Go(func() error { <-failed; panic("later") })
	g.Go(func() error { <-failed; done++; return nil })
	err := g.Wait()
	var caught *Panic
	if err != first && !errors.As(err, &caught) {
		t.Errorf("%v", err)
	}
	if done != 1 {
		t.Error("it did not wait")
	}
}

func TestNothingInCoreOrServiceStartsAGoroutineByItself(t *testing.T) {
	for _, root := range []string{"../../core", "../../service"} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") ||
				filepath.Base(filepath.Dir(path)) == "guard" {
				return err
			}
			set := token.NewFileSet()
			file, err := parser.ParseFile(set, path, nil, 0)
			if err != nil {
				return err
			}
			for _, i := range file.Imports {
				if i.Path.Value == `"golang.org/x/sync/errgroup"` {
					t.Errorf("%s: errgroup passes panics on; use guard.Group", set.Position(i.Pos()))
				}
			}
			ast.Inspect(file, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.GoStmt:
					t.Errorf("%s: start it with guard.Go or a guard.Group", set.Position(n.Pos()))
				case *ast.SelectorExpr:
					if x, ok := n.X.(*ast.Ident); ok && x.Name == "sync" && n.Sel.Name == "WaitGroup" {
						t.Errorf("%s: use guard.Group", set.Position(n.Pos()))
					}
					if x, ok := n.X.(*ast.Ident); ok && x.Name == "time" && n.Sel.Name == "AfterFunc" {
						t.Errorf("%s: time.AfterFunc starts a goroutine", set.Position(n.Pos()))
					}
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}
