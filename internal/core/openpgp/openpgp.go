// Package openpgp encrypts, decrypts, signs and verifies messages (RFC 9580, and RFC 4880 as it is met in practice). A key is
// its armored text; random bytes and the time are passed in.
package openpgp

import (
	"bytes"
	"errors"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	pgperrors "github.com/ProtonMail/go-crypto/openpgp/errors"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"hollowreed/internal/core/fault"
)

// MaxMessage bounds a message in the clear, in bytes: what is encrypted may be compressed, too.
const MaxMessage = 64 << 20

// World is what comes from outside of the computation.
type World struct {
	Random io.Reader
	Now    time.Time
}

func (w World) config() *packet.Config {
	return &packet.Config{Rand: w.Random, Time: func() time.Time { return w.Now }}
}

// Key is a private key with its passphrase, where it has one.
type Key struct{ Armored, Passphrase string }

// keys reads the keys of an armored text, or of several behind each other.
func keys(text, what string) (openpgp.EntityList, *fault.Fault) {
	var list openpgp.EntityList
	const end = "-----END PGP "
	for rest := strings.TrimSpace(text); rest != ""; {
		block := rest
		if i := strings.Index(rest, end); i >= 0 {
			if n := strings.IndexByte(rest[i:], '\n'); n >= 0 {
				block = rest[:i+n]
			}
		}
		rest = strings.TrimSpace(rest[len(block):])
		some, err := openpgp.ReadArmoredKeyRing(strings.NewReader(block))
		if err != nil {
			return nil, fault.Expect(fault.Setting, what+" as armored text (RFC 9580, section 6)", plain(err))
		}
		list = append(list, some...)
	}
	if len(list) == 0 {
		return nil, fault.Expect(fault.Required, what+" as armored text", "none")
	}
	return list, nil
}

// unlocked reads a private key and opens it with its passphrase.
func unlocked(k Key) (openpgp.EntityList, *fault.Fault) {
	list, f := keys(k.Armored, "a private key")
	if f != nil {
		return nil, f
	}
	for _, e := range list {
		if e.PrivateKey == nil {
			return nil, fault.Expect(fault.Setting, "a private key", "a public key")
		}
		if e.PrivateKey.Encrypted {
			if err := e.DecryptPrivateKeys([]byte(k.Passphrase)); err != nil {
				return nil, fault.New(fault.Setting, "the passphrase does not open the private key")
			}
		}
	}
	return list, nil
}

// Seal encrypts a message for the owners of public keys and signs it, either where a key is given: recipients is
// armored text, or empty for a message that is only signed. The result is armored text.
func Seal(w World, message []byte, recipients string, signer *Key) (string, *fault.Fault) {
	var to openpgp.EntityList
	var by *openpgp.Entity
	var f *fault.Fault
	if signer != nil {
		list, f := unlocked(*signer)
		if f != nil {
			return "", f
		}
		by = list[0]
	}
	if recipients != "" {
		if to, f = keys(recipients, "public keys"); f != nil {
			return "", f
		}
	}
	var out bytes.Buffer
	err := seal(w, &out, message, to, by)
	if err != nil {
		return "", fault.New(fault.Setting, "the message cannot be encrypted or signed: %s", plain(err))
	}
	return out.String(), nil
}

func seal(w World, out io.Writer, message []byte, to openpgp.EntityList, by *openpgp.Entity) error {
	armored, err := armor.Encode(out, "PGP MESSAGE", nil)
	if err != nil {
		return err
	}
	var plain io.WriteCloser
	if to == nil {
		plain, err = openpgp.Sign(armored, by, nil, w.config())
	} else {
		plain, err = openpgp.Encrypt(armored, to, by, nil, w.config())
	}
	if err != nil {
		return err
	}
	if _, err := plain.Write(message); err != nil {
		return err
	}
	return errors.Join(plain.Close(), armored.Close())
}

// Opened is a message in the clear.
type Opened struct {
	Message   []byte
	Encrypted bool
	Signed    bool   // by one of the keys that were given
	Signer    string // the name of that key's owner
}

