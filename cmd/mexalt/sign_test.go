package main

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

// tool runs another program in the folder; it must do its work.
func (f folder) tool(name string, args ...string) string {
	f.t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env = f.dir, append(os.Environ(), "SOFTHSM2_CONF="+f.path("token.conf"))
	out, err := cmd.CombinedOutput()
	require.NoError(f.t, err, "%s %s: %s", name, strings.Join(args, " "), out)
	return string(out)
}

// TestKeysOfOtherPrograms signs with keys of each kind that another program made, encrypted ones
// too, and has that program check what was signed; what is to be signed elsewhere it signs, and
// the signature is attached.
func TestKeysOfOtherPrograms(t *testing.T) {
	t.Parallel()
	onLinux(t)
	need(t, "openssl")
	f := emptyFolder(t)
	f.write("in.bin", "firmware")
	f.write("x.release.toml", "name = \"x\"\n[[input]]\nname = \"in\"\nfile = \"in.bin\"\nat = 0\n[[output]]\nfile = \"o.hex\"\n")
	require.NoError(t, os.WriteFile(f.path("pass"), []byte("correct horse\n"), 0o600))
	require.NoError(t, os.WriteFile(f.path("wrong"), []byte("wrong horse\n"), 0o600))
	kinds := map[string][]string{
		"ed": {"-algorithm", "ed25519"},
		"ec": {"-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-256"},
		// It makes these in seconds: -algorithm RSA and RSA-PSS, rsa_keygen_bits:3072, made once and kept.
		"rsa": nil,
		"pss": nil,
	}
	const pss = "-pkeyopt rsa_padding_mode:pss -pkeyopt rsa_pss_saltlen:digest"
	for name, how := range kinds {
		if how == nil {
			key, err := os.ReadFile("testdata/keys/" + name + ".pem")
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(f.path(name+".pem"), key, 0o600))
		} else {
			f.tool("openssl", append(append([]string{"genpkey"}, how...), "-out", name+".pem")...)
		}
		f.tool("openssl", "pkey", "-in", name+".pem", "-pubout", "-out", name+".pub")
		f.tool("openssl", "pkcs8", "-topk8", "-in", name+".pem", "-out", name+".enc", "-v2", "aes-256-cbc", "-passout", "file:pass")

		f.ok("release x.release.toml -sign " + name + ".enc -passphrase pass -to-sign to-sign")
		assert.Contains(t, f.ok("confirm x.manifest.json -trust "+name+".pub"), "by the key that is trusted")
		for other := range kinds {
			if other != name && source.Exists(f.path(other+".pub")) {
				assert.Contains(t, f.line("confirm x.manifest.json -trust "+other+".pub").out,
					"it is not signed by the key that is trusted")
			}
		}
		r := f.line("release x.release.toml -sign " + name + ".enc -passphrase wrong")
		assert.Equal(t, 3, r.status)
		assert.Contains(t, r.err, name+".enc: error: the passphrase is not that of the key")
		assert.Contains(t, f.line("release x.release.toml -sign "+name+".enc").err,
			"-passphrase: missing; the key in "+name+".enc is encrypted")

		// The other program signs, and the envelope is the same as if this one had.
		require.NoError(t, os.Remove(f.path("x.manifest.json.dsse")))
		sign := []string{"pkeyutl", "-sign", "-inkey", name + ".pem", "-rawin", "-in", "to-sign", "-out", "sig"}
		if name != "ed" {
			sign = append(sign, "-digest", "sha256")
		}
		if name == "rsa" || name == "pss" {
			sign = append(sign, strings.Fields(pss)...)
		}
		f.tool("openssl", sign...)
		assert.Contains(t, f.line("confirm x.manifest.json -attach sig -trust "+name+".pub").err,
			"the signature is good, and is in x.manifest.json.dsse")
		f.ok("confirm x.manifest.json -trust " + name + ".pub")
		sig := f.read("sig")
		f.write("sig", sig[:20]+string(sig[20]^1)+sig[21:])
		r = f.line("confirm x.manifest.json -attach sig -trust " + name + ".pub")
		assert.Equal(t, 3, r.status)
		assert.Contains(t, r.err, "sig: error: is no signature of x.manifest.json by a key that is trusted")
	}

	// Several have to sign: each counts once.
	f.ok("release x.release.toml -sign ed.pem -sign rsa.pem -provenance -bom")
	assert.Contains(t, f.ok("confirm x.manifest.json -trust ed.pub -trust ec.pub -trust rsa.pub -threshold 2"), "by keys that are trusted")
	assert.Contains(t, f.line("confirm x.manifest.json -trust ed.pub -trust ec.pub -trust rsa.pub -threshold 3").out,
		"it is signed by 2 of the 3 keys that are trusted; expected 3")
	assert.Contains(t, f.line("confirm x.manifest.json -trust ed.pub -trust ed.pub -threshold 2").out,
		"it is signed by 1 of the 2 keys that are trusted; expected 2")
	assert.Equal(t, 2, f.line("confirm x.manifest.json -trust ed.pub -threshold 2").status)
	assert.Contains(t, f.read("x.provenance.json.dsse"), `"payloadType":"application/vnd.in-toto+json"`)
	assert.Contains(t, f.read("x.bom.json.dsse"), `"payloadType":"application/vnd.cyclonedx+json"`)

	assert.Contains(t, f.ok("confirm x.manifest.json -trust ed.pub"), "yes  signature  3 envelopes: by")
	for _, name := range []string{"x.provenance.json", "x.bom.json"} {
		was := f.read(name)
		f.write(name, strings.Replace(was, "o.hex", "p.hex", 1))
		r := f.line("confirm x.manifest.json -trust ed.pub")
		assert.Equal(t, 1, r.status)
		assert.Contains(t, r.out, name+".dsse: it is for another manifest, or this one was changed")
		f.write(name, was)
	}

	older := map[string]string{}
	for _, name := range []string{"x.provenance.json", "x.bom.json"} {
		older[name], older[name+".dsse"] = f.read(name), f.read(name+".dsse")
	}
	f.write("in.bin", "Firmware")
	f.ok("release x.release.toml -sign ed.pem -sign rsa.pem -provenance -bom")
	f.ok("confirm x.manifest.json -trust ed.pub")
	for name, text := range older {
		f.write(name, text)
	}
	r := f.line("confirm x.manifest.json -trust ed.pub")
	assert.Equal(t, 1, r.status)
	for name := range older {
		if strings.HasSuffix(name, ".dsse") {
			assert.Contains(t, r.out, name+": it is signed, and is not of this manifest")
		}
	}

	// What is no such key.
	f.tool("openssl", "genpkey", "-algorithm", "RSA", "-pkeyopt", "rsa_keygen_bits:2048", "-out", "short.pem")
	f.tool("openssl", "genpkey", "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-384", "-out", "p384.pem")
	f.tool("openssl", "pkey", "-in", "p384.pem", "-pubout", "-out", "p384.pub")
	f.tool("openssl", "pkcs8", "-topk8", "-in", "ed.pem", "-out", "des.enc", "-v2", "des3", "-passout", "file:pass")
	for line, what := range map[string]string{
		"release x.release.toml -sign short.pem": "an RSA key of fewer than 3072 bits",
		"release x.release.toml -sign p384.pem": "a key of another kind; expected Ed25519, ECDSA with P-256, or RSA " +
			"with 3072 bits or more",
		"release x.release.toml -sign des.enc -passphrase pass":  "encrypted in another way than with PBES2, PBKDF2 and AES-CBC",
		"release x.release.toml -passphrase pass":                "-passphrase: has no effect without -sign",
		"release x.release.toml -sign ed.pub":                    "expected one PRIVATE KEY in PEM",
		"confirm x.manifest.json -trust p384.pub":                "a key of another kind",
		"confirm x.manifest.json -trust ed.pem":                  "expected one PUBLIC KEY in PEM",
		"confirm x.manifest.json -attach sig":                    "-attach: needs one manifest",
		"release x.release.toml -to-sign o.hex":                  "o.hex",
		"release x.release.toml -sign ed.enc -passphrase in.bin": "others can read it",
	} {
		r := f.line(line)
		assert.GreaterOrEqual(t, r.status, 2, line)
		assert.Contains(t, r.err, what, line)
	}
}

