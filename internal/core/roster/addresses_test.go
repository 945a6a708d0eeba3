package roster

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAddresses(t *testing.T) {
	for text, want := range map[string][]Address{
		"":                     nil,
		" ; ":                  nil,
		"dc2.larkmoor.example": {{Host: "dc2.larkmoor.example"}},
		"dc2:1636; 192.0.2.9;": {{Host: "dc2", Port: 1636}, {Host: "192.0.2.9"}},
		"2001:db8::7;[2001:db8::8];[2001:db8::9]:636": {{Host: "2001:db8::7"}, {Host: "2001:db8::8"}, {Host: "2001:db8::9", Port: 636}},
	} {
		got, err := Addresses(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
		for _, a := range got {
			again, err := Addresses(a.String())
			require.NoError(t, err)
			assert.Equal(t, []Address{a}, again)
		}
	}
	for _, text := range []string{"dc2:0", "dc2:65536", "dc2:ldaps", "[dc2]", "[2001:db8::7", "a b", "user@dc2", "ldaps://dc2", "dc2:636:1", ":636", "dc2/x"} {
		_, err := Addresses(text)
		assert.Error(t, err, text)
	}
}
