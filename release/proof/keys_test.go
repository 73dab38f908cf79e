package proof

import (
	"bytes"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"encoding/asn1"
	"encoding/json"
	"encoding/pem"
	"errors"
	"hash"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mexalt/source"
)

// pemFile writes DER as PEM.
func pemFile(t *testing.T, kind string, der []byte, more ...string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "key.pem")
	text := append(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), strings.Join(more, "")...)
	require.NoError(t, os.WriteFile(name, text, 0o600))
	return name
}

func private(t *testing.T, key any) []byte {
	t.Helper()
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	return der
}

func public(t *testing.T, key any) []byte {
	t.Helper()
	der, err := x509.MarshalPKIXPublicKey(key)
	require.NoError(t, err)
	return der
}

// generated makes a key of each kind, once: one of RSA takes a second.
var generated = sync.OnceValue(func() map[string]crypto.Signer {
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	ec, err2 := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	long, err3 := rsa.GenerateKey(rand.Reader, leastRSA)
	if err := errors.Join(err, err2, err3); err != nil {
		panic(err)
	}
	return map[string]crypto.Signer{"Ed25519": ed, "P-256": ec, "RSA": long}
})

func marshal(t *testing.T, value any) []byte {
	t.Helper()
	der, err := asn1.Marshal(value)
	require.NoError(t, err)
	return der
}

// encrypted encrypts a key as RFC 8018 says, with what differs from the usual.
func encrypted(t *testing.T, der []byte, change func(*encryption)) []byte {
	t.Helper()
	e := encryption{scheme: oidPBES2, derivation: oidPBKDF2, cipher: oidAES256, size: 32, hmac: oidHMAC256, digest: sha256.New, rounds: 3,
		iv: make([]byte, 16), passphrase: "tide"}
	change(&e)
	salt := []byte("12345678")
	key, err := pbkdf2.Key(e.digest, e.passphrase, salt, max(e.rounds, 1), e.size)
	require.NoError(t, err)
	block, err := aes.NewCipher(key)
	require.NoError(t, err)
	pad := aes.BlockSize - len(der)%aes.BlockSize
	data := append(bytes.Clone(der), bytes.Repeat([]byte{byte(pad)}, pad)...)
	if e.padding != nil {
		e.padding(data)
	}
	iv := make([]byte, 16)
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(data, data)
	type of struct {
		ID         asn1.ObjectIdentifier
		Parameters any
	}
	parameters := any(struct {
		Salt   []byte
		Rounds int
		HMAC   algorithm
	}{salt, e.rounds, algorithm{Algorithm: e.hmac, Parameters: asn1.NullRawValue}})
	if e.hmac == nil { // SHA-1, if nothing is said
		parameters = struct {
			Salt   []byte
			Rounds int
		}{salt, e.rounds}
	}
	return marshal(t, struct {
		Algorithm of
		Data      []byte
	}{of{e.scheme, struct{ A, B of }{of{e.derivation, parameters}, of{e.cipher, e.iv}}}, data[:len(data)-e.short]})
}

type encryption struct {
	scheme, derivation, cipher, hmac asn1.ObjectIdentifier
	size, rounds, short              int
	digest                           func() hash.Hash
	iv                               []byte
	passphrase                       string
	padding                          func([]byte)
}

