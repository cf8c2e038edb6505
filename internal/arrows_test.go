package internal

import (
	"fmt"
	"go/ast"
	"go/importer"
	"go/parser"
	"go/token"
	"go/types"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// TestArrows holds the packages to the direction in which they may import each
// other: computation knows nothing of input and output, the simulator nothing
// of the product, and only the store speaks SQL.
func TestArrows(t *testing.T) {
	const m = "magpie/"
	below := []string{m + "internal/core", m + "internal/dialect", m + "internal/link", m + "internal/store", m + "internal/job", m + "internal/wire", m + "internal/trust", m + "client"}
	below = below[:len(below):len(below)]
	may := map[string][]string{
		m + "client":            {},
		m + "dialects":          {},
		m + "internal/core":     {m + "internal/core"},
		m + "internal/dialect":  {m + "internal/core"},
		m + "internal/link":     {m + "internal/core", m + "internal/dialect"},
		m + "internal/seal":     {m + "internal/core"},
		m + "internal/check":    {},
		m + "internal/said":     {},
		m + "internal/trust":    {},
		m + "internal/wire":     {},
		m + "internal/store":    {m + "internal/core", m + "internal/seal"},
		m + "internal/job":      {m + "internal/core", m + "internal/store"},
		m + "internal/visit":    below,
		m + "internal/push":     append(below, m+"internal/visit", m+"internal/check"),
		m + "internal/fleet":    append(below, m+"internal/visit", m+"internal/push"),
		m + "internal/read":     append(below, m+"internal/visit"),
		m + "internal/history":  append(below, m+"internal/visit", m+"internal/history"),
		m + "internal/routine":  append(below, m+"internal/visit"),
		m + "internal/api":      append(below, m+"internal/visit", m+"internal/push", m+"internal/fleet", m+"internal/read", m+"internal/routine", m+"internal/history", m+"internal/said"),
		m + "internal/cli":      {m + "internal/core/ref", m + "internal/core/diff", m + "internal/dialect", m + "internal/run", m + "internal/trust", m + "client"},
		m + "internal/sim":      {m + "internal/sim"},
		m + "cmd/magpie-sim":    {m + "internal/sim"},
		m + "cmd/magpie":        {m + "internal/cli"},
		m + "internal/run":      {m + "internal", m + "client", m + "dialects", m + "console"},
		m + "console":           {},
		m + "internal/bench":    {m + "internal", m + "client", m + "dialects"},
		m + "internal/core/ref": {},
	}
	under := func(pkg, root string) bool { return pkg == root || strings.HasPrefix(pkg, root+"/") }
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}", m+"...").Output()
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		f := strings.Fields(line)
		room := ""
		for root := range may {
			if under(f[0], root) && len(root) > len(room) {
				room = root
			}
		}
		for _, imported := range f[1:] {
			if strings.HasPrefix(imported, "net") && under(f[0], m+"internal/core") && imported != "net/netip" || imported == "os" && under(f[0], m+"internal/core") {
				t.Errorf("%s imports %s: core does no input or output", f[0], imported)
			}
			if (imported == "database/sql" || strings.Contains(imported, "sqlx")) && !under(f[0], m+"internal/store") && f[0] != m+"internal/run" && f[0] != m+"internal/scratch" && f[0] != m+"internal/bench" && f[0] != m+"internal/yard" { // which fills tables as nobody else does
				t.Errorf("%s imports %s: SQL lives in the store", f[0], imported)
			}
			if !strings.HasPrefix(imported, m) || room == "" {
				continue
			}
			ok := under(imported, room)
			for _, root := range may[room] {
				ok = ok || under(imported, root)
			}
			if !ok {
				t.Errorf("%s imports %s, which points the wrong way", f[0], imported)
			}
		}
	}
}

