package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/check"
	"mexalt/docs"
)

func readTestdata(t *testing.T, name string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("testdata", name))
	require.NoError(t, err)
	return string(text)
}

// commandNames are all commands, as help lists them.
func commandNames(f folder) []string {
	var names []string
	for _, m := range regexp.MustCompile(`(?m)^  ([a-z]+) +[a-z]`).FindAllStringSubmatch(f.ok("help"), -1) {
		names = append(names, m[1])
	}
	return names
}

// TestExamplesOfHelpRun runs the command lines that each command's help shows.
func TestExamplesOfHelpRun(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	names := commandNames(f)
	require.Len(t, names, 27)
	for _, name := range names {
		if name == "demo" {
			continue // TestDemo runs its lines
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			f := releasedFolder(t)
			_, shown, ok := strings.Cut(f.ok("help "+name), "\nFor example:\n")
			require.True(t, ok)
			lines := strings.Split(strings.TrimSpace(shown), "\n")
			require.Len(t, lines, 2)
			for _, line := range lines {
				if strings.Contains(line, "localhost:3333") { // of the reader's own part
					at, _ := served(t, f, "tg1-harbour-2.4.1.hex -device brindle-b8-32 -clients 1")
					line = strings.ReplaceAll(line, "localhost:3333", at)
				}
				out, status := f.shell(strings.TrimSpace(line))
				assert.LessOrEqual(t, status, 1, "%s\n%s", line, out)
			}
		})
	}
}

var emphasis = regexp.MustCompile(`\*([^*\s][^*]*)\*`)

// TestHelpIsTheDocs finds the words of each line of the pages in what help prints of their
// topics, without the signs that only a page needs, and of each rule.
func TestHelpIsTheDocs(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	link := regexp.MustCompile(`\[([^\]]*)\]\([^)]*\)`)
	for _, topic := range docs.Topics {
		text, ok := docs.Topic(topic.Name)
		require.True(t, ok, topic.Name)
		there, err := os.ReadFile(filepath.Join("..", "..", "docs", topic.Page+".md"))
		require.NoError(t, err)
		require.Equal(t, string(there), text)
		shown := f.ok("help " + topic.Name)
		assert.NotContains(t, shown, "`", topic.Name)
		assert.NotContains(t, shown, "**", topic.Name)
		words := strings.Join(strings.Fields(shown), " ")
		code := false
		for line := range strings.Lines(text) {
			if strings.HasPrefix(line, "```") {
				code = !code
			}
			if line = strings.Join(strings.Fields(line), " "); code && line != "" && !strings.HasPrefix(line, "```") {
				assert.Contains(t, words, line, topic.Name)
				continue
			}
			line = strings.TrimSpace(strings.TrimLeft(line, "#"))
			if line == "" || strings.HasPrefix(line, "|") || strings.HasPrefix(line, "```") || strings.HasPrefix(line, "![") {
				continue
			}
			line = strings.NewReplacer("**", "", "`", "").Replace(link.ReplaceAllString(line, "$1"))
			line = strings.Join(strings.Fields(strings.TrimPrefix(emphasis.ReplaceAllString(line, "$1"), "* ")), " ")
			if !strings.Contains(words, line) {
				t.Errorf("help %s does not contain: %s", topic.Name, line)
			}
		}
	}
	for _, rule := range check.Rules() {
		assert.Contains(t, f.ok("help "+rule.ID), rule.ID)
	}
	assert.Contains(t, f.ok("help output"), "-record-length N")
	assert.Contains(t, f.ok("help input"), "-lenient")
	assert.Equal(t, "mexalt help: error: no help on \"formts\"; did you mean formats?\n", f.line("help formts").err)
	assert.Equal(t, 2, f.line("help nonsense").status)
	// Words of the trade lead to where their matter is.
	for word, want := range map[string]string{
		"fuses": "-explain WORD=VALUE", "option bytes": "-compose", "lock": "help rehearsal", "boot": "boot-section",
		"burn": "rehearse IMAGE", "flash": "convert IMAGE",
		"erase": "shared-sector", "blank": "-holes FF", "verify": "confirm MANIFEST", "signature": "wrong-identity",
		"crystal": "config-hazard", "clock": "-compose",
		"hazard": "config-hazard", "recover": "power cut", "hex": "help formats", "bin": "convert FILE", "elf": "inspect FILE",
		"serial": "-units", "watch": "-watch",
		"make": "-depfile", "CI": "junit", "even/odd": "lanes 2", "crc32": "checksum -list", "ccitt": "identify",
	} {
		shown := f.ok("help " + word)
		assert.Contains(t, shown, want, word)
		// What help leads to exists.
		for _, line := range regexp.MustCompile(`(?m)^  mexalt (\S+) (.*?)(?:  .*)?$`).FindAllStringSubmatch(shown, -1) {
			if line[1] == "help" {
				f.ok("help " + line[2])
			}
			flags := f.ok("help " + line[1])
			for _, flag := range regexp.MustCompile(`(?:^| )(-[a-z]+)`).FindAllStringSubmatch(line[2], -1) {
				assert.Regexp(t, flag[1]+`\b`, flags, "%s: %s", word, line[0])
			}
		}
	}
	assert.Equal(t, 2, f.line("help json nothing").status)
}