// TestKeys reads keys of each kind as another library writes them, encrypted too; signs with
// each, and verifies with each.
func TestKeys(t *testing.T) {
	files, data := &source.Files{}, []byte("what is signed")
	keys := generated()
	for kind, key := range keys {
		signers := map[string]*Signer{}
		plain, err := LoadSigner(files, pemFile(t, "PRIVATE KEY", private(t, key), "\n \n"), "")
		require.NoError(t, err, kind)
		signers["plain"] = plain
		for name, change := range map[string]func(*encryption){
			"SHA-256, AES-256": func(*encryption) {}, "AES-128": func(e *encryption) { e.cipher, e.size = oidAES128, 16 },
			"SHA-1":        func(e *encryption) { e.hmac, e.digest = oidHMACSHA1, sha1.New },
			"SHA-1 unsaid": func(e *encryption) { e.hmac, e.digest = nil, sha1.New },
		} {
			file := pemFile(t, "ENCRYPTED PRIVATE KEY", encrypted(t, private(t, key), change))
			signers[name], err = LoadSigner(files, file, "tide")
			require.NoError(t, err, "%s %s", kind, name)
			_, err = LoadSigner(files, file, "ebb")
			assert.ErrorContains(t, err, errPassphrase.Error())
			_, err = LoadSigner(files, file, "")
			assert.ErrorContains(t, err, "missing; the key in")
		}
		trusted, err := LoadTrusted(files, pemFile(t, "PUBLIC KEY", public(t, key.Public())))
		require.NoError(t, err, kind)
		for name, s := range signers {
			assert.Equal(t, trusted.ID(), s.ID(), "%s %s", kind, name)
			assert.Len(t, s.ID(), 64)
			sig, err := s.sign(data)
			require.NoError(t, err)
			for other, with := range keys {
				k, err := publicKey(with.Public())
				require.NoError(t, err)
				assert.Equal(t, public(t, with.Public()), k.info, other)
				assert.Equal(t, other == kind, k.verifies(data, sig), "%s by %s", kind, other)
				assert.False(t, k.verifies(append(data, 0), sig))
			}
			sig[len(sig)/2] ^= 4
			assert.False(t, trusted.verifies(data, sig), kind)
		}
	}
	// As tokens give it: two numbers, one behind the other.
	ec := keys["P-256"].(*ecdsa.PrivateKey)
	digest := sha256.Sum256(data)
	r, s, err := ecdsa.Sign(rand.Reader, ec, digest[:])
	require.NoError(t, err)
	k, err := publicKey(ec.Public())
	require.NoError(t, err)
	sig := append(r.FillBytes(make([]byte, 32)), s.FillBytes(make([]byte, 32))...)
	assert.True(t, k.verifies(data, sig))
	assert.True(t, ecdsa.VerifyASN1(&ec.PublicKey, digest[:], k.canonical(sig)))
	sig[5] ^= 1
	assert.False(t, k.verifies(data, sig))
	_, err = publicKey("no key")
	assert.Equal(t, errKind, err)
	assert.False(t, (&PublicKey{key: "no key"}).verifies(data, sig))
}

