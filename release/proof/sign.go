package proof

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/asn1"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"

	"mexalt/source"
)

// SignatureExtension ends the name of a manifest's signature, behind that of the
// manifest.
const SignatureExtension = ".dsse"

// PayloadType is what an envelope says that it holds.
const PayloadType = "application/vnd.mexalt.manifest+json"

// mostKey is how large the file of a key may be.
const mostKey = 64 << 10

// oidEd25519 is id-Ed25519 (RFC 8410, 3).
var oidEd25519 = asn1.ObjectIdentifier{1, 3, 101, 112}

type algorithm struct{ Algorithm asn1.ObjectIdentifier }

// LoadSigner reads a private key: Ed25519, PKCS #8 in PEM (RFC 5958, RFC 8410).
func LoadSigner(files *source.Files, name string) (ed25519.PrivateKey, error) {
	der, err := loadPEM(files, name, "PRIVATE KEY")
	if err != nil {
		return nil, err
	}
	var key struct {
		Version    int
		Algorithm  algorithm
		PrivateKey []byte
		Attributes asn1.RawValue `asn1:"optional,tag:0"`
		PublicKey  asn1.RawValue `asn1:"optional,tag:1"`
	}
	var seed []byte
	rest, err := asn1.Unmarshal(der, &key)
	if err == nil && len(rest) == 0 && key.Algorithm.Algorithm.Equal(oidEd25519) {
		rest, err = asn1.Unmarshal(key.PrivateKey, &seed)
	}
	if err != nil || len(rest) > 0 || len(seed) != ed25519.SeedSize {
		return nil, keyProblem(name, "a private key of Ed25519, PKCS #8 in PEM")
	}
	return ed25519.NewKeyFromSeed(seed), nil
}

// LoadTrusted reads a public key: Ed25519, SubjectPublicKeyInfo in PEM (RFC 8410, 4).
func LoadTrusted(files *source.Files, name string) (ed25519.PublicKey, error) {
	der, err := loadPEM(files, name, "PUBLIC KEY")
	if err != nil {
		return nil, err
	}
	var key struct {
		Algorithm algorithm
		PublicKey asn1.BitString
	}
	rest, err := asn1.Unmarshal(der, &key)
	if err != nil || len(rest) > 0 || !key.Algorithm.Algorithm.Equal(oidEd25519) || key.PublicKey.BitLength != 8*ed25519.PublicKeySize {
		return nil, keyProblem(name, "a public key of Ed25519 in PEM")
	}
	return ed25519.PublicKey(key.PublicKey.Bytes), nil
}

func keyProblem(name, expected string) error {
	return &source.Problem{File: name, What: "contains no such key", Expected: expected}
}

func loadPEM(files *source.Files, name, kind string) ([]byte, error) {
	text, err := files.ReadAll(name, "key", mostKey)
	if err != nil {
		return nil, err
	}
	block, rest := pem.Decode(text)
	if block == nil || block.Type != kind || len(bytes.TrimSpace(rest)) > 0 {
		return nil, keyProblem(name, "one "+kind+" in PEM")
	}
	return block.Bytes, nil
}

// envelope is a DSSE envelope (Dead Simple Signing Envelope, v1.0.2).
type envelope struct {
	PayloadType string      `json:"payloadType"`
	Payload     []byte      `json:"payload"` // base64
	Signatures  []signature `json:"signatures"`
}

type signature struct {
	KeyID string `json:"keyid"`
	Sig   []byte `json:"sig"`
}

// authenticated is what is signed: the pre-authentication encoding of DSSE.
func authenticated(kind string, payload []byte) []byte {
	return append(fmt.Appendf(nil, "DSSEv1 %d %s %d ", len(kind), kind, len(payload)), payload...)
}

// KeyID names a public key: the SHA-256 of its 32 bytes.
func KeyID(key ed25519.PublicKey) string {
	sum := sha256.Sum256(key)
	return hex.EncodeToString(sum[:])
}

// Sign returns a manifest in a signed envelope.
func Sign(key ed25519.PrivateKey, manifest []byte) ([]byte, error) {
	e := envelope{
		PayloadType,
		manifest,
		[]signature{{KeyID(key.Public().(ed25519.PublicKey)), ed25519.Sign(key, authenticated(PayloadType, manifest))}},
	}
	text, err := json.Marshal(e)
	return append(text, '\n'), err
}

// shownID is how much of a key's name messages show.
const shownID = 16

// verify tells why an envelope does not prove a manifest; nil is that it does.
func verify(key ed25519.PublicKey, text, manifest []byte) error {
	var e envelope
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	switch err := d.Decode(&e); {
	case err != nil:
		return fmt.Errorf("it is not a DSSE envelope: %w", err)
	case e.PayloadType != PayloadType:
		return fmt.Errorf("it is for %q; expected %q", e.PayloadType, PayloadType)
	case !bytes.Equal(e.Payload, manifest):
		return errors.New("it is for another manifest, or this one was changed")
	}
	for _, s := range e.Signatures {
		if ed25519.Verify(key, authenticated(e.PayloadType, e.Payload), s.Sig) {
			return nil
		}
	}
	ids := "none"
	if len(e.Signatures) > 0 {
		ids = e.Signatures[0].KeyID[:min(len(e.Signatures[0].KeyID), shownID)]
	}
	return fmt.Errorf("it is not signed by the key that is trusted, %s; by %s", KeyID(key)[:shownID], ids)
}