// TestATokenSigns has a token sign, one that keeps its key to itself: the program writes what is to
// be signed, and checks what comes back.
func TestATokenSigns(t *testing.T) {
	t.Parallel()
	onLinux(t)
	need(t, "softhsm2-util")
	need(t, "pkcs11-tool")
	const module = "/usr/lib/softhsm/libsofthsm2.so"
	f := emptyFolder(t)
	require.NoError(t, os.Mkdir(f.path("tokens"), 0o700))
	f.write("token.conf", "directories.tokendir = "+f.path("tokens")+"\nobjectstore.backend = file\n")
	f.write("in.bin", "firmware")
	f.write("x.release.toml", "name = \"x\"\n[[input]]\nname = \"in\"\nfile = \"in.bin\"\nat = 0\n[[output]]\nfile = \"o.hex\"\n")
	f.tool("softhsm2-util", "--init-token", "--free", "--label", "line", "--pin", "1234", "--so-pin", "5678")
	token := func(args ...string) {
		f.tool("pkcs11-tool", append([]string{"--module", module, "--token-label", "line", "--login", "--pin", "1234"}, args...)...)
	}
	f.ok("release x.release.toml -to-sign to-sign")
	f.tool("openssl", "dgst", "-sha256", "-binary", "-out", "digest", "to-sign") // which this token signs
	keys := ""
	for id, kind := range map[string][]string{"01": {"EC:prime256v1", "ECDSA", "digest"},
		"02": {"rsa:3072", "SHA256-RSA-PKCS-PSS", "to-sign"}} {
		token("--keypairgen", "--key-type", kind[0], "--id", id, "--label", "k"+id)
		token("--read-object", "--type", "pubkey", "--id", id, "--output-file", "k"+id+".der")
		f.tool("openssl", "pkey", "-pubin", "-inform", "DER", "-in", "k"+id+".der", "-out", "k"+id+".pub")
		token("--sign", "--mechanism", kind[1], "--id", id, "--input-file", kind[2], "--output-file", "sig"+id)
		keys += " -trust k" + id + ".pub"
		r := f.line("confirm x.manifest.json -attach sig" + id + " -trust k" + id + ".pub")
		require.Equal(t, 0, r.status, r.err)
	}
	assert.Contains(t, f.ok("confirm x.manifest.json -threshold 2"+keys), "by keys that are trusted")
	f.write("x.manifest.json", strings.Replace(f.read("x.manifest.json"), `"name": "x"`, `"name": "y"`, 1))
	assert.Contains(t, f.line("confirm x.manifest.json"+keys).out, "it is for another manifest, or this one was changed")
}