// TestKeysThatAreRefused says why a key is none that signs or is trusted.
func TestKeysThatAreRefused(t *testing.T) {
	files, keys := &source.Files{}, generated()
	ed, ec := keys["Ed25519"], keys["P-256"]
	other, err := ecdsa.GenerateKey(elliptic.P384(), rand.Reader)
	require.NoError(t, err)
	short, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	edited := func(der []byte, change func(*privateKeyInfo)) []byte {
		var info privateKeyInfo
		_, err := asn1.Unmarshal(der, &info)
		require.NoError(t, err)
		change(&info)
		return marshal(t, info)
	}
	const noKey, kind = "contains no such key", "a key of another kind"
	missing := filepath.Join(t.TempDir(), "none.pem")
	_, err = LoadSigner(files, missing, "")
	assert.ErrorContains(t, err, "no such file")
	_, err = LoadTrusted(files, missing)
	assert.ErrorContains(t, err, "no such file")
	for name, c := range map[string]struct {
		kind string
		der  []byte
		more string
		want string
	}{
		"P-384":        {"PRIVATE KEY", private(t, other), "", kind},
		"a short RSA":  {"PRIVATE KEY", private(t, short), "", "an RSA key of fewer than 3072 bits"},
		"a public one": {"PUBLIC KEY", public(t, ed.Public()), "", noKey},
		"more behind":  {"PRIVATE KEY", append(private(t, ed), 0), "", noKey},
		"text behind":  {"PRIVATE KEY", private(t, ed), "x", noKey},
		"cut off":      {"PRIVATE KEY", private(t, ed)[:20], "", noKey},
		"a short seed": {"PRIVATE KEY",
			edited(private(t, ed), func(i *privateKeyInfo) { i.PrivateKey = marshal(t, make([]byte, 31)) }), "", kind},
		"more behind seed": {"PRIVATE KEY",
			edited(private(t, ed), func(i *privateKeyInfo) { i.PrivateKey = append(i.PrivateKey, 0) }), "", kind},
		"no curve": {"PRIVATE KEY",
			edited(private(t, ec), func(i *privateKeyInfo) { i.Algorithm.Parameters = asn1.RawValue{} }), "", kind},
		"no number": {"PRIVATE KEY", edited(private(t, ec), func(i *privateKeyInfo) { i.PrivateKey = []byte{1} }), "", kind},
		"RSA of another form": {"PRIVATE KEY", edited(private(t, keys["RSA"]), func(i *privateKeyInfo) { i.PrivateKey = []byte{1} }),
			"", kind},
		"RSA that does not fit": {"PRIVATE KEY", edited(private(t, keys["RSA"]), func(i *privateKeyInfo) { i.PrivateKey[700] ^= 1 }), "",
			kind},
	} {
		_, err := LoadSigner(files, pemFile(t, c.kind, c.der, c.more), "")
		assert.ErrorContains(t, err, c.want, name)
	}
	altered := func(key any, change func(*publicKeyInfo)) []byte {
		var info publicKeyInfo
		_, err := asn1.Unmarshal(public(t, key), &info)
		require.NoError(t, err)
		change(&info)
		return marshal(t, info)
	}
	rsaOf := func(n *big.Int, e int) func(*publicKeyInfo) {
		return func(i *publicKeyInfo) {
			i.PublicKey.Bytes = marshal(t, rsaPublic{n, e})
			i.PublicKey.BitLength = 8 * len(i.PublicKey.Bytes)
		}
	}
	long := keys["RSA"].Public().(*rsa.PublicKey)
	for name, c := range map[string]struct {
		der  []byte
		want string
	}{
		"P-384": {public(t, other.Public()), kind},
		"a short RSA": {public(t, short.Public()),
			"an RSA key of fewer than 3072 bits; expected Ed25519, ECDSA with P-256, or RSA with 3072 bits or more"},
		"bits missing": {altered(ed.Public(), func(i *publicKeyInfo) { i.PublicKey.BitLength--; i.PublicKey.Bytes[31] &^= 1 }), kind},
		"short": {altered(ed.Public(),
			func(i *publicKeyInfo) { i.PublicKey = asn1.BitString{Bytes: i.PublicKey.Bytes[:31], BitLength: 248} }), kind},
		"no point":    {altered(ec.Public(), func(i *publicKeyInfo) { i.PublicKey.Bytes[40] ^= 1 }), ""},
		"E of 1":      {altered(long, rsaOf(long.N, 1)), kind},
		"N of 0":      {altered(long, rsaOf(new(big.Int), 3)), kind},
		"N below 0":   {altered(long, rsaOf(new(big.Int).Neg(long.N), 3)), kind},
		"more behind": {append(public(t, ed.Public()), 0), noKey},
		"cut off":     {public(t, ed.Public())[:12], noKey},
	} {
		_, err := LoadTrusted(files, pemFile(t, "PUBLIC KEY", c.der))
		assert.ErrorContains(t, err, c.want, name)
	}
	_, err = LoadTrusted(files, pemFile(t, "PUBLIC KEY", altered(long, rsaOf(long.N, 3))))
	assert.NoError(t, err, "the least exponent")
	_, err = LoadTrusted(files, pemFile(t, "PUBLIC KEY", altered(long, func(i *publicKeyInfo) { i.Algorithm.Algorithm = oidPSS })))
	assert.NoError(t, err)

	const unknown = "a key that is encrypted in another way than with PBES2, PBKDF2 and AES-CBC"
	for name, c := range map[string]struct {
		change func(*encryption)
		want   string
	}{
		"scheme":     {func(e *encryption) { e.scheme = oidRSA }, unknown},
		"derivation": {func(e *encryption) { e.derivation = oidRSA }, unknown},
		"cipher":     {func(e *encryption) { e.cipher = oidRSA }, unknown},
		"HMAC":       {func(e *encryption) { e.hmac = oidRSA }, unknown},
		"IV":         {func(e *encryption) { e.iv = e.iv[:15] }, unknown},
		"no rounds":  {func(e *encryption) { e.rounds = 0 }, unknown},
		"rounds":     {func(e *encryption) { e.rounds = -1 }, unknown},
		"length":     {func(e *encryption) { e.short = 1 }, unknown},
		"no padding": {func(e *encryption) { e.padding = func(d []byte) { d[len(d)-1] = 0 } }, errPassphrase.Error()},
		"padding":    {func(e *encryption) { e.padding = func(d []byte) { d[len(d)-1] = 17 } }, errPassphrase.Error()},
		"unequal":    {func(e *encryption) { e.padding = func(d []byte) { d[len(d)-2] ^= 1 } }, errPassphrase.Error()},
	} {
		_, err := LoadSigner(files, pemFile(t, "ENCRYPTED PRIVATE KEY", encrypted(t, private(t, ed), c.change)), "tide")
		assert.ErrorContains(t, err, c.want, name)
	}
	_, err = LoadSigner(files, pemFile(t, "ENCRYPTED PRIVATE KEY", []byte{1, 2}), "tide")
	assert.ErrorContains(t, err, unknown)
	_, err = LoadSigner(files, pemFile(t, "ENCRYPTED PRIVATE KEY", encrypted(t, []byte("no key at all"), func(*encryption) {})), "tide")
	assert.ErrorContains(t, err, errPassphrase.Error())
	_, err = LoadSigner(files, filepath.Join(t.TempDir(), "none"), "")
	assert.Error(t, err)
}

