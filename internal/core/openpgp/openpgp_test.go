package openpgp

import (
	"crypto/rand"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
)

var world = World{Random: rand.Reader, Now: time.Date(2031, 3, 9, 6, 0, 0, 0, time.UTC)}

func pair(t *testing.T, name string) (private, public string) {
	t.Helper()
	private, public, err := NewKey(world, name, strings.ToLower(name)+"@vane.example")
	require.NoError(t, err)
	return private, public
}

func TestWhatIsSealedIsOpenedByItsOwnerAlone(t *testing.T) {
	ours, oursOpen := pair(t, "Skerry")
	theirs, theirsOpen := pair(t, "Vane")
	_, strangerOpen := pair(t, "Stranger")
	message := []byte("<consignment>12 t of kelp &amp; salt</consignment>")

	text, f := Seal(world, message, oursOpen, &Key{Armored: theirs})
	require.Nil(t, f)
	require.NotContains(t, text, "kelp")
	got, f := Open(world, []byte(text), &Key{Armored: ours}, theirsOpen)
	require.Nil(t, f)
	require.Equal(t, &Opened{Message: message, Encrypted: true, Signed: true, Signer: "Vane <vane@vane.example>"}, got)

	got, f = Open(world, []byte(text), &Key{Armored: ours}, strangerOpen)
	require.Nil(t, f)
	require.False(t, got.Signed, "the signature of a key that is not given counts as none")

	_, f = Open(world, []byte(text), &Key{Armored: theirs}, "")
	require.Equal(t, "the message is encrypted for another key. Give the private key that belongs to the public key which the sender has", f.Error())

	both, f := Seal(world, message, oursOpen+theirsOpen, nil)
	require.Nil(t, f)
	for _, key := range []string{ours, theirs} {
		got, f := Open(world, []byte(both), &Key{Armored: key}, "")
		require.Nil(t, f)
		require.Equal(t, message, got.Message)
	}
}

func TestAMessageThatIsOnlySigned(t *testing.T) {
	private, public := pair(t, "Vane")
	text, f := Seal(world, []byte("sailing 204"), "", &Key{Armored: private})
	require.Nil(t, f)
	got, f := Open(world, []byte(text), nil, public)
	require.Nil(t, f)
	require.Equal(t, "sailing 204", string(got.Message))
	require.True(t, got.Signed)
	require.False(t, got.Encrypted)
}

// TestOurOwnKeySignsForNobody: a message that comes back with our own signature is not signed by a partner, and what is to be
// decrypted must have been encrypted.
func TestOurOwnKeySignsForNobody(t *testing.T) {
	ours, oursOpen := pair(t, "Skerry")
	_, theirsOpen := pair(t, "Vane")
	text, f := Seal(world, []byte("release the cargo"), oursOpen, &Key{Armored: ours})
	require.Nil(t, f)
	for _, signers := range []string{theirsOpen, ""} {
		got, f := Open(world, []byte(text), &Key{Armored: ours}, signers)
		require.Nil(t, f)
		require.False(t, got.Signed)
		require.Empty(t, got.Signer)
	}
	got, f := Open(world, []byte(text), &Key{Armored: ours}, theirsOpen+oursOpen)
	require.Nil(t, f)
	require.True(t, got.Signed, "it is among those that are expected")

	plain, f := Seal(world, []byte("release the cargo"), "", &Key{Armored: ours})
	require.Nil(t, f)
	_, f = Open(world, []byte(plain), &Key{Armored: ours}, oursOpen)
	require.NotNil(t, f)
	require.Contains(t, f.What(), "expected an encrypted message")
}

func TestBrokenMessagesAndKeysAreFaults(t *testing.T) {
	private, public := pair(t, "Vane")
	text, f := Seal(world, []byte("sailing 204"), public, &Key{Armored: private})
	require.Nil(t, f)
	for name, broken := range map[string]string{"empty": "", "no message": "sailing 204", "cut off": text[:len(text)/2], "a key": public} {
		_, f := Open(world, []byte(broken), &Key{Armored: private}, "")
		require.NotNil(t, f, name)
		require.Equal(t, fault.Syntax, f.Code, name)
	}
	i := len(text) / 2
	for text[i] == '\n' || text[i] == 'A' {
		i++
	}
	_, f = Open(world, []byte(text[:i]+"A"+text[i+1:]), &Key{Armored: private}, "")
	require.NotNil(t, f, "changed on its way")
	_, f = Seal(world, nil, "no key", nil)
	require.Contains(t, f.Error(), "public keys as armored text")
	_, f = Open(world, []byte(text), &Key{Armored: public}, "")
	require.Contains(t, f.Error(), "a private key")
}

func FuzzOpen(f *testing.F) {
	private, public, err := NewKey(world, "Vane", "v@vane.example")
	require.NoError(f, err)
	text, _ := Seal(world, []byte("x"), public, nil)
	f.Add([]byte(text))
	f.Add([]byte("-----BEGIN PGP MESSAGE-----\n\n=\n"))
	f.Fuzz(func(t *testing.T, message []byte) {
		if o, ft := Open(world, message, &Key{Armored: private}, public); (o == nil) == (ft == nil) {
			t.Fatal("neither a message nor a fault, or both")
		}
	})
}
