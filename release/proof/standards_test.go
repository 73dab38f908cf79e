package proof_test

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/CycloneDX/cyclonedx-go"
	provenance1 "github.com/in-toto/attestation/go/predicates/provenance/v1"
	statement1 "github.com/in-toto/attestation/go/v1"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/secure-systems-lab/go-securesystemslib/dsse"
	"github.com/secure-systems-lab/go-securesystemslib/signerverifier"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"google.golang.org/protobuf/encoding/protojson"

	"mexalt/release"
	"mexalt/release/proof"
	"mexalt/source"
)

// TestProvenanceIsAStatement holds the provenance against the published
// definitions of in-toto and SLSA.
func TestProvenanceIsAStatement(t *testing.T) {
	dir := folder(t)
	for _, o := range []release.Options{{Provenance: true},
		{Provenance: true, Made: "2026-11-25T12:00:00Z", Set: map[string]string{"version": "2.4.1"}, Variants: []string{"north"}}} {
		name := strings.TrimSuffix(made(t, dir, "tg1.release.toml", o), proof.Extension)
		text := read(t, "", name+proof.ProvenanceExtension)
		s := &statement1.Statement{}
		require.NoError(t, protojson.Unmarshal([]byte(text), s), "unknown fields are refused")
		require.NoError(t, s.Validate())
		assert.Equal(t, statement1.StatementTypeUri, s.Type)
		assert.Equal(t, "https://slsa.dev/provenance/v1", s.PredicateType)
		predicate, err := protojson.Marshal(s.Predicate)
		require.NoError(t, err)
		p := &provenance1.Provenance{}
		require.NoError(t, protojson.Unmarshal(predicate, p))
		require.NoError(t, p.Validate())
		assert.Equal(t, "tg1-north-2.4.1.hex", s.Subject[len(s.Subject)-6].Name)
		m, err := proof.Load(&source.Files{}, name+proof.Extension)
		require.NoError(t, err)
		assert.Equal(t, m.Products[0].Outputs[0].SHA256, s.Subject[0].Digest["sha256"])
		_, sum, err := proof.FileDigest(name + proof.Extension)
		require.NoError(t, err)
		assert.Equal(t, sum, p.RunDetails.Byproducts[0].Digest["sha256"])
		assert.Len(t, p.BuildDefinition.ResolvedDependencies, len(m.Read))
		assert.NotContains(t, text, dir)
	}
}

// TestBillHoldsItsSchema holds the bill of materials against the published schema.
func TestBillHoldsItsSchema(t *testing.T) {
	c := jsonschema.NewCompiler()
	// They refer to one another by where they are published.
	const published = "http://cyclonedx.org/schema/"
	for _, name := range []string{"bom-1.6", "jsf-0.82", "spdx"} {
		file := name + ".SNAPSHOT.schema.json"
		text, err := os.Open(filepath.Join("testdata/schemas", file))
		require.NoError(t, err)
		value, err := jsonschema.UnmarshalJSON(text)
		require.NoError(t, err)
		require.NoError(t, text.Close())
		require.NoError(t, c.AddResource(published+file, value))
	}
	schema, err := c.Compile(published + "bom-1.6.SNAPSHOT.schema.json")
	require.NoError(t, err)
	dir := folder(t)
	for _, file := range []string{"tg1.release.toml", "tg4.release.toml"} {
		name := strings.TrimSuffix(made(t, dir, file, release.Options{Bill: true, Made: "2026-11-25T12:00:00Z"}), proof.Extension)
		text := read(t, "", name+proof.BillExtension)
		value, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
		require.NoError(t, err)
		require.NoError(t, schema.Validate(value))
		assert.NotContains(t, text, dir)
		// Another package reads all of it, and writes it again as it was.
		var bom cyclonedx.BOM
		require.NoError(t, cyclonedx.NewBOMDecoder(strings.NewReader(text), cyclonedx.BOMFileFormatJSON).Decode(&bom))
		var again strings.Builder
		require.NoError(t,
			cyclonedx.NewBOMEncoder(&again, cyclonedx.BOMFileFormatJSON).SetPretty(true).EncodeVersion(&bom, cyclonedx.SpecVersion1_6))
		assert.Equal(t, again.String(), text)
	}
	// What is read in several roles has an entry of each, with a name of its own.
	write(t, dir, "twice.release.toml",
		strings.Replace(small, "[[step]]\ndo = \"seal\"",
			"[[step]]\ndo = \"patch\"\nat = \"0x7400\"\nvalues = [{ file = \"calibration.bin\" }]\n[[step]]\ndo = \"seal\"", 1))
	made(t, dir, "twice.release.toml", release.Options{Bill: true})
	var bom cyclonedx.BOM
	require.NoError(t, cyclonedx.NewBOMDecoder(strings.NewReader(read(t, dir, "twice.bom.json")), cyclonedx.BOMFileFormatJSON).Decode(&bom))
	var refs []string
	for _, c := range *bom.Components {
		refs = append(refs, c.BOMRef)
	}
	assert.Equal(t, *(*bom.Dependencies)[0].Dependencies, refs)
	assert.Equal(t, []string{"input:bootloader.hex", "input:brindle-b8-32.device.toml", "input:calibration.bin", "input:calibration.bin:3",
		"input:gauge-app.s19", "input:twice.release.toml"}, refs)
	text := read(t, dir, "tg4.bom.json")
	assert.Regexp(t, `"name": "station.elf",\s+"version": "3.1.0",\s+"hashes"`, text)
	assert.NoFileExists(t, filepath.Join(dir, "tg4.provenance.json"), "only what is asked for")
}

