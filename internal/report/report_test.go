package report

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/check"
	"mexalt/checksum"
	"mexalt/codec"
	"mexalt/codec/intel"
	"mexalt/device"
	"mexalt/internal/render"
	"mexalt/memory"
	"mexalt/operation"
	"mexalt/source"
)

const mapText = `name = "T1"
[[memory]]
name = "flash"
kind = "flash"
first = 0x1000
size = "4K"
page = 256
[[region]]
name = "app"
role = "application"
first = 0x1000
size = "2K"
[[region]]
name = "boot"
role = "bootloader"
first = 0x1800
size = "2K"
`

func testMap(t *testing.T) *device.Map {
	t.Helper()
	var problems source.Problems
	m := device.Load("t1.device.toml", []byte(mapText), &problems)
	require.NoError(t, problems.Err())
	return m
}

// read reads Intel HEX as a part of a check.
func read(t *testing.T, name, text string) (check.Part, *codec.File) {
	t.Helper()
	var problems source.Problems
	f, err := codec.Read(strings.NewReader(text), name, -1, codec.ReadOptions{}, &problems)
	require.NoError(t, err)
	return check.Part{Name: name, Image: f.Image, Problems: &problems}, f
}

const (
	appText = ":10100000000102030405060708090A0B0C0D0E0F68\n:00000001FF\n"
	farText = ":01300000AA25\n:00000001FF\n"
)

func checked(t *testing.T, parts ...check.Part) *Checked {
	t.Helper()
	r := check.Run(testMap(t), parts, check.Options{})
	return &Checked{Best: r, All: []*check.Result{r}, Record: intel.Format, Wording: func(string) source.Wording { return nil }}
}

// TestCheckedInEveryForm says the same findings, at the same places, as text,
// JSON, SARIF and JUnit.
func TestCheckedInEveryForm(t *testing.T) {
	fits, _ := read(t, "app.hex", appText)
	far, _ := read(t, "odd name#1.hex", farText)
	c := checked(t, fits, far)
	require.NotEmpty(t, c.Best.Counting())

	var text, sarif, junit, model bytes.Buffer
	c.Text(render.Plain(&text))
	require.NoError(t, c.SARIF(&sarif, "1.2"))
	require.NoError(t, c.JUnit(&junit))
	require.NoError(t, JSON(&model, c.Model()))

	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct{ Rules []struct{ ID string } }
			}
			Results []struct {
				RuleID    string
				RuleIndex int
				Level     string
				Message   struct{ Text string }
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           *struct{ StartLine int }
					}
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal(sarif.Bytes(), &log))
	require.Len(t, log.Runs, 1)
	assert.Equal(t, "2.1.0", log.Version)
	assert.Len(t, log.Runs[0].Tool.Driver.Rules, len(check.Rules()))
	require.Len(t, log.Runs[0].Results, len(c.Best.Findings))

	var suites struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Suite    []struct {
			Cases []struct {
				Name    string `xml:"name,attr"`
				Failure *struct {
					Text string `xml:",chardata"`
				} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal(junit.Bytes(), &suites))
	assert.Equal(t, len(check.Rules()), suites.Tests)

	var findings struct {
		Schema   string
		Verdict  string
		Findings []struct {
			Rule, What string
			Line       int
		}
	}
	require.NoError(t, json.Unmarshal(model.Bytes(), &findings))
	assert.Equal(t, SchemaName("check"), findings.Schema)
	assert.Contains(t, text.String(), findings.Verdict)
	require.Len(t, findings.Findings, len(c.Best.Findings))

	failing := map[string]bool{}
	for i, f := range c.Best.Findings {
		assert.Contains(t, text.String(), f.What)
		assert.Contains(t, text.String(), "["+f.Rule+"]")
		assert.Equal(t, f.What, findings.Findings[i].What)
		result := log.Runs[0].Results[i]
		assert.Equal(t, f.Rule, result.RuleID)
		assert.Equal(t, f.Rule, log.Runs[0].Tool.Driver.Rules[result.RuleIndex].ID)
		assert.Contains(t, result.Message.Text, f.What)
		assert.NotEmpty(t, result.Locations)
		if f.Place.Line > 0 {
			assert.Equal(t, f.Place.Line, result.Locations[0].PhysicalLocation.Region.StartLine)
			assert.Equal(t, f.Place.Line, findings.Findings[i].Line)
		}
		if f.Input == far.Name {
			assert.Equal(t, "odd%20name%231.hex", result.Locations[0].PhysicalLocation.ArtifactLocation.URI, "a URI (RFC 3986)")
		}
		failing[f.Rule] = failing[f.Rule] || f.Severity != source.Note
	}
	failures := 0
	for _, one := range suites.Suite[0].Cases {
		assert.Equal(t, failing[one.Name], one.Failure != nil, one.Name)
		if one.Failure != nil {
			failures++
		}
	}
	assert.Equal(t, failures, suites.Failures)
}

