package windowshost

import (
	"context"
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"encoding/base64"
	"encoding/binary"
	"net"
	"net/http"
	"strings"
	"unicode/utf16"

	//lint:ignore SA1019 the protocol that is stood in for is built on it
	"golang.org/x/crypto/md4" //nolint:staticcheck // the protocol asks for it (MS-NLMP, 3.3.1)
)

const ntlmSignature = "NTLMSSP\x00"

type connectionKey struct{}

func withConnection(ctx context.Context, _ net.Conn) context.Context {
	return context.WithValue(ctx, connectionKey{}, &connection{})
}

func connectionOf(r *http.Request) *connection {
	c, _ := r.Context().Value(connectionKey{}).(*connection)
	if c == nil {
		c = &connection{}
	}
	return c
}

// ntlm does the server's part of the handshake (MS-NLMP, section 3.2). What a
// domain's account answers is handed to a controller, which has the hash.
func (h *Host) ntlm(w http.ResponseWriter, message []byte, scheme string, state *connection) (string, bool) {
	kind := uint32(0)
	if len(message) >= 12 {
		kind = binary.LittleEndian.Uint32(message[8:])
	}
	switch kind {
	case 1:
		nonce := make([]byte, 8)
		_, _ = rand.Read(nonce) // never fails
		state.lock.Lock()
		state.challenge = nonce
		state.lock.Unlock()
		w.Header().Set("WWW-Authenticate", scheme+" "+base64.StdEncoding.EncodeToString(h.challengeMessage(nonce, binary.LittleEndian.Uint32(append(message[12:], 0, 0, 0, 0)))))
		w.Header().Set("Content-Length", "0")
		w.WriteHeader(http.StatusUnauthorized)
		return "", false
	case 3:
		state.lock.Lock()
		nonce := state.challenge
		state.challenge = nil
		state.lock.Unlock()
		if account := h.ntlmAccount(message, nonce); account != "" {
			state.set(account)
			return account, true
		}
	}
	h.challenge(w)
	return "", false
}

func wide(text string) []byte {
	var out []byte
	for _, u := range utf16.Encode([]rune(text)) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return out
}

// challengeMessage grants of what the client asked for what is known here.
func (h *Host) challengeMessage(nonce []byte, asked uint32) []byte {
	target := wide(h.Name)
	var info []byte
	pair := func(id uint16, value []byte) {
		info = binary.LittleEndian.AppendUint16(info, id)
		info = binary.LittleEndian.AppendUint16(info, uint16(len(value)))
		info = append(info, value...)
	}
	pair(2, wide(h.Name))                  // NetBIOS domain
	pair(1, wide(h.Name))                  // NetBIOS computer
	pair(4, wide(strings.ToLower(h.Name))) // DNS domain
	pair(3, wide(strings.ToLower(h.Name))) // DNS computer
	filetime := make([]byte, 8)            // 100 ns since 1601
	binary.LittleEndian.PutUint64(filetime, uint64(h.Now().UnixNano()/100+116444736000000000))
	pair(7, filetime)
	pair(0, nil)
	out := []byte(ntlmSignature)
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

// ntlmAccount checks the third message: the account, or "".
func (h *Host) ntlmAccount(message, nonce []byte) string {
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
	answer, domain, user := part(20), narrow(part(28)), narrow(part(36))
	if len(nonce) != 8 || len(answer) < 24 || user == "" {
		return ""
	}
	proves := func(password string) bool {
		hash := md4.New()
		_, _ = hash.Write(wide(password))
		keyed := hmac.New(md5.New, hash.Sum(nil))
		_, _ = keyed.Write(wide(strings.ToUpper(user) + domain))
		proof := hmac.New(md5.New, keyed.Sum(nil))
		_, _ = proof.Write(nonce)
		_, _ = proof.Write(answer[16:])
		return hmac.Equal(proof.Sum(nil), answer[:16])
	}
	if strings.EqualFold(domain, h.NetBIOS) || strings.EqualFold(domain, h.Domain) || strings.Contains(user, "@") {
		account := user
		if !strings.Contains(user, "@") {
			account = h.NetBIOS + `\` + user
		}
		if h.NetBIOS == "" || h.Responses == nil {
			return ""
		}
		if result, _ := h.Responses.Judge(account, proves); result != 0 {
			return ""
		}
		return account
	}
	h.lock.Lock()
	defer h.lock.Unlock()
	account := h.Name + `\` + user
	local := h.local(account)
	if local == nil || local.Password == "" || local.Disabled || local.Locked || domain != "" && domain != "." && !strings.EqualFold(domain, h.Name) || !proves(local.Password) {
		return ""
	}
	return account
}
