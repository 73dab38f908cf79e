package pages

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/check"
	"mexalt/device"
	"mexalt/internal/report"
	"mexalt/memory"
	"mexalt/source"
)

// hostile is a name, a text and a version that would do something on a page that
// does not escape them.
const hostile = `"><script>alert(1)</script><img src=x onerror=alert(2)>'</title></svg>&lt;`

// checkPage makes the page of an image with a hostile name against a map.
func checkPage(t *testing.T, name string, image *memory.Image, device string) string {
	c := checkedAgainst(t, name, image, device)
	var page bytes.Buffer
	require.NoError(
		t,
		(&Check{Checked: c, Product: name, Sub: name, Parts: []Part{{Name: name, File: name, Image: image, Version: name}},
			Sets:     map[string]string{name: name},
			Accepted: []Acceptance{{"partial-page", name}}, Files: []File{{"input", name, name, 1, name}}}).Write(
			&page,
		),
	)
	return page.String()
}

func checkedAgainst(t *testing.T, name string, image *memory.Image, deviceName string) *report.Checked {
	m, err := device.Open(&source.Files{}, deviceName, nil)
	require.NoError(t, err)
	r := check.Run(m, []check.Part{{Name: name, Image: image}}, check.Options{Accept: []string{"partial-page"}})
	return &report.Checked{Best: r, All: []*check.Result{r}, Wording: func(string) source.Wording { return nil }}
}

func bytesAt(t *testing.T, first uint64, data []byte, name string) *memory.Image {
	image, ok := memory.FromBytes(first, data, &source.Input{Name: name, Counting: source.Offsets})
	require.True(t, ok)
	return image
}

// TestHostileNamesAreShownAndNotRun puts what would be markup everywhere, and looks
// that the page has no element of it.
func TestHostileNamesAreShownAndNotRun(t *testing.T) {
	image := bytesAt(t, 0, append([]byte("version 1.2.3 "+hostile), make([]byte, 300)...), hostile)
	pages := []string{checkPage(t, hostile, image, "brindle-b8-32")}
	other := bytesAt(t, 0, []byte(hostile), hostile)
	var page bytes.Buffer
	require.NoError(
		t,
		WriteComparison(
			report.Compare(memory.Part{Name: hostile, Image: image}, memory.Part{Name: hostile, Image: other}, nil, nil,
				memory.Complement(nil)),
			&page,
		),
	)
	pages = append(pages, page.String())
	page.Reset()
	require.NoError(
		t,
		WriteFailure(
			report.Failure{
				Problems: []report.Problem{{Severity: "error", File: hostile, Line: 1, Column: 1, What: hostile, Expected: hostile,
					Advice: hostile}},
			},
			&page,
		),
	)
	pages = append(pages, page.String())
	for _, p := range pages {
		assert.Contains(t, p, "alert(1)", "it is shown")
		assert.NotContains(t, p, "<script>alert", "and not run")
		assert.NotContains(t, p, "<img")
		assert.NotRegexp(t, `(?i)<[^>]*\sonerror=`, p)
		// Nothing is fetched: whatever has a place elsewhere is a name of a namespace.
		for _, place := range regexp.MustCompile(`https?://[^"'\s<]+`).FindAllString(p, -1) {
			assert.Equal(t, "http://www.w3.org/2000/svg", place)
		}
		assert.NotRegexp(t, `<(link|iframe|object|embed|base|form [^>]*action)`, p)
		drawingsAreXML(t, p)
	}
}

// drawingsAreXML holds each drawing of a page against XML's grammar.
func drawingsAreXML(t *testing.T, page string) {
	for _, svg := range regexp.MustCompile(`(?s)<svg .*?</svg>`).FindAllString(page, -1) {
		d := xml.NewDecoder(strings.NewReader(svg))
		for {
			_, err := d.Token()
			if errors.Is(err, io.EOF) {
				break
			}
			require.NoError(t, err, svg)
		}
	}
}

// TestLinksLead holds that each link of a page has where it leads to, and each name is
// given once.
func TestLinksLead(t *testing.T) {
	page := checkPage(t, "image.bin", bytesAt(t, 0x7000, bytes.Repeat([]byte{1}, 0x900), "image.bin"), "brindle-b8-32")
	ids := map[string]bool{}
	for _, m := range regexp.MustCompile(`\sid="([^"]+)"`).FindAllStringSubmatch(page, -1) {
		assert.False(t, ids[m[1]], m[1])
		ids[m[1]] = true
	}
	links := regexp.MustCompile(`href="#([^"]+)"`).FindAllStringSubmatch(page, -1)
	assert.Greater(t, len(links), 20)
	for _, m := range links {
		assert.True(t, ids[m[1]], m[1])
	}
}

// TestPagesAreTheSameEachTime makes a page twice.
func TestPagesAreTheSameEachTime(t *testing.T) {
	image := bytesAt(t, 0, bytes.Repeat([]byte{1, 2, 3}, 5000), "image.bin")
	assert.Equal(t, checkPage(t, "image.bin", image, "brindle-b8-32"), checkPage(t, "image.bin", image, "brindle-b8-32"))
}