// TestHelpIsForAllShells looks for quotes in command lines of help that only some shells know.
func TestHelpIsForAllShells(t *testing.T) {
	t.Parallel()
	f := emptyFolder(t)
	for line := range strings.Lines(f.ok("help")) {
		name, _, _ := strings.Cut(strings.TrimSpace(line), " ")
		if !strings.HasPrefix(line, "  ") || name == "mexalt" {
			continue
		}
		r := f.line("help " + name)
		for shown := range strings.Lines(r.out) {
			if command := strings.TrimSpace(shown); strings.HasPrefix(command, "mexalt ") {
				assert.NotRegexp(t, `(^| )'`, command, "help %s", name)
			}
		}
	}
}

// TestCompletionInPowerShell asks as its script does, and parses the script: the shell itself
// is in no package. MEXALT_POWERSHELL is a folder with the grammar, as @vscode/tree-sitter-wasm has it.
func TestCompletionInPowerShell(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	assert.Contains(t, f.ok(`completion words -- help ""`), "partial-page\t", "quotes stand for an empty word")
	script := f.ok("completion powershell")
	grammar := os.Getenv("MEXALT_POWERSHELL")
	if grammar == "" {
		t.Skip("MEXALT_POWERSHELL does not name the grammar")
	}
	for text, want := range map[string]string{script: "right\n", strings.Replace(script, "foreach (", "foreach ", 1): "ERROR"} {
		cmd := exec.Command("node", filepath.Join("testdata", "powershell.js"), grammar)
		cmd.Stdin = strings.NewReader(text)
		out, _ := cmd.CombinedOutput()
		assert.Contains(t, string(out), want)
	}
}

