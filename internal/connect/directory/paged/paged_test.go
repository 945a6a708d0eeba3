package paged

import (
	"bufio"
	"bytes"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"mossledger.example/moss/internal/connect/directory/accounts"
)

// Whatever a directory sends, reading it ends without a panic, and what is
// taken apart lies inside what was sent.
func FuzzStream(f *testing.F) {
	for _, seed := range [][]byte{
		[]byte("\x30\x0c\x02\x01\x01\x61\x07\x0a\x01\x00\x04\x00\x04\x00"),
		[]byte("\x30\x1a\x02\x01\x02\x64\x15\x04\x04cn=a\x30\x0d\x30\x0b\x04\x02cn\x31\x05\x04\x03abc"),
		[]byte("\x30\x84\xff\xff\xff\xff\x00"), []byte("HTTP/1.0 400"), []byte("\x30\x05\x02\x01\x01\x64\x84"),
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		s := &Reader{in: bufio.NewReaderSize(bytes.NewReader(raw), 4096), names: map[string]string{}}
		for range 20 {
			message, err := s.message()
			if err != nil {
				return
			}
			_ = resultError(message.op)
			assert.LessOrEqual(t, len(pagingCookie(message.rest)), len(raw))
			if message.tag == ldap.ApplicationSearchResultEntry {
				if entry, err := s.entry(message.op); err == nil {
					_, _ = accounts.Windows(entry)
					_, _ = accounts.RFC(entry)
				}
			}
		}
	})
}
