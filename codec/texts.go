package codec

import (
	"bytes"
	"encoding/json"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"mexalt/codec/format"
)

// kind is a kind of text that is no image: one row of [texts].
type kind struct {
	name    string
	endings []string
	// matches reports whether the beginning of a file shows it; nil is that only the
	// name does.
	matches func(head []byte) bool
}

// texts are the kinds of text that are told apart where a file holds no image. A name
// counts before contents, and earlier rows before later ones.
var texts = []kind{
	{"HTML", []string{".html", ".htm"}, begins(`(?i)(<!doctype html|<html)`)},
	{"XML", []string{".xml", ".svd", ".svg", ".pdsc"}, begins(`(<\?xml|<[A-Za-z][^<>]*>)`)},
	{"JSON", []string{".json", ".jsonl"}, isJSON},
	{"a linker's map", nil,
		has(`(?m)^(Linker script and memory map|Memory Configuration|Memory Map of the image|Archive member included)`)},
	{"a linker script", []string{".ld", ".lds", ".icf", ".sct"}, has(`(?m)^\s*(MEMORY|SECTIONS)\s*\{?\s*$`)},
	{"C source", []string{".c", ".h", ".cpp", ".hpp", ".cc"}, has(`(?m)^\s*#\s*(include|define|ifdef|ifndef|pragma)\b`)},
	{"assembly source", []string{".s", ".asm"}, has(`(?m)^\s*\.(section|text|globl|global|syntax)\b`)},
	{"a script", []string{".sh", ".py", ".bat", ".ps1"}, begins(`#!`)},
	{"a device tree", []string{".dts", ".dtsi"}, has(`(?m)^/dts-v1/;`)},
	{"a makefile", []string{".mk", ".mak"}, has(`(?m)^[A-Za-z0-9_./$()%-]+( [^:=\n]*)?:([^=].*)?\n\t`)},
	{
		"TOML",
		[]string{".toml"},
		has(`(?m)^\s*(\[{1,2}[A-Za-z0-9_."-]+\]{1,2}\s*(#.*)?|[A-Za-z0-9_."-]+\s*=\s*("|'|\[|\{|true\b|false\b|[-+0-9]).*)$`),
	},
	{"CSV", []string{".csv"}, isCSV},
	{"a log", []string{".log"}, nil},
}

func begins(pattern string) func([]byte) bool {
	return has(`\A\s*` + pattern)
}

func has(pattern string) func([]byte) bool {
	compiled := sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(pattern) }) // not at the start of every run
	return func(head []byte) bool { return compiled().Match(head) }
}

// isJSON reports whether a beginning is that of an object or a list in JSON.
func isJSON(head []byte) bool {
	head = bytes.TrimSpace(head)
	if len(head) == 0 || head[0] != '{' && head[0] != '[' {
		return false
	}
	if json.Valid(head) {
		return true
	}
	rest := bytes.TrimSpace(head[1:])
	return len(head) >= sniffed/2 && bytes.IndexByte([]byte(`"{[0123456789-tfn`), rest[0]) >= 0
}

// isCSV reports whether lines have the same number of commas, or of semicolons.
func isCSV(head []byte) bool {
	lines := bytes.Split(bytes.TrimSpace(head), []byte("\n"))
	for _, sign := range []string{",", ";"} {
		commas := bytes.Count(lines[0], []byte(sign))
		if len(lines) < 2 || commas == 0 {
			continue
		}
		if !slices.ContainsFunc(lines[:len(lines)-1], func(l []byte) bool { return bytes.Count(l, []byte(sign)) != commas }) {
			return true
		}
	}
	return false
}

// TextKind tells what kind of text a file is that holds no image: "TOML", "C source",
// or just "text"; "" is that it is no text.
func TextKind(name string, head []byte) string {
	if !format.IsText(head) || len(bytes.TrimSpace(head)) == 0 {
		return ""
	}
	base := strings.ToLower(filepath.Base(name))
	if base == "makefile" || base == "gnumakefile" {
		return "a makefile"
	}
	ending := filepath.Ext(base)
	for _, k := range texts {
		if slices.Contains(k.endings, ending) {
			return k.name
		}
	}
	for _, k := range texts {
		if k.matches != nil && k.matches(head) {
			return k.name
		}
	}
	return "text"
}

// rawEndings are endings of names that the trade gives to raw bytes, beside those that
// promise them: text in such a file is data.
var rawEndings = []string{".fw", ".dat", ".dump", ".eeprom", ".flash", ".blob"}
