// Package secret seals what must not lie readable in a database: connectors' tokens and the passwords that personas sign in with.
//
// A sealed text is AES-256-GCM (NIST SP 800-38D) under one of a process's keys, of which it names the number; the standard
// library does the work. Several keys are there while one is replaced by another: the first seals, each opens.
package secret

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

// prefix begins each sealed text, and no other may.
const prefix = "sealed:"

// KeyBytes is the length of a key.
const KeyBytes = 32

// Keys are those of a process. The zero value has none: it opens what was never sealed, and seals nothing.
type Keys struct{ all []key }

type key struct {
	id   string
	aead cipher.AEAD
}

// NewKey is a key that nobody has had, as text.
func NewKey() string {
	raw := make([]byte, KeyBytes)
	_, _ = rand.Read(raw) // it never fails; see crypto/rand
	return base64.StdEncoding.EncodeToString(raw)
}

// Parse reads keys as a file or a variable has them: one on each line, in base64, the one that seals first. Empty lines and
// those that begin with # are left out.
func Parse(text string) (Keys, error) {
	var out Keys
	for n, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		raw, err := base64.StdEncoding.DecodeString(line)
		if err != nil || len(raw) != KeyBytes {
			return Keys{}, fmt.Errorf("line %d is not a key: %d bytes in base64, as `tidemarker key` prints them", n+1, KeyBytes)
		}
		block, err := aes.NewCipher(raw)
		if err != nil {
			return Keys{}, err
		}
		aead, err := cipher.NewGCM(block)
		if err != nil {
			return Keys{}, err
		}
		sum := sha256.Sum256(append([]byte("tidemarker key id\x00"), raw...))
		out.all = append(out.all, key{hex.EncodeToString(sum[:4]), aead})
	}
	if len(out.all) == 0 {
		return Keys{}, errors.New("there is no key in it. `tidemarker key` prints a new one")
	}
	return out, nil
}

// ErrNoKey says that there is nothing to seal with.
var ErrNoKey = errors.New("no secret can be kept: this process has no key. Name a file with one in TIDEMARKER_KEY_FILE; `tidemarker key` prints a new one")

// OtherKey says that a text was sealed with a key that this process does not have.
type OtherKey struct{ ID string }

func (e *OtherKey) Error() string {
	return fmt.Sprintf("a secret was sealed with the key %s, which this process does not have. Put that key into the file that TIDEMARKER_KEY_FILE names, below the one that is there", e.ID)
}

// ErrDamaged says that a sealed text is not what was sealed.
var ErrDamaged = errors.New("a sealed secret is damaged. Type it in again")

// Sealed tells whether a text is sealed.
func Sealed(text string) bool { return strings.HasPrefix(text, prefix) }

// Seal seals a text with the first key. What is empty, or sealed with that key already, stays as it is.
func (k Keys) Seal(text string) (string, error) {
	if text == "" {
		return text, nil
	}
	if len(k.all) == 0 {
		return "", ErrNoKey
	}
	if Sealed(text) {
		if id, _, _ := split(text); id == k.all[0].id {
			return text, nil
		}
		open, err := k.Open(text)
		if err != nil {
			return "", err
		}
		text = open
	}
	first := k.all[0]
	nonce := make([]byte, first.aead.NonceSize())
	_, _ = rand.Read(nonce)
	return prefix + first.id + ":" + base64.RawStdEncoding.EncodeToString(first.aead.Seal(nonce, nonce, []byte(text), []byte(first.id))), nil
}

// split takes a sealed text apart.
func split(text string) (id string, raw []byte, err error) {
	id, body, _ := strings.Cut(strings.TrimPrefix(text, prefix), ":")
	raw, err = base64.RawStdEncoding.DecodeString(body)
	return id, raw, err
}

// Open is what was sealed. A text that is not sealed is itself. It fails with [*OtherKey] or [ErrDamaged].
func (k Keys) Open(text string) (string, error) {
	if !Sealed(text) {
		return text, nil
	}
	id, raw, err := split(text)
	if err != nil {
		return "", ErrDamaged
	}
	for _, key := range k.all {
		if key.id != id {
			continue
		}
		size := key.aead.NonceSize()
		if len(raw) < size {
			return "", ErrDamaged
		}
		open, err := key.aead.Open(nil, raw[:size], raw[size:], []byte(id))
		if err != nil {
			return "", ErrDamaged
		}
		return string(open), nil
	}
	return "", &OtherKey{id}
}
