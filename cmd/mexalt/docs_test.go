package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	wrapping "github.com/jedib0t/go-pretty/v6/text"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/check"
	"mexalt/device"
	"mexalt/internal/golden"
	"mexalt/source"
)

// root is the folder of README.md and docs.
const root = "../.."

// TestEveryCommandInTheDocsRuns runs the command lines of all console blocks
// in README.md and docs, each page in a fresh folder with the demo's files,
// through the shell as a reader would. Output that a block shows must be what
// the program prints; "(exit status N)" after it is the status, else 0.
func TestEveryCommandInTheDocsRuns(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "the pages show what the system below says")
	pages, err := filepath.Glob(filepath.Join(root, "docs", "*.md"))
	require.NoError(t, err)
	require.NotEmpty(t, pages)
	path := filepath.Dir(program) + string(filepath.ListSeparator) + os.Getenv("PATH")
	for _, page := range append(pages, filepath.Join(root, "README.md")) {
		t.Run(filepath.Base(page), func(t *testing.T) {
			t.Parallel()
			text, err := os.ReadFile(page)
			require.NoError(t, err)
			f := demoFolder(t)
			for _, e := range examples(string(text)) {
				cmd := exec.Command("sh", "-c", e.line)
				cmd.Dir = f.dir
				cmd.Env = append(os.Environ(), "PATH="+path, "MEXALT_DEVICES=")
				var out bytes.Buffer
				cmd.Stdout, cmd.Stderr = &out, &out
				if server, ok := strings.CutSuffix(e.line, " &"); ok { // it ends by itself, with the last line
					cmd.Args[2] = server
					require.NoError(t, cmd.Start())
					defer func() {
						cmd.Wait()
						// 1 is that what its clients left is not the image, as where one programs nothing.
						assert.Contains(t, []int{0, 1}, cmd.ProcessState.ExitCode(), "%s\n%s", e.line, &out)
					}()
					continue
				}
				runErr := cmd.Run()
				if cmd.ProcessState == nil {
					t.Fatal(runErr)
				}
				assert.Equal(t, e.status, cmd.ProcessState.ExitCode(), "%s\n%s", e.line, &out)
				if *golden.Update && e.output != "" && e.output != out.String() {
					text = []byte(strings.Replace(string(text), e.line+"\n"+e.output, e.line+"\n"+out.String(), 1))
					require.NoError(t, os.WriteFile(page, text, 0o644))
				} else if e.output != "" {
					assert.Equal(t, e.output, out.String(), e.line)
				}
			}
		})
	}
}

// TestDeviceMapsInTheDocsLoad loads every map that a page shows.
func TestDeviceMapsInTheDocsLoad(t *testing.T) {
	text, err := os.ReadFile(filepath.Join(root, "docs", "device-maps.md"))
	require.NoError(t, err)
	blocks := strings.Split(string(text), "```toml\n")[1:]
	require.Len(t, blocks, 3)
	for _, b := range blocks {
		example, _, _ := strings.Cut(b, "```")
		if !strings.HasPrefix(example, "name") { // a piece of a map that is shipped
			m, err := device.Open(&source.Files{}, "brindle-d32-256", nil)
			require.NoError(t, err)
			assert.Contains(t, m.Text(), strings.TrimSpace(example))
			continue
		}
		var problems source.Problems
		device.Load("example", []byte(example), &problems)
		assert.NoError(t, problems.Err())
	}
}

// TestBoardsInTheDocsLoad opens the board that the page shows, and holds its pieces of maps
// against those that are shipped.
func TestBoardsInTheDocsLoad(t *testing.T) {
	text, err := os.ReadFile(filepath.Join(root, "docs", "boards.md"))
	require.NoError(t, err)
	blocks := strings.Split(string(text), "```toml\n")[1:]
	require.Len(t, blocks, 2)
	board, _, _ := strings.Cut(blocks[0], "```")
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "x.board.toml"), []byte(board), 0o666))
	m, err := device.OpenBoard(&source.Files{}, "x", []string{folder})
	require.NoError(t, err)
	assert.Equal(t, "Gauge board, south", m.Board.Name)
	piece, _, _ := strings.Cut(blocks[1], "```")
	assert.Contains(t, string(device.ShippedText("brindle-b8-32.device.toml")), strings.TrimSpace(piece))
}

// TestRulesStandOnce holds the text below each rule's heading against what the rule says
// of itself.
func TestRulesStandOnce(t *testing.T) {
	file := filepath.Join(root, "docs", "rules.md")
	page, err := os.ReadFile(file)
	require.NoError(t, err)
	heading := regexp.MustCompile(`(?ms)^### ([a-z, -]+)\n(.*?)(\n\n|\n*\z)`)
	seen := map[string]bool{}
	text := heading.ReplaceAllStringFunc(string(page), func(part string) string {
		m := heading.FindStringSubmatch(part)
		var all []string
		for name := range strings.SplitSeq(m[1], ", ") {
			rule := check.RuleOf(name)
			require.NotNil(t, rule, name)
			all, seen[name] = append(all, rule.Description), true
		}
		return "### " + m[1] + "\n" + wrapping.WrapSoft(strings.Join(all, " "), 85) + m[3]
	})
	text = regexp.MustCompile(` +\n`).ReplaceAllString(text, "\n")
	for _, id := range check.RuleIDs() {
		assert.True(t, seen[id], "the page has no rule %s", id)
	}
	golden.File(t, file, text)
}

type example struct {
	line, output string
	status       int
}

// examples returns the command lines of a page's console blocks: lines that
// begin with "$ ", and what stands below each; and commands in the last cell of a table's row.
func examples(page string) []example {
	var list []example
	inside := false
	for line := range strings.SplitSeq(page, "\n") {
		switch {
		case strings.HasPrefix(line, "```"):
			inside = line == "```console"
		case !inside && strings.HasPrefix(line, "| "):
			cells := strings.Split(strings.Trim(line, "| "), " | ")
			if command := strings.Trim(cells[len(cells)-1], "`"); strings.HasPrefix(command, "mexalt ") &&
				strings.Contains(line, "`mexalt ") {
				list = append(list, example{line: command})
			}
		case !inside:
		case strings.HasPrefix(line, "$ "):
			list = append(list, example{line: line[2:]})
		case len(list) > 0 && strings.HasPrefix(line, "(exit status "):
			list[len(list)-1].status = int(line[len("(exit status ")] - '0')
		case len(list) > 0:
			list[len(list)-1].output += line + "\n"
		}
	}
	return list
}
