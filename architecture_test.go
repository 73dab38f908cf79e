package mexalt

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layers are the packages from the lowest up; each may import those before it, and a name
// stands for the package and all in its folder.
var layers = []string{
	"internal/golden", "source", "memory", "picture", "span", "key", "codec", "output", "checksum", "survey", "diagnosis", "device",
	"check", "operation", "rehearsal", "release", "inventory", "target",
	"docs", "internal/render", "internal/report", "internal/pages", "demo", "internal/cli", "cmd/mexalt",
}

func layerOf(path string) int {
	path = strings.TrimPrefix(path, "mexalt/")
	return slices.IndexFunc(layers, func(r string) bool { return path == r || strings.HasPrefix(path, r+"/") })
}

func TestImportsRunDownwardsOnly(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "./...").Output()
	require.NoError(t, err)
	for line := range strings.Lines(string(out)) {
		fields := strings.Fields(line)
		if fields[0] == "mexalt" || strings.HasSuffix(fields[0], "/generate") || fields[0] == "mexalt/dist/pack" {
			continue
		}
		at := layerOf(fields[0])
		require.GreaterOrEqual(t, at, 0, fields[0])
		for _, imported := range fields[1:] {
			if strings.HasPrefix(imported, "mexalt/") {
				assert.LessOrEqual(t, layerOf(imported), at, "%s imports %s", fields[0], imported)
			}
		}
	}
}

// TestOnePackageUsesTheNetwork has only target import net.
func TestOnePackageUsesTheNetwork(t *testing.T) {
	for _, path := range goFiles(t, false) {
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, i := range file.Imports {
			if name, _ := strconv.Unquote(i.Path.Value); name == "net" || strings.HasPrefix(name, "net/") {
				assert.True(t, strings.HasPrefix(path, "target/") && name == "net", "%s imports %s", path, name)
			}
		}
	}
}

// goFiles returns the Go files below a folder, tests or all others.
func goFiles(t *testing.T, tests bool) []string {
	t.Helper()
	var files []string
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		if err == nil && strings.HasSuffix(path, ".go") && strings.HasSuffix(path, "_test.go") == tests {
			files = append(files, filepath.ToSlash(path))
		}
		return err
	}))
	return files
}

// privateWords are words that no name of a type, function or field may have, as only who
// wrote them knew what they meant.
var privateWords = strings.Fields(`
	spring springs trail trails strand strands heap heaps alikes bads deal told untold held settle
	settled settles aside along wants itself unusual pieces`)

// TestTheCoreSpeaksOfTheDomain looks through the texts, comments and names of all packages
// outside internal and cmd for flags, commands and exit statuses, and for what ends the
// program; and through all names for private words.
func TestTheCoreSpeaksOfTheDomain(t *testing.T) {
	forbidden := regexp.MustCompile("(^|[ (;,])-[a-z][a-z-]+|mexalt [a-z]|exit status|(^|[ (])--")
	words := regexp.MustCompile("[A-Z]?[a-z]+|[A-Z]+")
	for _, path := range goFiles(t, false) {
		core := !strings.HasPrefix(path, "internal/") && !strings.HasPrefix(path, "cmd/") && !strings.HasPrefix(path, "demo/") &&
			!strings.HasPrefix(path, "dist/")
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, parser.SkipObjectResolution|parser.ParseComments)
		require.NoError(t, err)
		name := func(id *ast.Ident) {
			for _, word := range words.FindAllString(id.Name, -1) {
				assert.NotContains(t, privateWords, strings.ToLower(word), "%s, %s", id.Name, set.Position(id.Pos()))
			}
			assert.False(t, core && strings.Contains(id.Name, "Flag") &&
				!strings.Contains(path, "uf2"), "%s, %s", id.Name, set.Position(id.Pos()))
		}
		for _, group := range file.Comments {
			if text := group.Text(); core && !strings.HasPrefix(text, "Output:") {
				assert.False(t, forbidden.MatchString(text), "%q, %s", text, set.Position(group.Pos()))
			}
		}
		ast.Inspect(file, func(n ast.Node) bool {
			switch x := n.(type) {
			case *ast.BasicLit:
				if x.Kind == token.STRING && core {
					text, err := strconv.Unquote(x.Value)
					require.NoError(t, err)
					git := strings.Contains(text, ".gitattributes") // whose own words these are
					assert.False(t, !git && forbidden.MatchString(text), "%q, %s", text, set.Position(x.Pos()))
				}
			case *ast.FuncDecl:
				name(x.Name)
			case *ast.TypeSpec:
				name(x.Name)
			case *ast.StructType:
				for _, field := range x.Fields.List {
					for _, id := range field.Names {
						name(id)
					}
				}
			case *ast.SelectorExpr:
				if of, ok := x.X.(*ast.Ident); ok && core {
					assert.False(t, of.Name == "os" && x.Sel.Name == "Exit" ||
						of.Name == "signal", "%s.%s, %s", of.Name, x.Sel.Name, set.Position(x.Pos()))
				}
			}
			return true
		})
	}
}

func TestTheInterfaceIsSmall(t *testing.T) {
	lines := func(prefix string) (n int) {
		for _, path := range goFiles(t, false) {
			if strings.HasPrefix(path, prefix) {
				text, err := os.ReadFile(path)
				require.NoError(t, err)
				n += strings.Count(string(text), "\n")
			}
		}
		return n
	}
	assert.Less(t, 4*lines("internal/cli/"), lines(""), "internal/cli is under a quarter of all lines")
}

// awkward are turns of phrase that must be read twice, and words that mean several things.
var awkward = regexp.MustCompile(
	`\b(in the place of|at the most|even then|all the same|lets? it pass|usual suspects|given several times|fresh copy|is none of|half written|` +
		`behind|beside|told|tells|moments?|settles|carried out again|nothing found|cut short|as it was|by way of|laid (together|over)|made again|is no (number|name|format|digit|place|word|text))\b|` +
		`(every|another|this) part\b|\bpart (is delivered|starts|wants)\b|; [^;" ]+ expected\b`,
)

// TestTextsAreReadOnce looks through all texts that can be printed for turns of phrase that
// must be read twice.
func TestTextsAreReadOnce(t *testing.T) {
	for _, path := range goFiles(t, false) {
		if strings.Contains(path, "golden") || strings.Contains(path, "codectest") {
			continue
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			literal, ok := n.(*ast.BasicLit)
			if !ok || literal.Kind != token.STRING || !strings.Contains(literal.Value, " ") || strings.Contains(literal.Value, "json:") {
				return true
			}
			if found := awkward.FindString(literal.Value); found != "" {
				t.Errorf("%s: %q in %.100s", set.Position(literal.Pos()), found, literal.Value)
			}
			return true
		})
	}
}
