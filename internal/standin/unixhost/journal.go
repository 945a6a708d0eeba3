package unixhost

import (
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"time"
)

// journalLine is one line of the host's log, as journalctl writes it with -o json.
type journalLine struct {
	Message    string `json:"MESSAGE"`
	Identifier string `json:"SYSLOG_IDENTIFIER"`
	Login      string `json:"_AUDIT_LOGINUID,omitempty"`
	User       string `json:"_UID"`
	Realtime   string `json:"__REALTIME_TIMESTAMP"`
}

// note adds a line of a program that runs as root; by is who signed in for it, nil for
// nobody. The host is locked.
func (h *Host) note(identifier, message string, by *User, when time.Time) {
	login := ""
	if by != nil {
		login = strconv.Itoa(by.UID)
	}
	h.journal = append(h.journal, journalLine{Message: message, Identifier: identifier, Login: login, User: "0", Realtime: strconv.FormatInt(when.UnixMicro(), 10)})
}

// SignedIn adds a log-on over SSH to the journal.
func (h *Host) SignedIn(account, address, method string, when time.Time) {
	h.lock.Lock()
	defer h.lock.Unlock()
	h.note("sshd", fmt.Sprintf("Accepted %s for %s from %s port 50022 ssh2", method, account, address), nil, when)
}

// UserAdd has somebody sign in and make an account as root.
func (h *Host) UserAdd(by, address string, u User) {
	h.SignedIn(by, address, "publickey", time.Now())
	h.AddUser(u)
	h.lock.Lock()
	defer h.lock.Unlock()
	h.note("useradd", fmt.Sprintf("new user: name=%s, UID=%d, GID=%d, home=%s, shell=%s, from=none", u.Name, u.UID, u.UID, u.Home, u.Shell), h.user(by), time.Now())
}

// printJournal prints the lines of the identifiers that are asked for.
func (p *process) printJournal(args []string) {
	var wanted []string
	for i, a := range args[:len(args)-1] {
		if a == "-t" {
			wanted = append(wanted, args[i+1])
		}
	}
	for _, line := range p.journal {
		if !slices.Contains(wanted, line.Identifier) {
			continue
		}
		text, err := json.Marshal(line)
		if err != nil {
			panic(err) // texts alone
		}
		fmt.Fprintln(&p.out, string(text))
	}
}
