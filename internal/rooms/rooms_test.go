// Package rooms holds the tests of how the code is divided: who may import whom, who may write, and how large a room may grow.
package rooms

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// source is one file of the code that is not a test.
type source struct {
	room string // its package: "core/keep"
	path string
	file *ast.File
	fset *token.FileSet
}

// sources are all files of internal that are not tests.
func sources(t *testing.T) []source {
	var all []source
	root := filepath.Join("..")
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		rel, err := filepath.Rel(root, path)
		require.NoError(t, err)
		fset := token.NewFileSet()
		file, err := parser.ParseFile(fset, path, nil, parser.ParseComments)
		require.NoError(t, err)
		all = append(all, source{filepath.ToSlash(filepath.Dir(rel)), filepath.ToSlash(rel), file, fset})
		return nil
	}))
	require.Greater(t, len(all), 100)
	return all
}

// may says which rooms of the core each may import. A room that commands are made of imports none of its own group. What a leaf may import
// is listed here name by name, so that an edge more is a decision.
var may = map[string]string{
	// what commands do
	"keep":    "archive assess check durable facts field game hazard home line logbook mod modlist plan problem record save tree unpack",
	"vet":     "assess check doc facts game hazard home logbook mod parcel plan problem save tree unpack wrap",
	"play":    "assess check facts game home logbook mod modlist problem record tree",
	"share":   "archive assess bag check doc facts field game home mod modlist parcel problem save tree wrap",
	"compare": "archive doc facts game home logbook mod modlist problem save tree wrap",
	"trial":   "check facts field game home mod save tree",
	"mods":    "archive assess check checkout doc facts field game home layout ledger merge mod modlist plan problem tree wrap",
	"handle":  "facts game home plan problem tree unpack",
	"edit":    "assess check doc facts field game home merge mod problem refer save tree version wrap",
	// what they stand on
	"plan":   "change facts game home ledger logbook problem save tree",
	"record": "archive check facts game home line logbook modlist problem strict tree",
	"assess": "check facts field game mod problem wrap",
	"facts":  "archive check doc field game glob home ledger line logbook mod modlist parcel problem refer save strict tree unpack wrap",
	"home":   "archive durable game index ledger logbook problem strict tree",
	// leaves and engines
	"layout": "game ledger mod tree", "checkout": "",
	"ledger": "tree", "line": "logbook", "logbook": "check game modlist peek tree version", "index": "peek tree", "archive": "durable modlist tree", "change": "durable tree",
	"check": "problem version", "mod": "check field game modlist save tree version wrap", "save": "doc field game tree wrap", "game": "check doc field glob strict tree version",
	"field":  "doc glob strict wrap",
	"parcel": "bag check tree", "unpack": "hazard tree wrap", "unpack/unpacktest": "", "vet/vettest": "bag unpack unpack/unpacktest", "hazard": "doc schema wrap", "modlist": "tree",
	"bag": "", "durable": "", "doc": "schema wrap", "merge": "doc", "wrap": "glob", "glob": "", "peek": "", "problem": "", "refer": "", "schema": "", "strict": "", "tree": "", "version": "",
	// for tests
	"coretest": "facts game home plan record",
}

func TestImportsPointDownward(t *testing.T) {
	for _, s := range sources(t) {
		room, core := strings.CutPrefix(s.room, "core/")
		if !core {
			continue
		}
		list, known := may[room]
		if !assert.True(t, known, "the room %s is not in the list", room) {
			continue
		}
		allowed := strings.Fields(list)
		for _, i := range s.file.Imports {
			path, err := strconv.Unquote(i.Path.Value)
			require.NoError(t, err)
			other, ours := strings.CutPrefix(path, "ostrov/internal/core/")
			assert.True(t, !ours || slices.Contains(allowed, other), "%s imports %s", s.path, other)
			demo := path == "ostrov/demo" && room != "coretest" || strings.HasPrefix(path, "ostrov/games") && room != "home"
			assert.False(t, demo, "%s imports %s", s.path, path)
			for _, face := range []string{"ostrov/internal/cli", "ostrov/internal/view", "github.com/urfave", "charm.land", "github.com/vbauerster"} {
				assert.False(t, strings.HasPrefix(path, face), "%s imports an interface: %s", s.path, path)
			}
		}
	}
}

// writes are the functions and methods of os that alter what lies on a drive.
var writes = []string{"WriteFile", "Create", "Rename", "Remove", "RemoveAll", "Mkdir", "MkdirAll", "Chmod", "Chtimes", "Chown", "Lchown", "Symlink", "Link", "CreateTemp", "MkdirTemp", "Truncate", "CopyFS"}