// TestAcceptedFindings stay visible everywhere, but fail nothing.
func TestAcceptedFindings(t *testing.T) {
	far, _ := read(t, "far.hex", farText)
	var accept []string
	for _, f := range checked(t, far).Best.Findings {
		accept = append(accept, f.Rule)
	}
	c := checked(t, far)
	c.Best = check.Run(testMap(t), []check.Part{far}, check.Options{Accept: accept})
	var text, sarif, junit bytes.Buffer
	c.Text(render.Plain(&text))
	require.NoError(t, c.SARIF(&sarif, "1.2"))
	require.NoError(t, c.JUnit(&junit))
	assert.Contains(t, text.String(), "accepted ")
	assert.Equal(t, len(c.Best.Findings), strings.Count(sarif.String(), `"suppressions"`))
	assert.NotContains(t, junit.String(), "<failure")
	assert.Contains(t, junit.String(), "accepted ")
}

// TestModelsHaveNoNulls: who reads the JSON need not ask whether a list is
// there.
func TestModelsHaveNoNulls(t *testing.T) {
	fits, file := read(t, "app.hex", appText)
	other, _ := read(t, "b.hex", farText)
	compared := Compare(memory.Part{Name: "a", Image: fits.Image}, memory.Part{Name: "b", Image: other.Image}, testMap(t), nil,
		[]memory.Span{{First: 0, Last: ^uint64(0)}})
	same := Compare(memory.Part{Name: "a", Image: fits.Image}, memory.Part{Name: "a", Image: fits.Image}, nil, nil,
		[]memory.Span{{First: 0, Last: ^uint64(0)}})
	inspected := Inspect(file, fits.Problems, &source.Read{Name: "app.hex", Size: int64(len(appText))}, testMap(t))
	for name, model := range map[string]any{
		"check":     checked(t, fits, other).Model(),
		"compare":   compared.Model(),
		"same":      same.Model(),
		"inspect":   (&Inspections{All: []*Inspected{inspected}}).Model(),
		"nothing":   (&Inspections{}).Model(),
		"checksums": (&Checksums{}).Model(),
		"answers":   (&Identified{}).Model(),
		"kinds":     KindsWith("no such kind").Model(),
	} {
		var text bytes.Buffer
		require.NoError(t, JSON(&text, model))
		assert.NotContains(t, text.String(), "null", name)
		var back struct{ Schema string }
		require.NoError(t, json.Unmarshal(text.Bytes(), &back))
		assert.Regexp(t, `^mexalt\.[a-z]+/\d$`, back.Schema, name)
	}
}

// TestInspectedText tells the odd ones: one byte, none, and a file that is no
// image.
func TestInspectedText(t *testing.T) {
	for text, want := range map[string][]string{
		farText:                      {"far: Intel HEX, intact, 1 byte at 0x3000\n", "all data records of 1 byte"},
		":00000001FF\n":              {"far: Intel HEX, intact, contains no bytes\n"},
		":01300000AA26\n:00000001FF": {"far: Intel HEX, damaged: 1 problem", "checksum is 0x26"},
		appText:                      {"16 bytes at 0x1000..0x100F", "app 0x1000..0x17FF: 16 of 2,048 bytes used, 0.8 %"},
	} {
		part, file := read(t, "far", text)
		one := Inspect(file, part.Problems, &source.Read{Name: "far", Size: int64(len(text))}, testMap(t))
		var out bytes.Buffer
		one.Text(render.Plain(&out), render.Plain(&out), nil)
		for _, w := range want {
			assert.Contains(t, out.String(), w)
		}
	}
}