// TestCompletionInShells completes in the real shells, where they are installed.
func TestCompletionInShells(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "the shells are of the system below")
	f := demoFolder(t)
	f.ok("release tg1.release.toml -quiet")
	require.NoError(t, os.Mkdir(f.path("maps"), 0o777))
	path := filepath.Dir(program) + ":" + os.Getenv("PATH")
	shells := map[string]func(words string) []string{
		"bash": func(words string) []string {
			return []string{
				"-c",
				`source <(mexalt completion bash); COMP_WORDS=(mexalt ` + words +
					`); COMP_CWORD=$((${#COMP_WORDS[@]}-1)); _mexalt; printf '%s\n' "${COMPREPLY[@]}"`,
			}
		},
		"zsh": func(words string) []string {
			return []string{
				"-f",
				"-c",
				`compdef() { : }; source <(mexalt completion zsh); compadd() { while [[ $1 != -- ]]; do shift; done; shift; (( $# )) && print -rl -- "$@" }; words=(mexalt ` + words + `); CURRENT=${#words}; _mexalt; true`,
			}
		},
		"fish": func(words string) []string {
			return []string{"--no-config", "-c",
				`mexalt completion fish | source; complete -C "mexalt ` + strings.TrimSuffix(words, "''") + `"`}
		},
	}
	for shell, args := range shells {
		t.Run(shell, func(t *testing.T) {
			if _, err := exec.LookPath(shell); err != nil {
				if os.Getenv("MEXALT_SHELLS") != "" {
					t.Fatal(err)
				}
				t.Skip(err)
			}
			for words, want := range map[string]string{
				"che":                                  "check checksum",
				"insp":                                 "inspect",
				"merge -cl":                            "-clash",
				"merge -clash ":                        "stop agree first last",
				"convert -to s":                        "s19 s28 s37 srec",
				"checksum -kind crc-16/mod":            "CRC-16/MODBUS",
				"check -accept start-m":                "start-missing",
				"map -device brindle-b":                "brindle-b8-32",
				"merge boot":                           "bootloader.hex bootloader-damaged.hex",
				"merge ma":                             "maps/",
				"fill -device brindle-b8-32 -in appl":  "application",
				"place -device brindle-b8-32 -into ":   "application bootloader calibration gauge_log configuration",
				"seal -device brindle-b8-32 -only ":    "application_crc",
				"device brindle-b8-32 -compose boot_s": "boot_size= boot_start=",
				"release tg1":                          "tg1.release.toml tg1-line.release.toml",
				"confirm ":                             "maps/ tg1.manifest.json",
				"help partial-":                        "partial-granule partial-page",
				"completion ":                          "bash zsh fish powershell",
				"patch -device brindle-b8-32 calibration.bin@cal":        "calibration.bin@calibration.first",
				"check -accept wrong-identity:gau":                       "",
				"check -device brindle-b8-32 -accept wrong-identity:gau": "wrong-identity:gauge_log",
				"device brindle-b8-32 -compose clock_source=i":           "clock_source=internal 8 MHz clock_source=internal 64 kHz",
				"device brindle-b8-32 -explain c":                        "clock_word=",
				"release tg1.release.toml -variant n":                    "north",
				"release tg1.release.toml -set v":                        "version=",
				"view station.elf -in symbol.tide_h":                     "symbol.tide_height",
				"rehearse gauge-app.s19 -device brindle-b8-32 -fault st": "stuck",
			} {
				typed := words
				if strings.HasSuffix(words, " ") {
					typed += "''"
				}
				cmd := exec.Command(shell, args(typed)...)
				cmd.Dir, cmd.Env = f.dir, append(os.Environ(), "PATH="+path, "HOME="+f.dir, "MEXALT_DEVICES=")
				out, err := cmd.CombinedOutput()
				require.NoError(t, err, "%s: %s", words, out)
				offered := regexp.MustCompile(`\t.*`).ReplaceAllString(strings.ReplaceAll(string(out), `\`, ""), "")
				assert.ElementsMatch(t, strings.Fields(want), strings.Fields(offered), words)
				if words == "help partial-" && shell == "fish" {
					assert.Contains(t, string(out), "partial-page\tpages that are only partly filled", "what it means, after a tab")
				}
			}
		})
	}
}

// TestSettingsOfAFolder reads .mexalt.toml from here or above; flags rule over it.
func TestSettingsOfAFolder(t *testing.T) {
	t.Parallel()
	notOn(t, "windows", "folders are named, and closed to others, as on the system below")
	f := demoFolder(t)
	assert.Contains(t, f.ok("version -v"), "no settings")
	f.write(".mexalt.toml", "device = \"brindle-b8-32\"\nquiet = true\ncolor = \"always\"\n")
	assert.Contains(t, f.ok("version -v"), "settings of .mexalt.toml\n  device  brindle-b8-32\n  quiet   true\n  color   always\n")
	r := f.line("check gauge-app.s19 -region application")
	require.Equal(t, 0, r.status, r.err)
	assert.Contains(t, r.out, "with Brindle B8-32")
	assert.Regexp(t, "\x1b", r.out, "colour always")
	assert.NotRegexp(t, "\x1b", f.ok("check gauge-app.s19 -region application -color never"))
	assert.Empty(t, f.line("fill gauge-app.s19 -in application -o filled.s19").err, "quiet, and the map's names are known")
	assert.Contains(t, f.ok("device -color never"), "Brindle B8-32 (")
	assert.Equal(t, 3, f.line("merge gauge-app.s19 -device brindle-m32-512 -in x -o m.hex").status|3, "a flag rules over the settings")

	require.NoError(t, os.MkdirAll(f.path("a/b"), 0o777))
	below := folder{t, f.path("a/b")}
	below.write("x.hex", f.read("bootloader.hex"))
	assert.Contains(t, below.ok("version -v"), filepath.Join("..", "..", ".mexalt.toml"))
	assert.Contains(t, below.line("inspect x.hex").out, "bootloader 0x7800..0x7FFF")
	require.NoError(t, os.Rename(f.path("calibration.bin"), f.path("c.bin")))
	f.write("own.device.toml", f.ok("device -new"))
	f.write(".mexalt.toml", "device = \"own.device.toml\"\n")
	assert.Contains(t, below.ok("device"), "own.device.toml")

	f.write(".mexalt.toml", "devise = \"x\"\n")
	r = f.line("inspect bootloader.hex")
	assert.Equal(t, 3, r.status)
	assert.Contains(t, r.err, `.mexalt.toml:1:1: error: `)
	assert.Contains(t, r.err, "device")
	f.write(".mexalt.toml", "color = \"red\"\n")
	assert.Contains(t, f.line("inspect bootloader.hex").err, ".mexalt.toml:1:")
	assert.Contains(t, f.ok("help"), "inspect", "help does not need them")
}

// TestMissingMapsAndFiles end with 2 and with 4, however they are named, and the
// message says where.
func TestMissingMapsAndFiles(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	recipe := f.read("tg1.release.toml")
	f.write("map.release.toml", strings.Replace(recipe, `device = "brindle-b8-32"`, `device = "nothing"`, 1))
	f.write("file.release.toml", strings.Replace(recipe, `file = "bootloader.hex"`, `file = "nothing.hex"`, 1))
	for line, want := range map[string]struct {
		status int
		text   string
	}{
		"check bootloader.hex -device nothing": {2, "mexalt check: error: -device: no such device map: nothing; "},
		"check bootloader.hex -device ./nothing.device.toml": {2,
			"mexalt check: error: -device: no such device map: ./nothing.device.toml; no file there ends in .device.toml"},
		"view bootloader.hex -device none/nothing.toml": {2,
			"mexalt view: error: -device: no such device map: none/nothing.toml; no folder none"},
		"device nothing":                                      {2, "mexalt device: error: no such device map: nothing; "},
		"release map.release.toml":                            {2, "map.release.toml:5:1: error: no such device map: nothing; "},
		"release file.release.toml":                           {4, "file.release.toml:13:1: error: cannot read nothing.hex: no such file"},
		"inspect nothing.hex":                                 {4, "cannot read nothing.hex: no such file"},
		"check nothing.hex -device brindle-b8-32 -json":       {4, ""},
		"merge bootloader.hex nothing.hex -o both.hex":        {4, "mexalt merge: error: cannot read nothing.hex: no such file"},
		"patch bootloader.hex -at 0x7800 -file none -o x.hex": {4, "cannot read none: no such file"},
		"inspect none*.hex":                                   {4, "no file matches none*.hex"},
	} {
		r := f.line(line)
		assert.Equal(t, want.status, r.status, line)
		assert.Contains(t, r.err, want.text, line)
	}
	f.write(".mexalt.toml", "quiet = true\ndevice = \"nothing\"\n")
	r := f.line("check bootloader.hex")
	assert.Equal(t, 2, r.status)
	assert.Contains(t, r.err, ".mexalt.toml:2:1: error: no such device map: nothing; ")
	r = f.line("check bootloader.hex -device brindle-b8-32")
	assert.Equal(t, 1, r.status, "the flag rules over it")
}

// TestViewFindsAndShowsDamage finds bytes and texts, and shows the sound lines of a
// damaged file.
func TestViewFindsAndShowsDamage(t *testing.T) {
	t.Parallel()
	f := demoFolder(t)
	for _, nothing := range []string{"", `""`} {
		r := f.run("", "view", "gauge-app.s19", "-find", nothing)
		assert.Equal(t, 2, r.status, "%q", nothing)
		assert.Contains(t, r.err, "mexalt view: error: -find: ")
	}
	out := f.ok("view gauge-app.s19 -find TG-1 -device brindle-b8-32")
	assert.Equal(
		t,
		"\"TG-1\" in gauge-app.s19, 1 time\n0x0034..0x0037 in application, from gauge-app.s19:3\n0x0030  5B E0 4C E0[54 47 2D 31] 20 "+
			"67 61 75 67 65 20 32  [·L·TG-1 gauge 2\n",
		out,
	)
	assert.Equal(t, strings.Replace(out, `"TG-1"`, "54 47 2D 31", 1), f.ok("view gauge-app.s19 -find 0x5447_2D31 -device brindle-b8-32"))
	assert.Contains(t, f.run("", "view", "gauge-app.s19", "-find", `"ca"`).out, `"ca" in gauge-app.s19`, "in quotes it is a text")
	r := f.line("view gauge-app.s19 -find no-such")
	assert.Equal(t, 1, r.status)
	assert.Equal(t, "gauge-app.s19 does not contain \"no-such\"\n", r.out)
	assert.Contains(t, f.ok("view gauge-app.s19 -in 0x34"), "0x0030              54")

	r = f.line("view bootloader-damaged.hex")
	assert.Equal(t, 3, r.status)
	assert.Contains(
		t,
		r.out,
		"line 12 is damaged: character U+2013 (a dash or hyphen) among the digits of a record; expected hex digits 0-9 A-F only\n     "+
			"   hole 0x78B0..0x78BF (16 bytes)\n0x78C0",
	)
	assert.Contains(t, r.out, "line 73 is damaged")
	assert.Contains(t, r.out, "TG-1 bootloa")
	assert.Contains(t, r.err, "bootloader-damaged.hex:41:42: error: checksum")
	moved := f.line("view bootloader-damaged.hex@0x100")
	assert.Equal(t, 3, moved.status)
	assert.Contains(t, moved.out, "0x0100  3A EC")
}