// TestOnlyAFewWrite lets change, durable, archive, unpack and home write. Doc, peek and logbook write copies into the system's folder for
// temporary files, to read them there, and the logbook its own database.
func TestOnlyAFewWrite(t *testing.T) {
	may := []string{"core/change", "core/durable", "core/archive", "core/unpack", "core/home", "core/coretest", "core/unpack/unpacktest", "core/vet/vettest", "core/doc", "core/peek", "core/logbook"}
	for _, s := range sources(t) {
		if !strings.HasPrefix(s.room, "core/") || slices.Contains(may, s.room) {
			continue
		}
		ast.Inspect(s.file, func(n ast.Node) bool {
			if sel, ok := n.(*ast.SelectorExpr); ok {
				of, _ := sel.X.(*ast.Ident)
				assert.False(t, of != nil && of.Name == "os" && slices.Contains(writes, sel.Sel.Name), "%s writes: os.%s", s.path, sel.Sel.Name)
			}
			return true
		})
	}
}

// TestTheCoreHasNoClockAndPrintsNothing leaves the time to cmd and cli, which hand a clock in, and printing to them. Change and durable
// only wait by it.
func TestTheCoreHasNoClockAndPrintsNothing(t *testing.T) {
	for _, s := range sources(t) {
		if !strings.HasPrefix(s.room, "core/") || s.room == "core/coretest" {
			continue
		}
		ast.Inspect(s.file, func(n ast.Node) bool {
			sel, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			of, _ := sel.X.(*ast.Ident)
			if of == nil {
				return true
			}
			what := of.Name + "." + sel.Sel.Name
			assert.NotContains(t, []string{"fmt.Print", "fmt.Println", "fmt.Printf", "os.Stdout", "os.Stderr"}, what, s.path)
			assert.False(t, what == "time.Now" && s.room != "core/change" && s.room != "core/durable", "%s asks for the time", s.path)
			return true
		})
	}
}

// TestTheCoreKnowsNoCommandLine finds texts of the core that spell a command or an option: hints are data (see package problem).
func TestTheCoreKnowsNoCommandLine(t *testing.T) {
	for _, s := range sources(t) {
		if !strings.HasPrefix(s.room, "core/") {
			continue
		}
		ast.Inspect(s.file, func(n ast.Node) bool {
			if lit, ok := n.(*ast.BasicLit); ok && lit.Kind == token.STRING {
				text, err := strconv.Unquote(lit.Value)
				require.NoError(t, err)
				for _, word := range strings.Fields(text) {
					option := len(word) > 3 && strings.HasPrefix(word, "--") && word[2] >= 'a' && word[2] <= 'z'
					assert.False(t, option && !strings.Contains(text, "<!--"), "%s spells an option: %q", s.fset.Position(lit.Pos()), text)
				}
			}
			return true
		})
	}
}

// Bounds of what one person can keep in mind.
const (
	maxExported = 40
	maxLines    = 450
	maxFunction = 80
)

// generous rooms may export more: the names of game are the vocabulary of descriptions, one for each of their tables.
var generous = map[string]int{"core/game": 64}

func TestRoomsStaySmall(t *testing.T) {
	exported := map[string]map[string]bool{}
	for _, s := range sources(t) {
		if lines := s.fset.Position(s.file.End()).Line; lines > maxLines {
			t.Errorf("%s has %d lines, more than %d", s.path, lines, maxLines)
		}
		if exported[s.room] == nil {
			exported[s.room] = map[string]bool{}
		}
		for _, d := range s.file.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				if lines := s.fset.Position(d.End()).Line - s.fset.Position(d.Pos()).Line + 1; lines > maxFunction {
					t.Errorf("%s: %s has %d lines, more than %d", s.path, d.Name.Name, lines, maxFunction)
				}
				if d.Recv == nil && d.Name.IsExported() {
					exported[s.room][d.Name.Name] = true
				}
			case *ast.GenDecl:
				for _, spec := range d.Specs {
					if ts, ok := spec.(*ast.TypeSpec); ok && ts.Name.IsExported() {
						exported[s.room][ts.Name.Name] = true
					}
				}
			}
		}
	}
	for room, names := range exported {
		limit := max(maxExported, generous[room])
		if strings.HasPrefix(room, "core/") && len(names) > limit {
			t.Errorf("%s exports %d functions and types, more than %d", room, len(names), limit)
		}
	}
}