// trusted is a key as the package that tests use knows one, by our name.
type trusted struct {
	dsse.Verifier
	id string
}

func (k trusted) KeyID() (string, error) { return k.id, nil }

// TestEnvelopesAreDSSE has another reader of envelopes check those of each kind of key.
func TestEnvelopesAreDSSE(t *testing.T) {
	ecKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	rsaKey, err := rsa.GenerateKey(rand.Reader, 3072)
	require.NoError(t, err)
	for _, key := range []crypto.Signer{ed25519.NewKeyFromSeed(bytes.Repeat([]byte{7}, ed25519.SeedSize)), ecKey, rsaKey} {
		der, err := x509.MarshalPKCS8PrivateKey(key)
		require.NoError(t, err)
		name := filepath.Join(t.TempDir(), "key.pem")
		require.NoError(t, os.WriteFile(name, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600))
		signer, err := proof.LoadSigner(&source.Files{}, name, "")
		require.NoError(t, err)
		text, err := proof.Sign([]*proof.Signer{signer}, proof.PayloadType, []byte("{\"a\": 1}\n"))
		require.NoError(t, err)
		var e dsse.Envelope
		require.NoError(t, json.Unmarshal(text, &e))
		public, err := x509.MarshalPKIXPublicKey(key.Public())
		require.NoError(t, err)
		theirs, err := signerverifier.LoadKey(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public}))
		require.NoError(t, err)
		var by dsse.Verifier
		switch key.(type) {
		case *ecdsa.PrivateKey:
			by, err = signerverifier.NewECDSASignerVerifierFromSSLibKey(theirs)
		case *rsa.PrivateKey:
			by, err = signerverifier.NewRSAPSSSignerVerifierFromSSLibKey(theirs)
		default:
			by, err = signerverifier.NewED25519SignerVerifierFromSSLibKey(theirs)
		}
		require.NoError(t, err)
		verifier, err := dsse.NewEnvelopeVerifier(trusted{by, signer.ID()})
		require.NoError(t, err)
		_, err = verifier.Verify(context.Background(), &e)
		assert.NoError(t, err, "%T", key)
		payload, err := e.DecodeB64Payload()
		require.NoError(t, err)
		assert.Equal(t, "{\"a\": 1}\n", string(payload))
		e.PayloadType += "x"
		_, err = verifier.Verify(context.Background(), &e)
		assert.Error(t, err, "%T", key)
	}
}
