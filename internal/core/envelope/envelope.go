// Package envelope seals values that must not be read where they are kept.
//
// Each value is sealed with a key of its own (AES-256-GCM, NIST SP 800-38D), and that key with one of a ring's: so a ring gets a new key without what is sealed being
// read. What a value is of goes in beside it, and must be the same when it is opened: a value that is put in another's place does not open. In: a
// ring, and bytes. Out: a text, and the bytes again.
package envelope

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
)

// KeySize is how many bytes a key has.
const KeySize = 32

// form begins everything that is sealed: form, the ring's key, the value's key sealed by it, the value sealed by that.
const form = "tse1"

// ErrKey says that a value was sealed with a key that the ring does not have.
var ErrKey = errors.New("the key that it was sealed with is not here")

// Key is one key of a ring.
type Key struct {
	ID   string // of its hash: it tells nothing of the key
	aead cipher.AEAD
}

// Ring is the keys that there are; the first one seals.
type Ring []Key

// NewKey makes a key's bytes.
func NewKey() []byte {
	raw := make([]byte, KeySize)
	_, _ = rand.Read(raw) // it never fails
	return raw
}

// NewRing makes a ring of keys' bytes.
func NewRing(keys ...[]byte) (Ring, error) {
	var r Ring
	for _, raw := range keys {
		aead, err := sealer(raw)
		if err != nil {
			return nil, err
		}
		hash := sha256.Sum256(append([]byte("tessellant key id:"), raw...))
		r = append(r, Key{hex.EncodeToString(hash[:6]), aead})
	}
	if len(r) == 0 {
		return nil, errors.New("there is no key")
	}
	return r, nil
}

func sealer(raw []byte) (cipher.AEAD, error) {
	if len(raw) != KeySize {
		return nil, fmt.Errorf("a key has %d bytes, not %d", KeySize, len(raw))
	}
	block, err := aes.NewCipher(raw)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

var code = base64.RawURLEncoding

// seal puts a nonce before what it seals.
func seal(aead cipher.AEAD, plain, about []byte) string {
	nonce := make([]byte, aead.NonceSize())
	_, _ = rand.Read(nonce)
	return code.EncodeToString(aead.Seal(nonce, nonce, plain, about))
}

func open(aead cipher.AEAD, sealed string, about []byte) ([]byte, error) {
	raw, err := code.DecodeString(sealed)
	if err != nil || len(raw) < aead.NonceSize() {
		return nil, errors.New("it is not whole")
	}
	return aead.Open(nil, raw[:aead.NonceSize()], raw[aead.NonceSize():], about)
}

// Seal seals a value with the ring's first key. About is what it is of.
func (r Ring) Seal(plain []byte, about string) string {
	own := NewKey()
	aead, _ := sealer(own) // it has the right size
	return strings.Join([]string{form, r[0].ID, seal(r[0].aead, own, []byte(about)), seal(aead, plain, []byte(about))}, ".")
}

// Sealed says whether a text is something that was sealed.
func Sealed(s string) bool { return strings.HasPrefix(s, form+".") }

// parts takes a sealed value apart: the ring's key, the value's own, the value.
func (r Ring) parts(sealed, about string) (with Key, own []byte, value string, err error) {
	p := strings.Split(sealed, ".")
	if len(p) != 4 || p[0] != form {
		return with, nil, "", errors.New("it was not sealed, or is not whole")
	}
	for _, k := range r {
		if k.ID == p[1] {
			own, err = open(k.aead, p[2], []byte(about))
			return k, own, p[3], err
		}
	}
	return with, nil, "", fmt.Errorf("%w (%.20q)", ErrKey, p[1])
}

// Open gives a value back. ErrKey: the ring lacks its key. Every other error: it is not what was sealed, or not for this.
func (r Ring) Open(sealed, about string) ([]byte, error) {
	_, own, value, err := r.parts(sealed, about)
	if err != nil {
		return nil, err
	}
	aead, err := sealer(own)
	if err != nil {
		return nil, err
	}
	return open(aead, value, []byte(about))
}

// Rewrap seals the key of a value with the ring's first key; the value itself stays as it is. It answers whether there was anything to do.
func (r Ring) Rewrap(sealed, about string) (string, bool, error) {
	with, own, value, err := r.parts(sealed, about)
	if err != nil || with.ID == r[0].ID {
		return sealed, false, err
	}
	return strings.Join([]string{form, r[0].ID, seal(r[0].aead, own, []byte(about)), value}, "."), true, nil
}
