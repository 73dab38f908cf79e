package cli

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/check"
	"mexalt/checksum"
	"mexalt/codec"
	"mexalt/device"
	"mexalt/docs"
	"mexalt/internal/render"
	"mexalt/key"
	"mexalt/memory"
	"mexalt/rehearsal"
	"mexalt/rehearsal/chip"
	"mexalt/release"
	"mexalt/release/proof"
	"mexalt/source"
	"mexalt/span"
)

// shells are the shells for which completions are printed, with the names of their files and
// the scripts, which ask the program itself what can stand where the cursor is.
var shells = []struct{ name, file, script string }{
	{"bash", "mexalt.bash", `# Completions of mexalt for bash; to be sourced.
_mexalt() {
    local IFS=$'\n' word lead= typed="${COMP_LINE:0:COMP_POINT}"
    local -a words=("${COMP_WORDS[@]:1:COMP_CWORD}")
    if [[ ${typed##*[[:space:]]} == *[=@:]* && $typed != *[\'\"\\]* ]]; then
        # The shell takes a word apart at these signs, and replaces its last piece alone.
        IFS=' ' read -ra words <<<"$typed"
        words=("${words[@]:1}")
        lead="${words[-1]%"${words[-1]##*[=@:]}"}"
    fi
    COMPREPLY=()
    for word in $(mexalt completion words -- "${words[@]}" 2>/dev/null); do
        word="${word%%$'\t'*}" # what it means comes after a tab
        COMPREPLY+=("$(printf %q "${word#"$lead"}")")
    done
    if [[ ${#COMPREPLY[@]} -eq 1 && ${COMPREPLY[0]} == *[/=] ]]; then
        compopt -o nospace 2>/dev/null
    fi
}
complete -F _mexalt mexalt
`},
	{"zsh", "_mexalt", `#compdef mexalt
# Completions of mexalt for zsh; a file of the name _mexalt in a folder of $fpath,
# or to be sourced.
_mexalt() {
    local -a open whole open_shown whole_shown
    local line word means
    for line in "${(@f)$(mexalt completion words -- "${(@)words[2,CURRENT]}" 2>/dev/null)}"; do
        word="${line%%$'\t'*}" means="${${line#"$word"}#$'\t'}"
        if [[ $word == *[/=] ]]; then
            open+=("$word") open_shown+=("$word${means:+  -- $means}")
        elif [[ -n $word ]]; then
            whole+=("$word") whole_shown+=("$word${means:+  -- $means}")
        fi
    done
    compadd -l -S '' -d open_shown -- $open
    compadd -l -d whole_shown -- $whole
}
if [[ ${funcstack[1]} == _mexalt ]]; then
    _mexalt "$@"
else
    compdef _mexalt mexalt
fi
`},
	{"fish", "mexalt.fish", `# Completions of mexalt for fish; to be sourced, or a file of the name mexalt.fish
# in ~/.config/fish/completions.
function __mexalt_words
    set -l words (commandline -opc) (commandline -ct)
    mexalt completion words -- $words[2..-1] 2>/dev/null
end
complete -c mexalt -f -a '(__mexalt_words)'
`},
	{"powershell", "mexalt.ps1", `# Completions of mexalt for PowerShell; to be sourced, as from $PROFILE.
Register-ArgumentCompleter -Native -CommandName @('mexalt', 'mexalt.exe') -ScriptBlock {
    param($wordToComplete, $commandAst, $cursorPosition)
    $words = @()
    foreach ($element in $commandAst.CommandElements | Select-Object -Skip 1) {
        if ($element.Extent.StartOffset -lt $cursorPosition) {
            $words += $element.Extent.Text.Trim([char[]]"'""")
        }
    }
    if ($wordToComplete -eq '') {
        $words += '""' # an empty argument would be left out
    }
    mexalt completion words -- $words 2>$null | ForEach-Object {
        $word, $means = $_ -split [char]9, 2
        $shown = $word
        if ($word -match '[\s''"@{}()$;,&|]') {
            $shown = "'" + $word.Replace("'", "''") + "'"
        }
        if (-not $means) {
            $means = $word
        }
        [System.Management.Automation.CompletionResult]::new($shown, $word, 'ParameterValue', $means)
    }
}
`},
}

