package managed

import (
	"encoding/binary"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/secret"
)

// bytesOf is a password of so many code units, none of which is a zero and half of which are no
// letters: a directory draws any.
func bytesOf(n int, from byte) secret.Value {
	out := make([]byte, 2*n)
	for i := range out {
		out[i] = byte(int(from)+i*7)%255 + 1
		if i%4 == 1 {
			out[i] = 0xD8 // halves of pairs that stand alone
		}
	}
	return secret.FromBytes(out)
}

func TestPasswordsComeBack(t *testing.T) {
	for name, p := range map[string]Passwords{
		"two, as a directory makes them": {bytesOf(128, 3), bytesOf(128, 90), 29*24*time.Hour + 17*time.Second, 29*24*time.Hour - 5*time.Minute},
		"the first":                      {Current: bytesOf(128, 3), Ask: time.Hour},
		"short ones":                     {bytesOf(1, 1), bytesOf(2, 1), 100 * time.Nanosecond, 0},
	} {
		blob, err := Encode(p)
		require.NoError(t, err, name)
		raw := blob.Reveal()
		assert.EqualValues(t, 1, binary.LittleEndian.Uint16(raw), name)
		assert.EqualValues(t, len(raw), binary.LittleEndian.Uint32(raw[4:]), name)
		assert.EqualValues(t, 16, binary.LittleEndian.Uint16(raw[8:]), "the current one follows the head")
		assert.Zero(t, binary.LittleEndian.Uint16(raw[12:])%8, "intervals stand at a multiple of 64 bits")
		back, err := Decode(blob)
		require.NoError(t, err, name)
		assert.True(t, back.Current.Equal(p.Current) && back.Previous.Equal(p.Previous), name)
		assert.Equal(t, []time.Duration{p.Ask, p.Unchanged}, []time.Duration{back.Ask, back.Unchanged}, name)
	}
}

// Written by hand from the text of the specification, field by field.
func TestAStructureWrittenByHand(t *testing.T) {
	raw := "\x01\x00\x00\x00\x38\x00\x00\x00\x10\x00\x18\x00\x28\x00\x30\x00" + // version, reserved, 56 bytes, at 16, 24, 40 and 48
		"a\x00b\x00c\x00\x00\x00" + "\x3d\xd8!\x00~\x00?\x00\x01\x01\x00\x00\x00\x00\x00\x00" +
		"\x00\x10\xa5\xd4\xe8\x00\x00\x00" + "\xff\xff\xff\xff\xff\xff\xff\xff"
	p, err := Decode(secret.New(raw))
	require.NoError(t, err)
	assert.Equal(t, "a\x00b\x00c\x00", p.Current.RevealString())
	assert.Equal(t, "\x3d\xd8!\x00~\x00?\x00\x01\x01", p.Previous.RevealString())
	assert.Equal(t, 100_000*time.Second, p.Ask)
	assert.Equal(t, longest, p.Unchanged, "one without end is long")
}

func TestWhatIsNoManagedPassword(t *testing.T) {
	good, err := Encode(Passwords{Current: bytesOf(4, 7), Previous: bytesOf(4, 9), Ask: time.Hour, Unchanged: time.Hour})
	require.NoError(t, err)
	change := func(at int, to ...byte) string {
		raw := good.Reveal()
		copy(raw[at:], to)
		return string(raw)
	}
	for name, text := range map[string]string{
		"nothing": "", "a head alone": change(0)[:16], "another version": change(0, 2), "longer than it is": change(4, 0xFF, 0xFF, 0xFF, 0x7F),
		"shorter than a head": change(4, 8, 0, 0, 0), "a password in the head": change(8, 4, 0), "a password behind the end": change(8, 0xFF, 0xFF),
		"no current one": change(8, 0, 0), "an interval behind the end": change(12, 0xFE, 0xFF), "an interval in the head": change(14, 0, 0),
		"a password without an end": change(8, 0x2F, 0), "an empty one": change(16, 0, 0),
	} {
		_, err := Decode(secret.New(text))
		require.ErrorIs(t, err, ErrBlob, name)
	}
	for name, p := range map[string]Passwords{
		"none": {}, "half a unit": {Current: secret.New("abc")}, "a zero": {Current: secret.New("a\x00\x00\x00b\x00")},
		"too long": {Current: secret.New(strings.Repeat("ab", 40_000))}, "two too long": {Current: secret.New(strings.Repeat("ab", 20_000)), Previous: secret.New(strings.Repeat("ab", 20_000))},
		"before": {Current: bytesOf(4, 1), Ask: -time.Second},
	} {
		_, err := Encode(p)
		assert.Error(t, err, name)
	}
}

func FuzzDecode(f *testing.F) {
	good, err := Encode(Passwords{Current: bytesOf(128, 7), Previous: bytesOf(128, 9), Ask: time.Hour, Unchanged: time.Hour})
	require.NoError(f, err)
	f.Add(good.Reveal())
	f.Fuzz(func(t *testing.T, raw []byte) {
		p, err := Decode(secret.FromBytes(raw))
		if err != nil {
			return
		}
		again, err := Encode(p)
		require.NoError(t, err)
		back, err := Decode(again)
		require.NoError(t, err)
		assert.True(t, back.Current.Equal(p.Current) && back.Previous.Equal(p.Previous) && back.Ask == p.Ask && back.Unchanged == p.Unchanged)
	})
}
