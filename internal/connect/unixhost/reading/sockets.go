package reading

import (
	"context"
	"encoding/json"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
	"time"

	"mossledger.example/moss/internal/connect"
	"mossledger.example/moss/internal/connect/unixhost/shell"
	"mossledger.example/moss/internal/connect/unixhost/witness"
	"mossledger.example/moss/internal/core/estate"
)

var socketCommand = []string{"/usr/bin/ss", "-Htanpe"}

// sockets reads the TCP connections and listening ports, with the unit that
// owns each.
func (v *visit) sockets(ctx context.Context) *connect.Failure {
	r, full := v.Elevated(ctx, shell.MaxOutput, nil, socketCommand...)
	if failure := v.Failure(connect.StageRead, r, "ss"); failure != nil {
		return failure
	}
	list := parseSockets(string(r.Out))
	v.listens = list
	if !full {
		v.incomplete(connect.ScopeSockets, "the programs behind sockets are not shown: allow "+v.Target.Steward.Account+" to run with sudo: "+strings.Join(socketCommand, " "))
	}
	v.count(connect.ScopeSockets, len(list))
	return v.send(connect.Batch{Sockets: list})
}

// Sockets reads them of a host that was signed in to.
func Sockets(ctx context.Context, s *shell.Session) ([]estate.Socket, *connect.Failure) {
	r, _ := s.Elevated(ctx, shell.MaxOutput, nil, socketCommand...)
	if failure := s.Failure(connect.StageRead, r, "ss"); failure != nil {
		return nil, failure
	}
	return parseSockets(string(r.Out)), nil
}

var (
	socketUsers = regexp.MustCompile(`users:\(\("((?:[^"\\]|\\.)*)",pid=\d+`)
	socketUID   = regexp.MustCompile(`\buid:(\d+)`)
	socketGroup = regexp.MustCompile(`cgroup:(\S+)`)
)

// parseSockets reads lines of ss -Htanpe: state, queues, local and peer address,
// and what is known of the owner.
func parseSockets(text string) []estate.Socket {
	out := []estate.Socket{}
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) < 5 || f[0] != "ESTAB" && f[0] != "LISTEN" && f[0] != "CLOSE-WAIT" {
			continue
		}
		s := estate.Socket{Listens: f[0] == "LISTEN"}
		s.Local, s.LocalPort = splitAddress(f[3])
		if !s.Listens {
			s.Peer, s.PeerPort = splitAddress(f[4])
		}
		if m := socketUsers.FindStringSubmatch(line); m != nil {
			s.Program = m[1]
		}
		s.UID = "0" // ss leaves it out for root
		if m := socketUID.FindStringSubmatch(line); m != nil {
			s.UID = m[1]
		}
		if m := socketGroup.FindStringSubmatch(line); m != nil {
			for part := range strings.SplitSeq(m[1], "/") {
				if strings.HasSuffix(part, ".service") {
					s.Unit = part
				}
			}
		}
		if s.LocalPort != 0 {
			out = append(out, s)
		}
	}
	return out
}

// splitAddress takes ADDRESS%INTERFACE:PORT apart; IPv4 inside IPv6 is written
// as IPv4.
func splitAddress(text string) (string, int) {
	colon := strings.LastIndexByte(text, ':')
	if colon < 0 {
		return "", 0
	}
	port, _ := strconv.Atoi(text[colon+1:])
	host := strings.Trim(text[:colon], "[]")
	host, _, _ = strings.Cut(host, "%")
	if address, err := netip.ParseAddr(host); err == nil {
		host = address.Unmap().String()
	}
	return host, port
}

// journalCommand is what hosts may allow that were prepared before there was
// witness.Command; it does not tell who wrote a line.
var journalCommand = []string{"/usr/bin/journalctl", "-q", "--no-pager", "-o", "json", "--output-fields=MESSAGE", "-t", "sshd", "-S", "-7days", "-n", "5000"}

// journal reads who signed in over SSH during the last days, as far as the
// host's own log goes. What cannot be read is told and stops nothing.
func (v *visit) journal(ctx context.Context) *connect.Failure {
	r, full := v.Elevated(ctx, shell.MaxOutput, nil, witness.Command...)
	if r.Err == nil && !full {
		if older, allowed := v.Elevated(ctx, shell.MaxOutput, nil, journalCommand...); allowed {
			r = older
		}
	}
	if r.Err != nil {
		return v.Failure(connect.StageRead, r, "journalctl")
	}
	if r.Exit != 0 {
		return nil
	}
	return v.send(connect.Batch{Uses: parseJournal(string(r.Out), v.Target.Steward.Account)})
}

var signedIn = regexp.MustCompile(`^(Accepted|Failed) (\S+) for (\S+) from (\S+) port \d+(?: ssh2)?(?:: \S+ (SHA256:\S+))?`)

// parseJournal sums up sshd's lines; log-ons of our own account are left out, and what
// somebody else wrote in sshd's name.
func parseJournal(text, own string) []estate.Use {
	at := map[estate.Use]int{}
	var out []estate.Use
	for line := range strings.Lines(text) {
		var record struct {
			Message  any    `json:"MESSAGE"`
			Realtime string `json:"__REALTIME_TIMESTAMP"`
			Name     string `json:"SYSLOG_IDENTIFIER"`
			User     string `json:"_UID"`
		}
		if json.Unmarshal([]byte(line), &record) != nil {
			continue
		}
		message, _ := record.Message.(string)
		m := signedIn.FindStringSubmatch(message)
		micros, err := strconv.ParseInt(record.Realtime, 10, 64)
		forged := record.User != "" && record.User != "0" || record.Name != "" && !strings.HasPrefix(record.Name, "sshd")
		if m == nil || err != nil || forged || m[3] == own || m[3] == "invalid" {
			continue
		}
		when := time.UnixMicro(micros).UTC()
		key := estate.Use{Account: m[3], Client: m[4], How: "ssh, " + m[2], Key: m[5], Failed: m[1] == "Failed"}
		i, found := at[key]
		if !found {
			i = len(out)
			at[key] = i
			use := key
			use.First, use.Last = when, when
			out = append(out, use)
		}
		out[i].Count++
		if when.Before(out[i].First) {
			out[i].First = when
		}
		if when.After(out[i].Last) {
			out[i].Last = when
		}
	}
	return out
}
