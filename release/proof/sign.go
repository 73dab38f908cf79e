package proof

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"mexalt/source"
)

// SignatureExtension ends the name of a manifest's signature, behind that of the
// manifest.
const SignatureExtension = ".dsse"

// What an envelope says that it holds: a manifest, a statement of provenance, a bill of
// materials.
const (
	PayloadType    = "application/vnd.mexalt.manifest+json"
	ProvenanceType = "application/vnd.in-toto+json"
	BillType       = "application/vnd.cyclonedx+json"
)

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

// ToSign returns what is signed of a payload: the pre-authentication encoding of DSSE.
func ToSign(kind string, payload []byte) []byte {
	return append(fmt.Appendf(nil, "DSSEv1 %d %s %d ", len(kind), kind, len(payload)), payload...)
}

// Sign returns a payload in an envelope with a signature of each key.
func Sign(keys []*Signer, kind string, payload []byte) ([]byte, error) {
	e := envelope{PayloadType: kind, Payload: payload}
	for _, key := range keys {
		sig, err := key.sign(ToSign(kind, payload))
		if err != nil {
			return nil, err
		}
		e.Signatures = append(e.Signatures, signature{key.ID(), sig})
	}
	return e.text()
}

func (e *envelope) text() ([]byte, error) {
	text, err := json.Marshal(e)
	return append(text, '\n'), err
}

// shownID is how much of a key's name messages show.
const shownID = 16

// Trust says by which keys a manifest must be signed; without any, it need not be.
type Trust struct {
	Keys []*PublicKey
	Of   int // by how many of them; 0 is one
}

// openEnvelope reads an envelope, which must be of a payload of a kind.
func openEnvelope(text []byte, kind string, payload []byte) (*envelope, error) {
	var e envelope
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	switch err := d.Decode(&e); {
	case err != nil:
		return nil, fmt.Errorf("it is not a DSSE envelope: %w", err)
	case e.PayloadType != kind:
		return nil, fmt.Errorf("it is for %q; expected %q", e.PayloadType, kind)
	case !bytes.Equal(e.Payload, payload):
		return nil, errors.New("it is for another manifest, or this one was changed")
	}
	return &e, nil
}

// verify returns the keys by which an envelope proves a payload, or why it does not. Each key
// counts once, however often it has signed.
func (t *Trust) verify(text []byte, kind string, payload []byte) ([]*PublicKey, error) {
	e, err := openEnvelope(text, kind, payload)
	if err != nil {
		return nil, err
	}
	data := ToSign(e.PayloadType, e.Payload)
	var by []*PublicKey
	for _, key := range t.Keys {
		known := func(other *PublicKey) bool { return other.ID() == key.ID() }
		signed := slices.ContainsFunc(e.Signatures, func(s signature) bool { return key.verifies(data, s.Sig) })
		if signed && !slices.ContainsFunc(by, known) {
			by = append(by, key)
		}
	}
	if need := max(t.Of, 1); len(by) < need {
		ids := "none"
		if len(e.Signatures) > 0 {
			ids = e.Signatures[0].KeyID[:min(len(e.Signatures[0].KeyID), shownID)]
		}
		if len(t.Keys) == 1 {
			return nil, fmt.Errorf("it is not signed by the key that is trusted, %s; by %s", t.Keys[0].ID()[:shownID], ids)
		}
		return nil, fmt.Errorf("it is signed by %d of the %d keys that are trusted; expected %d", len(by), len(t.Keys), need)
	}
	return by, nil
}

// names are the first digits of the keys' names.
func names(keys []*PublicKey) string {
	var list []string
	for _, key := range keys {
		list = append(list, key.ID()[:shownID])
	}
	return strings.Join(list, ", ")
}

// Attach puts a signature that was made elsewhere, of what [ToSign] returns of a manifest, into
// the manifest's envelope, where one of the keys has made it. It returns the envelope's name and
// text.
func Attach(files *source.Files, name, signed string, keys []*PublicKey) (envelopeName string, text []byte, err error) {
	manifest, err := files.ReadAll(name, "manifest", MostManifest)
	if err != nil {
		return "", nil, err
	}
	const mostSignature = 64 << 10
	sig, err := files.ReadAll(signed, "signature", mostSignature)
	if err != nil {
		return "", nil, err
	}
	envelopeName = name + SignatureExtension
	e := &envelope{PayloadType: PayloadType, Payload: manifest}
	if source.Exists(envelopeName) {
		old, err := files.ReadAll(envelopeName, "signature", mostEnvelope)
		if err != nil {
			return "", nil, err
		}
		if e, err = openEnvelope(old, PayloadType, manifest); err != nil {
			return "", nil, &source.Problem{File: envelopeName, What: err.Error(), Advice: source.Advise("move it away")}
		}
	}
	i := slices.IndexFunc(keys, func(key *PublicKey) bool { return key.verifies(ToSign(PayloadType, manifest), sig) })
	if i < 0 {
		return "", nil, &source.Problem{
			File:     signed,
			What:     fmt.Sprintf("is no signature of %s by a key that is trusted", filepath.Base(name)),
			Expected: "the signature of just the bytes that the release wrote to be signed",
		}
	}
	key := keys[i]
	e.Signatures = slices.DeleteFunc(e.Signatures, func(s signature) bool { return s.KeyID == key.ID() })
	e.Signatures = append(e.Signatures, signature{key.ID(), key.canonical(sig)})
	text, err = e.text()
	return envelopeName, text, err
}
