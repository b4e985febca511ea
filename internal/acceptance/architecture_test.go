package acceptance

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
)

// TestImportTable holds the table of rooms in docs/architecture.md against the code: no package of ours
// imports another that its row does not name.
func TestImportTable(t *testing.T) {
	t.Parallel()
	const root = "../.."
	page, err := os.ReadFile(root + "/docs/architecture.md")
	if err != nil {
		t.Fatal(err)
	}
	row := regexp.MustCompile("(?m)^\\| `([a-z/]+)` \\|[^|]*\\|([^|]*)\\|$")
	may := map[string][]string{}
	for _, m := range row.FindAllStringSubmatch(string(page), -1) {
		may[m[1]] = regexp.MustCompile("[a-z/]+").FindAllString(strings.ReplaceAll(m[2], "`", " "), -1)
	}
	if len(may) < 10 {
		t.Fatalf("only %d rooms found in the table", len(may))
	}
	err = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			if err == nil {
				err = filepath.SkipDir
			}
			return err
		}
		if !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return nil
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		room, err := filepath.Rel(root, filepath.Dir(path))
		if err != nil {
			return err
		}
		short := strings.TrimPrefix(filepath.ToSlash(room), "internal/")
		for _, spec := range file.Imports {
			name, err := strconv.Unquote(spec.Path.Value)
			if err != nil {
				return err
			}
			imported, ours := strings.CutPrefix(name, "sentier/")
			imported = strings.TrimPrefix(imported, "internal/")
			if allowed, listed := may[short]; ours && (!listed || !slices.Contains(allowed, imported)) {
				t.Errorf("%s imports %s, which the table does not allow", path, imported)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}