// TestTrust counts by how many of the trusted keys an envelope is signed.
func TestTrust(t *testing.T) {
	keys := generated()
	var signers []*Signer
	var trusted []*PublicKey
	for _, kind := range []string{"Ed25519", "P-256", "RSA"} {
		k, err := publicKey(keys[kind].Public())
		require.NoError(t, err)
		signers, trusted = append(signers, &Signer{keys[kind], *k}), append(trusted, k)
	}
	payload := []byte(`{"a": 1}`)
	sign := func(by ...*Signer) []byte {
		text, err := Sign(by, PayloadType, payload)
		require.NoError(t, err)
		return text
	}
	two := sign(signers[0], signers[0], signers[1])
	for name, c := range map[string]struct {
		text []byte
		Trust
		by   []*PublicKey
		want string
	}{
		"one of one":     {two, Trust{Keys: trusted[:1]}, trusted[:1], ""},
		"one of three":   {sign(signers[1]), Trust{Keys: trusted}, trusted[1:2], ""},
		"two of three":   {two, Trust{Keys: trusted, Of: 2}, trusted[:2], ""},
		"three of three": {two, Trust{Keys: trusted, Of: 3}, nil, "it is signed by 2 of the 3 keys that are trusted; expected 3"},
		"a key twice":    {two, Trust{Keys: []*PublicKey{trusted[0], trusted[0]}, Of: 2}, nil, "signed by 1 of the 2 keys"},
		"another": {sign(signers[2]), Trust{Keys: trusted[:1]}, nil,
			"it is not signed by the key that is trusted, " + trusted[0].ID()[:16] + "; by " + trusted[2].ID()[:16]},
		"none":              {sign(), Trust{Keys: trusted[:1]}, nil, "; by none"},
		"no envelope":       {[]byte("{"), Trust{Keys: trusted}, nil, "it is not a DSSE envelope"},
		"an unknown member": {[]byte(`{"payloadType": "x", "more": 1}`), Trust{Keys: trusted}, nil, "it is not a DSSE envelope"},
	} {
		by, err := c.verify(c.text, PayloadType, payload)
		assert.Equal(t, c.by, by, name)
		if c.want == "" {
			assert.NoError(t, err, name)
		} else {
			assert.ErrorContains(t, err, c.want, name)
		}
	}
	trust := Trust{Keys: trusted}
	_, err := trust.verify(two, BillType, payload)
	assert.ErrorContains(t, err, `it is for "`+PayloadType+`"; expected "`+BillType+`"`)
	_, err = trust.verify(two, PayloadType, []byte(`{"a": 2}`))
	assert.ErrorContains(t, err, "it is for another manifest, or this one was changed")
	assert.Equal(t, trusted[0].ID()[:16]+", "+trusted[1].ID()[:16], names(trusted[:2]))

	// A signature that was made elsewhere is added, and takes the place of an older one.
	files, folder := &source.Files{}, t.TempDir()
	manifest, sig := filepath.Join(folder, "m.json"), filepath.Join(folder, "m.sig")
	require.NoError(t, os.WriteFile(manifest, payload, 0o600))
	signedBy := func() (ids []string) {
		var e envelope
		text, err := os.ReadFile(manifest + SignatureExtension)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(text, &e))
		for _, s := range e.Signatures {
			ids = append(ids, s.KeyID)
		}
		return ids
	}
	for i, s := range []*Signer{signers[0], signers[2], signers[0]} {
		made, err := s.sign(ToSign(PayloadType, payload))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(sig, made, 0o600))
		name, text, err := Attach(files, manifest, sig, trusted)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(name, text, 0o600))
		assert.Equal(t, [][]string{{trusted[0].ID()}, {trusted[0].ID(), trusted[2].ID()}, {trusted[2].ID(), trusted[0].ID()}}[i],
			signedBy())
		_, err = (&Trust{Keys: trusted, Of: min(i+1, 2)}).verify(text, PayloadType, payload)
		assert.NoError(t, err)
	}
	_, _, err = Attach(files, manifest, sig, trusted[1:])
	assert.ErrorContains(t, err, "is no signature of m.json by a key that is trusted")
	require.NoError(t, os.WriteFile(manifest, []byte("{}"), 0o600))
	_, _, err = Attach(files, manifest, sig, trusted)
	assert.ErrorContains(t, err, "it is for another manifest, or this one was changed (move it away)")
	for _, missing := range [][2]string{{"none", sig}, {manifest, "none"}} {
		_, _, err = Attach(files, missing[0], missing[1], trusted)
		assert.ErrorContains(t, err, "none", missing)
	}
}