// TestMuchIsSummedUp compares images with very many differences.
func TestMuchIsSummedUp(t *testing.T) {
	const size, stretches = 1 << 20, 10_000
	a, b := make([]byte, size), make([]byte, size)
	for i := range stretches {
		b[i*100] = 1
	}
	c := report.Compare(memory.Part{Name: "a.bin", Image: bytesAt(t, 0, a, "a.bin")},
		memory.Part{Name: "b.bin", Image: bytesAt(t, 0, b, "b.bin")}, nil, nil, memory.Complement(nil))
	var page bytes.Buffer
	require.NoError(t, WriteComparison(c, &page))
	assert.Less(t, page.Len(), 1<<20)
	assert.Contains(t, page.String(), "And 9,500 more stretches, with 9,500 bytes, which are summed up below.")
	sums := 0
	for _, m := range regexp.MustCompile(`<td class="number ">([0-9,]+)</td><td class="number ">([0-9,]+)</td></tr>`).FindAllStringSubmatch(page.String(), -1) {
		var n int
		_, err := fmt.Sscanf(strings.ReplaceAll(m[2], ",", ""), "%d", &n)
		require.NoError(t, err)
		sums += n
	}
	assert.Equal(t, stretches, sums, "the slices have all of them")
}

// TestHolesThatCountAreNotMarked compares with holes taken as a byte.
func TestHolesThatCountAreNotMarked(t *testing.T) {
	first := memory.Part{Name: "a.bin", Image: bytesAt(t, 0, []byte{1, 2, 3}, "a.bin")}
	second := memory.Part{Name: "b.bin", Image: bytesAt(t, 0, []byte{1, 9, 3, 0xFF, 0xFF}, "b.bin")}
	ff := byte(0xFF)
	for hole, marks := range map[*byte]int{nil: 3, &ff: 1} {
		c := report.Compare(first, second, nil, hole, memory.Complement(nil))
		odd := 0
		for _, cell := range (comparison{c}).beside(0).Cells {
			if cell.Mark == "odd" {
				odd++
			}
		}
		assert.Equal(t, marks, odd)
	}
}

// TestEvidenceIsOfTheInputThatIsNamed shows the bytes of the input that a finding names, also
// where another input has bytes at the same addresses.
func TestEvidenceIsOfTheInputThatIsNamed(t *testing.T) {
	m, err := device.Open(&source.Files{}, "brindle-b8-32", nil)
	require.NoError(t, err)
	loader := bytesAt(t, 0x7800, bytes.Repeat([]byte{0xAA}, 0x100), "loader.bin")
	large := bytesAt(t, 0x7000, bytes.Repeat([]byte{0xBB}, 0x900), "large.bin")
	r := check.Run(m, []check.Part{{Name: "loader.bin", Image: loader}, {Name: "large.bin", Image: large}}, check.Options{})
	c := &checkLayout{
		Check: &Check{Checked: &report.Checked{Best: r, All: []*check.Result{r}, Wording: func(string) source.Wording { return nil }}},
	}
	found := map[string]string{}
	for _, f := range c.findingsSection().Findings {
		if len(f.Rows) > 1 {
			found[f.Rule] = f.Place + " " + f.Rows[1].Cells[0].Text + " " + f.Rows[1].Origin
		}
	}
	assert.Equal(t, "large.bin+0x800 BB large.bin+0x800", found["region-overrun"])
	for i := range r.Findings {
		if r.Findings[i].Rule == "missing-part" {
			assert.Same(t, r.Whole, c.evidence(&r.Findings[i]))
		}
	}
	// Columns without anything are left out of the table of inputs.
	c.Parts = []Part{{Name: "a", File: "a.bin", Image: loader}}
	var columns []string
	for _, column := range c.partsSection().Table.Header {
		columns = append(columns, column.Text)
	}
	assert.Equal(t, []string{"part", "file", "bytes", "addresses", "contents, SHA-256"}, columns)
	assert.Len(t, c.partsSection().Table.Rows[0], len(columns))
	assert.True(t, c.partsSection().Table.Rows[0][3].Address())
	assert.False(t, c.partsSection().Table.Rows[0][4].Address(), "digits of a digest may be broken")
	for work, want := range map[check.Work]string{
		{}: "nothing", {Bytes: 1}: "1 byte; the map gives no pages or sectors there",
		{Bytes: 128, Pages: 2}:             "128 bytes in 2 pages; the map gives no sectors",
		{Bytes: 128, Sectors: 1}:           "128 bytes; 1 sector to erase; the map gives no pages",
		{Bytes: 128, Pages: 1, Sectors: 2}: "128 bytes in 1 page; 2 sectors to erase",
	} {
		assert.Equal(t, want, report.Work(work))
	}
}

