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

// What a person made is held to more than what merely stands somewhere; what we make passes.
func TestGuessable(t *testing.T) {
	for text, words := range map[string]string{
		"Kelp7-Wrack-3qZ7!vTn": "", "Salt-Marsh-71-Curlew-Qz": "", "correct horse battery staple 9": "", "vM.t9~Qz-K3rPw": "",
		"Password2026!x": "bits", "qwertyuiopasdfgh": "bits", "aaaaaaaaaaaaaaaaaaaaaaaa": "bits", "abcabcabcabcabcabcabcabc": "bits", "2026-11-29 2026-11-29": "bits",
		"xK9#SVC-berthvTqLw2pX!z": "a name stands in it", "": "bits",
	} {
		got := Guessable(New(text), 64, "svc-berth", "x")
		if words == "" {
			assert.Empty(t, got, text)
		} else {
			assert.Contains(t, got, words, text)
		}
	}
	for range 50 {
		v, err := DefaultPolicy().Generate(rand.Reader)
		require.NoError(t, err)
		require.Empty(t, Guessable(v, 64, "svc-berth"))
	}
}
