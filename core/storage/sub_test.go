package storage

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// abilities are all that a Folder may have beside its methods.
var abilities = map[string]reflect.Type{
	"Mover":        reflect.TypeFor[Mover](),
	"Owner":        reflect.TypeFor[Owner](),
	"Leaser":       reflect.TypeFor[Leaser](),
	"Linker":       reflect.TypeFor[Linker](),
	"Labeler":      reflect.TypeFor[Labeler](),
	"Usage":        reflect.TypeFor[Usage](),
	"Lying":        reflect.TypeFor[Lying](),
	"Freshener":    reflect.TypeFor[Freshener](),
	"Versioner":    reflect.TypeFor[Versioner](),
	"Trees":        reflect.TypeFor[Trees](),
	"Summer":       reflect.TypeFor[Summer](),
	"Careful":      reflect.TypeFor[Careful](),
	"Overwriter":   reflect.TypeFor[Overwriter](),
	"Grounded":     reflect.TypeFor[Grounded](),
	"Dialer":       reflect.TypeFor[Dialer](),
	"WriteCounter": reflect.TypeFor[WriteCounter](),
}

// others are the interfaces that are no abilities of a Folder.
var others = []string{"Folder", "File", "Lease", "Wrapper", "Adder", "RangeFinder", "Allocator", "HoleMaker", "Wiper", "Cloner"}

// TestAbilitiesSurviveWrapping: whoever adds an ability is told here that a part of a folder has to have it too.
func TestAbilitiesSurviveWrapping(t *testing.T) {
	names, err := filepath.Glob("*.go")
	require.NoError(t, err)
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			if spec, ok := n.(*ast.TypeSpec); ok && spec.Name.IsExported() {
				if _, ok := spec.Type.(*ast.InterfaceType); ok && !slices.Contains(others, spec.Name.Name) {
					assert.Contains(t, abilities, spec.Name.Name, "add it to the abilities, and to the part of a folder")
				}
			}
			return true
		})
	}
	for name, ability := range abilities {
		assert.True(t, reflect.TypeFor[*sub]().Implements(ability), "a part of a folder has no %s", name)
	}
}

// bare can nothing but what every folder can; the labelled one keeps labels too.
type (
	bare     struct{ Folder }
	labelled struct {
		bare
		asked *string
	}
	front struct{ Folder }
)

func (l labelled) Labels(name string) (map[string][]byte, error) {
	*l.asked = name
	return nil, nil
}
func (l labelled) SetLabels(string, map[string][]byte) error { return nil }
func (f front) Unwrap() Folder                               { return f.Folder }

func TestAnAbilityIsThatOfTheFolderBelow(t *testing.T) {
	asked := ""
	below := labelled{asked: &asked}
	for name, c := range map[string]struct {
		folder Folder
		wants  string
	}{
		"itself": {below, "a"}, "in front of it": {front{below}, "a"}, "a part": {Sub(below, "deck"), "deck/a"},
		"in front of a part": {front{Sub(front{below}, "deck")}, "deck/a"}, "a part of a part": {Sub(Sub(below, "deck"), "bow"), "deck/bow/a"},
	} {
		l, ok := As[Labeler](c.folder)
		require.True(t, ok, name)
		_, err := l.Labels("a")
		require.NoError(t, err)
		assert.Equal(t, c.wants, asked, name)
		_, ok = As[Owner](c.folder)
		assert.False(t, ok, "%s has no owners", name)
	}
	for _, f := range []Folder{bare{}, front{bare{}}, Sub(bare{}, "deck")} {
		_, ok := As[Labeler](f)
		assert.False(t, ok)
	}
	_, err := Sub(below, "deck").(Labeler).Labels("../a")
	require.ErrorIs(t, err, ErrOutside)
}

// telling adds to a folder that it can tell what is in use.
type telling struct{ front }

type told struct{}

func (told) InUse(name string) (string, error) { return name + " is used", nil }
func (telling) Adds() any                      { return told{} }

// TestAnAbilityIsAdded to a folder that lacks it, seen through its parts too, and hides no other one.
func TestAnAbilityIsAdded(t *testing.T) {
	asked := ""
	whole := telling{front{labelled{asked: &asked}}}
	_, lacks := As[Usage](whole.Folder)
	assert.False(t, lacks)
	for folder, name := range map[Folder]string{whole: "a.raw", Sub(whole, "deck"): "deck/a.raw"} {
		usage, ok := As[Usage](folder)
		require.True(t, ok)
		why, err := usage.InUse("a.raw")
		require.NoError(t, err)
		assert.Equal(t, name+" is used", why)
		labels, ok := As[Labeler](folder)
		require.True(t, ok)
		_, err = labels.Labels("a.raw")
		require.NoError(t, err)
		assert.Equal(t, name, asked)
	}
	kind, ok := As[labelled](whole)
	assert.True(t, ok, "the folder itself, by its type")
	assert.Equal(t, whole.Folder, kind)
}
