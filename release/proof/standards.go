package proof

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/CycloneDX/cyclonedx-go"
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

// Bill returns a bill of materials (CycloneDX 1.6, ECMA-424): the release with its
// outputs, and as components the inputs with their versions and digests.
func (m *Manifest) Bill() ([]byte, error) {
	hashes := func(sum string) *[]cyclonedx.Hash {
		return &[]cyclonedx.Hash{{Algorithm: cyclonedx.HashAlgoSHA256, Value: sum}}
	}
	made := cyclonedx.Component{Type: cyclonedx.ComponentTypeFirmware, BOMRef: "release", Name: m.Name}
	outputs, inputs, depends := []cyclonedx.Component{}, []cyclonedx.Component{}, []string{}
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
			outputs = append(
				outputs,
				cyclonedx.Component{Type: cyclonedx.ComponentTypeFile, BOMRef: "output:" + o.File, Name: o.File, Hashes: hashes(o.SHA256)},
			)
		}
	}
	for _, r := range m.Read {
		kind := cyclonedx.ComponentTypeFile
		if r.Role == "image" {
			kind = cyclonedx.ComponentTypeFirmware
		}
		ref := "input:" + r.File
		if slices.Contains(depends, ref) {
			ref = fmt.Sprintf("%s:%d", ref, len(depends)) // read in another role too
		}
		inputs = append(inputs, cyclonedx.Component{Type: kind, BOMRef: ref, Name: r.File, Version: versions[r.File], Hashes: hashes(r.SHA256)})
		depends = append(depends, ref)
	}
	made.Components = &outputs
	bom := cyclonedx.NewBOM()
	bom.Metadata = &cyclonedx.Metadata{
		Timestamp: m.Made,
		Component: &made,
		Tools: &cyclonedx.ToolsChoice{
			Components: &[]cyclonedx.Component{
				{Type: cyclonedx.ComponentTypeApplication, Name: "mexalt", Version: strings.TrimPrefix(m.Tool, "mexalt ")},
			},
		},
	}
	bom.Components = &inputs
	bom.Dependencies = &[]cyclonedx.Dependency{{Ref: "release", Dependencies: &depends}}
	var out bytes.Buffer
	if err := cyclonedx.NewBOMEncoder(&out, cyclonedx.BOMFileFormatJSON).
		SetPretty(true).
		EncodeVersion(bom, cyclonedx.SpecVersion1_6); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// lines returns a value as JSON in lines.
func lines(v any) ([]byte, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return layOut(text), nil
}