// exported are the files with what packages export, by their paths.
func exported(t *testing.T) map[string]string {
	t.Helper()
	out, err := exec.Command("go", "list", "-export", "-deps", "-f", "{{.ImportPath}} {{.Export}}", "magpie/internal/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	exports := map[string]string{}
	for _, line := range strings.Split(string(out), "\n") {
		path, file, _ := strings.Cut(line, " ")
		exports[path] = file
	}
	return exports
}

// reader reads packages of ours: their files without tests, and what is used where.
func reader(t *testing.T) (fset *token.FileSet, checked func(room string, info *types.Info) ([]*ast.File, *types.Package)) {
	t.Helper()
	exports := exported(t)
	fset = token.NewFileSet()
	conf := types.Config{Importer: importer.ForCompiler(fset, "gc", func(path string) (io.ReadCloser, error) { return os.Open(exports[path]) })}
	return fset, func(room string, info *types.Info) (files []*ast.File, pkg *types.Package) {
		t.Helper()
		names, _ := filepath.Glob(room + "/*.go")
		for _, name := range names {
			if strings.HasSuffix(name, "_test.go") {
				continue
			}
			f, err := parser.ParseFile(fset, name, nil, 0)
			if err != nil {
				t.Fatal(err)
			}
			files = append(files, f)
		}
		pkg, err := conf.Check("magpie/internal/"+room, fset, files, info)
		if err != nil {
			t.Fatal(err)
		}
		return files, pkg
	}
}

// TestFilesStand holds the rooms of the work to an order of their files: where one
// uses another, that one uses neither it nor anything that does.
func TestFilesStand(t *testing.T) {
	fset, checked := reader(t)
	for _, room := range []string{"job", "visit", "push", "fleet", "read"} {
		info := types.Info{Uses: map[*ast.Ident]types.Object{}}
		files, pkg := checked(room, &info)
		file := func(p token.Pos) string { return filepath.Base(fset.Position(p).Filename) }
		uses := map[string]map[string]string{}
		for id, o := range info.Uses {
			f, isFunc := o.(*types.Func)
			method := isFunc && f.Signature().Recv() != nil
			if o.Pkg() != pkg || o.Parent() != pkg.Scope() && !method {
				continue
			}
			if from, to := file(id.Pos()), file(o.Pos()); from != to {
				if uses[from] == nil {
					uses[from] = map[string]string{}
				}
				uses[from][to] = id.Name
			}
		}
		for _, f := range files {
			if round := circle(uses, file(f.Pos()), nil); round != "" {
				t.Errorf("%s: %s", room, round)
				break
			}
		}
	}
}

// TestSleepsHaveReasons: a test that sleeps for a fixed time of 200 ms and more says
// why beside it; what can be waited for is waited for.
func TestSleepsHaveReasons(t *testing.T) {
	long := regexp.MustCompile(`^\s*time\.Sleep\((([2-9]\d{2}|\d{4,}) ?\* ?time\.Millisecond|.*time\.Second.*)\)$`)
	for _, root := range []string{".", "../e2e", "../client"} {
		err := filepath.WalkDir(root, func(path string, _ os.DirEntry, err error) error {
			if err != nil || !strings.HasSuffix(path, "_test.go") {
				return err
			}
			raw, err := os.ReadFile(path)
			for n, line := range strings.Split(string(raw), "\n") {
				if long.MatchString(line) {
					t.Errorf("%s:%d: %s says no reason", path, n+1, strings.TrimSpace(line))
				}
			}
			return err
		})
		if err != nil {
			t.Fatal(err)
		}
	}
}

// circle says by which uses a file uses itself; empty when it does not.
func circle(uses map[string]map[string]string, at string, path []string) string {
	if i := slices.Index(path, at); i >= 0 {
		said := ""
		for n, from := range path[i:] {
			to := append(path[i:], at)[n+1]
			said += fmt.Sprintf("%s uses %s of %s; ", from, uses[from][to], to)
		}
		return strings.TrimSuffix(said, "; ")
	}
	for to := range uses[at] {
		if round := circle(uses, to, append(path[:len(path):len(path)], at)); round != "" {
			return round
		}
	}
	return ""
}
