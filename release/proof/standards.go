package proof

import (
	"bytes"
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
	s.Predicate.RunDetails = runDetails{
		builder{"urn:mexalt", map[string]string{"mexalt": m.Tool}},
		buildMetadata{m.Made},
		[]resource{{name, digestSet(sha256)}},
	}
	return lines(s)
}

// bill is what a CycloneDX 1.6 bill of materials (ECMA-424) has of a release. Tests hold it
// against the published schema and the types of another package, which costs half a
// millisecond of every start.
type bill struct {
	Schema       string       `json:"$schema"`
	Format       string       `json:"bomFormat"`
	SpecVersion  string       `json:"specVersion"`
	Version      int          `json:"version"`
	Metadata     billMetadata `json:"metadata"`
	Components   []component  `json:"components"`
	Dependencies []dependency `json:"dependencies"`
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
	Ref        string          `json:"bom-ref,omitempty"`
	Type       string          `json:"type"`
	Name       string          `json:"name"`
	Version    string          `json:"version,omitempty"`
	Hashes     []componentHash `json:"hashes,omitempty"`
	Components []component     `json:"components,omitzero"`
}

type componentHash struct {
	Algorithm string `json:"alg"`
	Content   string `json:"content"`
}

type dependency struct {
	Ref       string   `json:"ref"`
	DependsOn []string `json:"dependsOn"`
}

// The types of components that a release has.
const (
	firmwareComponent = "firmware"
	fileComponent     = "file"
)

// Bill returns a bill of materials (CycloneDX 1.6, ECMA-424): the release with its
// outputs, and as components the inputs with their versions and digests.
func (m *Manifest) Bill() ([]byte, error) {
	of := func(kind, ref, name, sum string) component {
		return component{Type: kind, Ref: ref, Name: name, Hashes: []componentHash{{"SHA-256", sum}}}
	}
	made := component{Type: firmwareComponent, Ref: "release", Name: m.Name, Components: []component{}}
	inputs, depends := []component{}, []string{}
	versions := map[string]string{} // of inputs, by file
	for _, p := range m.Products {
		for _, in := range p.Inputs {
			if in.Version != "" {
				versions[in.File] = in.Version
			}
		}
		if v := p.Set["version"]; v != "" && made.Version == "" {
			made.Version = v
		}
		for _, o := range p.Outputs {
			made.Components = append(made.Components, of(fileComponent, "output:"+o.File, o.File, o.SHA256))
		}
	}
	for _, r := range m.Read {
		kind := fileComponent
		if r.Role == "image" {
			kind = firmwareComponent
		}
		ref := "input:" + r.File
		if slices.Contains(depends, ref) {
			ref = fmt.Sprintf("%s:%d", ref, len(depends)) // read in another role too
		}
		in := of(kind, ref, r.File, r.SHA256)
		in.Version = versions[r.File]
		inputs, depends = append(inputs, in), append(depends, ref)
	}
	b := bill{
		Schema: "http://cyclonedx.org/schema/bom-1.6.schema.json", Format: "CycloneDX", SpecVersion: "1.6", Version: 1,
		Metadata: billMetadata{
			Timestamp: m.Made,
			Tools:     tools{[]component{{Type: "application", Name: "mexalt", Version: strings.TrimPrefix(m.Tool, "mexalt ")}}},
			Component: made,
		},
		Components:   inputs,
		Dependencies: []dependency{{"release", depends}},
	}
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetIndent("", "  ")
	err := e.Encode(b)
	return out.Bytes(), err
}

// lines returns a value as JSON in lines.
func lines(v any) ([]byte, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return append(layOut(nil, text, 0), '\n'), nil
}
