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
	"encoding/asn1"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"hash"
	"math/big"

	"mexalt/source"
)

// Keys are read by their ASN.1, and not by crypto/x509: it brings the network with it, and
// doubles the time in which the program starts.

// mostKey is how large the file of a key may be.
const mostKey = 64 << 10

// leastRSA is how many bits an RSA key has at the least.
const leastRSA = 3072

// Kinds of keys, and how a private one may be encrypted.
var (
	oidEd25519  = asn1.ObjectIdentifier{1, 3, 101, 112}              // RFC 8410, 3
	oidEC       = asn1.ObjectIdentifier{1, 2, 840, 10045, 2, 1}      // RFC 5480, 2.1.1
	oidP256     = asn1.ObjectIdentifier{1, 2, 840, 10045, 3, 1, 7}   // RFC 5480, 2.1.1.1
	oidRSA      = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 1}  // RFC 8017, A.1
	oidPSS      = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 1, 10} // RFC 8017, A.2.3
	oidPBES2    = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 13} // RFC 8018, A.4
	oidPBKDF2   = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 12} // RFC 8018, A.2
	oidHMAC256  = asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 9}     // RFC 8018, B.1.2
	oidHMACSHA1 = asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 7}     // RFC 8018, B.1.1
	oidAES128   = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 2}
	oidAES256   = asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 42}
)

type algorithm struct {
	Algorithm  asn1.ObjectIdentifier
	Parameters asn1.RawValue `asn1:"optional"`
}

// publicKeyInfo is SubjectPublicKeyInfo (RFC 5280, 4.1).
type publicKeyInfo struct {
	Algorithm algorithm
	PublicKey asn1.BitString
}

// rsaPublic is RSAPublicKey (RFC 8017, A.1.1).
type rsaPublic struct {
	N *big.Int
	E int
}

// PublicKey is a key with which signatures are verified: Ed25519, ECDSA with P-256 and SHA-256,
// or RSA-PSS with SHA-256 and 3072 bits or more.
type PublicKey struct {
	key  crypto.PublicKey
	info []byte // SubjectPublicKeyInfo in DER
}

// ID names the key: the SHA-256 of its SubjectPublicKeyInfo, in hex digits.
func (k *PublicKey) ID() string {
	sum := sha256.Sum256(k.info)
	return hex.EncodeToString(sum[:])
}

// Signer is a private key.
type Signer struct {
	key crypto.Signer
	PublicKey
}

// sign signs data.
func (s *Signer) sign(data []byte) ([]byte, error) {
	digest := sha256.Sum256(data)
	switch key := s.key.(type) {
	case ed25519.PrivateKey:
		return ed25519.Sign(key, data), nil
	case *rsa.PrivateKey:
		return rsa.SignPSS(rand.Reader, key, crypto.SHA256, digest[:], &rsa.PSSOptions{SaltLength: rsa.PSSSaltLengthEqualsHash})
	}
	return s.key.Sign(rand.Reader, digest[:], crypto.SHA256)
}

// verifies reports whether a signature of data is of the key. That of ECDSA may also be the two
// numbers one behind the other, as tokens give it.
func (k *PublicKey) verifies(data, signature []byte) bool {
	digest := sha256.Sum256(data)
	switch key := k.key.(type) {
	case ed25519.PublicKey:
		return ed25519.Verify(key, data, signature)
	case *rsa.PublicKey:
		return rsa.VerifyPSS(key, crypto.SHA256, digest[:], signature, nil) == nil
	case *ecdsa.PublicKey:
		return ecdsa.VerifyASN1(key, digest[:], k.canonical(signature))
	}
	return false
}

// canonical returns a signature as an envelope has it: one of ECDSA in DER.
func (k *PublicKey) canonical(signature []byte) []byte {
	const half = 32
	if _, ok := k.key.(*ecdsa.PublicKey); !ok || len(signature) != 2*half {
		return signature
	}
	two := struct{ R, S *big.Int }{new(big.Int).SetBytes(signature[:half]), new(big.Int).SetBytes(signature[half:])}
	der, err := asn1.Marshal(two)
	if err != nil {
		return signature
	}
	return der
}

// LoadTrusted reads a public key: SubjectPublicKeyInfo in PEM.
func LoadTrusted(files *source.Files, name string) (*PublicKey, error) {
	block, err := loadPEM(files, name, "PUBLIC KEY")
	if err != nil {
		return nil, err
	}
	var info publicKeyInfo
	rest, err := asn1.Unmarshal(block.Bytes, &info)
	if err != nil || len(rest) > 0 {
		return nil, keyProblem(name, "a public key in PEM")
	}
	key, err := info.key()
	if err != nil {
		return nil, &source.Problem{File: name, What: err.Error(), Expected: kindsOfKeys}
	}
	return publicKey(key)
}

const kindsOfKeys = "Ed25519, ECDSA with P-256, or RSA with 3072 bits or more"

