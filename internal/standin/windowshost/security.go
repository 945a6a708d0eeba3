package windowshost

import (
	"net"
	"net/http"
	"strconv"

	"mossledger.example/moss/internal/standin/windowshost/signedin"
)

// SignedIn writes into the log of security that somebody signed in over the network.
func (h *Host) SignedIn(account, address string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.signedIn(account, address)
}

// audited writes who signed in, once for a connection.
func (h *Host) audited(account string, r *http.Request) {
	if address, _, err := net.SplitHostPort(r.RemoteAddr); err == nil && signedin.Of(r).First(account) {
		h.SignedIn(account, address)
	}
}

// signedIn is SignedIn while the host is locked.
func (h *Host) signedIn(account, address string) {
	domain, name := h.spelled().Split(account)
	list := []string{
		"S-1-0-0", "-", "-", "0x0", h.sid(1105), name, domain, "0x" + strconv.FormatInt(int64(len(h.security))+0x3e8, 16), "3", "NtLmSsp", "NTLM",
		"-", "{00000000-0000-0000-0000-000000000000}", "-", "NTLM V2", "128", "0x0", "-", address, "49152",
	}
	h.audit(4624, list, "An account was successfully logged on.")
}

// PasswordSet has somebody reset the password of a local account.
func (h *Host) PasswordSet(by, name, password string) {
	h.lock.Lock()
	defer h.lock.Unlock()
	domain, who := h.spelled().Split(by)
	if u := h.local(name); u != nil {
		u.Password = password
	}
	h.audit(4724, []string{name, h.Name, h.sid(1106), h.sid(1105), who, domain, "0x3e8"}, "An attempt was made to reset an account's password.")
}

func (h *Host) audit(code int, list []string, message string) {
	h.security = append(h.security, Event{Record: len(h.security) + 1, Log: "Security", Source: "Microsoft-Windows-Security-Auditing", Code: code, Level: "Audit Success", Time: h.now(), Strings: list, Message: message})
}
