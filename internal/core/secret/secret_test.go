package secret

import (
	"bytes"
	"crypto/rand"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const plain = "Harbour-Lamp-41"

type holder struct {
	Shown  Value
	hidden Value
	deep   *struct{ v Value }
	list   []Value
	named  map[string]Value
}

func TestValueNeverPrints(t *testing.T) {
	v := New(plain)
	h := holder{v, v, &struct{ v Value }{v}, []Value{v}, map[string]Value{"k": v}}
	var out bytes.Buffer
	for _, verb := range []string{"%v", "%+v", "%#v", "%s", "%q", "%x", "%X", "%d", "%T %v"} {
		fmt.Fprintf(&out, verb+"\n", v)
		fmt.Fprintf(&out, verb+"\n", h)
		fmt.Fprintf(&out, verb+"\n", &h)
	}
	slog.New(slog.NewJSONHandler(&out, nil)).Info("x", "v", v, "h", h)
	slog.New(slog.NewTextHandler(&out, nil)).Info("x", "v", v, "h", h)
	raw, err := json.Marshal(map[string]any{"v": v, "h": h})
	require.NoError(t, err)
	out.Write(raw)
	fmt.Fprint(&out, fmt.Errorf("wrapped: %v %w", v, fmt.Errorf("%s", v)))
	for _, form := range []string{plain, "486172626f75722d4c616d702d3431", "486172626F75722D4C616D702D3431"} {
		assert.NotContains(t, out.String(), form)
	}
	_, err = driver.Valuer(v).Value()
	assert.ErrorIs(t, err, ErrNotStorable)
	assert.Equal(t, plain, v.RevealString())
	assert.True(t, v.Equal(New(plain)))
	assert.False(t, v.Equal(New("other")))
	assert.True(t, Value{}.Empty())
}

func TestScrub(t *testing.T) {
	v := New("p@ss w0rd/+")
	said := "refused p@ss w0rd/+ and cEBzcyB3MHJkLys= and p%40ss+w0rd%2F%2B"
	assert.Equal(t, "refused [secret] and [secret] and [secret]", Scrub(said, v))
	assert.Equal(t, "abc", Scrub("abc", New("abc")), "short values are left alone")
}

func TestSealedValuesAreBoundToTheirRecord(t *testing.T) {
	master := bytes.Repeat([]byte{7}, KeySize)
	s, err := NewSealer(master, rand.Reader)
	require.NoError(t, err)
	sealed, err := s.Seal("account/1", New(plain))
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), plain)
	opened, err := s.Open("account/1", sealed)
	require.NoError(t, err)
	assert.Equal(t, plain, opened.RevealString())
	_, err = s.Open("account/2", sealed)
	assert.ErrorIs(t, err, ErrDoesNotOpen, "a ciphertext moved to another row does not open")
	for i := range sealed {
		altered := bytes.Clone(sealed)
		altered[i] ^= 1
		_, err := s.Open("account/1", altered)
		assert.ErrorIs(t, err, ErrDoesNotOpen, "byte %d altered", i)
	}
	for n := range sealed {
		_, err := s.Open("account/1", sealed[:n])
		assert.ErrorIs(t, err, ErrDoesNotOpen, "cut to %d bytes", n)
	}
	other, err := NewSealer(bytes.Repeat([]byte{8}, KeySize), rand.Reader)
	require.NoError(t, err)
	_, err = other.Open("account/1", sealed)
	assert.ErrorIs(t, err, ErrDoesNotOpen)
	_, err = NewSealer([]byte("short"), rand.Reader)
	assert.Error(t, err)
}

func TestFingerprintsNeedTheKey(t *testing.T) {
	a, err := NewFingerprinter(bytes.Repeat([]byte{1}, KeySize))
	require.NoError(t, err)
	b, err := NewFingerprinter(bytes.Repeat([]byte{2}, KeySize))
	require.NoError(t, err)
	assert.Equal(t, a.Of(New(plain)), FingerprinterFromKey(a.Key()).Of(New(plain)))
	assert.NotEqual(t, a.Of(New(plain)), b.Of(New(plain)))
	assert.NotEqual(t, a.Of(New(plain)), a.Of(New(plain+"x")))
}

func TestGenerate(t *testing.T) {
	seen := map[string]bool{}
	for range 300 {
		v, err := Policy{}.Generate(rand.Reader)
		require.NoError(t, err)
		text := v.RevealString()
		require.Len(t, text, 32)
		require.False(t, seen[text])
		seen[text] = true
		for _, class := range []string{Lower, Upper, Digits, Symbols} {
			require.True(t, strings.ContainsAny(text, class), "%s in %s", class, text)
		}
	}
	v, err := Policy{Length: 20, Classes: []string{Lower, Digits}, Forbidden: Lower[1:], Avoid: []string{"AAA"}}.Generate(rand.Reader)
	require.NoError(t, err)
	assert.NotContains(t, v.RevealString(), "aaa")
	for name, p := range map[string]Policy{
		"too short":    {Length: 8, Classes: []string{Lower}},
		"nothing left": {Length: 16, Classes: []string{Digits}, Forbidden: Digits},
		"impossible":   {Length: 16, Classes: []string{"a"}, Avoid: []string{"aaa"}},
	} {
		_, err := p.Generate(rand.Reader)
		assert.ErrorIs(t, err, ErrPolicy, name)
	}
	_, err = Policy{}.Generate(strings.NewReader("no randomness"))
	assert.Error(t, err)
}