var (
	errKind     = errors.New("a key of another kind")
	errShortRSA = fmt.Errorf("an RSA key of fewer than %d bits", leastRSA)
)

func (info *publicKeyInfo) key() (crypto.PublicKey, error) {
	bits := info.PublicKey.Bytes
	if 8*len(bits) != info.PublicKey.BitLength {
		return nil, errKind
	}
	switch kind := info.Algorithm.Algorithm; {
	case kind.Equal(oidEd25519) && len(bits) == ed25519.PublicKeySize:
		return ed25519.PublicKey(bits), nil
	case kind.Equal(oidEC) && info.Algorithm.p256():
		return ecdsa.ParseUncompressedPublicKey(elliptic.P256(), bits)
	case kind.Equal(oidRSA) || kind.Equal(oidPSS):
		var key rsaPublic
		if rest, err := asn1.Unmarshal(bits, &key); err != nil || len(rest) > 0 || key.N == nil || key.N.Sign() <= 0 || key.E < 3 {
			return nil, errKind
		}
		if key.N.BitLen() < leastRSA {
			return nil, errShortRSA
		}
		return &rsa.PublicKey{N: key.N, E: key.E}, nil
	}
	return nil, errKind
}

// p256 reports whether the parameters name the curve.
func (a *algorithm) p256() bool {
	var curve asn1.ObjectIdentifier
	rest, err := asn1.Unmarshal(a.Parameters.FullBytes, &curve)
	return err == nil && len(rest) == 0 && curve.Equal(oidP256)
}

// publicKey returns a key with its SubjectPublicKeyInfo, always the same for the same key.
func publicKey(key crypto.PublicKey) (*PublicKey, error) {
	var info publicKeyInfo
	var bits []byte
	var err error
	switch k := key.(type) {
	case ed25519.PublicKey:
		info.Algorithm.Algorithm, bits = oidEd25519, k
	case *ecdsa.PublicKey:
		info.Algorithm.Algorithm = oidEC
		if bits, err = k.Bytes(); err == nil {
			info.Algorithm.Parameters.FullBytes, err = asn1.Marshal(oidP256)
		}
	case *rsa.PublicKey:
		info.Algorithm = algorithm{oidRSA, asn1.NullRawValue}
		bits, err = asn1.Marshal(rsaPublic{k.N, k.E})
	default:
		return nil, errKind
	}
	if err != nil {
		return nil, err
	}
	info.PublicKey = asn1.BitString{Bytes: bits, BitLength: 8 * len(bits)}
	der, err := asn1.Marshal(info)
	return &PublicKey{key, der}, err
}

// privateKeyInfo is OneAsymmetricKey, PKCS #8 (RFC 5958, 2).
type privateKeyInfo struct {
	Version    int
	Algorithm  algorithm
	PrivateKey []byte
	Attributes asn1.RawValue `asn1:"optional,tag:0"`
	PublicKey  asn1.RawValue `asn1:"optional,tag:1"`
}

// LoadSigner reads a private key: PKCS #8 in PEM, which may be encrypted with a passphrase.
func LoadSigner(files *source.Files, name, passphrase string) (*Signer, error) {
	block, err := loadPEM(files, name, "PRIVATE KEY", "ENCRYPTED PRIVATE KEY")
	if err != nil {
		return nil, err
	}
	der := block.Bytes
	if block.Type == "ENCRYPTED PRIVATE KEY" {
		if passphrase == "" {
			return nil, source.Keyf("passphrase", "missing; the key in %s is encrypted", name)
		}
		if der, err = decrypt(der, passphrase); err != nil {
			return nil, &source.Problem{File: name, What: err.Error()}
		}
	}
	var info privateKeyInfo
	rest, err := asn1.Unmarshal(der, &info)
	switch {
	case block.Type == "ENCRYPTED PRIVATE KEY" && err != nil:
		return nil, &source.Problem{File: name, What: errPassphrase.Error()}
	case err != nil || len(rest) > 0:
		return nil, keyProblem(name, "a private key, PKCS #8 in PEM")
	}
	key, err := info.key()
	if err != nil {
		return nil, &source.Problem{File: name, What: err.Error(), Expected: kindsOfKeys}
	}
	public, err := publicKey(key.Public())
	if err != nil {
		return nil, err
	}
	return &Signer{key, *public}, nil
}

