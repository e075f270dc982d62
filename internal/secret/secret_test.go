package secret_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/secret"
)

func keys(t *testing.T, text ...string) secret.Keys {
	t.Helper()
	k, err := secret.Parse(strings.Join(text, "\n"))
	require.NoError(t, err)
	return k
}

func TestWhatIsSealedIsOpenedByWhoHasTheKeyAlone(t *testing.T) {
	old, newer := secret.NewKey(), secret.NewKey()
	before := keys(t, old)
	sealed, err := before.Seal("hunter two")
	require.NoError(t, err)
	assert.True(t, secret.Sealed(sealed))
	assert.NotContains(t, sealed, "hunter")
	again, err := before.Seal("hunter two")
	require.NoError(t, err)
	assert.NotEqual(t, sealed, again, "two sealed texts do not show that they are the same")

	open, err := before.Open(sealed)
	require.NoError(t, err)
	assert.Equal(t, "hunter two", open)

	_, err = keys(t, newer).Open(sealed)
	var other *secret.OtherKey
	require.ErrorAs(t, err, &other)
	assert.Contains(t, sealed, other.ID, "the message names the key that is missing")

	both := keys(t, "# the new key first", newer, "", old)
	open, err = both.Open(sealed)
	require.NoError(t, err)
	assert.Equal(t, "hunter two", open)
	moved, err := both.Seal(sealed)
	require.NoError(t, err)
	open, err = keys(t, newer).Open(moved)
	require.NoError(t, err, "what was sealed again needs the old key no more")
	assert.Equal(t, "hunter two", open)
	same, err := both.Seal(moved)
	require.NoError(t, err)
	assert.Equal(t, moved, same, "what the first key sealed stays")
}

func TestDamageIsNoticed(t *testing.T) {
	k := keys(t, secret.NewKey())
	sealed, err := k.Seal("hunter two")
	require.NoError(t, err)
	for i := strings.LastIndex(sealed, ":") + 1; i < len(sealed)-1; i++ {
		other := byte('A')
		if sealed[i] == other {
			other = 'B'
		}
		_, err := k.Open(sealed[:i] + string(other) + sealed[i+1:])
		require.ErrorIs(t, err, secret.ErrDamaged, "byte %d", i)
	}
	_, err = k.Open(sealed[:len(sealed)-20])
	require.ErrorIs(t, err, secret.ErrDamaged)
	_, err = k.Open(sealed[:strings.LastIndex(sealed, ":")+3])
	require.ErrorIs(t, err, secret.ErrDamaged)
}

func TestWithoutAKeyNothingIsSealed(t *testing.T) {
	var none secret.Keys
	_, err := none.Seal("hunter two")
	require.ErrorIs(t, err, secret.ErrNoKey)
	empty, err := none.Seal("")
	require.NoError(t, err)
	assert.Empty(t, empty)
	plain, err := none.Open("kept before there were keys")
	require.NoError(t, err)
	assert.Equal(t, "kept before there were keys", plain)
	for _, wrong := range []string{"", "# only a comment", "c2hvcnQ=", "not base64 !"} {
		_, err := secret.Parse(wrong)
		require.Error(t, err, "%q", wrong)
	}
}