var completionCommand = &command{
	name: "completion", usage: "bash | zsh | fish | powershell", bare: true,
	short: "print a completion script for bash, zsh, fish or PowerShell",
	long: `
Prints a completion script for your shell. It completes commands, flags, formats,
algorithms, rules, device maps, region names, and files by their endings. In bash,
source <(mexalt completion bash) does it for a session; in PowerShell,
mexalt completion powershell | Out-String | Invoke-Expression does.

completion words -- WORD... prints the possible completions of the last word, one
per line, each with its meaning after a tab; "" stands for an empty word. The scripts use
it; zsh, fish and PowerShell show the meanings.`,
	setup: func(*flags) func(*session, []string) error {
		return func(s *session, args []string) error {
			if len(args) > 0 && args[0] == "words" {
				if n := len(args); args[n-1] == `""` { // where no empty argument can be handed on
					args[n-1] = ""
				}
				for _, c := range s.complete(args[1:]) {
					text := c.word
					if c.means != "" {
						text += "\t" + c.means
					}
					s.print.Printf("%s\n", render.Styled(text))
				}
				return nil
			}
			for _, shell := range shells {
				if len(args) == 1 && args[0] == shell.name {
					s.print.Printf("%s", render.Styled(shell.script))
					return nil
				}
			}
			return usagef("for which shell? bash, zsh, fish or powershell")
		}
	},
}

// completion is a word that could stand where the cursor is, and what it means in a few
// words, "" where the word says it all.
type completion struct{ word, means string }

// plain are words that need no explanation.
func plain(words ...string) (list []completion) {
	for _, w := range words {
		list = append(list, completion{word: w})
	}
	return list
}

// complete returns the words that could stand in the place of the last one.
func (s *session) complete(words []string) []completion {
	if len(words) == 0 {
		words = []string{""}
	}
	typed := words[len(words)-1]
	if len(words) == 1 {
		return beginning(commandsCompleted(), typed)
	}
	c := commandOf(words[0])
	if c == nil {
		return nil
	}
	l := &line{session: s, flags: c.flags(), typed: typed}
	l.read(words[1 : len(words)-1])
	switch {
	case l.pending != nil:
		return l.values(l.pending)
	case strings.HasPrefix(typed, "-"):
		var names []completion
		for _, k := range l.flags.all() {
			names = append(names, completion{"-" + k.Name, k.Doc})
		}
		slices.SortFunc(names, func(a, b completion) int { return strings.Compare(a.word, b.word) })
		return beginning(names, typed)
	}
	return l.operands(c)
}

// line is a command line that is being typed.
type line struct {
	*session
	flags   *flags
	typed   string
	operand string   // the last one before it
	device  string   // the map that it names; "" is none
	pending *key.Key // whose value is being typed; nil is none
}

// read goes through the words before the one that is being typed.
func (l *line) read(words []string) {
	keys := l.flags.all()
	for i := 0; i < len(words); i++ {
		name, value, with := strings.Cut(strings.TrimLeft(words[i], "-"), "=")
		if !strings.HasPrefix(words[i], "-") || len(words[i]) < 2 {
			l.operand = words[i]
			continue
		}
		k := key.Find(keys, name)
		if k == nil || k.Value == "" || k.Optional {
			continue
		}
		if !with {
			if i++; i == len(words) {
				l.pending = k
				return
			}
			value = words[i]
		}
		if name == "device" {
			l.device = value
		}
	}
}