// browser skips the test where no Chromium is installed, and returns what opens a page
// in it and gives what the page is then.
func browser(t *testing.T) func(page, hash string) string {
	path, err := exec.LookPath("chromium")
	if err != nil {
		if os.Getenv("MEXALT_BROWSER") != "" {
			t.Fatal("chromium is not installed, and MEXALT_BROWSER says that it is")
		}
		t.Skip("chromium is not installed")
	}
	return func(page, hash string) string {
		name := filepath.Join(t.TempDir(), "page.html")
		require.NoError(t, os.WriteFile(name, []byte(page), 0o600))
		out, err := exec.Command(path, "--headless", "--no-sandbox", "--disable-gpu", "--user-data-dir="+t.TempDir(),
			"--virtual-time-budget=20000", "--dump-dom", "file://"+name+hash).
			Output()
		require.NoError(t, err)
		return string(out)
	}
}

// TestThePageFindsOrigins asks the page's script for origins, and the image itself.
func TestThePageFindsOrigins(t *testing.T) {
	open := browser(t)
	step := &source.Input{Name: "place", Counting: source.Operation}
	swap := &source.Input{Name: "swap", Counting: source.Operation}
	low := bytesAt(t, 0x100, bytes.Repeat([]byte{1, 2, 3, 4}, 64), "low.bin")
	moved, ok := low.Move(0x40, false, step)
	require.True(t, ok)
	swapped, err := moved.Swap(4, swap)
	require.NoError(t, err)
	var batch memory.Batch
	for i := range 8 {
		batch.Add(uint64(0x1000+16*i), bytes.Repeat([]byte{byte(i)}, 16), 3+i)
	}
	records, _ := batch.Image(&source.Input{Name: "records.hex", Counting: source.Lines})
	lanes := records.SplitLanes(2, 2, &source.Input{Name: "split", Counting: source.Operation})
	joined, err := memory.JoinLanes([]*memory.Image{lanes[0].Image, lanes[1].Image},
		2, &source.Input{Name: "merge", Counting: source.Operation})
	require.NoError(t, err)
	image, _ := memory.Merge([]*memory.Image{swapped, joined}, memory.First)
	page := checkPage(t, "image", image, "brindle-b8-32")
	var asked, want []string
	for _, at := range []uint64{0x140, 0x141, 0x143, 0x1FF, 0x23F, 0x1000, 0x1001, 0x1012, 0x1035, 0x107F} {
		o, ok := image.Origin(at)
		require.True(t, ok)
		asked, want = append(asked, fmt.Sprintf("0x%X", at)), append(want, fmt.Sprintf("%s comes from %s", memory.FormatAddress(at), o))
	}
	asked, want = append(asked, "0x2000", "nowhere"), append(want, "0x2000 is not in the image", "An address is expected, such as 0x7800.")
	assert.Contains(t, open(page, "#at="+strings.Join(asked, ",")), ">"+strings.Join(want, "\n")+"<")
}

// TestPagesCanBeUsedByAll lets axe-core look at pages. MEXALT_AXE is its file,
// axe.min.js.
func TestPagesCanBeUsedByAll(t *testing.T) {
	open := browser(t)
	name := os.Getenv("MEXALT_AXE")
	if name == "" {
		t.Skip("MEXALT_AXE does not name axe.min.js")
	}
	axe, err := os.ReadFile(name)
	require.NoError(t, err)
	first := bytesAt(t, 0x7000, bytes.Repeat([]byte{1, 2}, 0x480), "first.bin")
	second := bytesAt(t, 0x7000, append(bytes.Repeat([]byte{1, 2}, 0x400), bytes.Repeat([]byte{7}, 0x100)...), "second.bin")
	var compared bytes.Buffer
	require.NoError(t, WriteComparison(report.Compare(memory.Part{Name: "first.bin", Image: first},
		memory.Part{Name: "second.bin", Image: second}, nil, nil, memory.Complement(nil)), &compared))
	for _, page := range []string{checkPage(t, "first.bin", first, "brindle-b8-32"), compared.String()} {
		for _, dark := range []bool{false, true} {
			if dark {
				page = strings.Replace(page, "@media (prefers-color-scheme: dark)", "@media all", 1)
			}
			page := strings.Replace(page, "script-src 'unsafe-inline'", "script-src 'unsafe-inline' 'unsafe-eval'", 1)
			page = strings.Replace(
				page,
				"</body>",
				"<script>"+string(axe)+
					"</script><script>axe.run().then(r => { const o = document.createElement('pre'); o.id = 'axe'; o.textContent = "+
					"r.violations.map(v => v.impact + ' ' + v.id + ' ' + v.nodes[0].html).join('\\n') + '\\nlooked at ' + "+
					"r.passes.length; document.body.append(o) })</script></body>",
				1,
			)
			_, said, ok := strings.Cut(open(page, ""), `<pre id="axe">`)
			require.True(t, ok)
			assert.Regexp(t, `^\nlooked at [1-9]\d`, said)
		}
	}
}
