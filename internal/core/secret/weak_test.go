package secret

import (
	"crypto/rand"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWeak(t *testing.T) {
	for text, weak := range map[string]bool{
		"svc-berth": true, "password": true, "Berth2026": true, "short1!": true, "production": true, "tide1.larkmoor.example": true, "qwertyuiop": true, "aaaaaaaaaaaaaaaa": true,
		"kV8#qLw2pX": false, "Gulls-over-the-slipway-77": false, "vM.t9~Qz-K3rPw": false,
	} {
		assert.Equal(t, weak, Weak(New(text), "svc-berth", "tide1.larkmoor.example") != "", text)
	}
	for range 200 {
		v, err := DefaultPolicy().Generate(rand.Reader)
		require.NoError(t, err)
		require.Empty(t, Weak(v), "what we make is never weak")
	}
}
