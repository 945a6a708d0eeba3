package internal

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestActsAreDecided: what the application does for somebody it decides on first.
// A method that takes an actor asks access.Decide, or only hands the actor on to
// one that does.
func TestActsAreDecided(t *testing.T) {
	decided := 0
	require.NoError(t, filepath.WalkDir("app", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.HasPrefix(path, "app/access/") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err != nil {
			return err
		}
		for _, d := range file.Decls {
			f, isFunction := d.(*ast.FuncDecl)
			if !isFunction || f.Recv == nil || !f.Name.IsExported() || !takesActor(f) {
				continue
			}
			decided++
			asks := false
			ast.Inspect(f.Body, func(n ast.Node) bool {
				if s, is := n.(*ast.SelectorExpr); is && s.Sel.Name == "Decide" {
					if of, is := s.X.(*ast.Ident); is && of.Name == "access" {
						asks = true
					}
				}
				return true
			})
			assert.True(t, asks || len(f.Body.List) == 1 || followsFromAnother[f.Name.Name], "%s: %s does something for somebody without access.Decide", path, f.Name.Name)
		}
		return nil
	}))
	require.Greater(t, decided, 35)
}

// followsFromAnother are methods that other activities call within an act of
// theirs, with who was allowed that.
var followsFromAnother = map[string]bool{"LinkStewards": true}

func takesActor(f *ast.FuncDecl) bool {
	for _, p := range f.Type.Params.List {
		if s, is := p.Type.(*ast.SelectorExpr); is && s.Sel.Name == "Actor" {
			return true
		}
	}
	return false
}
