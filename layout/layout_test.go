package layout

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

const module = "proudsieve/"

// imports lists what the files of each package import, tests left aside; those of the module
// without its name.
func imports(t *testing.T, root string) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	err := filepath.WalkDir(root, func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(file, ".go") || strings.HasSuffix(file, "_test.go") {
			return err
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		inside, _ := filepath.Rel("..", filepath.Dir(file))
		for _, one := range parsed.Imports {
			name, _ := strconv.Unquote(one.Path.Value)
			out[filepath.ToSlash(inside)] = append(out[filepath.ToSlash(inside)], strings.TrimPrefix(name, module))
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func under(name string, folders ...string) bool {
	return slices.ContainsFunc(folders, func(f string) bool { return name == f || strings.HasPrefix(name, f+"/") })
}

// ours reports whether an import is of this module.
func ours(name string) bool {
	first, _, _ := strings.Cut(name, "/")
	_, err := os.Stat(filepath.Join("..", first))
	return err == nil && !strings.Contains(first, ".") && first != "testing"
}

// Each line says what the packages of a folder may know of this module, beside their own.
var mayKnow = map[string][]string{
	"core":            {},
	"durable":         {},
	"service/records": {},
	"client":          {"service/records"},
	"postgres":        {"durable"},
	"engine":          {"core"},
	"inplace":         {"core", "engine"},
	"service":         {"core", "durable", "console", "client", "postgres", "engine", "inplace"},
	"cli":             {"core", "durable", "client", "service", "postgres", "engine", "console", "demo"},
	"demo":            {"core", "durable"},
	"console":         {},
}

func TestNobodyKnowsWhatLiesAbove(t *testing.T) {
	for folder, known := range mayKnow {
		for pkg, all := range imports(t, filepath.Join("..", folder)) {
			if under(pkg, "client/generate", "service/servicetest", "postgres/postgrestest", "engine/enginetest", "demo/sharded/run") {
				continue // tools and tests
			}
			if folder == "service" && under(pkg, "service/records") {
				continue // it has a line of its own
			}
			for _, one := range all {
				if ours(one) && !under(one, append(known, folder)...) {
					t.Errorf("%s imports %s, which lies above it", pkg, one)
				}
			}
		}
	}
}

// The records know nothing but what stands in Go's own library.
func TestRecordsArePlain(t *testing.T) {
	for pkg, all := range imports(t, "../service/records") {
		for _, one := range all {
			if strings.Contains(one, ".") || ours(one) {
				t.Errorf("%s imports %s", pkg, one)
			}
		}
	}
}

// The client links neither a database nor a format of tables.
func TestTheClientIsLight(t *testing.T) {
	for pkg, all := range imports(t, "../client") {
		for _, one := range all {
			if !under(pkg, "client/generate") && strings.Contains(one, ".") {
				t.Errorf("%s imports %s", pkg, one)
			}
		}
	}
}

// Within core/, a package knows only those of the rooms before it.
func TestTheCoreIsInLayers(t *testing.T) {
	layers := [][]string{
		{"core/guard", "core/budget", "core/document", "core/scratch", "core/personal", "core/expect"}, {"core/table"}, {"core/condition"}, {"core/intake"},
		{"core/profile"},
		{"core/rulebook"}, {"core/export"}, {"core/rules"}, {"core/relation"}, {"core/waiver"}, {"core/tally"}, {"core/leads"}, {"core/audit"}, {"core/fix"}, {"core/propose"},
		{"core/question"},
		{"core/merge"}, {"core/certify"},
	}
	layer := func(name string) int {
		return slices.IndexFunc(layers, func(l []string) bool { return under(name, l...) })
	}
	for pkg, all := range imports(t, "../core") {
		mine := layer(pkg)
		if under(pkg, "core/testkit") || strings.HasSuffix(pkg, "test") {
			continue
		}
		if mine < 0 {
			t.Errorf("%s is in no layer", pkg)
		}
		for _, one := range all {
			if under(one, "core") && layer(one) > mine {
				t.Errorf("%s imports %s, which lies above it", pkg, one)
			}
		}
	}
}

var imported = regexp.MustCompile(`(?:from |import\(|import )"(\.[^"]+)"`)

// source reads which files of the console import which.
func source(t *testing.T) map[string][]string {
	t.Helper()
	files := map[string][]string{}
	root := os.DirFS("../web/src")
	err := fs.WalkDir(root, ".", func(file string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || path.Ext(file) != ".ts" && path.Ext(file) != ".tsx" {
			return err
		}
		text, err := fs.ReadFile(root, file)
		if err != nil {
			return err
		}
		files[strings.TrimSuffix(strings.TrimSuffix(file, path.Ext(file)), ".d")] = nil
		for _, m := range imported.FindAllStringSubmatch(string(text), -1) {
			name := strings.TrimSuffix(file, path.Ext(file))
			files[name] = append(files[name], path.Join(path.Dir(file), m[1]))
		}
		return nil
	})
	if err != nil || len(files) < 20 {
		t.Fatalf("%d files, %v", len(files), err)
	}
	return files
}

func TestTheConsolesSourceHasNoCircles(t *testing.T) {
	files := source(t)
	var walk func(file string, way []string)
	done := map[string]bool{}
	walk = func(file string, way []string) {
		if at := slices.Index(way, file); at >= 0 {
			t.Errorf("a circle: %s", strings.Join(append(way[at:], file), " -> "))
			return
		}
		if done[file] {
			return
		}
		for _, one := range files[file] {
			walk(one, append(way, file))
		}
		done[file] = true
	}
	for file := range files {
		walk(file, nil)
	}
}

func TestTheConsolesRoomsKnowWhatIsSharedAndNotTheOtherWay(t *testing.T) {
	for file, all := range source(t) {
		room, _, _ := strings.Cut(file, "/")
		for _, one := range all {
			to, _, inside := strings.Cut(one, "/")
			switch {
			case room == "client" && to != "client", room == "shared" && to != "shared" && to != "client",
				!inside && room != "main" && room != "router" && room != "Shell":
				t.Errorf("%s imports %s, which lies above it", file, one)
			}
		}
	}
}
