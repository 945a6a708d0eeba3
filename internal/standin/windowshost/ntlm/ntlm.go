// Package ntlm has the messages of NTLM as a server writes and reads them (MS-NLMP, section
// 2.2): the challenge, and the answer to it.
package ntlm

import (
	"crypto/hmac"
	"crypto/md5"
	"encoding/binary"
	"strings"
	"time"
	"unicode/utf16"

	//lint:ignore SA1019 the protocol that is stood in for is built on it
	"golang.org/x/crypto/md4" //nolint:staticcheck // the protocol asks for it (MS-NLMP, 3.3.1)
)

// Signature begins every message.
const Signature = "NTLMSSP\x00"

// Kind of a message; 0 where it is none.
func Kind(message []byte) uint32 {
	if len(message) < 12 {
		return 0
	}
	return binary.LittleEndian.Uint32(message[8:])
}

// Asked is what the first message asks for.
func Asked(message []byte) uint32 {
	return binary.LittleEndian.Uint32(append(message[min(12, len(message)):len(message):len(message)], 0, 0, 0, 0))
}

func wide(text string) []byte {
	var out []byte
	for _, u := range utf16.Encode([]rune(text)) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return out
}

// Challenge grants of what the client asked for what is known here.
func Challenge(host string, now time.Time, nonce []byte, asked uint32) []byte {
	target := wide(host)
	var info []byte
	pair := func(id uint16, value []byte) {
		info = binary.LittleEndian.AppendUint16(info, id)
		info = binary.LittleEndian.AppendUint16(info, uint16(len(value)))
		info = append(info, value...)
	}
	pair(2, wide(host))                  // NetBIOS domain
	pair(1, wide(host))                  // NetBIOS computer
	pair(4, wide(strings.ToLower(host))) // DNS domain
	pair(3, wide(strings.ToLower(host))) // DNS computer
	filetime := make([]byte, 8)          // 100 ns since 1601
	binary.LittleEndian.PutUint64(filetime, uint64(now.UnixNano()/100+116444736000000000))
	pair(7, filetime)
	pair(0, nil)
	out := []byte(Signature)
	out = binary.LittleEndian.AppendUint32(out, 2)
	out = binary.LittleEndian.AppendUint16(out, uint16(len(target)))
	out = binary.LittleEndian.AppendUint16(out, uint16(len(target)))
	out = binary.LittleEndian.AppendUint32(out, 56)
	// Unicode, request target, NTLM, always sign, target type server, extended
	// session security, target info, 128 and 56 bit keys, key exchange.
	out = binary.LittleEndian.AppendUint32(out, 0x00000001|0x00000004|0x00000200|0x00020000|0x00800000|0x02000000|asked&(0x00000010|0x00000020|0x00008000|0x00080000|0x20000000|0x40000000|0x80000000))
	out = append(out, nonce...)
	out = append(out, make([]byte, 8)...)
	out = binary.LittleEndian.AppendUint16(out, uint16(len(info)))
	out = binary.LittleEndian.AppendUint16(out, uint16(len(info)))
	out = binary.LittleEndian.AppendUint32(out, uint32(56+len(target)))
	out = append(out, 10, 0, 0x7c, 0x4f, 0, 0, 0, 15) // version
	out = append(out, target...)
	return append(out, info...)
}

// Answer is the third message: who somebody says to be, and the proof.
type Answer struct {
	Domain, User string
	proof, nonce []byte
}

// ReadAnswer reads it; ok is false where it is none.
func ReadAnswer(message, nonce []byte) (Answer, bool) {
	part := func(at int) []byte {
		if len(message) < at+8 {
			return nil
		}
		size, offset := int(binary.LittleEndian.Uint16(message[at:])), int(binary.LittleEndian.Uint32(message[at+4:]))
		if offset < 0 || offset+size > len(message) {
			return nil
		}
		return message[offset : offset+size]
	}
	narrow := func(raw []byte) string {
		var units []uint16
		for i := 0; i+1 < len(raw); i += 2 {
			units = append(units, binary.LittleEndian.Uint16(raw[i:]))
		}
		return string(utf16.Decode(units))
	}
	a := Answer{Domain: narrow(part(28)), User: narrow(part(36)), proof: part(20), nonce: nonce}
	return a, len(nonce) == 8 && len(a.proof) >= 24 && a.User != ""
}

// Proves reports whether it was made with a password (MS-NLMP, section 3.3.2).
func (a Answer) Proves(password string) bool {
	hash := md4.New()
	_, _ = hash.Write(wide(password))
	keyed := hmac.New(md5.New, hash.Sum(nil))
	_, _ = keyed.Write(wide(strings.ToUpper(a.User) + a.Domain))
	proof := hmac.New(md5.New, keyed.Sum(nil))
	_, _ = proof.Write(a.nonce)
	_, _ = proof.Write(a.proof[16:])
	return hmac.Equal(proof.Sum(nil), a.proof[:16])
}
