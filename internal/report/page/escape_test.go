package page

import (
	"strings"
	"testing"
	"text/template"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestEachValueIsEscaped prints a hostile value in each place where a template may.
func TestEachValueIsEscaped(t *testing.T) {
	const hostile = `"><script>'&`
	const safe = `&#34;&gt;&lt;script&gt;&#39;&amp;`
	for text, want := range map[string]string{
		`<p>{{.}}</p>`:                        `<p>` + safe + `</p>`,
		`<p title="a{{.}}b">x</p>`:            `<p title="a` + safe + `b">x</p>`,
		`{{if .}}<b>{{.}}</b>{{else}}{{end}}`: `<b>` + safe + `</b>`,
		`{{$x := .}}{{with $x}}{{.}}{{end}}`:  safe,
		`{{template "a" .}}{{define "a"}}<i class="{{.}}">{{.}}</i>{{end}}`: `<i class="` + safe + `">` + safe + `</i>`,
		`<a{{if .}} href="{{.}}"{{end}}>{{printf "%s" .}}</a>`:              `<a href="` + safe + `">` + safe + `</a>`,
	} {
		p, err := parsed(text, template.FuncMap{})
		require.NoError(t, err, text)
		var b strings.Builder
		require.NoError(t, p.Execute(&b, hostile))
		assert.Equal(t, want, b.String())
	}
	p, err := parsed(`<p>{{.}}</p><script>{{.}}</script>`, template.FuncMap{})
	require.NoError(t, err)
	var b strings.Builder
	assert.Error(t, p.Execute(&b, hostile), "a script takes no text")
	b.Reset()
	require.NoError(t, p.Execute(&b, Markup("<b>1</b>")))
	assert.Equal(t, `<p><b>1</b></p><script><b>1</b></script>`, b.String())
}

// TestValuesStandInTwoPlacesAlone refuses templates that print a value elsewhere.
func TestValuesStandInTwoPlacesAlone(t *testing.T) {
	for _, text := range []string{
		`<p {{.}}>`, `<p title={{.}}>x</p>`, `<p title='{{.}}'>x</p>`, `<{{.}}>`, `<p title="{{template "a"}}">{{define "a"}}x{{end}}`,
		`{{if .}}<p title="{{end}}">`, `<p title="`, `{{range .}}<b{{end}}>`,
	} {
		_, err := parsed(text, template.FuncMap{})
		assert.Error(t, err, text)
	}
}