// TestComparedText counts what differs, by region too.
func TestComparedText(t *testing.T) {
	everywhere := []memory.Span{{First: 0, Last: ^uint64(0)}}
	a, _ := memory.FromBytes(0x1000, bytes.Repeat([]byte{1}, 600), &source.Input{Name: "a"})
	b, _ := a.Write(&source.Input{Name: "b"}, 0x1100, []byte{2})
	part := func(m *memory.Image) memory.Part { return memory.Part{Name: "x", Image: m} }
	c := Compare(part(a), part(b), testMap(t), nil, everywhere)
	assert.Equal(t, uint64(1), c.Differ)
	require.NotEmpty(t, c.Totals)
	assert.Equal(t, "app", c.Totals[0].Section)
	assert.Equal(t, []uint64{1, 8}, []uint64{c.Totals[0].PagesTouched, c.Totals[0].Pages})
	assert.Empty(t, c.Diagnosis.Causes, "a byte changed among the same ones is no byte put in")
	var out bytes.Buffer
	c.Text(render.Plain(&out))
	assert.Contains(t, out.String(), "different: x and x: 1 byte differs, 599 equal\n")
	assert.Regexp(t, `(?m)^app +1 +0 +0 +1 of 8$`, out.String())
	out.Reset()
	Compare(part(a), part(a), nil, nil, everywhere).Text(render.Plain(&out))
	assert.Equal(t, "equal: x and x, 600 bytes\n", out.String())
}

// TestChecksumTexts tells values, and those that are not as expected.
func TestChecksumTexts(t *testing.T) {
	k, err := checksum.KindOf("CRC-16/XMODEM")
	require.NoError(t, err)
	r := operation.ChecksumResult{Kind: k, Value: checksum.Value{0x31, 0xC3}, Spans: []memory.Span{{First: 0, Last: 8}}}
	var out bytes.Buffer
	(&Checksums{Results: []operation.ChecksumResult{r}}).Text(render.Plain(&out))
	assert.Contains(t, out.String(), "31C3")
	r.Expected = checksum.Value{0x31, 0xC4}
	assert.False(t, r.AsExpected())
	(&Checksums{Results: []operation.ChecksumResult{r}}).Text(render.Plain(&out))
	assert.Contains(t, out.String(), "31C4")
	var text bytes.Buffer
	require.NoError(t, JSON(&text, (&Checksums{Results: []operation.ChecksumResult{r}}).Model()))
	assert.Contains(t, text.String(), `"expected": "0x31C4"`)
}

// TestKindsAreFoundByAnyPartOfTheirName lists what help and errors send to.
func TestKindsAreFoundByAnyPartOfTheirName(t *testing.T) {
	for text, least := range map[string]int{"": 150, "xmodem": 1, "CRC-32": 5, "sha": 5} {
		list := KindsWith(text)
		assert.GreaterOrEqual(t, len(list), least, text)
		var out bytes.Buffer
		list.Text(render.Plain(&out))
		for _, k := range list {
			assert.Contains(t, strings.ToLower(fmt.Sprint(out.String())), strings.ToLower(text), k.Name)
		}
	}
}

// TestSymbolsAsTheirSourceHasThem prints names that compilers of C++ and Rust write, and others.
func TestSymbolsAsTheirSourceHasThem(t *testing.T) {
	for name, want := range map[string]string{
		"_ZN5gauge5readyEi":         "gauge::ready",
		"_ZNK5gauge4tideIiE4heldEv": "gauge::tide<int>::held",
		"_RNvC5gauge4read":          "gauge::read",
		"_ZN":                       "_ZN",
		"tide_height":               "tide_height",
		"_Zend":                     "_Zend",
		"\x1b[31m":                  "\\x1B[31m",
		"_ZN" + strings.Repeat("4tide", 2000) + "Ev": "",
	} {
		got := SymbolText(name)
		if want == "" {
			assert.LessOrEqual(t, len(got), len(name))
			continue
		}
		assert.Equal(t, want, got)
	}
}

func TestInputsOfOneImageAreNamedTogether(t *testing.T) {
	names := strings.Fields("a b c d e f g h")
	assert.Equal(t, "a", Together(names[:1]))
	assert.Equal(t, "a + b + c + d + e + f", Together(names[:6]))
	assert.Equal(t, "a + b + c + 4 more", Together(names[:7]))
	assert.Equal(t, "d", names[3], "the list stays as it is")
}
