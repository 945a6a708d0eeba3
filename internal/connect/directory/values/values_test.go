package values

import (
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mossledger.example/moss/internal/core/secret"
)

// Whatever a directory sends in these forms, reading it ends without a panic.
func FuzzValues(f *testing.F) {
	f.Add("133000000000000000", []byte{1, 1, 0, 0, 0, 0, 0, 5, 1, 0, 0, 0})
	f.Fuzz(func(_ *testing.T, text string, raw []byte) {
		FileTime(text)
		GeneralizedTime(text)
		SIDText(raw)
		_, _ = GUIDFilter(GUIDText(raw))
	})
}

// The forms that directories have for times, identities and passwords, both ways.
func TestForms(t *testing.T) {
	at := time.Date(2026, 11, 28, 2, 30, 0, 123456700, time.UTC)
	ticks := func(t time.Time) string {
		return strconv.FormatInt((t.Unix()+11644473600)*1e7+int64(t.Nanosecond())/100, 10)
	}
	assert.True(t, at.Equal(FileTime(ticks(at))))
	for _, never := range []string{"", "0", "-1", "9223372036854775807", "soon"} {
		assert.True(t, FileTime(never).IsZero(), never)
	}
	for text, want := range map[string]time.Time{
		"20261128023000Z": at.Truncate(time.Second), "20261128023000.0Z": at.Truncate(time.Second), "20261128023000.123456Z": at.Truncate(time.Microsecond),
		"20261128023000": {}, "000001010000Z": {}, "": {},
	} {
		assert.True(t, want.Equal(GeneralizedTime(text)), text)
	}
	sid := []byte{1, 2, 0, 0, 0, 0, 0, 5, 32, 0, 0, 0, 0x20, 2, 0, 0}
	assert.Equal(t, "S-1-5-32-544", SIDText(sid))
	for _, bad := range [][]byte{nil, sid[:15], append(sid[:16:16], 1), {2, 0, 0, 0, 0, 0, 0, 5}} {
		assert.Empty(t, SIDText(bad))
	}
	guid := []byte{0x33, 0x22, 0x11, 0x00, 0x55, 0x44, 0x77, 0x66, 0x88, 0x99, 0xaa, 0xbb, 0xcc, 0xdd, 0xee, 0xff}
	assert.Equal(t, "00112233-4455-6677-8899-aabbccddeeff", GUIDText(guid))
	assert.Empty(t, GUIDText(guid[:15]))
	filter, err := GUIDFilter("00112233-4455-6677-8899-aabbccddeeff")
	require.NoError(t, err)
	assert.Equal(t, `\33\22\11\00\55\44\77\66\88\99\aa\bb\cc\dd\ee\ff`, filter, "as it stands in the entry, escaped")
	for _, bad := range []string{"", "00112233", "zz112233-4455-6677-8899-aabbccddeeff", "*)(objectClass=*"} {
		_, err := GUIDFilter(bad)
		assert.Error(t, err, "%q must not reach a filter", bad)
	}
	assert.Equal(t, "\"\x00a\x00\xe9\x00\x34\xd8\x1e\xdd\"\x00", QuotedUTF16(secret.New("aé\U0001D11E")))
	assert.Equal(t, Fold("CN=Berth, DC=X"), Fold("cn=berth,dc=x"))
	assert.Equal(t, "no name", Fold("No Name"))
}