// values returns what can stand behind a flag.
func (l *line) values(k *key.Key) []completion {
	regionsAlone := k.Name == "into" || k.Name == "region"
	switch {
	case k.Words != nil:
		return beginning(plain(k.Words...), l.typed)
	case k.Value == "MAP":
		return append(beginning(plain(device.Known(l.mapFolders(nil))...), l.typed), l.files(device.Extension)...)
	case k.Value == "BOARD":
		return append(beginning(plain(device.OwnBoards(l.mapFolders(nil))...), l.typed), l.files(device.BoardExtension)...)
	case k.Value == "WISH":
		var wishes []completion
		if m := l.loadMap(); m != nil {
			for _, w := range m.Wishes {
				wishes = append(wishes, completion{w.Name, ""})
			}
		}
		return beginning(wishes, l.typed)
	case k.Value == "PLAN":
		return append(beginning(plain(rehearsal.Shipped()...), l.typed), l.files(rehearsal.Extension)...)
	case k.Value == "FAULT":
		var words []completion
		for _, f := range chip.FaultForms() {
			word, _, _ := strings.Cut(f[0], " ")
			words = append(words, completion{word, f[1]})
		}
		return beginning(words, l.typed)
	case k.Value == "MANIFEST":
		return l.files(proof.Extension)
	case k.Value == "OLD":
		return l.files(codec.Extensions()...)
	case k.Name == "chip":
		return l.files(chip.Extension)
	case k.Name == "from" || k.Name == "to":
		return beginning(plain(codec.Words(k.Name == "to")...), l.typed)
	case k.Name == "kind":
		var names []completion
		for _, kind := range checksum.Kinds() {
			names = append(names, completion{word: kind.Name})
		}
		return beginning(names, l.typed)
	case k.Name == "accept":
		return beginning(l.accepted(), l.typed)
	case k.Name == "variant" || k.Name == "set":
		return beginning(l.ofRelease(k.Name), l.typed)
	case k.Name == "by":
		return beginning(plain("regions", "memories", "runs", "size", "lanes"), l.typed)
	case k.Name == "only" || k.Name == "explain" || k.Name == "compose":
		return beginning(l.named(k.Name), l.typed)
	case k.Value == "SPAN" || k.Value == "ADDRESS" || regionsAlone:
		return beginning(l.spans(regionsAlone), l.typed)
	case k.Value == "FILE" || k.Value == "FOLDER" || k.Value == "TABLE":
		return l.files("")
	}
	return nil
}

// loadMap loads the map that the line names, or the settings; nil is none.
func (l *line) loadMap() *device.Map {
	name := l.device
	if c, err := loadConfig(&source.Files{}); err == nil && name == "" {
		name = c.Device
	}
	if name == "" {
		return nil
	}
	m, err := device.Open(&source.Files{}, name, l.mapFolders(nil))
	if err != nil {
		return nil
	}
	return m
}

// spans returns the names of spans: regions, memories, the image.
func (l *line) spans(regionsAlone bool) []completion {
	var names []completion
	if m := l.loadMap(); m != nil {
		for i := range m.Regions {
			names = append(names, completion{m.Regions[i].Name, m.Regions[i].Span.String()})
		}
		for i := range m.Memories {
			if !regionsAlone {
				names = append(names, completion{m.Memories[i].Name, m.Memories[i].Span.String()})
			}
		}
	}
	if !regionsAlone {
		names = append(names, completion{"image", "all addresses of the image"})
	}
	if strings.HasPrefix(l.typed, "symbol.") {
		names = append(names, l.symbols()...)
	} else if !regionsAlone && strings.EqualFold(filepath.Ext(l.operand), ".elf") {
		names = append(names, completion{"symbol.", "a symbol of the program"})
	}
	return names
}

// symbols are those of the program that the line names.
func (l *line) symbols() (names []completion) {
	const most = 16 << 20 // bytes that are read for a completion
	if info, err := os.Stat(l.operand); err != nil || info.Size() > most {
		return nil
	}
	l.session.files = &source.Files{}
	in := l.session.open(&reading{}, l.operand, span.Names{})
	if in.failed() != nil || in.Program == nil {
		return nil
	}
	symbols, err := in.Program.Symbols()
	if err != nil {
		return nil
	}
	for _, s := range symbols {
		names = append(names, completion{"symbol." + s.Name, memory.FormatAddress(s.First)})
	}
	return names
}

// accepted are the rules, and behind one what it may find: fields and regions of the map.
func (l *line) accepted() (names []completion) {
	rule, _, named := strings.Cut(l.typed, ":")
	if !named {
		for _, r := range check.Rules() {
			names = append(names, completion{r.ID, r.Title})
		}
		return names
	}
	m := l.loadMap()
	if m == nil {
		return nil
	}
	for _, name := range append(m.FieldNames(), m.RegionNames()...) {
		names = append(names, completion{word: rule + ":" + name})
	}
	return names
}

// ofRelease are the variants, or the variables, of the release file that the line names.
func (l *line) ofRelease(what string) (names []completion) {
	f, err := release.Load(&source.Files{}, l.operand)
	if err != nil {
		return nil
	}
	if what == "variant" {
		return plain(f.VariantNames()...)
	}
	for _, name := range f.VariableNames() {
		names = append(names, completion{word: name + "="})
	}
	return names
}