func (info *privateKeyInfo) key() (crypto.Signer, error) {
	switch kind := info.Algorithm.Algorithm; {
	case kind.Equal(oidEd25519):
		var seed []byte
		if rest, err := asn1.Unmarshal(info.PrivateKey, &seed); err != nil || len(rest) > 0 || len(seed) != ed25519.SeedSize {
			return nil, errKind
		}
		return ed25519.NewKeyFromSeed(seed), nil
	case kind.Equal(oidEC) && info.Algorithm.p256():
		var key struct { // ECPrivateKey (RFC 5915, 3)
			Version    int
			PrivateKey []byte
			Parameters asn1.RawValue `asn1:"optional,explicit,tag:0"`
			PublicKey  asn1.RawValue `asn1:"optional,explicit,tag:1"`
		}
		if rest, err := asn1.Unmarshal(info.PrivateKey, &key); err != nil || len(rest) > 0 {
			return nil, errKind
		}
		return ecdsa.ParseRawPrivateKey(elliptic.P256(), key.PrivateKey)
	case kind.Equal(oidRSA) || kind.Equal(oidPSS):
		var key struct { // RSAPrivateKey (RFC 8017, A.1.2)
			Version         int
			N               *big.Int
			E               int
			D, P, Q         *big.Int
			Dp, Dq, Inverse *big.Int
			FurtherPrimes   asn1.RawValue `asn1:"optional"`
		}
		if rest, err := asn1.Unmarshal(info.PrivateKey, &key); err != nil || len(rest) > 0 || key.Version != 0 {
			return nil, errKind
		}
		if key.N.BitLen() < leastRSA {
			return nil, errShortRSA
		}
		private := &rsa.PrivateKey{PublicKey: rsa.PublicKey{N: key.N, E: key.E}, D: key.D, Primes: []*big.Int{key.P, key.Q}}
		if err := private.Validate(); err != nil {
			return nil, errKind
		}
		private.Precompute()
		return private, nil
	}
	return nil, errKind
}

var errPassphrase = errors.New("the passphrase is not that of the key")

// decrypt decrypts EncryptedPrivateKeyInfo (RFC 5958, 3) with PBES2 (RFC 8018, 6.2): PBKDF2 with
// HMAC-SHA-256 or HMAC-SHA-1, AES-128 or AES-256 in CBC mode.
func decrypt(der []byte, passphrase string) ([]byte, error) {
	const mostRounds = 10_000_000
	unknown := errors.New("a key that is encrypted in another way than with PBES2, PBKDF2 and AES-CBC")
	var of struct {
		Algorithm algorithm
		Data      []byte
	}
	var scheme struct{ Derivation, Encryption algorithm }
	var derivation struct {
		Salt   []byte
		Rounds int
		Length int       `asn1:"optional"`
		HMAC   algorithm `asn1:"optional"`
	}
	var iv []byte
	if rest, err := asn1.Unmarshal(der, &of); err != nil || len(rest) > 0 || !of.Algorithm.Algorithm.Equal(oidPBES2) {
		return nil, unknown
	}
	if _, err := asn1.Unmarshal(of.Algorithm.Parameters.FullBytes, &scheme); err != nil || !scheme.Derivation.Algorithm.Equal(oidPBKDF2) {
		return nil, unknown
	}
	if _, err := asn1.Unmarshal(scheme.Derivation.Parameters.FullBytes, &derivation); err != nil {
		return nil, unknown
	}
	if _, err := asn1.Unmarshal(scheme.Encryption.Parameters.FullBytes, &iv); err != nil || len(iv) != aes.BlockSize {
		return nil, unknown
	}
	size := 0
	switch scheme.Encryption.Algorithm.String() {
	case oidAES128.String():
		size = 16
	case oidAES256.String():
		size = 32
	}
	var digest func() hash.Hash
	switch {
	case derivation.HMAC.Algorithm.Equal(oidHMAC256):
		digest = sha256.New
	case len(derivation.HMAC.Algorithm) == 0 || derivation.HMAC.Algorithm.Equal(oidHMACSHA1):
		digest = sha1.New
	}
	if size == 0 || digest == nil || derivation.Rounds < 1 || derivation.Rounds > mostRounds {
		return nil, unknown
	}
	key, err := pbkdf2.Key(digest, passphrase, derivation.Salt, derivation.Rounds, size)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	n := len(of.Data)
	if n == 0 || n%aes.BlockSize != 0 {
		return nil, unknown
	}
	text := make([]byte, n)
	cipher.NewCBCDecrypter(block, iv).CryptBlocks(text, of.Data)
	pad := int(text[n-1])
	if pad == 0 || pad > aes.BlockSize || !bytes.Equal(text[n-pad:], bytes.Repeat(text[n-1:], pad)) {
		return nil, errPassphrase
	}
	return text[:n-pad], nil
}

func keyProblem(name, expected string) error {
	return &source.Problem{File: name, What: "contains no such key", Expected: expected}
}

func loadPEM(files *source.Files, name string, kinds ...string) (*pem.Block, error) {
	text, err := files.ReadAll(name, "key", mostKey)
	if err != nil {
		return nil, err
	}
	block, rest := pem.Decode(text)
	if block != nil && len(bytes.TrimSpace(rest)) == 0 {
		for _, kind := range kinds {
			if block.Type == kind {
				return block, nil
			}
		}
	}
	return nil, keyProblem(name, "one "+kinds[0]+" in PEM")
}
