package windowshost

import (
	"crypto/rand"
	"encoding/base64"
	"net/http"
	"strings"

	"mossledger.example/moss/internal/standin/windowshost/ntlm"
	"mossledger.example/moss/internal/standin/windowshost/signedin"
)

// ntlm does the server's part of the handshake (MS-NLMP, section 3.2). What a
// domain's account answers is handed to a controller, which has the hash.
func (h *Host) ntlm(w http.ResponseWriter, message []byte, scheme string, state *signedin.Connection) (string, bool) {
	switch ntlm.Kind(message) {
	case 1:
		nonce := make([]byte, 8)
		_, _ = rand.Read(nonce) // never fails
		state.Challenge(nonce)
		w.Header().Set("WWW-Authenticate", scheme+" "+base64.StdEncoding.EncodeToString(ntlm.Challenge(h.Name, h.Now(), nonce, ntlm.Asked(message))))
		w.Header().Set("Content-Length", "0")
		w.WriteHeader(http.StatusUnauthorized)
		return "", false
	case 3:
		if account := h.ntlmAccount(message, state.Challenged()); account != "" {
			state.Set(account)
			return account, true
		}
	}
	h.challenge(w)
	return "", false
}

// ntlmAccount checks the third message: the account, or "".
func (h *Host) ntlmAccount(message, nonce []byte) string {
	answer, ok := ntlm.ReadAnswer(message, nonce)
	if !ok {
		return ""
	}
	domain, user, proves := answer.Domain, answer.User, answer.Proves
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
