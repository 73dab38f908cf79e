package release

import (
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/release/proof"
	"mexalt/source"
)

// TestWhatIsWrittenBesideAManifest runs a release with each choice of a signature, bytes to be
// signed elsewhere, provenance and a bill of materials: just the files that were asked for are
// there, each is of the manifest beside it, and each envelope is of the file beside it, by the
// rules of DSSE v1.0.2.
func TestWhatIsWrittenBesideAManifest(t *testing.T) {
	dir := folder(t)
	private := ed25519.NewKeyFromSeed([]byte("a seed of 32 bytes, for a test.."))
	der, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	write(t, dir, "key.pem", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})))
	signer, err := proof.LoadSigner(&source.Files{}, filepath.Join(dir, "key.pem"), "")
	require.NoError(t, err)
	write(t, dir, "s.release.toml", "name = \"s\"\n[[variant]]\nname = \"a\"\n[[variant]]\nname = \"b\"\n[[variant]]\nname = \"c\"\n"+
		"[[input]]\nname = \"all\"\nfile = \"calibration.bin\"\nat = 0\n[[output]]\nfile = \"{variant}.hex\"\n")
	for choice := range 16 {
		signs, toSign, provenance, bill := choice&1 != 0, choice&2 != 0, choice&4 != 0, choice&8 != 0
		to := filepath.Join(dir, fmt.Sprint("to", choice))
		require.NoError(t, os.Mkdir(to, 0o755))
		o := Options{Folder: to, Tool: "test", Made: "2026-11-25T12:00:00Z", Provenance: provenance, Bill: bill,
			Variants: []string{"b", "a", "b"}}
		expected := []string{"a.hex", "b.hex", "s-a-b.manifest.json"}
		kinds := map[string]string{"s-a-b.manifest.json": proof.PayloadType}
		if provenance {
			kinds["s-a-b.provenance.json"] = proof.ProvenanceType
		}
		if bill {
			kinds["s-a-b.bom.json"] = proof.BillType
		}
		if toSign {
			o.ToSign = filepath.Join(to, "sign.me")
			expected = append(expected, "sign.me")
		}
		expected = append(expected, slices.DeleteFunc(slices.Collect(maps.Keys(kinds)), func(n string) bool { return n == expected[2] })...)
		if signs {
			o.Sign = []*proof.Signer{signer}
			for name := range kinds {
				expected = append(expected, name+".dsse")
			}
		}
		files := &source.Files{Digest: true}
		f, err := Load(files, filepath.Join(dir, "s.release.toml"))
		require.NoError(t, err)
		r, err := f.Run(context.Background(), files, o)
		require.NoError(t, err)
		assert.Equal(t, filepath.Join(to, expected[2]), r.Manifest)
		var made []string
		entries, err := os.ReadDir(to)
		require.NoError(t, err)
		for _, e := range entries {
			made = append(made, e.Name())
		}
		assert.ElementsMatch(t, expected, made, choice)
		preAuth := func(name string) string {
			text := read(t, to, name)
			return fmt.Sprintf("DSSEv1 %d %s %d %s", len(kinds[name]), kinds[name], len(text), text)
		}
		if toSign {
			assert.Equal(t, preAuth(expected[2]), read(t, to, "sign.me"))
		}
		for name := range kinds {
			require.True(t, json.Valid([]byte(read(t, to, name))), name)
			if !signs {
				continue
			}
			var e struct {
				PayloadType string
				Payload     []byte
				Signatures  []struct{ Sig []byte }
			}
			require.NoError(t, json.Unmarshal([]byte(read(t, to, name+".dsse")), &e))
			assert.Equal(t, kinds[name], e.PayloadType)
			assert.Equal(t, read(t, to, name), string(e.Payload))
			require.Len(t, e.Signatures, 1)
			assert.True(t, ed25519.Verify(private.Public().(ed25519.PublicKey), []byte(preAuth(name)), e.Signatures[0].Sig), name)
		}
		if provenance {
			text := read(t, to, "s-a-b.provenance.json")
			for _, name := range []string{"a.hex", "b.hex", expected[2]} {
				assert.Contains(t, text, fmt.Sprintf("%x", sha256.Sum256([]byte(read(t, to, name)))), name)
			}
		}
		if bill {
			assert.Contains(t, read(t, to, "s-a-b.bom.json"), fmt.Sprintf("%x", sha256.Sum256([]byte(read(t, dir, "calibration.bin")))))
		}
		assert.False(t, strings.Contains(read(t, to, expected[2]), dir), "no path of this machine")
	}
}
