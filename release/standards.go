package release

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// The same facts as in a manifest, in the words of open standards.

const (
	// ProvenanceExtension ends the name of a provenance statement.
	ProvenanceExtension = ".provenance.json"
	// BillExtension ends the name of a bill of materials.
	BillExtension = ".bom.json"
)

// resource is in-toto's ResourceDescriptor (in-toto Attestation Framework v1).
type resource struct {
	Name   string            `json:"name"`
	Digest map[string]string `json:"digest"`
}

// statement is an in-toto Statement v1 with a SLSA provenance v1 predicate.
type statement struct {
	Type          string     `json:"_type"`
	Subject       []resource `json:"subject"`
	PredicateType string     `json:"predicateType"`
	Predicate     provenance `json:"predicate"`
}

type provenance struct {
	BuildDefinition buildDefinition `json:"buildDefinition"`
	RunDetails      runDetails      `json:"runDetails"`
}

type buildDefinition struct {
	BuildType            string             `json:"buildType"`
	ExternalParameters   externalParameters `json:"externalParameters"`
	ResolvedDependencies []resource         `json:"resolvedDependencies"`
}

type externalParameters struct {
	Release  string            `json:"release"`
	Set      map[string]string `json:"set,omitempty"`
	Variants []string          `json:"variants,omitempty"`
}

type runDetails struct {
	Builder    builder       `json:"builder"`
	Metadata   buildMetadata `json:"metadata"`
	Byproducts []resource    `json:"byproducts"`
}

type builder struct {
	ID      string            `json:"id"`
	Version map[string]string `json:"version"`
}

type buildMetadata struct {
	FinishedOn string `json:"finishedOn,omitempty"`
}

func digestSet(sum string) map[string]string { return map[string]string{"sha256": sum} }

// Provenance returns the manifest's facts as an in-toto Statement with a SLSA
// provenance predicate: the outputs are its subjects, what was read its resolved
// dependencies, and the manifest itself, a file of that name and digest, which has
// all the rest, a byproduct.
func (m *Manifest) Provenance(name, sha256 string) ([]byte, error) {
	s := statement{Type: "https://in-toto.io/Statement/v1", Subject: []resource{}, PredicateType: "https://slsa.dev/provenance/v1"}
	for _, p := range m.Products {
		for _, o := range p.Outputs {
			s.Subject = append(s.Subject, resource{o.File, digestSet(o.SHA256)})
		}
	}
	b := &s.Predicate.BuildDefinition
	b.BuildType = "urn:mexalt:release:1"
	b.ExternalParameters = externalParameters{m.Release, m.Set, m.Variants}
	b.ResolvedDependencies = []resource{}
	for _, r := range m.Read {
		b.ResolvedDependencies = append(b.ResolvedDependencies, resource{r.File, digestSet(r.SHA256)})
	}
	s.Predicate.RunDetails = runDetails{builder{"urn:mexalt", map[string]string{"mexalt": m.Tool}}, buildMetadata{m.Made}, []resource{{name, digestSet(sha256)}}}
	return lines(s)
}

// bill is a bill of materials (CycloneDX 1.6, ECMA-424).
type bill struct {
	Format       string         `json:"bomFormat"`
	SpecVersion  string         `json:"specVersion"`
	Version      int            `json:"version"`
	Metadata     billMetadata   `json:"metadata"`
	Components   []component    `json:"components"`
	Dependencies []dependencies `json:"dependencies"`
}

type billMetadata struct {
	Timestamp string    `json:"timestamp,omitempty"`
	Tools     tools     `json:"tools"`
	Component component `json:"component"`
}

type tools struct {
	Components []component `json:"components"`
}

type component struct {
	Type       string      `json:"type"`
	Ref        string      `json:"bom-ref,omitempty"`
	Name       string      `json:"name"`
	Version    string      `json:"version,omitempty"`
	Hashes     []billHash  `json:"hashes,omitempty"`
	Components []component `json:"components,omitempty"`
}

type billHash struct {
	Algorithm string `json:"alg"`
	Content   string `json:"content"`
}

type dependencies struct {
	Ref       string   `json:"ref"`
	DependsOn []string `json:"dependsOn"`
}

// Bill returns a bill of materials: the release with its outputs, and as components
// the inputs with their versions and digests.
func (m *Manifest) Bill() ([]byte, error) {
	hashes := func(sum string) []billHash { return []billHash{{"SHA-256", sum}} }
	b := bill{Format: "CycloneDX", SpecVersion: "1.6", Version: 1, Components: []component{}}
	b.Metadata = billMetadata{m.Made, tools{[]component{{Type: "application", Name: "mexalt", Version: strings.TrimPrefix(m.Tool, "mexalt ")}}}, component{Type: "firmware", Ref: "release", Name: m.Name}}
	depends := dependencies{Ref: "release", DependsOn: []string{}}
	versions := map[string]string{} // of inputs, by file
	for _, p := range m.Products {
		for _, in := range p.Inputs {
			if in.Version != "" {
				versions[in.File] = in.Version
			}
		}
		if v := p.Set["version"]; v != "" && b.Metadata.Component.Version == "" {
			b.Metadata.Component.Version = v
		}
		for _, o := range p.Outputs {
			b.Metadata.Component.Components = append(b.Metadata.Component.Components, component{Type: "file", Ref: "output:" + o.File, Name: o.File, Hashes: hashes(o.SHA256)})
		}
	}
	for _, r := range m.Read {
		kind := "file"
		if r.Role == "image" {
			kind = "firmware"
		}
		ref := "input:" + r.File
		if slices.Contains(depends.DependsOn, ref) {
			ref = fmt.Sprintf("%s:%d", ref, len(depends.DependsOn)) // read in another role too
		}
		b.Components = append(b.Components, component{Type: kind, Ref: ref, Name: r.File, Version: versions[r.File], Hashes: hashes(r.SHA256)})
		depends.DependsOn = append(depends.DependsOn, ref)
	}
	b.Dependencies = []dependencies{depends}
	return lines(b)
}

// lines returns a value as JSON in lines.
func lines(v any) ([]byte, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return layOut(text), nil
}