// named returns the names of declared checksums, of configuration words or their
// fields.
func (l *line) named(flag string) []completion {
	if l.flags.command.name == "device" && l.device == "" {
		l.device = l.operand
	}
	m := l.loadMap()
	if m == nil {
		return nil
	}
	var names []completion
	for i := range m.Checksums {
		if flag == "only" {
			names = append(names, completion{word: m.Checksums[i].Name})
		}
	}
	for i := range m.Config {
		if flag == "explain" {
			names = append(names, completion{m.Config[i].Name + "=", "a configuration word"})
		}
		for j := range m.Config[i].Fields {
			switch name := m.Config[i].Fields[j].Name; flag {
			case "compose":
				names = append(names, completion{name + "=", "a field of " + m.Config[i].Name})
				for _, v := range m.Config[i].Fields[j].Values {
					if strings.HasPrefix(l.typed, name+"=") {
						names = append(names, completion{word: name + "=" + v.Meaning})
					}
				}
			case "fitted":
				names = append(names, completion{name, "a field of " + m.Config[i].Name})
			}
		}
	}
	return names
}

// placed are the places of a file: FILE@REGION.first.
func (l *line) placed(file string) (names []completion) {
	for _, c := range l.spans(true) {
		names = append(names, completion{file + "@" + c.word + ".first", c.means})
	}
	return beginning(names, l.typed)
}

// operands returns what can stand where no flag does.
func (l *line) operands(c *command) []completion {
	if file, _, ok := strings.Cut(l.typed, "@"); ok && source.Exists(file) {
		return l.placed(file)
	}
	switch c.name {
	case "release":
		return l.files(release.Extension)
	case "confirm":
		return l.files(proof.Extension)
	case "device":
		return append(beginning(plain(device.Known(l.mapFolders(nil))...), l.typed), l.files(device.Extension)...)
	case "help":
		return beginning(helpCompleted(), l.typed)
	case "completion":
		var names []completion
		for _, shell := range shells {
			names = append(names, completion{word: shell.name})
		}
		return beginning(names, l.typed)
	case "demo", "version":
		return nil
	}
	return l.files(codec.Extensions()...)
}

// helpCompleted are the words that help explains.
func helpCompleted() []completion {
	names := commandsCompleted()
	for _, t := range docs.Topics {
		names = append(names, completion{word: t.Name})
	}
	for _, r := range check.Rules() {
		names = append(names, completion{r.ID, r.Title})
	}
	for _, e := range everyday {
		for _, w := range e.words {
			names = append(names, completion{w, e.about})
		}
	}
	slices.SortStableFunc(names, func(a, b completion) int { return strings.Compare(a.word, b.word) })
	return slices.CompactFunc(names, func(a, b completion) bool { return a.word == b.word })
}

// commandsCompleted are the names of the commands.
func commandsCompleted() (names []completion) {
	for _, c := range commands() {
		names = append(names, completion{c.name, c.short})
	}
	return names
}

// files lists folders, and files with one of the endings, that begin as what is
// typed; an ending of "" is any.
func (l *line) files(endings ...string) []completion {
	folder, begin := filepath.Split(l.typed)
	there, err := os.ReadDir(filepath.Join(".", folder))
	if filepath.IsAbs(folder) {
		there, err = os.ReadDir(folder)
	}
	if err != nil {
		return nil
	}
	var names []completion
	for _, e := range there {
		name := e.Name()
		if !strings.HasPrefix(name, begin) || strings.HasPrefix(name, ".") && begin == "" {
			continue
		}
		info, err := os.Stat(filepath.Join(folder, name))
		switch {
		case err == nil && info.IsDir():
			names = append(names, completion{word: folder + name + "/"})
		case slices.ContainsFunc(endings, func(ending string) bool { return strings.HasSuffix(strings.ToLower(name), ending) }):
			names = append(names, completion{word: folder + name})
		}
	}
	return names
}

// beginning returns the words that begin as one that is typed.
func beginning(words []completion, typed string) []completion {
	return slices.DeleteFunc(slices.Clone(words),
		func(c completion) bool { return !strings.HasPrefix(strings.ToLower(c.word), strings.ToLower(typed)) })
}