// Open decrypts a message, armored or not, and verifies its signature against public keys. Without a private key it is
// only verified; with one, a message that is not encrypted is a fault: anybody could have written it. A signature that does not
// hold is a fault; one by a key that is not among those of the signers counts as none, be it our own.
func Open(w World, message []byte, key *Key, signers string) (*Opened, *fault.Fault) {
	var ring, expected openpgp.EntityList
	if key != nil {
		list, f := unlocked(*key)
		if f != nil {
			return nil, f
		}
		ring = append(ring, list...)
	}
	if signers != "" {
		list, f := keys(signers, "public keys of those who sign")
		if f != nil {
			return nil, f
		}
		expected = list
		ring = append(ring, list...)
	}
	var in io.Reader = bytes.NewReader(message)
	if bytes.HasPrefix(bytes.TrimSpace(message), []byte("-----BEGIN PGP")) {
		block, err := armor.Decode(in)
		if err != nil {
			return nil, fault.Expect(fault.Syntax, "an OpenPGP message as armored text", plain(err))
		}
		in = block.Body
	}
	md, err := openpgp.ReadMessage(in, ring, nil, w.config())
	switch {
	case errors.Is(err, pgperrors.ErrKeyIncorrect):
		return nil, fault.New(fault.Setting, "the message is encrypted for another key").WithFix("Give the private key that belongs to the public key which the sender has")
	case err != nil:
		return nil, fault.Expect(fault.Syntax, "an OpenPGP message", plain(err))
	}
	if key != nil && !md.IsEncrypted {
		return nil, fault.Expect(fault.Setting, "an encrypted message", "one that everybody can read").
			WithFix("Ask the sender to encrypt it with our public key; or take out the private key, if it is only to be verified")
	}
	return read(md, expected)
}

// read reads the message to its end; only then its signature is known.
func read(md *openpgp.MessageDetails, expected openpgp.EntityList) (*Opened, *fault.Fault) {
	text, err := io.ReadAll(io.LimitReader(md.UnverifiedBody, MaxMessage+1))
	switch {
	case err != nil:
		return nil, fault.New(fault.Syntax, "the message was changed or cut off on its way: %s", plain(err))
	case len(text) > MaxMessage:
		return nil, fault.New(fault.Limit, "the message is longer than %d bytes in the clear", MaxMessage)
	}
	o := &Opened{Message: text, Encrypted: md.IsEncrypted}
	if md.SignedBy == nil {
		return o, nil
	}
	if md.SignatureError != nil {
		return nil, fault.New(fault.Pattern, "the signature does not hold: %s", plain(md.SignatureError)).WithFix("Ask the sender; do not use the message")
	}
	by := md.SignedBy.Entity.PrimaryKey.Fingerprint
	if !slices.ContainsFunc(expected, func(e *openpgp.Entity) bool { return bytes.Equal(e.PrimaryKey.Fingerprint, by) }) {
		return o, nil
	}
	o.Signed = true
	if id := md.SignedBy.Entity.PrimaryIdentity(); id != nil {
		o.Signer = id.Name
	}
	return o, nil
}

// NewKey makes a key pair for a name and an address: the private key and the public one, armored.
func NewKey(w World, name, mail string) (private, public string, err error) {
	how := w.config()
	how.Algorithm = packet.PubKeyAlgoEdDSA
	e, err := openpgp.NewEntity(name, "", mail, how)
	if err != nil {
		return "", "", err
	}
	var secret, open bytes.Buffer
	write := func(out *bytes.Buffer, kind string, serialize func(io.Writer) error) error {
		a, err := armor.Encode(out, kind, nil)
		if err != nil {
			return err
		}
		return errors.Join(serialize(a), a.Close())
	}
	err = errors.Join(
		write(&secret, openpgp.PrivateKeyType, func(out io.Writer) error { return e.SerializePrivate(out, w.config()) }),
		write(&open, openpgp.PublicKeyType, e.Serialize),
	)
	return secret.String() + "\n", open.String() + "\n", err
}

// plain is an error without the library's prefixes.
func plain(err error) string { return strings.TrimPrefix(err.Error(), "openpgp: ") }
